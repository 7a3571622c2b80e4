"""Strokes to slots by one best path that keeps their order and follows the drift.

Nearest-line rounding fails where a performance leans by almost half a slot, or where one stroke is far off while its
neighbours already hold the lines beside it. Here the whole row of strokes is laid at once, by dynamic programming
(A. J. Viterbi, "Error bounds for convolutional codes", IEEE Trans. Inf. Theory 13, 1967), with at most one stroke a
slot.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.grid import Slots
from supple_snare.timing.units import FloatArray, IntArray, frozen

_REACH_SLOTS = 2
"""Slots on each side of a stroke that may be its own."""

_OFFSET_COST = 0.6
"""Cost of lying one slot away from the line, squared with distance."""

_CHANGE_COST = 1.0
"""Cost of an offset that differs by one slot from the offset of the stroke before."""

_MEMORY_S = 1.5
"""How long an offset tells something about the next one: drift changes over a few beats."""

_UNPLACED_COST = 1.6
"""Cost of leaving a stroke without a slot: more than any plain placement, less than pushing two neighbours off."""


@dataclass(frozen=True, eq=False)
class Placement:
    """Which slot each stroke has.

    Attributes
    ----------
    slot_index : int array, shape (n,)
        Index into the slots; −1 for a stroke that has no slot of its own.
    runner_up : int array, shape (n,)
        Index of the next best slot.
    margin : float array, shape (n,)
        How much nearer, in parts of a slot, the chosen line is than the runner-up (0: equal, negative: it was
        chosen against the nearer line for the sake of order or drift).
    """

    slot_index: IntArray
    runner_up: IntArray
    margin: FloatArray


def assign_slots(time_s: FloatArray, slots: Slots) -> Placement:
    """Lay strokes to slots.

    Parameters
    ----------
    time_s : float array, shape (n,)
        Stroke times, increasing.
    slots : Slots
        Must cover the strokes with a bar to spare on either side, as `Grid.slots` does.

    Returns
    -------
    Placement
        Chosen slots increase strictly from stroke to stroke.
    """
    count = len(time_s)
    if not count:
        return Placement(frozen([], np.int64), frozen([], np.int64), frozen([]))
    chosen = _best_path(np.asarray(time_s, dtype=np.float64), slots)
    near = np.clip(chosen, 0, len(slots) - 1)
    spacing = slots.spacing_s[near]
    side = np.where(time_s >= slots.time_s[near], 1, -1)
    runner_up = np.clip(near + side, 0, len(slots) - 1)
    to_chosen = np.abs(time_s - slots.time_s[near])
    to_runner = np.abs(time_s - slots.time_s[runner_up])
    return Placement(frozen(chosen, np.int64), frozen(runner_up, np.int64), frozen((to_runner - to_chosen) / spacing))


def _best_path(time_s: FloatArray, slots: Slots) -> IntArray:
    """Chosen slot of each stroke, −1 for none.

    A state is "the last slot used"; each stroke has one state for each slot near it, and one for staying unplaced.
    """
    width = 2 * _REACH_SLOTS + 1
    base = np.searchsorted(slots.time_s, time_s) - _REACH_SLOTS - 1
    base = np.clip(base, 0, max(0, len(slots) - width - 1))
    candidates = base[:, None] + np.arange(width + 1)
    offsets = time_s[:, None] - slots.time_s[candidates]
    spacing = slots.spacing_s[candidates]
    own_cost = _OFFSET_COST * (offsets / spacing) ** 2
    memory = _CHANGE_COST * np.exp(-np.diff(time_s, prepend=time_s[0] - 1e9) / _MEMORY_S)
    change_cost = memory[:, None] / spacing

    slots_near = candidates.shape[1]
    each = np.arange(slots_near)
    came_from = np.zeros((len(time_s), slots_near + 1), dtype=np.int64)
    last_slot = np.full((slots_near + 1, 1), -1)
    last_offset = np.zeros((slots_near + 1, 1))
    cost = np.full((slots_near + 1, 1), np.inf)
    cost[0] = 0.0
    # What a changed grid or limit waits for: no array is made anew that need not be.
    for i in range(len(time_s)):
        total = np.abs(offsets[i] - last_offset)
        total *= change_cost[i]
        total += cost
        total[last_slot >= candidates[i]] = np.inf
        best = total.argmin(axis=0)
        skipped = cost.argmin()
        came_from[i, :-1], came_from[i, -1] = best, skipped
        cost[-1], last_slot[-1], last_offset[-1] = (
            cost[skipped] + _UNPLACED_COST,
            last_slot[skipped],
            last_offset[skipped],
        )
        cost[:-1, 0] = total[best, each] + own_cost[i]
        last_slot[:-1, 0] = candidates[i]
        last_offset[:-1, 0] = offsets[i]

    chosen = np.full(len(time_s), -1, dtype=np.int64)
    state = int(cost.argmin())
    for i in range(len(time_s) - 1, -1, -1):
        if state < slots_near:
            chosen[i] = candidates[i, state]
        state = int(came_from[i, state])
    return chosen
