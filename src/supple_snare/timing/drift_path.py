"""The drift that explains best where strokes lie between grid lines, before anyone knows which line is whose."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.stretches import Stretches
from supple_snare.timing.units import FloatArray, IntArray

_REACH = 0.63
_BINS = 15
_CELL_RANGE = (2.0, 6.0)
"""The drift is told once in so many units: about once for each stroke."""

_RATE = 0.04
"""A change of the drift by so much of a unit from one unit to the next costs 1."""

_WIDTH = 0.12
"""Usual distance of a stroke from its line, drift left out, in units."""

_WILDEST = 4.0
"""No stroke costs more than this, so that a wild one does not bend the drift."""

_CALM = 0.5
"""Weight of the wish for a small drift: it tells which of two drifts a whole slot apart is meant."""

_OVERLAP = 16

DRIFT = np.linspace(-_REACH, _REACH, _BINS)


def find_drift(place: FloatArray, offset: FloatArray, prior: FloatArray) -> FloatArray:
    """Find the slow drift of strokes over grid lines.

    Drift takes one of a few values in each cell of some slots and changes little from one to the next; the cheapest
    course through all cells is found by dynamic programming (A. J. Viterbi, IEEE Trans. Inf. Theory 13, 1967), on
    stretches side by side.

    Parameters
    ----------
    place : float array, shape (n,)
        Moments of the strokes in units (usual distances of lines), never falling.
    offset : float array, shape (n, lines)
        Distances of each stroke from the lines near it, in units.
    prior : float array, shape (n, lines)
        What it costs, as a negative logarithm of likelihood, to take that line.

    Returns
    -------
    float array, shape (n,)
        Drift at each stroke, in units.
    """
    size = float(np.clip((place[-1] - place[0]) / len(place), *_CELL_RANGE))
    cell_place = (place - place[0]) / size
    cell = cell_place.astype(np.int64)
    cells = int(cell[-1]) + 1
    cost = np.full((_BINS, len(place)), _WILDEST, dtype=np.float32)
    for away, habit in zip(offset.T.astype(np.float32) / _WIDTH, prior.T.astype(np.float32), strict=True):
        here = away - (DRIFT / _WIDTH).astype(np.float32)[:, None]
        here *= here
        here *= 0.5
        here += habit
        np.minimum(cost, here, out=cost)
    first = np.searchsorted(cell, np.arange(cells))
    filled = np.diff(np.append(first, len(cell))) > 0
    raster: NDArray[np.float32] = np.zeros((_BINS, cells), dtype=np.float32)
    raster[:, filled] = np.add.reduceat(cost, first[filled], axis=1)
    raster += (0.5 * _CALM * size / 8.0 * (DRIFT / 0.35) ** 2)[:, None]
    middles = np.arange(cells) + 0.5
    return np.asarray(np.interp(cell_place, middles, DRIFT[_cheapest(raster, _RATE * size)]))


def slow_part(place: FloatArray, values: FloatArray, *, width: float, wild: float, doubt: float) -> FloatArray:
    """What neighbouring values have in common, drawn to zero where few of them tell.

    Parameters
    ----------
    place, values : float array, shape (n,)
        Places never fall; they are gathered in cells of 1.
    width : float
        Standard deviation of the smoothing weight, in cells.
    wild : float
        Values as far off as this have no say.
    doubt : float
        Values' worth of zero mixed in.

    Returns
    -------
    float array, shape (n,)
    """
    weight = np.clip(1.0 - (values / wild) ** 2, 0.0, 1.0) ** 2
    cell = (place - place[0]).astype(np.int64)
    cells = int(cell[-1]) + 1
    reach = round(3.0 * width)
    kernel = np.exp(-0.5 * (np.arange(-reach, reach + 1) / width) ** 2)
    total, told = (
        np.convolve(np.bincount(cell, sums, cells), kernel)[reach:-reach] for sums in (weight * values, weight)
    )
    return np.asarray(np.interp(place - place[0] - 0.5, np.arange(cells), total / (told + doubt)))


def _cheapest(raster: NDArray[np.float32], rate: float) -> IntArray:
    """Bin of each cell on the cheapest course."""
    cut = Stretches.of(raster.shape[1], _OVERLAP)
    costs = np.where(cut.real[:, None], np.moveaxis(raster[:, cut.held], 0, 1), raster.dtype.type(0))
    both = _messages(np.concatenate([costs, costs[::-1]], axis=2), rate)  # the way there and the way back at once
    best = (both[:, :, : costs.shape[2]] + costs + both[::-1, :, costs.shape[2] :]).argmin(axis=1)
    return cut.joined(best)


def _messages(costs: NDArray[np.float32], rate: float) -> NDArray[np.float32]:
    """For each cell and bin the cheapest way there, its own cost left out; shape (steps, bins, stretches)."""
    messages = np.zeros_like(costs)
    slope = ((DRIFT[1] - DRIFT[0]) / rate * np.arange(_BINS, dtype=costs.dtype))[:, None]
    for step in range(1, len(costs)):
        here = messages[step - 1] + costs[step - 1]
        rising = np.minimum.accumulate(here - slope, axis=0)
        here += slope
        falling = np.minimum.accumulate(here[::-1], axis=0)[::-1]
        np.minimum(rising + slope, falling - slope, out=messages[step])
    return messages
