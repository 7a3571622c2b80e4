"""Where things lie on the page: bars to rows, time to pixels and back. Pure numbers, no Qt.

The page is laid out like writing: a few bars a row, so that the same beat stands under the same beat. A little of the
neighbouring rows shows at each row's edges, so that an early "one" is not lost.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from supple_snare.timing.grid import Grid
from supple_snare.timing.units import FloatArray, IntArray

BARS_A_ROW = (0.5, 1.0, 2.0, 4.0, 8.0, 16.0)

_NUMBER_PX = 34
_EDGE_PX = 6
_QUIET_BARS = 0.75


@dataclass(frozen=True)
class PageLayout:
    """Layout of the page.

    Attributes
    ----------
    grid : Grid
    length_s : float
        Length of the take.
    bars_a_row : float
    width_px : float
    row_px : float
        Height of a row.
    quiet_s : float
        Nothing is struck before this moment: where that is less than a bar or so, it needs no row.
    """

    grid: Grid
    length_s: float
    bars_a_row: float
    width_px: float
    row_px: float
    quiet_s: float = 0.0

    @property
    def margin_bars(self) -> float:
        """How much of the neighbouring rows shows on either side."""
        return min(1.0 / self.grid.meter.count, self.bars_a_row / 8.0)

    @cached_property
    def first_bar(self) -> float:
        """Bar at which the first row begins: bar 1, or earlier if more than a margin is to be seen before it."""
        before = 1.0 - float(self.grid.bar_at(0.0))
        if before < _QUIET_BARS:
            before = 1.0 - float(self.grid.bar_at(self.quiet_s))
        rows = max(0, math.ceil((before - self.margin_bars) / self.bars_a_row - 1e-9))
        return 1.0 - rows * self.bars_a_row

    @property
    def rows(self) -> int:
        """Number of rows that hold the take."""
        last = float(self.grid.bar_at(self.length_s))
        return max(1, math.ceil((last - self.first_bar) / self.bars_a_row - 1e-9))

    @property
    def height_px(self) -> float:
        """Height of all rows."""
        return self.rows * self.row_px

    @property
    def line_left_px(self) -> float:
        """Left end of the rows' lines; bar numbers stand before it."""
        return _NUMBER_PX

    @property
    def line_width_px(self) -> float:
        """Width of the rows' lines."""
        return max(10.0, self.width_px - _NUMBER_PX - _EDGE_PX)

    @property
    def px_per_bar(self) -> float:
        """Width of a bar."""
        return self.line_width_px / (self.bars_a_row + 2.0 * self.margin_bars)

    @property
    def base_px(self) -> float:
        """Height of the line inside a row."""
        return self.row_px * 0.54

    @property
    def peg_px(self) -> float:
        """Length of a peg."""
        return self.row_px * 0.34

    def row_bar(self, row: int) -> float:
        """Bar at which a row begins, margin left out."""
        return self.first_bar + row * self.bars_a_row

    def row_span_s(self, row: int) -> tuple[float, float]:
        """First and last moment that a row shows, margins included."""
        start = self.row_bar(row) - self.margin_bars
        end = self.row_bar(row + 1) + self.margin_bars
        return float(self.grid.bar_time_s(start)), float(self.grid.bar_time_s(end))

    def take_px(self, row: int) -> tuple[float, float]:
        """Left and right end of the part of a row in which there is sound: nothing lies before the take, or after."""
        ends = np.clip(
            self.x_in_row(row, [0.0, self.length_s]), self.line_left_px, self.line_left_px + self.line_width_px
        )
        return float(ends[0]), float(ends[1])

    def x_in_row(self, row: int | IntArray, time_s: ArrayLike) -> FloatArray:
        """Pixels from the left at which moments stand in a row, whether the row shows them or not."""
        bars = self.grid.bar_at(time_s) - (self.first_bar - self.margin_bars) - row * self.bars_a_row
        return self.line_left_px + bars * self.px_per_bar

    def places(self, rows: range, time_s: FloatArray) -> tuple[IntArray, IntArray, FloatArray]:
        """Which moments some rows show, in which row, at how many pixels from the left.

        One in a margin stands in two rows. Rows come in turn, moments in their own order.
        """
        bars = self.grid.bar_at(time_s) - (self.first_bar - self.margin_bars)
        starts = np.asarray(rows) * self.bars_a_row
        within = bars - starts[:, None]
        nth, which = np.nonzero((within >= 0.0) & (within <= self.bars_a_row + 2.0 * self.margin_bars))
        return which, np.asarray(rows)[nth], self.line_left_px + within[nth, which] * self.px_per_bar

    def times_in_row(self, row: int, x_px: ArrayLike) -> FloatArray:
        """The moments at pixels from the left in a row; the inverse of `x_in_row`."""
        bars = (np.asarray(x_px, dtype=np.float64) - self.line_left_px) / self.px_per_bar - self.margin_bars
        return self.grid.bar_time_s(self.row_bar(row) + bars)

    def row_of(self, time_s: float) -> int:
        """The row that a moment belongs to."""
        row = math.floor((float(self.grid.bar_at(time_s)) - self.first_bar) / self.bars_a_row)
        return min(max(row, 0), self.rows - 1)

    def place_of(self, time_s: float) -> tuple[int, float]:
        """Row and pixels from the left of a moment."""
        row = self.row_of(time_s)
        return row, float(self.x_in_row(row, time_s))

    def time_at(self, x_px: float, y_px: float) -> float:
        """The moment under a point of the page; the inverse of `place_of`."""
        row = min(max(int(y_px // self.row_px), 0), self.rows - 1)
        return float(self.times_in_row(row, x_px))

    def rows_between(self, top_px: float, bottom_px: float) -> range:
        """Rows that a stretch of the page's height touches."""
        first = max(0, int(top_px // self.row_px))
        last = min(self.rows - 1, int(bottom_px // self.row_px))
        return range(first, last + 1)


LEAN_PER_MS = math.radians(1.5)
"""10 ms lean 15 degrees."""

LEAN_CAP = math.radians(66.0)


def leaning_ms(angle: float) -> float:
    """The offset that leans a peg so far: the inverse of `lean_angle`."""
    return angle / LEAN_PER_MS


def lean_angle(offset_ms: ArrayLike) -> FloatArray:
    """Lean of a peg in radians: to the left for early, to the right for late, never flat on the line.

    >>> np.degrees(lean_angle([0.0, 10.0, -200.0])).round(3).tolist()
    [0.0, 15.0, -66.0]
    """
    return np.clip(np.asarray(offset_ms, dtype=np.float64) * LEAN_PER_MS, -LEAN_CAP, LEAN_CAP)
