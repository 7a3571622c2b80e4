"""Signs: what speaks for an attack having been played into its microphone, as all tracks of the group together tell."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.bare import Heard
from supple_snare.sound.fitted import Fitted, fitted
from supple_snare.sound.judge import PLAIN_ODDS, SUFFIXES, alone_odds
from supple_snare.sound.precedence import lead_of_others_ms
from supple_snare.sound.rises import Rises
from supple_snare.sound.shapes import likeness, loudness
from supple_snare.sound.sources import Sources, strengths
from supple_snare.sound.wake import share_in_wake
from supple_snare.timing.units import FloatArray, amplitude_to_db

_GUESSES = (
    ({"own_share": 2.639, "left_over": 0.242, "first": 0.272, "rise": 0.253}, -0.69),
    ({"left_over": 0.281, "first": 0.308, "rise": 0.249, "ahead_close": 0.057}, 1.77),
)
"""Log odds for one unit of each sign, and without any, two first guesses for `judge`; logistic regressions on 280,000
attacks in 396 takes with 38 kits; more signs guess hardly better. The first errs less, but goes by all the sources that
were learned from the take; where one is wrong, the second gainsays it. They choose what attacks are compared with.
"""

_MOST_RISE_DB = 15.0

_AS_LOUD_DB = 6.0
"""An attack that follows at once and is not softer than this would be taken for a part of the one before it."""

_AS_LIKE_AS_CAN_BE = 0.95
"""No two strokes of a player are more alike; those of a machine are, and must not be all that counts."""

_MORE_THAN_MOST = 0.3
"""Likeness to one example counts so much above that to several: the beater that bounces off a bass drum again and again
is like another bounce, but like no stroke."""

_LEAST_USUAL = 0.5
"""Examples that are less alike than this tell hardly anything."""

_LEAST = 1e-4
_LOUD_PERCENT = 80


@dataclass(frozen=True, eq=False)
class Signs:
    """What speaks for an attack having been played into its microphone, arrays of shape (n,).

    Attributes
    ----------
    own_share : float array
        Share of the power that the own source explains, in the bands of this microphone's own drum.
    level : float array
        Level against this microphone's loud strokes, dB.
    ahead : float array
        Level against the other microphones, each relative to its own loud moments, dB.
    best_band : float array
        Level over what other sources explain, in the band that stands out most of those of its own drum, dB.
    first : float array
        How much earlier (negative) another microphone hears it, ms.
    rise : float array
        How much the whole spectrum rises, dB.
    ahead_close : float array
        Its level here against the other close microphones only, dB: far ones hear whoever else plays in the room.
    own_level : float array
        How much of the own source explains what all microphones hear, dB under its loud strokes.
    left_over : float array
        How much of the own source is in what its microphone hears beyond what the others foretell there, dB.
    worth : float array
        How much worse what all microphones hear would be explained without the own source: a divergence, dB.
    like_own, like_more_own : float array
        Likeness of its waveform to a plain stroke of this microphone's drum, and to several (`shapes.likeness`),
        against what is usual among these: a correlation r as artanh r, which tells apart what is very much alike
        (R. A. Fisher, Biometrika 10, 1915).
    like_bleed, like_more_bleed : float array
        The same to plain bleed.
    bare_like_own, bare_like_more_own : float array
        Likeness to plain strokes of what the neighbours do not make of it (`bare`).
    bare_level, bare_share : float array
        How loud that is, against this microphone's loud strokes and against all of the attack, dB.
    in_wake : float array
        How many of this microphone's plain strokes draw something as late after them (`wake`), 0 to 1.
    """

    own_share: FloatArray
    level: FloatArray
    ahead: FloatArray
    best_band: FloatArray
    first: FloatArray
    rise: FloatArray
    ahead_close: FloatArray
    own_level: FloatArray
    left_over: FloatArray
    worth: FloatArray
    like_own: FloatArray
    like_more_own: FloatArray
    like_bleed: FloatArray
    like_more_bleed: FloatArray
    bare_like_own: FloatArray
    bare_like_more_own: FloatArray
    bare_level: FloatArray
    bare_share: FloatArray
    in_wake: FloatArray

    def columns(self) -> FloatArray:
        """All signs, shape (n, signs), in the order of `SIGNS`."""
        return np.stack([getattr(self, name) for name in SIGNS], axis=1)

    def log_odds(self) -> FloatArray:
        """A first guess, by a few signs: the less sure of two, 0 where they contradict each other."""
        one, other = (self._odds_by(*guess) for guess in _GUESSES)
        less_sure = np.where(np.abs(one) < np.abs(other), one, other)
        return np.where(one * other > 0.0, less_sure, 0.0)

    def _odds_by(self, weights: Mapping[str, float], bias: float) -> FloatArray:
        odds: FloatArray = sum(weight * getattr(self, name) for name, weight in weights.items()) + bias
        return odds

    def alone_log_odds(self) -> FloatArray:
        """The same where there is no other microphone: only how loud it is and how plainly it rises can speak."""
        return alone_odds(self.level, self.rise)

    def beside_plain_ones(self, heard: Heard, bare: Rises) -> Signs:
        """The same with what tells attacks beside plain ones: what they sound like, as they are and bared of the
        neighbours' strokes, and whether they follow them."""
        start_s, own = heard.start_s, heard.guess > PLAIN_ODDS
        own_like, own_more = _likeness(heard.rises, start_s, own)
        bleed_like, bleed_more = _likeness(heard.rises, start_s, heard.guess < -PLAIN_ODDS)
        bare_like, bare_more = _likeness(bare, start_s, own)
        whole_db, bare_db = (amplitude_to_db(loudness(each, start_s)) for each in (heard.rises, bare))
        loud_db = np.percentile(whole_db[own], _LOUD_PERCENT) if own.any() else whole_db.max()
        return replace(
            self,
            like_own=np.minimum(own_like, own_more + _MORE_THAN_MOST),
            like_more_own=own_more,
            like_bleed=bleed_like,
            like_more_bleed=bleed_more,
            bare_like_own=np.minimum(bare_like, bare_more + _MORE_THAN_MOST),
            bare_like_more_own=bare_more,
            bare_level=np.maximum(bare_db - loud_db, -40.0),
            bare_share=np.clip(bare_db - whole_db, -20.0, 3.0),
            in_wake=share_in_wake(start_s, self.level, own),
        )


