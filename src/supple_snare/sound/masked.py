"""Masked strokes: those that fall, within some 25 ms, on a neighbour's bleed and make one attack with it.

Such an attack begins as the bleed does, and is judged by that. So each that was told as bleed is looked at once more,
as if a stroke had begun within it, where one that rises as this drum's strokes do would most likely begin; what it
shows from there on is judged as an attack of its own, by what is usual on the track.
"""

from __future__ import annotations

import numpy as np

from supple_snare.sound.judge import judged_odds
from supple_snare.sound.likeliest import starts_later
from supple_snare.sound.signs import networks
from supple_snare.sound.weighing import Weighed
from supple_snare.timing.units import FloatArray

_SURELY_ODDS = 1.0
"""A second look finds a stroke only where it is as sure as that: there are far more attacks without one."""

_APART_S = 0.004
"""So close to the next attack nothing begins that is not that."""


def find_masked(weighed: Weighed, start_s: FloatArray, log_odds: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Starts and log odds of a track's attacks, those of masked strokes told anew.

    Parameters
    ----------
    weighed : Weighed
        n attacks of a track that has a drum, weighed together with others.
    start_s, log_odds : float array, shape (n,)
        When each started, by what is known of it, and whether it was played.
    """
    together, signs, own = weighed.together, weighed.signs, log_odds > 0.0
    if together is None or signs is None or not own.any():
        return start_s, log_odds
    later_s = starts_later(weighed.bare, weighed.others, start_s, own)
    moved = ~own & (later_s > start_s) & (later_s < np.append(start_s[1:], np.inf) - _APART_S)
    if not moved.any():
        return start_s, log_odds
    again = together.signs_from(weighed.track, np.where(moved, later_s, weighed.start_s), weighed.bare)
    columns = np.concatenate([signs.columns(), again.columns()[moved]])
    guess = np.concatenate([signs.log_odds(), again.log_odds()[moved]])
    odds = judged_odds(columns, guess, networks(), usual=slice(len(own)))[len(own) :]
    sure = odds > _SURELY_ODDS
    found = np.flatnonzero(moved)[sure]
    start_s, log_odds = start_s.copy(), log_odds.copy()
    start_s[found], log_odds[found] = later_s[found], odds[sure]
    return start_s, log_odds
