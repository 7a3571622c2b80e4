"""The cheapest way of giving each of a row of strokes a slot of its own, in order, and what every other way costs.

A stroke may also stay without a slot. The state after each stroke is the last slot used; since slots near a stroke are
few, a window of them moves along.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.stretches import Stretches
from supple_snare.timing.units import FloatArray, IntArray

_OVERLAP = 12


@dataclass(frozen=True, eq=False)
class PathCosts:
    """What the best whole path costs through each choice.

    Attributes
    ----------
    through : float array, shape (n, width)
        Cost of the cheapest path in which a stroke takes the slot of that place in its window.
    without : float array, shape (n,)
        The same where the stroke has no slot.
    """

    through: FloatArray
    without: FloatArray


def ordered_path(cost: FloatArray, first_slot: IntArray, skip: FloatArray) -> PathCosts:
    """Find the cheapest paths.

    Parameters
    ----------
    cost : float array, shape (n, width)
        Cost of each stroke at each slot of its window.
    first_slot : int array, shape (n,)
        Number of the first slot of each window; never falling.
    skip : float array, shape (n,)
        Cost of leaving a stroke without a slot.

    Returns
    -------
    PathCosts
        Min-marginals of the chain, by passing messages both ways (J. Pearl, "Probabilistic Reasoning in Intelligent
        Systems", 1988).
    """
    cut = Stretches.of(len(cost), _OVERLAP)
    # What lies outside costs nothing and takes no slot.
    costs = np.where(cut.real[:, None], np.moveaxis(cost[cut.held], 2, 1), np.inf)
    skips = np.where(cut.real, skip[cut.held], 0.0)
    # The way back is the way there with time and slots turned round: both are walked at once.
    both = np.concatenate([costs, costs[::-1, ::-1]], axis=2)
    skips_both = np.concatenate([skips, skips[::-1]], axis=1)
    shift = np.diff(first_slot[cut.held], axis=0)
    shift_both = np.pad(np.concatenate([shift, shift[::-1]], axis=1), ((1, 0), (0, 0)))
    states = _forward(both, skips_both, shift_both)
    lowest = np.minimum.accumulate(states, axis=1)
    stretches = costs.shape[2]
    # Cheapest with the last slot used before each place, and with the next one used after it.
    below, above = lowest[:, :, :stretches], lowest[::-1, ::-1, stretches:]
    through = below[:, :-1] + costs + above[:, 1:]
    without = (states[:, :, :stretches] + above).min(axis=1) + skips
    return PathCosts(cut.joined(through), cut.joined(without))


def _forward(costs: FloatArray, skips: FloatArray, shift: IntArray) -> FloatArray:
    """For each stroke, before its own choice: cost with each place of its window as the last slot used.

    Place 0 stands for all slots below the window. Shapes are (steps, places, stretches).
    """
    steps, width, stretches = costs.shape
    column = np.arange(stretches)
    places = np.arange(width + 1)[:, None]
    moved = np.minimum(places + shift[:, None], width + 1) * stretches + column
    passed = np.minimum(shift, width) * stretches + column
    ahead = np.empty((steps, width + 1, stretches))
    state = np.full((width + 2, stretches), np.inf)  # one place more: what no window has reached yet
    state[0] = 0.0
    for step in range(steps):
        lowest = np.minimum.accumulate(state[:-1], axis=0)
        here = state.take(moved[step])
        here[0] = lowest.take(passed[step])
        ahead[step] = here
        taken = np.minimum.accumulate(here[:-1], axis=0)
        taken += costs[step]
        np.add(here, skips[step], out=state[:-1])
        np.minimum(state[1:-1], taken, out=state[1:-1])
    return ahead
