"""Strokes of one performance paired with those of another by one best path."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.assign import assign_slots
from supple_snare.timing.grid import Grid, Slots
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_s

_LEAST_GAP_S = 1e-4
_MOST_AGAINST = 3.0


@dataclass(frozen=True, eq=False)
class Pairs:
    """Partners of strokes, each array of shape (n,).

    Attributes
    ----------
    partner : int array
        Index of the reference's stroke, −1 for none.
    partner_s : float array
        Its time; NaN for none.
    close_call : bool array
        Another choice is almost as likely.
    """

    partner: IntArray
    partner_s: FloatArray
    close_call: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.partner)


def pair_strokes(strokes: Strokes, grid: Grid, reference: Offsets, reference_s: FloatArray) -> Pairs:
    """Pair strokes with those of a reference.

    The lines of the grid are laid as the reference plays them: on its strokes where it has one, else where its drift
    carries them. Strokes then find their lines by the same path as on a plain grid, so that order, drift between the
    two and habits of the bars count, and each that lands on a stroke of the reference is its partner.

    Parameters
    ----------
    strokes : Strokes
    grid : Grid
    reference : Offsets
        Of the reference's strokes on that grid.
    reference_s : float array, shape (m,)
        When they are to be met, which may be after they were moved.

    Returns
    -------
    Pairs
    """
    count = len(strokes)
    partner = np.full(count, -1)
    close = np.zeros(count, dtype=bool)
    timed = np.flatnonzero(~strokes.rides)
    placed = np.flatnonzero(reference.placed)
    if len(timed) and len(placed):
        time = strokes.time_s[timed]
        start_s = min(float(time[0]), float(reference_s[placed[0]]))
        end_s = max(float(time[-1]), float(reference_s[placed[-1]]))
        slots, owner = _played_lines(grid.slots(start_s, end_s), grid, reference, reference_s, placed)
        path = assign_slots(time, slots, lead=strokes.lead[timed])
        path = assign_slots(time, slots, lead=strokes.lead[timed], cost=_cost_alone(path.slot_index, owner))
        found = path.slot_index >= 0
        partner[timed[found]] = owner[path.slot_index[found]]
        close[timed] = path.close
    met = partner >= 0
    partner_s = np.where(met, reference_s[np.maximum(partner, 0)] if len(reference_s) else np.nan, np.nan)
    return Pairs(frozen(partner, np.int64), frozen(partner_s), frozen(close & met, np.bool_))


def _cost_alone(slot_index: IntArray, owner: IntArray) -> FloatArray:
    """What speaks against each slot: how seldom, beside chance, such slots are met, with or without a partner there."""
    used = slot_index[slot_index >= 0]
    span = slice(int(used.min()), int(used.max()) + 1) if len(used) else slice(0, 0)
    has_partner = owner >= 0
    met, there = np.count_nonzero(has_partner[used]), np.count_nonzero(has_partner[span])
    alone, empty = len(used) - met, len(has_partner[span]) - there
    often = (met + 1.0) / (there + 1.0), (alone + 1.0) / (empty + 1.0)
    usual = max(often)
    against = (np.log(usual / often[0]), min(np.log(usual / often[1]), _MOST_AGAINST))
    return np.where(has_partner, *against).astype(np.float64)


def _played_lines(
    slots: Slots, grid: Grid, reference: Offsets, reference_s: FloatArray, placed: IntArray
) -> tuple[Slots, IntArray]:
    """Slots where the reference plays them, and its stroke at each, −1 for none."""
    owner = np.full(len(slots), -1)
    owner[slots.at(reference.place[placed])] = placed
    moved_s = reference_s[placed] - reference.grid_s[placed]
    # Between its strokes the reference is where its slow part is: what it does a bar around, in the middle.
    slow_s = _running_median(moved_s, reference.grid_s[placed], grid.bar_s)
    line_s = slots.time_s + np.interp(slots.time_s, reference.grid_s[placed], slow_s)
    has_stroke = owner >= 0
    line_s[has_stroke] = reference_s[owner[has_stroke]]
    # A stroke that lies past its neighbouring line must not turn the order round.
    steps = _LEAST_GAP_S * np.arange(len(line_s))
    line_s = np.maximum.accumulate(line_s - steps) + steps
    return replace(slots, time_s=frozen(line_s)), owner


def _running_median(values: FloatArray, place: FloatArray, width: float, most: int = 64) -> FloatArray:
    """Median of the values within a width of each, of at most so many on either side."""
    low = np.searchsorted(place, place - width)
    high = np.searchsorted(place, place + width, side="right")
    reach = int(min(max(np.max(high - low), 1), most))
    index = np.arange(len(values))[:, None] + np.arange(-(reach // 2), reach // 2 + 1)
    inside = (index >= low[:, None]) & (index < high[:, None])
    near = np.where(inside, values[np.clip(index, 0, len(values) - 1)], np.nan)
    return np.asarray(np.nanmedian(near, axis=1))


def reference_deviation_ms(strokes: Strokes, pairs: Pairs, *, behind_ms: float) -> FloatArray:
    """How far each stroke lies from its partner and the offset wanted between them; NaN without one."""
    return np.asarray(1000.0 * (strokes.time_s - pairs.partner_s - ms_to_s(behind_ms)))
