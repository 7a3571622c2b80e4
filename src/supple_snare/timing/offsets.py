"""Offsets: how far each stroke lies from its slot, and what that distance is made of."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.assign import assign_slots
from supple_snare.timing.grid import Grid
from supple_snare.timing.split import split_offsets
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, IntArray, frozen, s_to_ms

CLOSE_CALL_SLOTS = 0.16
"""A stroke whose two nearest lines differ by less than this part of a slot is a close call."""


@dataclass(frozen=True, eq=False)
class Offsets:
    """Offsets of strokes, each array of shape (n,). A stroke without a slot of its own has NaN for times and offsets.

    Attributes
    ----------
    bar, slot : int array
        Place on the grid.
    grid_s, offset_ms : float array
        Slot time, and stroke time minus slot time: early is negative.
    drift_ms, feel_ms, scatter_ms : float array
        The parts of the offset.
    close_call : bool array
        Two slots are almost equally near.
    """

    bar: IntArray
    slot: IntArray
    grid_s: FloatArray
    offset_ms: FloatArray
    drift_ms: FloatArray
    feel_ms: FloatArray
    scatter_ms: FloatArray
    close_call: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.grid_s)

    @property
    def placed(self) -> NDArray[np.bool_]:
        """Which strokes have a slot of their own."""
        return np.isfinite(self.grid_s)


def measure_offsets(strokes: Strokes, grid: Grid) -> Offsets:
    """Lay strokes on a grid and split their offsets; feel is taken over a cycle of one bar. What rides has no slot.

    Parameters
    ----------
    strokes : Strokes
    grid : Grid

    Returns
    -------
    Offsets
    """
    time = strokes.time_s
    slots = grid.slots(float(time[0]) if len(time) else 0.0, float(time[-1]) if len(time) else 0.0)
    timed = np.flatnonzero(~strokes.rides)
    placement = assign_slots(time[timed], slots)
    slot_index = np.full(len(time), -1)
    slot_index[timed] = placement.slot_index
    margin = np.full(len(time), np.inf)
    margin[timed] = placement.margin
    placed = slot_index >= 0
    near = np.maximum(slot_index, 0)
    grid_s = np.where(placed, slots.time_s[near], np.nan)
    offset_ms = s_to_ms(time - grid_s)
    parts = split_offsets(offset_ms[placed], time[placed], slots.slot[near][placed], drift_width_s=grid.bar_s)

    def whole(values: FloatArray) -> FloatArray:
        spread = np.full(len(time), np.nan)
        spread[placed] = values
        return frozen(spread)

    return Offsets(
        bar=frozen(slots.bar[near], np.int64),
        slot=frozen(slots.slot[near], np.int64),
        grid_s=frozen(grid_s),
        offset_ms=frozen(offset_ms),
        drift_ms=whole(parts.drift_ms),
        feel_ms=whole(parts.feel_ms),
        scatter_ms=whole(parts.scatter_ms),
        close_call=frozen(placed & (margin < CLOSE_CALL_SLOTS), np.bool_),
    )
