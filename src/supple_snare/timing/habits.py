"""What leads keep doing at a place of the bar: how the bars around foretell the strokes of each."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.grid import Slots
from supple_snare.timing.units import FloatArray, IntArray

_BARS_AROUND = 16
_TURNS = (1, 2, 4)
"""Bars that a pattern may take, each a part of the next."""

_EVERY_BAR = 0.2
"""What all bars tell counts this much, what those of the same turn tell the rest: some patterns are played loosely."""

_HABIT_WEIGHT = 1.8
_OWN_SHARE = 0.65
"""What a lead plays itself at a place of the bar counts this much, what anyone plays there the rest."""

_NEVER = 0.03
"""Likelihood, beside that of a usual place, of a stroke where nobody plays."""

_RARE = 0.25
"""A place played less than this, beside a usual one, is no habit."""

_Played = NDArray[np.float32]
"""Per lead, bar and place of the bar."""


def bar_habits(chosen: IntArray, lead: IntArray, slots: Slots) -> FloatArray:
    """Cost of a stroke of each lead at each slot by what is played at that place in the bars around, its own left out.

    Returns
    -------
    float array, shape (leads, slots)
    """
    bar = slots.bar - slots.bar[0]
    bars, places, leads = int(bar[-1]) + 1, int(slots.slot.max()) + 1, int(lead.max()) + 1
    column = bar * places + slots.slot
    has_slot = chosen >= 0
    whole = -(-bars // _TURNS[-1]) * _TURNS[-1]
    flat = np.zeros((leads, whole * places), dtype=np.float32)
    flat[lead[has_slot], column[chosen[has_slot]]] = 1.0
    played = flat.reshape(leads, whole, places)
    anyone = played.max(axis=0, keepdims=True)
    sounding = anyone.max(axis=2, keepdims=True)  # silent bars tell nothing
    likely = _likelihood(anyone, sounding)
    if leads > 1:
        likely = _OWN_SHARE * _likelihood(played, sounding) + (1.0 - _OWN_SHARE) * likely
    likely = likely.reshape(leads, -1)[:, column].astype(np.float64)
    # A fill breaks with habit: where a bar holds several strokes that no other bar has, habit counts less for it.
    rare = likely[lead[has_slot], chosen[has_slot]] < _RARE
    fresh = np.bincount(bar[chosen[has_slot]], rare, bars)
    weight = _HABIT_WEIGHT / (1.0 + 0.5 * np.maximum(fresh - 1.0, 0.0))
    return -weight[bar] * np.log(likely + _NEVER)


def _likelihood(played: _Played, sounding: _Played) -> _Played:
    """How often each lead plays each place in the bars around, beside how often it plays at all.

    Its pattern may take one bar, two or four: bars as many as that apart foretell its strokes best.
    """
    usual = np.maximum(played.sum(axis=(1, 2), keepdims=True) / max(sounding.sum(), 1.0) / played.shape[2], 1e-6)
    told = np.stack([_share_around(played, sounding, usual, turn) for turn in _TURNS])
    missed = ((told * sounding - played) ** 2).sum(axis=(2, 3))
    best = told[missed.argmin(axis=0), np.arange(len(played))]
    return (_EVERY_BAR * told[0] + (1.0 - _EVERY_BAR) * best) / usual


def _share_around(played: _Played, sounding: _Played, usual: _Played, turn: int) -> _Played:
    """In what share of the bars around, so many apart, each place is played; `usual` where there are none."""
    count = around(sounding, turn) - sounding
    return (around(played, turn) - played + 0.1 * usual) / (count + 0.1)


def around(values: _Played, turn: int) -> _Played:
    """Sum over the bars around each that are so many apart, itself with them."""
    turns = values.reshape(len(values), -1, turn * values.shape[2])
    total = np.cumsum(np.pad(turns, ((0, 0), (1, 0), (0, 0))), axis=1)
    here = np.arange(turns.shape[1])
    sums = total[:, np.minimum(here + _BARS_AROUND + 1, len(here))] - total[:, np.maximum(here - _BARS_AROUND, 0)]
    return sums.reshape(values.shape)
