"""Offsets: how far each stroke lies from its slot, and what that distance is made of."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.assign import assign_slots
from supple_snare.timing.cycle import CYCLES, Cycle, cells_of, find_cycle
from supple_snare.timing.grid import Grid, Slots
from supple_snare.timing.split import Split, split_offsets
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, IntArray, frozen, s_to_ms


@dataclass(frozen=True)
class FeelRules:
    """How feel is told from the rest of the offsets.

    Attributes
    ----------
    cycle : Cycle or None
        Over what it repeats; None finds that from the offsets, section by section.
    by_lead : bool
        Whether each lead has a feel of its own, or all share one.
    """

    cycle: Cycle | None = None
    by_lead: bool = False


@dataclass(frozen=True, eq=False)
class Offsets:
    """Offsets of strokes, each array of shape (n,). A stroke without a slot of its own has NaN for times and offsets.

    Attributes
    ----------
    bar, slot : int array
        Place on the grid.
    beat : float array
        Position within the bar in quarter notes, as laid.
    section : int array
        Number of the section the slot lies in, from 0.
    place, runner_up : float array
        What names the slot, and the next best one, whatever the swing: quarter notes from the start of bar 1, swing
        left out.
    grid_s, offset_ms : float array
        Slot time, and stroke time minus slot time: early is negative.
    drift_ms, feel_ms, scatter_ms : float array
        The parts of the offset.
    margin : float array
        How much likelier the slot is than the next best choice, as a natural logarithm.
    close_call : bool array
        Another slot is almost as likely.
    fixed : bool array
        The slot was given by hand.
    cycle_place : float array
        Where in the cycle of its feel the slot lies, in quarter notes, swing left out.
    cycles : tuple of Cycle
        Over what the feel of each section repeats.
    """

    bar: IntArray
    slot: IntArray
    beat: FloatArray
    section: IntArray
    place: FloatArray
    runner_up: FloatArray
    grid_s: FloatArray
    offset_ms: FloatArray
    drift_ms: FloatArray
    feel_ms: FloatArray
    scatter_ms: FloatArray
    margin: FloatArray
    close_call: NDArray[np.bool_]
    fixed: NDArray[np.bool_]
    cycle_place: FloatArray
    cycles: tuple[Cycle, ...]

    def __len__(self) -> int:
        return len(self.grid_s)

    @property
    def placed(self) -> NDArray[np.bool_]:
        """Which strokes have a slot of their own."""
        return np.isfinite(self.grid_s)


def measure_offsets(
    strokes: Strokes, grid: Grid, *, told: FloatArray | None = None, rules: FeelRules | None = None
) -> Offsets:
    """Lay strokes on a grid and split their offsets. What rides has no slot.

    Parameters
    ----------
    strokes : Strokes
    grid : Grid
    told : float array, shape (n,), optional
        Places given by hand, as in `Offsets.place`; NaN where there is none.
    rules : FeelRules, optional

    Returns
    -------
    Offsets
    """
    time = strokes.time_s
    slots = grid.slots(float(time[0]) if len(time) else 0.0, float(time[-1]) if len(time) else 0.0)
    fixed = np.full(len(time), -1) if told is None else np.where(np.isfinite(told), slots.at(told), -1)
    timed = np.flatnonzero(~strokes.rides)
    path = assign_slots(time[timed], slots, lead=strokes.lead[timed], rank=strokes.rank[timed], fixed=fixed[timed])
    slot_index = _spread(path.slot_index, timed, len(time), -1)
    placed = slot_index >= 0
    near = np.maximum(slot_index, 0)
    grid_s = np.where(placed, slots.time_s[near], np.nan)
    offset_ms = s_to_ms(time - grid_s)
    parts, cycles, cycle_place = _split(
        offset_ms[placed], time[placed], near[placed], strokes.lead[placed], slots, grid, rules or FeelRules()
    )

    def whole(values: FloatArray) -> FloatArray:
        return frozen(_spread(values, np.flatnonzero(placed), len(time), np.nan))

    return Offsets(
        bar=frozen(slots.bar[near], np.int64),
        slot=frozen(slots.slot[near], np.int64),
        beat=frozen(slots.beat[near]),
        section=frozen(slots.section[near], np.int64),
        place=frozen(np.where(placed, slots.place[near], np.nan)),
        runner_up=frozen(_spread(slots.place[path.runner_up], timed, len(time), np.nan)),
        grid_s=frozen(grid_s),
        offset_ms=frozen(offset_ms),
        drift_ms=whole(parts.drift_ms),
        feel_ms=whole(parts.feel_ms),
        scatter_ms=whole(parts.scatter_ms),
        margin=frozen(_spread(path.margin, timed, len(time), np.inf)),
        close_call=frozen(_spread(path.close, timed, len(time), False), np.bool_),
        fixed=frozen(placed & (fixed >= 0), np.bool_),
        cycle_place=whole(cycle_place),
        cycles=cycles,
    )


def _split(
    offset_ms: FloatArray,
    time_s: FloatArray,
    slot_index: IntArray,
    lead: IntArray,
    slots: Slots,
    grid: Grid,
    rules: FeelRules,
) -> tuple[Split, tuple[Cycle, ...], FloatArray]:
    """Parts of the offsets of placed strokes, cycle of each section, and places in it."""
    section, bar, place = slots.section[slot_index], slots.bar[slot_index], slots.place[slot_index]
    first_bar = grid.first_bars[section]
    apart = (section, lead) if rules.by_lead else (section,)

    def laid(cycle: Cycle) -> FloatArray:
        return cycle.places(grid, place, bar, first_bar)

    def split(cycle_place: FloatArray) -> Split:
        cell = cells_of(cycle_place, *apart)
        return split_offsets(offset_ms, time_s, cell, bar_s=grid.bar_s, block=section)

    sections = len(grid.first_bars)
    if rules.cycle is not None or not len(offset_ms):
        cycle_place = laid(rules.cycle or Cycle())
        return split(cycle_place), (rules.cycle or Cycle(),) * sections, cycle_place
    over_bars = split(laid(Cycle()))
    rest = offset_ms - over_bars.drift_ms
    places = [laid(cycle) for cycle in CYCLES]
    cycle_place = places[CYCLES.index(Cycle())].copy()
    cycles = [Cycle()] * sections
    for number in np.unique(section).tolist():
        here = section == number
        bars = float(bar[here].max() - bar[here].min() + 1)
        turns = [bars / cycle.count if cycle.of_bars else np.inf for cycle in CYCLES]
        cells = [cells_of(each[here], lead[here]) if rules.by_lead else cells_of(each[here]) for each in places]
        chosen = find_cycle(rest[here], cells, turns)
        cycles[number] = CYCLES[chosen]
        cycle_place[here] = places[chosen][here]
    parts = over_bars if set(cycles) == {Cycle()} else split(cycle_place)
    return parts, tuple(cycles), cycle_place


def _spread(values: NDArray[Any], where: IntArray, count: int, empty: Any) -> NDArray[Any]:
    """Values of some of many, and something empty for all others."""
    spread = np.full(count, empty, dtype=np.result_type(values, type(empty)) if len(values) else None)
    spread[where] = values
    return spread
