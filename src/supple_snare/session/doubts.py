"""Doubts: decisions that the program wants a person to hear, each with its reason."""

from __future__ import annotations

from enum import IntEnum
from functools import lru_cache

import numpy as np

from supple_snare.session.stages import GroupView
from supple_snare.sound.cut import Cut
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.tighten import Kept
from supple_snare.timing.units import FloatArray, frozen

_APART_MS, _APART_SPREADS = 8.0, 2.6
"""Leads struck as one lie apart as they do all through the take; this much more is worth an ear, in ms and spreads."""

_JUMP_DB = 10.0

_UNLIKE = 0.4
"""What rings is heard to break off where its end has less than so much in common with what follows, 1 being nothing."""

_SURE = 0.62


class Doubt(IntEnum):
    """Reasons, worst first."""

    PAST_REACH = 0
    CLOSE_CALL = 1
    NO_SLOT = 2
    MOVE_LIMITED = 3
    LEADS_APART = 4
    TAIL_EXTENDED = 5
    STRETCHED_FAR = 6
    RING_BREAKS = 7
    UNSURE_HIT = 8
    UNSURE_PAIR = 9
    TOO_SHORT = 10
    NEAR_SEAM = 11
    LEVEL_JUMPS = 12

    @property
    def word(self) -> str:
        """The reason in words, as screens and files give it."""
        return _WORDS[self]


_WORDS = {
    Doubt.PAST_REACH: "past the reach",
    Doubt.CLOSE_CALL: "its slot is not sure",
    Doubt.NO_SLOT: "no slot of its own",
    Doubt.MOVE_LIMITED: "could not move as planned",
    Doubt.LEADS_APART: "leads lie apart",
    Doubt.TAIL_EXTENDED: "tail extended",
    Doubt.UNSURE_HIT: "unsure hit",
    Doubt.NEAR_SEAM: "an attack close before its seam",
    Doubt.LEVEL_JUMPS: "the level jumps at its seam",
    Doubt.UNSURE_PAIR: "its partner is not sure",
    Doubt.STRETCHED_FAR: "stretched far",
    Doubt.RING_BREAKS: "what rings breaks off before it",
    Doubt.TOO_SHORT: "too little to stretch before it, so cut",
}


SLOT_DOUBTS = (Doubt.CLOSE_CALL, Doubt.NO_SLOT)
"""Doubts about which slot a stroke has."""


def stroke_doubts(view: GroupView, cut: Cut | None = None) -> list[tuple[Doubt, ...]]:
    """The doubts of each stroke, worst first; those of the cut only where one is given."""
    count = len(view.strokes)
    nothing = np.zeros(count, dtype=bool)
    placed = view.offsets.placed
    least, most = view.group.stretch_limits
    reasons = {
        Doubt.PAST_REACH: view.plan.kept == Kept.REACH,
        Doubt.CLOSE_CALL: view.offsets.close_call,
        # Beside another it moves as that does, and nothing is left to decide.
        Doubt.NO_SLOT: ~placed & ~view.strokes.rides & (view.strokes.hosts(~placed) < 0),
        Doubt.MOVE_LIMITED: nothing if cut is None else cut.limited,
        Doubt.LEADS_APART: leads_apart_ms(view.strokes) > 0.0,
        Doubt.TAIL_EXTENDED: nothing if cut is None else cut.extended,
        Doubt.UNSURE_HIT: view.strokes.confidence < _SURE,
        Doubt.NEAR_SEAM: nothing if cut is None else cut.near,
        Doubt.LEVEL_JUMPS: nothing if cut is None else cut.jump_db > _JUMP_DB,
        Doubt.STRETCHED_FAR: nothing if cut is None else (cut.ratio < least) | (cut.ratio > most),
        Doubt.RING_BREAKS: nothing if cut is None else cut.unlike > _UNLIKE,
        Doubt.TOO_SHORT: nothing if cut is None else cut.short,
        Doubt.UNSURE_PAIR: nothing if view.pairs is None else view.pairs.close_call,
    }
    held = view.plan.kept == Kept.HELD
    doubts: list[tuple[Doubt, ...]] = [()] * count
    for doubt, marked in reasons.items():
        for index in np.flatnonzero(marked & ~held).tolist():
            doubts[index] += (doubt,)
    return doubts


@lru_cache(maxsize=8)
def leads_apart_ms(strokes: Strokes) -> FloatArray:
    """How far the leads of each stroke lie apart where that is more than usual for them; else 0.

    Kept for strokes, which stay while their moves change.

    Returns
    -------
    float array, shape (n,)
    """
    times = 1000.0 * strokes.lead_times_s
    most = np.zeros(len(times))
    for one in range(times.shape[1]):
        for other in range(one + 1, times.shape[1]):
            apart = times[:, one] - times[:, other]
            both = np.isfinite(apart)
            if not both.any():
                continue
            usual = float(np.median(apart[both]))
            away = np.abs(apart - usual)
            spread = 1.4826 * float(np.median(away[both]))
            far = both & (away > max(_APART_MS, _APART_SPREADS * spread))
            most[far] = np.maximum(most[far], np.abs(apart[far]))
    return frozen(most)