SIGNS = tuple(field.name for field in fields(Signs))
"""Names of the signs, in the order of `Signs.columns`."""

FEATURES = tuple(f"{name}{suffix}" for suffix in SUFFIXES for name in SIGNS)
"""What the networks for attacks of drums are fitted to (`judge.network_inputs`)."""

_BESIDE_PLAIN_ONES = SIGNS[SIGNS.index("like_own") :]
"""Those that compare attacks with the ones of which the first guess is sure."""


def networks() -> Fitted:
    """The networks for attacks of drums."""
    return fitted("attacks", FEATURES)


def heard_around(analyses: Sequence[Analysis], sources: Sources, track: int, time_s: FloatArray) -> FloatArray:
    """What starts in all tracks with the attacks of one, up to its next attack as loud, shape (n, tracks, BANDS)."""
    distance_s, level_db = sources.distance_s[track], analyses[track].attacks.level_db
    next_s, next_db = np.append(time_s, np.inf)[1:], np.append(level_db, -np.inf)[1:]
    until_s = np.where(next_db > level_db - _AS_LOUD_DB, next_s, np.inf)
    levels = [analysis.levels for analysis in analyses]
    return sources.heard(levels, time_s - distance_s, until_s - distance_s)


def _likeness(rises: Rises, start_s: FloatArray, of: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray]:
    """`shapes.likeness` against what is usual among the examples, each as artanh: no two strokes of a player are alike,
    and some drums and players vary far more than others."""
    most, more = (
        np.clip(each / max(float(np.median(each[of])) if of.any() else 1.0, _LEAST_USUAL), 0.0, _AS_LIKE_AS_CAN_BE)
        for each in likeness(rises, start_s, of)
    )
    return np.arctanh(most), np.arctanh(more)


def signs_of(analyses: Sequence[Analysis], sources: Sources, track: int, heard_s: Sequence[FloatArray]) -> Signs | None:
    """The signs of the attacks of a track; None where it has none. Those beside plain ones are still 0.

    Parameters
    ----------
    analyses : sequence of Analysis
    sources : Sources
    track : int
    heard_s : sequence of float arrays
        When the attacks of each track start.
    """
    time_s = heard_s[track]
    if not len(time_s):
        return None
    attacks = analyses[track].attacks
    everywhere = heard_around(analyses, sources, track, time_s)
    strength = strengths(everywhere, sources.pattern)
    heard, loud = everywhere[:, track], np.sqrt(np.sum(everywhere**2, axis=2))
    own = strength[:, track, None] * sources.pattern[track, :, track]
    bleed = strength @ sources.pattern[track].T - own
    shape = sources.pattern[track, :, track]
    shape = shape / max(float(shape.max()), _LEAST)
    rivals = np.delete(loud, track, axis=1)
    rival = np.maximum(rivals.max(axis=1), _LEAST) if rivals.size else np.full(len(loud), _LEAST)
    ahead = _db(loud[:, track]) - _db(rival)
    close = np.delete(loud, track, axis=1)[:, np.delete(sources.closeness, track) > 0.0]
    close_rival = np.maximum(close.max(axis=1), _LEAST) if close.size else np.full(len(loud), _LEAST)
    plainly_own = ahead > 0.0
    enough = np.count_nonzero(plainly_own) > 3
    loud_stroke = (
        np.percentile(loud[plainly_own, track], _LOUD_PERCENT) if enough else np.percentile(loud[:, track], 95)
    )
    own_power, bleed_power = (own**2) @ shape, (bleed**2) @ shape
    band_db = _db(heard) - _db(np.maximum(bleed, 1e-3))
    return Signs(
        own_share=own_power / np.maximum(own_power + bleed_power, 1e-12),
        level=np.maximum(_db(loud[:, track]) - _db(loud_stroke), -40.0),
        ahead=np.clip(ahead, -25.0, 12.0),
        best_band=np.clip(np.where(shape > 0.15, band_db, -40.0).max(axis=1), -10.0, 30.0),
        first=lead_of_others_ms(analyses, heard_s, track, farthest_s=float(sources.distance_s[track])),
        rise=np.minimum(attacks.rise_db, _MOST_RISE_DB),
        ahead_close=np.clip(_db(loud[:, track]) - _db(close_rival), -25.0, 12.0),
        own_level=np.maximum(_db(strength[:, track]), -40.0),
        left_over=np.maximum(_db(sources.left_over(everywhere, track)), -40.0),
        worth=np.maximum(0.5 * _db(np.maximum(sources.worth(everywhere, strength, track), 0.0)), -20.0),
        **dict.fromkeys(_BESIDE_PLAIN_ONES, np.zeros(len(loud))),
    )


def _db(amplitude: FloatArray | float) -> FloatArray:
    return amplitude_to_db(np.maximum(amplitude, _LEAST))
