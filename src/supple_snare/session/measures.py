"""Measurements as tables: of every stroke, and of strokes by lead, slot, section and bar."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import overload

import numpy as np

from supple_snare.session.document import Session
from supple_snare.session.stages import GroupView
from supple_snare.timing.measure import figures_of, pull_of_bars
from supple_snare.timing.units import FloatArray, IntArray

Cell = str | int | float | None

KINDS = ("strokes", "leads", "slots", "sections", "bars")
_FIGURES = ("strokes", "mean ms", "spread ms", "worst ms", "early %", "late %")


@dataclass(frozen=True, eq=False)
class Table:
    """A table of measurements.

    Attributes
    ----------
    header : tuple of str
    rows : sequence of tuple of Cell
    group : int array, shape (strokes,)
        Row that each stroke of the group's view belongs to; −1 for none.
    span_s : list of (float, float) or None
        Stretch of the take that a row stands for, where it stands for one.
    """

    header: tuple[str, ...]
    rows: Sequence[tuple[Cell, ...]]
    group: IntArray
    span_s: list[tuple[float, float] | None]


def measure_table(session: Session, view: GroupView, kind: str) -> Table:
    """The table of one of `KINDS`."""
    make = {"strokes": _by_stroke, "leads": _by_lead, "slots": _by_slot, "sections": _by_section, "bars": _by_bar}
    return make[kind](session, view)


class _StrokeRows(Sequence[tuple[Cell, ...]]):
    """A row for each stroke, made when it is asked for: a window shows a few of thousands."""

    HEADER = ("time s", "lead", "bar", "beat", "offset ms", "drift ms", "feel ms", "scatter ms", "level dB", "slot is")

    def __init__(self, session: Session, view: GroupView) -> None:
        self._strokes, self._offsets = view.strokes, view.offsets
        self._names = [session.name_of(key) for key in view.columns]
        self._beats = _beats(session, view)

    def __len__(self) -> int:
        return len(self._strokes)

    @overload
    def __getitem__(self, index: int) -> tuple[Cell, ...]: ...
    @overload
    def __getitem__(self, index: slice) -> list[tuple[Cell, ...]]: ...
    def __getitem__(self, index: int | slice) -> tuple[Cell, ...] | list[tuple[Cell, ...]]:
        if isinstance(index, slice):
            return [self[each] for each in range(*index.indices(len(self)))]
        strokes, offsets = self._strokes, self._offsets
        placed = bool(offsets.placed[index])
        sure = "by hand" if offsets.fixed[index] else "close call" if offsets.close_call[index] else ""
        parts = (offsets.offset_ms, offsets.drift_ms, offsets.feel_ms, offsets.scatter_ms)
        return (
            round(float(strokes.time_s[index]), 5),
            self._names[int(strokes.lead[index])],
            int(offsets.bar[index]) if placed else None,
            round(float(self._beats[index]), 3) if placed else None,
            *(round(float(part[index]), 2) if placed else None for part in parts),
            round(float(strokes.level_db[index]), 1),
            sure if placed else "rides" if strokes.rides[index] else "none",
        )


def _by_stroke(session: Session, view: GroupView) -> Table:
    rows = _StrokeRows(session, view)
    return Table(rows.HEADER, rows, np.arange(len(rows)), [None] * len(rows))


def _beats(session: Session, view: GroupView) -> FloatArray:
    """Count of the bar, from 1, at which each stroke's slot stands."""
    bars = session.grid.bars
    unit = np.array([bars.meter_of(bar).unit_beats for bar in np.unique(view.offsets.bar).tolist()])
    return view.offsets.beat / unit[np.unique(view.offsets.bar, return_inverse=True)[1]] + 1.0


def _by_lead(session: Session, view: GroupView) -> Table:
    names = [session.name_of(key) for key in view.columns]
    return _grouped(view, view.strokes.lead, [(name,) for name in names], ("lead",))


def _by_slot(session: Session, view: GroupView) -> Table:
    beats = np.round(_beats(session, view), 3)
    placed = view.offsets.placed
    known = np.unique(beats[placed])
    group = np.clip(np.searchsorted(known, beats), 0, max(len(known) - 1, 0))
    return _grouped(view, group, [(float(beat),) for beat in known], ("beat",))


def _by_section(session: Session, view: GroupView) -> Table:
    if not session.sections:
        return _grouped(view, np.zeros(len(view.strokes), dtype=np.int64), [("the whole take",)], ("section",))
    starts = [section.start_s for section in session.sections]
    ends = [*starts[1:], session.length_s]
    return _grouped(
        view,
        view.offsets.section,
        [(section.name,) for section in session.sections],
        ("section",),
        spans=list(zip(starts, ends, strict=True)),
    )


def _by_bar(session: Session, view: GroupView) -> Table:
    placed = view.offsets.placed
    bars = np.unique(view.offsets.bar[placed])
    if not len(bars):
        return _grouped(view, np.zeros(len(view.strokes), dtype=np.int64), [], ("bar",))
    first, last = int(bars[0]), int(bars[-1])
    numbers = np.arange(first, last + 1)
    starts = session.grid.bar_time_s(np.arange(first, last + 2))
    pull = pull_of_bars(view.strokes.time_s[placed], view.offsets.drift_ms[placed], starts)
    tempo = session.grid.bars.beat_of(numbers + 1) - session.grid.bars.beat_of(numbers)
    tempo = 60.0 * tempo / (np.diff(starts) + pull / 1000.0)
    more = [
        (round(float(by), 2), "rushing" if by < -2.0 else "dragging" if by > 2.0 else "", round(float(bpm), 2))
        for by, bpm in zip(pull, tempo, strict=True)
    ]
    spans = [(float(start), float(end)) for start, end in pairwise(starts)]
    return _grouped(
        view,
        view.offsets.bar - first,
        [(int(bar),) for bar in numbers],
        ("bar",),
        more=more,
        more_header=("pull ms", "", "played bpm"),
        spans=spans,
    )


def _grouped(
    view: GroupView,
    group: IntArray,
    names: Sequence[tuple[Cell, ...]],
    header: tuple[str, ...],
    *,
    more: Sequence[tuple[Cell, ...]] | None = None,
    more_header: tuple[str, ...] = (),
    spans: Sequence[tuple[float, float]] | None = None,
) -> Table:
    """A row of figures for each group."""
    placed = view.offsets.placed
    figures = figures_of(view.offsets.offset_ms[placed], group[placed], len(names))
    rows = [
        (
            *name,
            int(figures.count[number]),
            _rounded(figures.mean_ms[number], 2),
            _rounded(figures.spread_ms[number], 2),
            _rounded(figures.worst_ms[number], 2),
            _rounded(100.0 * figures.early[number], 0),
            _rounded(100.0 * figures.late[number], 0),
            *(more[number] if more is not None else ()),
        )
        for number, name in enumerate(names)
    ]
    return Table(
        (*header, *_FIGURES, *more_header),
        rows,
        np.where(placed, group, -1),
        list(spans) if spans is not None else [None] * len(names),
    )


def _rounded(value: float, digits: int) -> float | None:
    return round(float(value), digits) if np.isfinite(value) else None
