"""What a track is taken for until somebody says what it is: by how the sound goes on after its loud attacks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray
from supple_snare.sound.filters import Bands
from supple_snare.sound.material import Material
from supple_snare.sound.maxima import highest_around
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.sound.rises import Rises
from supple_snare.sound.transforms import fast_length, sound_of, spectrum_of
from supple_snare.timing.units import SILENCE_DB, FloatArray, amplitude_to_db

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
_LOW_S, _LOW_PERIODIC, _LOW_FALL_DB, _LOW_SHARE = 0.016, 0.5, (-3.0, 8.0), 0.6
_SOONER, _LESS_ALIKE = 0.7, 0.15
"""No drum sounds alike after so long and less so in any shorter time, time and again: the pulses of a low string do."""

_TURNED = 0.3
"""The sound has left its own likeness before it can come back to it."""

_PITCH_BAND_HZ = (400.0, 4_000.0)
"""Above the bodies of drums, which sound as steadily as strings but have no partials that fit."""

_PITCHED_SHARE = 0.35
"""So many of a line's loud notes are long enough to tell, at least."""

_ONE_PITCH, _ONE_PITCH_SHARE, _FEW = 0.75, 0.6, 12
"""A tom may sound as steadily, at one pitch: where all are alike (as angles on the octave), or few, more must tell."""

_HELD_S = (0.09, 0.14)
_HELD_DB = -0.5
_HELD_FALL_DB = -2.5
"""A note that is as loud some 100 ms after its attack, and has not fallen by more until 250 ms, is held."""

_HELD_UNTIL_S = (0.06, 0.25)
_LOW_PERIOD_S = 0.025
"""A low note stands still twice in each period; over so long it never seems to."""

_HISS_SHARE = 1.4
_FEW_HISSES = 0.08

Read = Callable[[NDArray[np.intp], int], AnyArray]
"""Reads (starts, count) of a track, shape (starts, count)."""


def guess_material(attacks: Rises, peaks: Peaks, read: Read) -> Material:
    """A drum, unless its notes have a pitch: then a blown, bowed or sung part if they are held, else a plucked one.

    What does not show in the sound (keys, a hand on a drum) is for the editor to tell.

    Parameters
    ----------
    attacks : Rises
        The plainest ones of the track.
    peaks : Peaks
    read : callable
    """
    loud = attacks[attacks.level_db > attacks.level_db.max(initial=SILENCE_DB) - _LOUD_DB]
    if not len(loud) or not _has_pitch(loud, read, peaks.rate_hz):
        return Material.DRUM_CLOSE
    later_db, fallen_db = how_notes_go_on(loud.crossing_s[:, 0, 0], loud.level_db, peaks)
    if later_db <= _HELD_DB or fallen_db <= _HELD_FALL_DB:
        return Material.PLUCKED
    return Material.VOICE if _hisses(loud) else Material.BLOWN


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


def _has_pitch(loud: Rises, read: Read, rate_hz: int) -> bool:
    """Whether enough attacks are followed by a sound that repeats itself, partials and all, and goes on."""
    some = np.unique(np.linspace(0, len(loud) - 1, min(len(loud), _MOST)).astype(int))
    attack_s = loud.crossing_s[some, 0, 0]
    late, soon = (_periodicity(attack_s, look, read, rate_hz) for look in (_LATE, _SOON))
    low = (soon.period_s > _LOW_S) & (soon.alike > np.maximum(_LOW_PERIODIC, soon.alike_sooner + _LESS_ALIKE))
    low &= (soon.fallen_db > _LOW_FALL_DB[0]) & (soon.fallen_db < _LOW_FALL_DB[1])
    if np.mean(low) > _LOW_SHARE:
        return True
    if _is_one_pitch(late.period_s[late.pitched]) or len(some) < _FEW:
        return bool(np.mean(late.pitched) > _ONE_PITCH_SHARE)
    either, period_s = late.pitched | soon.pitched, np.where(late.pitched, late.period_s, soon.period_s)
    # So soon after its attack many a tom sounds as steadily.
    pitched = late.pitched if _is_one_pitch(period_s[either]) else either
    return bool(np.mean(pitched) > _PITCHED_SHARE)


def _is_one_pitch(period_s: FloatArray) -> bool:
    return len(period_s) > 0 and bool(abs(np.mean(np.exp(2j * np.pi * np.log2(period_s)))) > _ONE_PITCH)


@dataclass(frozen=True)
class _Periodicity:
    """How much the sound after each attack is like itself some period later, at best, all of shape (n,).

    Attributes
    ----------
    alike : float array
        The cosine of the angle between the two.
    alike_sooner : float array
        The same at best in the first `_SOONER` of that time.
    period_s, fallen_db : float array
    pitched : bool array
        Whether that tells of a pitch.
    """

    alike: FloatArray
    alike_sooner: FloatArray
    period_s: FloatArray
    fallen_db: FloatArray
    pitched: NDArray[np.bool_]


def _periodicity(attack_s: FloatArray, look: _Look, read: Read, rate_hz: int) -> _Periodicity:
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
    period = alike.argmax(axis=1)
    best = np.maximum.accumulate(alike, axis=1)
    rows = np.arange(len(alike))
    sooner = best[rows, (_SOONER * period).astype(int)]
    fallen_db = level_db[0] - level_db[1]
    pitched = best[:, -1] > look.periodic + look.periodic_a_db * fallen_db
    return _Periodicity(best[:, -1], sooner, period / rate, fallen_db, pitched)


def _hisses(loud: Rises) -> bool:
    """Whether some attacks, not all, are nearly all high sound, as consonants are."""
    high = loud.peak[:, 3] > _HISS_SHARE * loud.peak[:, 2]
    return bool(_FEW_HISSES < np.mean(high) < 1.0 - _FEW_HISSES)
