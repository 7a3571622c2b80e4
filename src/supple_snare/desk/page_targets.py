"""What of the page lies under a point: a moment, a stroke, the mark of a hit, the head of a peg, a grid line."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QPointF

from supple_snare.desk.grab import NEAR_PX
from supple_snare.desk.hit_tools import chosen_track
from supple_snare.desk.page_geometry import PageLayout
from supple_snare.desk.page_painter import hit_lanes, is_marked
from supple_snare.desk.page_pegs import peg_heads, peg_lengths
from supple_snare.desk.workspace import Workspace


class Peg(NamedTuple):
    """A peg that can be leaned: the time of its stroke, and where it stands."""

    time_s: float
    foot: QPointF
    head: QPointF


class Targets:
    """Looks up points of the canvas.

    Parameters
    ----------
    workspace : Workspace
    layout : PageLayout
    scrolled_px : float
        How much of the page lies above the canvas.
    """

    def __init__(self, workspace: Workspace, layout: PageLayout, scrolled_px: float) -> None:
        self._workspace = workspace
        self._layout = layout
        self._scrolled_px = scrolled_px

    def _row_at(self, point: QPointF) -> int:
        return int((point.y() + self._scrolled_px) // self._layout.row_px)

    def time_at(self, point: QPointF) -> float:
        """The moment that stands at a point."""
        return self._layout.time_at(point.x(), point.y() + self._scrolled_px)

    def stroke_at(self, point: QPointF) -> float | None:
        """Time of the stroke whose peg stands near a point."""
        view = self._workspace.view
        if view is None or not len(view.strokes):
            return None
        layout = self._layout
        where = np.where(view.offsets.placed, view.offsets.grid_s, view.strokes.time_s)
        nearest = int(np.argmin(np.abs(where - self.time_at(point))))
        row = self._row_at(point)
        near = abs(float(layout.x_in_row(row, where[nearest])) - point.x()) <= 2.5 * NEAR_PX
        return float(view.strokes.time_s[nearest]) if near else None

    def hit_at(self, point: QPointF) -> tuple[str, int] | None:
        """Track and index of the hit whose mark is under a point."""
        view = self._workspace.view
        if view is None or self._workspace.looks.step != "hits" or view.part is not None:
            return None
        layout = self._layout
        row = self._row_at(point)
        y = (point.y() + self._scrolled_px) - row * layout.row_px
        chosen = chosen_track(self._workspace)
        for key, lane_y in hit_lanes(layout, view, chosen):
            hits = view.hits[key]
            if abs(lane_y - y) > NEAR_PX or not len(hits):
                continue
            distance = np.abs(layout.x_in_row(row, hits.time_s) - point.x())
            distance[~is_marked(hits, chosen=key == chosen)] = np.inf
            nearest = int(np.argmin(distance))
            if distance[nearest] <= NEAR_PX:
                return key, nearest
        return None

    def peg_at(self, point: QPointF) -> Peg | None:
        """The peg whose head is under a point; only where strokes are moved."""
        view, looks = self._workspace.view, self._workspace.looks
        if view is None or looks.step not in ("tighten", "proof") or not looks.tightened or not len(view.strokes):
            return None
        layout = self._layout
        row = self._row_at(point)
        near = np.flatnonzero(view.offsets.placed & (np.abs(view.offsets.grid_s - self.time_at(point)) < 1.0))
        if not len(near):
            return None
        foot_x = layout.x_in_row(row, view.offsets.grid_s[near])
        foot_y = row * layout.row_px - self._scrolled_px + layout.base_px
        upright = peg_lengths(view, near, layout)
        head_x, head_y = peg_heads(foot_x, foot_y, upright, view.offsets.offset_ms[near] + view.plan.move_ms[near])
        away = np.hypot(head_x - point.x(), head_y - point.y())
        nearest = int(np.argmin(away))
        if away[nearest] > NEAR_PX:
            return None
        foot, head = QPointF(float(foot_x[nearest]), foot_y), QPointF(float(head_x[nearest]), float(head_y[nearest]))
        return Peg(float(view.strokes.time_s[near[nearest]]), foot, head)

    def line_at(self, point: QPointF) -> tuple[float, float] | None:
        """The line of a bar or count under a point: quarter notes from bar 1, pixels from the left."""
        layout = self._layout
        grid, time_s = layout.grid, self.time_at(point)
        slots = grid.slots(time_s, time_s)
        lines = np.flatnonzero(slots.on_count | (slots.slot == 0))
        nearest = lines[np.argmin(np.abs(slots.time_s[lines] - time_s))]
        row = self._row_at(point)
        x = float(layout.x_in_row(row, slots.time_s[nearest]))
        if abs(x - point.x()) > NEAR_PX:
            return None
        return float(slots.place[nearest]), x
