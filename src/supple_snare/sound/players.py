"""Players: what the others of a group may make of what starts in one track, as far as it is proved that they bleed.

Of each of a player's strokes the same share arrives in another track, so it is no more than what that track holds at
the quietest of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from supple_snare.sound.events import rising
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.timing.units import FloatArray, amplitude_to_db

_LOUD_PERCENT = 95
"""Loud moments of a track are at least as loud as so many of its attacks."""

_ARRIVES_S = (-0.010, 0.016)
"""A neighbour's stroke arrives in that time after it was struck."""

_AFTER_S = (-0.002, 0.016)
_QUIETEST_PERCENT = 5
_PLAIN_SHARE, _COLOURED = 0.003, 10.0
"""Bands that hold so much of the strongest one's power are plain; in none a sound loses so much less than in the one of
these in which it loses most."""

_FEWEST, _SOME = 4, 8
_SOFTEST = 0.03
"""Relative to the loud moments of its track: softer attacks of a neighbour's line are not its own."""

_LEAST_POWER = 1e-12


@dataclass(frozen=True, eq=False)
class Player:
    """What was played into a track: when, shape (n,), increasing, the power that starts with it, shape (n, BANDS), and
    the amplitude of its loud moments."""

    time_s: FloatArray
    power: FloatArray
    loud: float

    @classmethod
    def of(cls, levels: BandLevels, time_s: FloatArray) -> Player:
        power = starting(levels, time_s)
        return cls(time_s, power, loud_amplitude(power))

    @property
    def size(self) -> FloatArray:
        """Amplitude over all bands, shape (n,)."""
        return np.asarray(np.sqrt(self.power.sum(axis=1)))

    def leading(self, heard: BandLevels, later_s: float, loud: float) -> Player:
        """Only what is louder here than in a track it may bleed into, each against its loud moments."""
        there = np.sqrt(starting(heard, self.time_s + later_s).sum(axis=1)) / max(loud, _LEAST_POWER)
        here = self.size / max(self.loud, _LEAST_POWER)
        kept = (here > there) & (here > _SOFTEST)
        return replace(self, time_s=self.time_s[kept], power=self.power[kept])

    def bleed_power(self, heard: BandLevels, later_s: float, time_s: FloatArray) -> FloatArray:
        """The most power of what this player does that may start at moments in a track, which hears all so much later,
        shape (n, BANDS)."""
        if len(self.time_s) < _FEWEST:
            return np.zeros((len(time_s), BANDS))
        last = np.searchsorted(self.time_s, time_s - later_s - _ARRIVES_S[0]) - 1
        struck = (last >= 0) & (time_s - later_s - self.time_s[np.maximum(last, 0)] < _ARRIVES_S[1])
        power = self._arriving(heard, later_s) * self.power[np.maximum(last, 0)]
        return np.where(struck[:, None], power, 0.0)

    def _arriving(self, heard: BandLevels, later_s: float) -> FloatArray:
        """The most of each band's power that may arrive in a track, shape (BANDS,)."""
        telling = self.size >= np.median(self.size) if len(self.size) > _SOME else np.ones(len(self.size), dtype=bool)
        own = self.power[telling]
        there = heard.loudest(self.time_s[telling] + later_s, *_AFTER_S)
        share = np.percentile(there / np.maximum(own, _LEAST_POWER), _QUIETEST_PERCENT, axis=0)
        # A sound is coloured on its way, but not so much: where it is plain, least arrives of it.
        usual = np.median(own, axis=0)
        plain = usual > _PLAIN_SHARE * usual.max()
        return np.minimum(share, _COLOURED * share[plain].min(initial=np.inf))


def starting(levels: BandLevels, time_s: FloatArray) -> FloatArray:
    """Power that starts in a track at moments, shape (n, BANDS)."""
    return np.asarray(rising([levels], time_s, np.zeros(1))[:, 0] ** 2)


def loud_amplitude(power: FloatArray) -> float:
    """Amplitude of loud moments, of power of shape (n, BANDS)."""
    return float(np.percentile(np.sqrt(power.sum(axis=1)), _LOUD_PERCENT)) if len(power) else 0.0


def to_loud_db(level_db: FloatArray) -> FloatArray:
    """Levels of attacks of a track against its loud ones, shape (n,)."""
    return np.asarray(level_db - np.percentile(level_db, _LOUD_PERCENT)) if len(level_db) else level_db


def ratio_db(power: FloatArray, bleed: FloatArray) -> FloatArray:
    """Power against bleed, dB; where nothing bleeds, it is large."""
    return amplitude_to_db(np.sqrt((power + 0.01 * _LEAST_POWER) / (bleed + _LEAST_POWER)))


def above_db(power: FloatArray, bleed: FloatArray) -> FloatArray:
    """By how much more starts than the neighbours may make of it, each of shape (n, BANDS), shape (n,)."""
    return ratio_db(power.sum(axis=1), bleed.sum(axis=1))


def heard_beside(
    levels: BandLevels, time_s: FloatArray, later_s: float, players: Sequence[Player], lines: Sequence[Player]
) -> tuple[FloatArray, FloatArray]:
    """Power that starts in a track at moments, and the most that others may make of it, each of shape (n, BANDS).

    Parameters
    ----------
    levels : BandLevels
        Of the track.
    time_s : float array, shape (n,)
    later_s : float
        How much later all is heard there.
    players, lines : sequence of Player
        All that was played into other tracks; and what is heard in those of notes, of which only what is louder there
        counts.
    """
    power = starting(levels, time_s)
    loud = loud_amplitude(power)
    others = [*players, *(line.leading(levels, later_s, loud) for line in lines)]
    bleed = [each.bleed_power(levels, later_s, time_s) for each in others]
    return power, np.sum(bleed, axis=0) if bleed else np.zeros(power.shape)
