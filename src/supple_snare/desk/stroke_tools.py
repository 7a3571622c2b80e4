"""Strokes and their slots by hand: moved to the next slot, locked to the one they have, set free again."""

from __future__ import annotations

import numpy as np

from supple_snare.desk.workspace import Workspace
from supple_snare.session.grid_edits import free_slots, give_slots, places_beside
from supple_snare.timing.units import IntArray


def chosen_strokes(work: Workspace) -> IntArray:
    """Indices of the strokes in the range, or of the selected one."""
    view, looks = work.view, work.looks
    if view is None:
        return np.zeros(0, dtype=np.int64)
    if looks.range_s is not None:
        time_s = view.strokes.time_s
        return np.flatnonzero((time_s >= looks.range_s[0]) & (time_s <= looks.range_s[1]) & ~view.strokes.rides)
    return np.array([] if work.selected is None else [work.selected], dtype=np.int64)


def move_slots(work: Workspace, slots: int) -> None:
    """Give the chosen strokes the slots so many later (earlier if negative)."""
    strokes = _placed(work)
    if strokes is None or work.view is None or work.group is None:
        return
    view, time_s = work.view, work.view.strokes.time_s[strokes]
    way = "later" if slots > 0 else "earlier"
    changed = give_slots(work.session, work.group.key, time_s, places_beside(work.session, view, strokes, slots))
    work.do(f"{_count(strokes)} one slot {way}", changed)


def lock_slots(work: Workspace) -> None:
    """Keep the chosen strokes in the slots they have, whatever changes around them."""
    strokes = _placed(work)
    if strokes is None or work.view is None or work.group is None:
        return
    view = work.view
    changed = give_slots(work.session, work.group.key, view.strokes.time_s[strokes], view.offsets.place[strokes])
    work.do(f"Lock {len(strokes)} slot{'s' if len(strokes) != 1 else ''}", changed)


def release_slots(work: Workspace) -> None:
    """Let the program find the slots of the chosen strokes again."""
    strokes = chosen_strokes(work)
    if not len(strokes) or work.view is None or work.group is None:
        work.tell("Select a stroke, or drag over a range, first.")
        return
    work.do("Free slots", free_slots(work.session, work.group.key, work.view.strokes.time_s[strokes]))


def _placed(work: Workspace) -> IntArray | None:
    """The chosen strokes that have slots; says so if there are none."""
    strokes = chosen_strokes(work)
    if work.view is not None:
        strokes = strokes[work.view.offsets.placed[strokes]]
    if not len(strokes):
        work.tell("Select a stroke that has a slot, or drag over a range, first.")
        return None
    return strokes


def _count(strokes: IntArray) -> str:
    return "Stroke" if len(strokes) == 1 else f"{len(strokes)} strokes"
