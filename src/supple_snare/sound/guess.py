"""What a track is taken for until somebody says what it is: by how the sound goes on after its loud attacks.

Notes have partials: narrow peaks in the spectrum that stay for some 100 ms, at other places from one note to the next,
and that fall slowly. What a drum leaves after its attack is noise, or a few modes, the same each time, and falls fast.
A logistic regression weighs the four (`models/notes.json`, fitted by `bench/guess.py`).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray
from supple_snare.sound.fitted import fitted
from supple_snare.sound.material import Material
from supple_snare.sound.maxima import highest_around
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.sound.rises import Rises
from supple_snare.timing.units import SILENCE_DB, FloatArray, amplitude_to_db

FEATURES = ("tonal_fraction", "likeness", "later_db", "fallen_db")
"""Of a track, medians over its loud attacks:

tonal_fraction
    How much of the power after an attack, 0 to 1, lies in narrow peaks of the spectrum.
likeness
    Cosine between the spectra after any two attacks.
later_db, fallen_db
    How far the sound grows or falls after an attack (`how_notes_go_on`).
"""

_LOUD_DB = 12.0
"""Attacks at most this much softer than the loudest tell."""

_MOST = 40
"""As many of them, from all over the take, are enough."""

_LOOK_S = (0.030, 0.180)
"""The sound that is looked at after each attack: the noise of most attacks is over, and low partials are told apart."""

_PARTIALS_HZ, _SPECTRUM_HZ = (300.0, 4_000.0), (60.0, 3_000.0)
"""Peaks are looked for above the lowest modes of drums, spectra compared with the fundamentals."""

_AROUND_HZ, _PEAK = 200.0, 8.0
"""A peak holds so many times the median power around it; of noise one bin in 250 does."""

_DROP_DB = (-40.0, 12.0)
"""What falls or grows farther tells no more."""

_HELD_S = (0.09, 0.14)
_HELD_DB = -0.5
_HELD_FALL_DB = -2.5
"""A note that is as loud some 100 ms after its attack, and has not fallen by more until 250 ms, is held."""

_HELD_UNTIL_S = (0.06, 0.25)
_LOW_PERIOD_S = 0.025
"""A low note stands still twice in each period; over so long it never seems to."""

_HISS_RATIO = 1.4
_FEW_HISSES = 0.08

_TINY = 1e-20

Read = Callable[[NDArray[np.intp], int], AnyArray]
"""Reads (starts, count) of a track, shape (starts, count)."""


def guess_material(attacks: Rises, peaks: Peaks, read: Read) -> tuple[Material, FloatArray]:
    """A drum, unless its sound is more likely that of notes: then blown, bowed or sung if they are held, else plucked.

    What does not show in the sound (keys, a hand on a drum) is for the editor to tell.

    Parameters
    ----------
    attacks : Rises
        The plainest ones of the track.
    peaks : Peaks
    read : callable

    Returns
    -------
    Material
    float array, shape (features,)
        `FEATURES`; those of silence if there are no attacks.
    """
    loud = attacks[attacks.level_db > attacks.level_db.max(initial=SILENCE_DB) - _LOUD_DB]
    if not len(loud):
        return Material.DRUM_CLOSE, np.array([0.0, 1.0, _DROP_DB[0], _DROP_DB[0]])
    later_db, fallen_db = how_notes_go_on(loud.crossing_s[:, 0, 0], loud.level_db, peaks)
    features = _note_features(loud, (later_db, fallen_db), read, peaks.rate_hz)
    if note_log_odds(features) <= 0.0:
        return Material.DRUM_CLOSE, features
    if later_db <= _HELD_DB or fallen_db <= _HELD_FALL_DB:
        return Material.PLUCKED, features
    return Material.VOICE if _hisses(loud) else Material.BLOWN, features


def note_log_odds(features: FloatArray) -> float:
    """Log odds that a track of some `FEATURES`, shape (features,), holds notes; NaN where these are not known."""
    return float(fitted("notes", FEATURES).of_columns(features[None])[0])


def _note_features(loud: Rises, drops_db: tuple[float, float], read: Read, rate_hz: int) -> FloatArray:
    """`FEATURES` of a track, shape (features,), from its loud attacks and how far these fall."""
    some = np.unique(np.linspace(0, len(loud) - 1, min(len(loud), _MOST)).astype(int))
    first = np.rint((loud.crossing_s[some, 0, 0] + _LOOK_S[0]) * rate_hz).astype(np.intp)
    sound = read(first, round((_LOOK_S[1] - _LOOK_S[0]) * rate_hz))
    power = np.abs(np.fft.rfft(sound * np.hanning(sound.shape[1]), axis=1)) ** 2
    hz_a_bin = rate_hz / sound.shape[1]
    return np.array([_tonal_fraction(power, hz_a_bin), _likeness(power, hz_a_bin), *np.clip(drops_db, *_DROP_DB)])


def _tonal_fraction(power: FloatArray, hz_a_bin: float) -> float:
    within = _bins(power, _PARTIALS_HZ, hz_a_bin)
    half = round(0.5 * _AROUND_HZ / hz_a_bin)
    around = np.lib.stride_tricks.sliding_window_view(
        np.pad(within, ((0, 0), (half, half)), "reflect"), 2 * half + 1, 1
    )
    peaks = np.where(within > _PEAK * np.median(around, axis=2), within, 0.0)
    return float(np.median(peaks.sum(axis=1) / np.maximum(within.sum(axis=1), _TINY)))


def _likeness(power: FloatArray, hz_a_bin: float) -> float:
    spectrum = np.sqrt(_bins(power, _SPECTRUM_HZ, hz_a_bin))
    spectrum /= np.maximum(np.linalg.norm(spectrum, axis=1, keepdims=True), _TINY)
    cosines = (spectrum @ spectrum.T)[np.triu_indices(len(spectrum), 1)]
    return float(np.median(cosines)) if len(cosines) else 1.0


def _bins(power: FloatArray, band_hz: tuple[float, float], hz_a_bin: float) -> FloatArray:
    first, last = (round(edge / hz_a_bin) for edge in band_hz)
    return power[:, first:last]


def how_notes_go_on(start_s: FloatArray, level_db: FloatArray, peaks: Peaks) -> tuple[float, float]:
    """How far notes grow or fall after their attack, in dB: the loudest moment some 100 ms later, and the quietest.

    Medians; a note that the next one follows soon tells as much as a long one. Silence falls farthest.
    """
    bins_per_s = peaks.rate_hz / BIN_FRAMES
    amplitude = highest_around(peaks.amplitude(), round(_LOW_PERIOD_S * bins_per_s) // 2)
    first = np.rint(start_s * bins_per_s).astype(np.int64)

    def around(span_s: tuple[float, float]) -> FloatArray:
        span = np.arange(round(span_s[0] * bins_per_s), round(span_s[1] * bins_per_s))
        return amplitude_to_db(amplitude[np.clip(first[:, None] + span, 0, len(amplitude) - 1)])

    later_db = around(_HELD_S).max(axis=1) - level_db
    fallen_db = around(_HELD_UNTIL_S).min(axis=1) - level_db
    return float(np.median(later_db)), float(np.median(fallen_db))


def _hisses(loud: Rises) -> bool:
    """Whether some attacks, not all, are nearly all high sound, as consonants are."""
    high = loud.peak[:, 3] > _HISS_RATIO * loud.peak[:, 2]
    return bool(_FEW_HISSES < np.mean(high) < 1.0 - _FEW_HISSES)
