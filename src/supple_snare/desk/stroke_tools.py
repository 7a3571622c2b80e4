"""Strokes by hand: held, moved, evened out, given other slots, left to the program again."""

from __future__ import annotations

import numpy as np

from supple_snare.desk import theme
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.edits import (
    drop_edits,
    even_range,
    give_moves,
    hold_others,
    hold_range,
    join_range,
    release_range,
    slide_range,
)
from supple_snare.session.grid_edits import free_slots, give_slots, places_beside
from supple_snare.timing.tighten import Kept
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
    work.do(f"Lock {theme.counted(len(strokes), 'slot')}", changed)


def release_slots(work: Workspace) -> None:
    """Let the program find the slots of the chosen strokes again."""
    strokes = chosen_strokes(work)
    if not len(strokes) or work.view is None or work.group is None:
        work.tell("Select a stroke, or drag over a range, first.")
        return
    work.do("Free slots", free_slots(work.session, work.group.key, work.view.strokes.time_s[strokes]))


def nudge_strokes(work: Workspace, by_ms: float) -> None:
    """Move the chosen strokes by so much more, as a block; in a range without strokes, the sound between them."""
    view, group, strokes = work.view, work.group, chosen_strokes(work)
    if view is not None and group is not None and group.tracks and work.looks.range_s is not None and not len(strokes):
        _slide(work, group.key, work.looks.range_s, by_ms)
        return
    if view is None or group is None or not len(strokes):
        work.tell("Select a stroke, or drag over a range on the page, first.")
        return
    moves = dict(zip(view.strokes.time_s[strokes].tolist(), (view.plan.move_ms[strokes] + by_ms).tolist(), strict=True))
    work.do(f"Nudge {_count(strokes).lower()}", give_moves(work.session, group.key, moves))


def _slide(work: Workspace, group_key: str, span: tuple[float, float], by_ms: float) -> None:
    try:
        work.do(f"Slide the sound in {_place(work, span)}", slide_range(work.session, group_key, *span, by_ms))
    except SnareError as error:
        work.tell_problem(str(error))


def join_selection(work: Workspace) -> None:
    """Let the strokes of the range travel as one piece."""
    span, group = work.looks.range_s, work.group
    if span is None or group is None or len(chosen_strokes(work)) < 2:
        work.tell("Drag over a range with two strokes or more on the page first: they move as the first of them does.")
        return
    work.do(f"One piece in {_place(work, span)}", join_range(work.session, group.key, *span))


def tighten_only(work: Workspace) -> None:
    """Keep everything outside the range as played."""
    span, group = work.looks.range_s, work.group
    if span is None or group is None:
        work.tell("Drag over the range to tighten on the page first; all else is then held as played.")
        return
    work.do(f"Tighten only {_place(work, span)}", hold_others(work.session, group.key, *span))


def place_stroke(work: Workspace, stroke: int, offset_ms: float) -> None:
    """Put a stroke so far from its slot."""
    view, group = work.view, work.group
    if view is not None and group is not None:
        move_ms = offset_ms - float(view.offsets.offset_ms[stroke])
        moves = {float(view.strokes.time_s[stroke]): move_ms}
        work.do("Move a stroke", give_moves(work.session, group.key, moves))


def even_selection(work: Workspace) -> None:
    """Let what lies between the ends of the range move evenly between them."""
    if work.looks.range_s is None or work.group is None:
        work.tell("Drag over a range on the page first: its first and last stroke stay where they go.")
        return
    span = work.looks.range_s
    work.do(f"Even out {_place(work, span)}", even_range(work.session, work.group.key, *span))


def drop_selection(work: Workspace) -> None:
    """Drop every edit by hand of the range, or of the selected stroke."""
    if (span := _span_or_word(work)) is not None and work.group is not None:
        changed = drop_edits(work.session, work.group.key, *span)
        if changed == work.session:
            work.tell("Nothing was done by hand there.")
        work.do(f"As found: {_place(work, span)}", changed)


def hold_selection(work: Workspace) -> None:
    """Hold the selected range, or the selected stroke."""
    if (span := _span_or_word(work)) is not None and work.group is not None:
        work.do(f"Hold {_place(work, span)}", hold_range(work.session, work.group.key, *span))


def bring_in_selection(work: Workspace) -> None:
    """Move strokes past the reach as those within it are moved."""
    view, group, span = work.view, work.group, _span_or_word(work)
    if span is None or view is None or group is None:
        return
    strokes = chosen_strokes(work)
    past = strokes[view.plan.kept[strokes] == Kept.REACH]
    if not len(past):
        work.tell("No stroke here lies past the reach.")
        return
    moves_ms = dict(zip(view.strokes.time_s[past].tolist(), view.plan.unlimited_ms[past].tolist(), strict=True))
    work.do(f"Bring in {_place(work, span)}", give_moves(work.session, group.key, moves_ms))


def release_selection(work: Workspace) -> None:
    """Drop the holds that touch the selection."""
    if (span := _span_or_word(work)) is not None and work.group is not None:
        work.do(f"Release {_place(work, span)}", release_range(work.session, work.group.key, *span))


def _span_or_word(work: Workspace) -> tuple[float, float] | None:
    """The selected range, or a moment around the selected stroke; says so if there is neither."""
    if work.looks.range_s is not None:
        return work.looks.range_s
    if work.looks.selected_s is not None:
        return work.looks.selected_s - 0.001, work.looks.selected_s + 0.001
    work.tell("Select a stroke, or drag over a range on the page, first.")
    return None


def _place(work: Workspace, span: tuple[float, float]) -> str:
    first, last = (int(np.floor(float(work.session.grid.bar_at(time)) + 1e-6)) for time in span)
    return (f"bar {first}" if first == last else f"bars {first}–{last}").replace("-", "−")


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
