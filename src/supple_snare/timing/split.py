"""The robust split of offsets into drift (slow), feel (what repeats every cycle) and scatter (the rest)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.units import FloatArray, IntArray, frozen

_ROUNDS = 6
_OUTLIER = 4.7
"""Bisquare cut-off in robust standard deviations (P. J. Huber, "Robust Statistics", 1981: 95 % efficiency)."""

_FEEL_PRIOR = 1.0
"""Strokes' worth of "no feel" mixed into each slot, so that a slot heard once or twice is pulled toward zero."""


@dataclass(frozen=True, eq=False)
class Split:
    """Parts of each offset in ms, shape (n,): offset = drift + feel + scatter."""

    drift_ms: FloatArray
    feel_ms: FloatArray
    scatter_ms: FloatArray


def split_offsets(offset_ms: FloatArray, time_s: FloatArray, slot: IntArray, *, drift_width_s: float) -> Split:
    """Split offsets into drift, feel and scatter.

    Drift is a locally weighted straight line over time (W. S. Cleveland, "Robust locally weighted regression and
    smoothing scatterplots", J. Am. Stat. Assoc. 74, 1979); feel is the mean of what is left at each slot of the
    cycle, shrunk by how seldom the slot was heard and centred so that it never shifts the whole take. Both are
    found in turn, with bisquare weights, so that a single wild stroke bends neither.

    Parameters
    ----------
    offset_ms, time_s : float array, shape (n,)
        Offsets and times of strokes, in order of time; offsets must be finite.
    slot : int array, shape (n,)
        Slot of the cycle, from 0.
    drift_width_s : float
        Standard deviation of the smoothing weight, in seconds: about a bar.

    Returns
    -------
    Split
    """
    if not len(offset_ms):
        return Split(frozen([]), frozen([]), frozen([]))
    weight = np.ones(len(offset_ms))
    feel = np.zeros(len(offset_ms))
    drift = np.zeros(len(offset_ms))
    for _ in range(_ROUNDS):
        drift = _smooth(offset_ms - feel, time_s, weight, drift_width_s)
        feel = _slot_means(offset_ms - drift, slot, weight)
        rest = offset_ms - drift - feel
        spread = 1.4826 * float(np.median(np.abs(rest - np.median(rest))))
        if spread < 1e-9:
            break
        weight = np.clip(1.0 - (rest / (_OUTLIER * spread)) ** 2, 0.0, 1.0) ** 2 + 1e-9
    return Split(frozen(drift), frozen(feel), frozen(offset_ms - drift - feel))


def _slot_means(values: FloatArray, slot: IntArray, weight: FloatArray) -> FloatArray:
    """Weighted mean of each slot, shrunk and centred, spread back over the strokes."""
    total = np.bincount(slot, weights=weight)
    means = np.bincount(slot, weights=weight * values) / (total + _FEEL_PRIOR)
    means -= float(np.sum(total * means) / np.sum(total))
    spread_back: FloatArray = means[slot]
    return spread_back


def _smooth(values: FloatArray, time_s: FloatArray, weight: FloatArray, width_s: float) -> FloatArray:
    """Locally weighted line through values, read at their own times.

    The sums of the regression are made on a raster of a quarter of the width, so that the work grows with the length
    of the take and not with its square.
    """
    step = width_s / 4.0
    place = (time_s - time_s[0]) / step
    cells = int(place[-1]) + 2
    cell = np.rint(place).astype(np.int64)
    near = np.arange(-16, 17)
    kernel = np.exp(-0.5 * (near / 4.0) ** 2)

    def spread(sums: FloatArray) -> FloatArray:
        return np.convolve(np.bincount(cell, weights=sums, minlength=cells), kernel)[16:-16]

    x = place - place[-1] / 2.0  # centred, which keeps the sums well conditioned over an hour
    s0, s1, s2 = spread(weight), spread(weight * x), spread(weight * x * x)
    y0, y1 = spread(weight * values), spread(weight * values * x)
    s0 = np.maximum(s0, 1e-12)
    mean_x, mean_y = s1 / s0, y0 / s0
    variance = s2 / s0 - mean_x**2
    # A cell with strokes at nearly one place only cannot tell a slope: the added half cell lets it fade to flat.
    slope = (y1 / s0 - mean_x * mean_y) / (np.maximum(variance, 0.0) + 0.5)
    centres = np.arange(len(s0)) - place[-1] / 2.0
    curve = mean_y + slope * (centres - mean_x)
    return np.interp(place, np.arange(len(curve)), curve)
