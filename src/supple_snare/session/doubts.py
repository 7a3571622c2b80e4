"""Doubts: decisions that the program wants a person to hear, each with its reason."""

from __future__ import annotations

from enum import IntEnum

import numpy as np

from supple_snare.session.stages import GroupView
from supple_snare.sound.cut import Cut
from supple_snare.timing.tighten import Kept

_APART_MS = 18.0
"""Two players of a loose take lie 8 ms apart as a rule; more than twice that is worth an ear."""

_SURE = 0.62


class Doubt(IntEnum):
    """Reasons, worst first."""

    PAST_REACH = 0
    CLOSE_CALL = 1
    NO_SLOT = 2
    MOVE_LIMITED = 3
    LEADS_APART = 4
    TAIL_EXTENDED = 5
    UNSURE_HIT = 6

    @property
    def word(self) -> str:
        """The reason in words, as screens and files give it."""
        return _WORDS[self]


_WORDS = {
    Doubt.PAST_REACH: "past the reach",
    Doubt.CLOSE_CALL: "two slots almost equally likely",
    Doubt.NO_SLOT: "no slot of its own",
    Doubt.MOVE_LIMITED: "could not move as far as planned",
    Doubt.LEADS_APART: "leads lie apart",
    Doubt.TAIL_EXTENDED: "tail extended",
    Doubt.UNSURE_HIT: "unsure hit",
}


SLOT_DOUBTS = (Doubt.CLOSE_CALL, Doubt.NO_SLOT)
"""Doubts about which slot a stroke has."""


def stroke_doubts(view: GroupView, cut: Cut | None = None) -> list[list[Doubt]]:
    """The doubts of each stroke, worst first; those of the cut only where one is given."""
    count = len(view.strokes)
    nothing = np.zeros(count, dtype=bool)
    placed = view.offsets.placed
    reasons = {
        Doubt.PAST_REACH: view.plan.kept == Kept.REACH,
        Doubt.CLOSE_CALL: view.offsets.close_call,
        Doubt.NO_SLOT: ~placed & ~view.strokes.rides,
        Doubt.MOVE_LIMITED: nothing if cut is None else cut.limited,
        Doubt.LEADS_APART: view.strokes.spread_ms() > _APART_MS,
        Doubt.TAIL_EXTENDED: nothing if cut is None else cut.extended,
        Doubt.UNSURE_HIT: view.strokes.confidence < _SURE,
    }
    held = view.plan.kept == Kept.HELD
    doubts: list[list[Doubt]] = [[] for _ in range(count)]
    for doubt, marked in reasons.items():
        for index in np.flatnonzero(marked & ~held).tolist():
            doubts[index].append(doubt)
    return doubts
