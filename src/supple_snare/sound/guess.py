"""What a track is taken for until somebody says what it is: by how the sound goes on after its loud attacks.

Notes have partials: narrow peaks in the spectrum that stay for some 100 ms, at other places from one note to the next,
and that fall slowly; single ones repeat their period. What a drum leaves after its attack is noise, or a few modes, the
same each time, and falls fast. Of all that has notes only a voice has consonants, at which the treble swells while all
else falls. Logistic regressions weigh this (`models/notes.json`, `models/voice.json`, fitted by `bench/guess.py`).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray
from supple_snare.sound.filters import Bands
from supple_snare.sound.fitted import fitted
from supple_snare.sound.material import Material
from supple_snare.sound.maxima import highest_around
from supple_snare.sound.novelty import BAND_EDGES_HZ, BandLevels
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.sound.rises import SHARES, Rises
from supple_snare.sound.transforms import fast_length, sound_of, spectrum_of
from supple_snare.timing.units import SILENCE_DB, FloatArray, amplitude_to_db

OF_NOTES = ("tonal_fraction", "periodic_fraction", "likeness", "later_db", "fallen_db")
OF_CONSONANTS = ("comodulation", "treble_db", "hiss_rise")
FEATURES = (*OF_NOTES, *OF_CONSONANTS)
"""Of a track, the first five medians over its loud attacks:

tonal_fraction
    How much of the power after an attack, 0 to 1, lies in narrow peaks of the spectrum.
periodic_fraction
    How many attacks are followed by a sound that repeats itself, partials and all, soon (short notes still sound) or
    later (the noise of the attack is over).
likeness
    Cosine between the spectra after any two attacks.
later_db, fallen_db
    How far the sound grows or falls after an attack (`how_notes_go_on`).
comodulation
    Correlation of the levels of middle and treble over time: strings and winds have more of both when they are loud.
treble_db
    How far the treble stands above the middle where it does so most.
hiss_rise
    ln of the ms in which attacks rise that are nearly all treble, in the middle: a hat's are sharp, consonants swell.
"""

_LOUD_DB = 12.0
"""Attacks at most this much softer than the loudest tell."""

_MOST = 40
"""As many of them, from all over the take, are enough."""


@dataclass(frozen=True)
class _Look:
    """A stretch after each attack that is looked at, and what must show there to tell of a pitch.

    Attributes
    ----------
    after_s, span_s : float
    longest_s : float
        Longest period looked for.
    periodic, periodic_a_db : float
        How well a period foretells the next where notes go on evenly, and by how much better it must for each dB by
        which they fall from the first third of what is looked at to the last.
    """

    after_s: float
    span_s: float
    longest_s: float
    periodic: float
    periodic_a_db: float


_LATE = _Look(0.04, 0.09, 0.035, periodic=0.55, periodic_a_db=0.06)
"""The noise of the attack is over."""

_SOON = _Look(0.015, 0.06, 0.027, periodic=0.7, periodic_a_db=0.03)
"""Short notes still sound."""

_SHORTEST_S = 0.002
_TURNED = 0.3
"""The sound has left its own likeness before it can come back to it."""

_PITCH_BAND_HZ = (400.0, 4_000.0)
"""Above the bodies of drums, which sound as steadily as strings but have no partials that fit."""

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

_MIDDLE_HZ, _TREBLE_HZ = (300.0, 2_400.0), (4_800.0, 18_000.0)
_WHOLE_HZ = BAND_EDGES_HZ[0], BAND_EDGES_HZ[-1]
_SMOOTH_FRAMES = 4
_SOUNDING_DB, _MOST_PERCENT = 40.0, 95
"""Where the whole is at most so much softer than its loudest moments, treble and middle are compared."""

_HISS_RATIO, _HISS_DB = 1.4, 24.0
"""An attack that is nearly all treble has so much more of it than of the middle, and is so much softer than the loudest
at most."""

_LEAST_RISE_MS = 0.3
_MIDDLE_VIEW, _TREBLE_VIEW = 2, 3
"""Places in `rises.VIEWS`."""

_TINY = 1e-20

Read = Callable[[NDArray[np.intp], int], AnyArray]
"""Reads (starts, count) of a track, shape (starts, count)."""


def guess_material(attacks: Rises, peaks: Peaks, levels: BandLevels, read: Read) -> tuple[Material, FloatArray]:
    """A drum, unless its sound is more likely that of notes: then a voice if it has consonants, blown or bowed if they
    are held, else plucked.

    What does not show in the sound (keys, a hand on a drum) is for the editor to tell.

    Parameters
    ----------
    attacks : Rises
        The plainest ones of the track.
    peaks : Peaks
    levels : BandLevels
    read : callable

    Returns
    -------
    Material
    float array, shape (features,)
        `FEATURES`; those of silence if there are no attacks.
    """
    loud = attacks[attacks.level_db > attacks.level_db.max(initial=SILENCE_DB) - _LOUD_DB]
    if not len(loud):
        return Material.DRUM_CLOSE, np.array([0.0, 0.0, 1.0, _DROP_DB[0], _DROP_DB[0], 1.0, -_SOUNDING_DB, 0.0])
    later_db, fallen_db = how_notes_go_on(loud.crossing_s[:, 0, 0], loud.level_db, peaks)
    of_notes = _note_features(loud, (later_db, fallen_db), read, peaks.rate_hz)
    features = np.append(of_notes, [*_treble(levels), _hiss_rise(attacks)])
    if note_log_odds(features) <= 0.0:
        return Material.DRUM_CLOSE, features
    if float(fitted("voice", FEATURES).of_columns(features[None])[0]) > 0.0:
        return Material.VOICE, features
    is_held = later_db > _HELD_DB and fallen_db > _HELD_FALL_DB
    return Material.BLOWN if is_held else Material.PLUCKED, features


def note_log_odds(features: FloatArray) -> float:
    """Log odds that a track of some `FEATURES`, shape (features,), holds notes; NaN where these are not known."""
    return float(fitted("notes", OF_NOTES).of_columns(features[None, : len(OF_NOTES)])[0])


def _note_features(loud: Rises, drops_db: tuple[float, float], read: Read, rate_hz: int) -> FloatArray:
    """`OF_NOTES` of a track, shape (5,), from its loud attacks and how far these fall."""
    some = np.unique(np.linspace(0, len(loud) - 1, min(len(loud), _MOST)).astype(int))
    attack_s = loud.crossing_s[some, 0, 0]
    periodic = _is_periodic(attack_s, _SOON, read, rate_hz) | _is_periodic(attack_s, _LATE, read, rate_hz)
    first = np.rint((attack_s + _LOOK_S[0]) * rate_hz).astype(np.intp)
    sound = read(first, round((_LOOK_S[1] - _LOOK_S[0]) * rate_hz))
    power = np.abs(np.fft.rfft(sound * np.hanning(sound.shape[1]), axis=1)) ** 2
    hz_a_bin = rate_hz / sound.shape[1]
    dropped_db = np.clip(drops_db, *_DROP_DB)
    return np.array([_tonal_fraction(power, hz_a_bin), periodic.mean(), _likeness(power, hz_a_bin), *dropped_db])


def _tonal_fraction(power: FloatArray, hz_a_bin: float) -> float:
    within = _bins(power, _PARTIALS_HZ, hz_a_bin)
    half = round(0.5 * _AROUND_HZ / hz_a_bin)
    around = np.lib.stride_tricks.sliding_window_view(
        np.pad(within, ((0, 0), (half, half)), "reflect"), 2 * half + 1, 1
    )
    peaks = np.where(within > _PEAK * np.median(around, axis=2), within, 0.0)
    return float(np.median(peaks.sum(axis=1) / np.maximum(within.sum(axis=1), _TINY)))


def _is_periodic(attack_s: FloatArray, look: _Look, read: Read, rate_hz: int) -> NDArray[np.bool_]:
    """Whether the sound after each attack repeats itself after some period, shape (n,)."""
    first = np.rint((attack_s + look.after_s) * rate_hz).astype(np.intp)
    sound = read(first, round(look.span_s * rate_hz)).astype(np.float64)
    third = sound.shape[1] // 3
    level_db = [amplitude_to_db(np.sqrt(np.mean(part**2, axis=1))) for part in (sound[:, :third], sound[:, -third:])]
    step = max(1, int(rate_hz / (3.0 * _PITCH_BAND_HZ[1])))
    sound, rate = Bands(sound, rate_hz).between(*_PITCH_BAND_HZ)[:, ::step], rate_hz / step
    shortest, longest = round(_SHORTEST_S * rate), round(look.longest_s * rate)
    length = sound.shape[1] - longest
    size = fast_length(sound.shape[1] + length)
    spectra = spectrum_of(sound, size), spectrum_of(sound[:, :length], size)
    product = np.sqrt(size) * sound_of(spectra[0] * np.conj(spectra[1]), size)[:, : longest + 1]
    power = np.cumsum(np.pad(sound**2, ((0, 0), (1, 0))), axis=1)
    energy = power[:, length : length + longest + 1] - power[:, : longest + 1]
    alike = product / np.sqrt(np.maximum(energy * energy[:, :1], 1e-20))
    turned = np.maximum.accumulate(alike < _TURNED, axis=1)
    turned[:, :shortest] = False
    alike = np.where(turned, alike, -1.0)
    fallen_db = level_db[0] - level_db[1]
    return np.asarray(alike.max(axis=1) > look.periodic + look.periodic_a_db * fallen_db)


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


def _treble(levels: BandLevels) -> tuple[float, float]:
    """`comodulation` and `treble_db` of a track."""
    middle_db, treble_db, whole_db = (_smooth_db(levels, band_hz) for band_hz in (_MIDDLE_HZ, _TREBLE_HZ, _WHOLE_HZ))
    sounds = whole_db > np.percentile(whole_db, _MOST_PERCENT) - _SOUNDING_DB
    middle_db, treble_db = middle_db[sounds], treble_db[sounds]
    spread = float(np.std(middle_db) * np.std(treble_db))
    covariance = float(np.mean((middle_db - middle_db.mean()) * (treble_db - treble_db.mean())))
    return covariance / max(spread, _TINY), float(np.percentile(treble_db - middle_db, _MOST_PERCENT))


def _smooth_db(levels: BandLevels, band_hz: tuple[float, float]) -> FloatArray:
    """The smoothed level of each frame between two edges of `BAND_EDGES_HZ`, shape (frames,)."""
    smooth = np.convolve(levels.power_between(*band_hz), np.full(_SMOOTH_FRAMES, 1.0 / _SMOOTH_FRAMES), "same")
    return np.asarray(10.0 * np.log10(smooth + _TINY))


def _hiss_rise(attacks: Rises) -> float:
    """`hiss_rise` of a track; that of 1 ms where no attack is nearly all treble."""
    audible = attacks.level_db > attacks.level_db.max(initial=SILENCE_DB) - _HISS_DB
    hisses = audible & (attacks.peak[:, _TREBLE_VIEW] > _HISS_RATIO * attacks.peak[:, _MIDDLE_VIEW])
    low, high = SHARES.index(0.1), SHARES.index(0.7)
    crossing_s = attacks.crossing_s[hisses, _TREBLE_VIEW]
    rise_ms = 1000.0 * (crossing_s[:, high] - crossing_s[:, low])
    return float(np.median(np.log(np.maximum(rise_ms, _LEAST_RISE_MS)))) if len(rise_ms) else 0.0
