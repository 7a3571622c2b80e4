"""Offsets in figures: mean, spread, worst and shares of any groups of strokes; rushing and dragging of bars."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.units import FloatArray, IntArray


@dataclass(frozen=True, eq=False)
class Figures:
    """Figures of groups of offsets, each array of shape (groups,). A group without offsets has NaN for all but count.

    Attributes
    ----------
    count : int array
    mean_ms, spread_ms, worst_ms : float array
        The worst one is that farthest from the line, with its sign.
    early, late : float array
        Share before and after the line, those nearer than `ON_TIME_MS` left out.
    """

    count: IntArray
    mean_ms: FloatArray
    spread_ms: FloatArray
    worst_ms: FloatArray
    early: FloatArray
    late: FloatArray


ON_TIME_MS = 1.5
"""Nobody hears a stroke this near to its line as early or late."""


def figures_of(offset_ms: FloatArray, group: IntArray, groups: int) -> Figures:
    """Figures of the offsets of each group.

    Parameters
    ----------
    offset_ms : float array, shape (n,)
        Finite.
    group : int array, shape (n,)
        Number of each one's group, from 0.
    groups : int

    Examples
    --------
    >>> figures = figures_of(np.array([-4.0, 2.0, 8.0]), np.array([0, 0, 1]), 2)
    >>> figures.mean_ms.tolist(), figures.worst_ms.tolist(), figures.early.tolist()
    ([-1.0, 8.0], [-4.0, 8.0], [0.5, 0.0])
    """
    count = np.bincount(group, minlength=groups)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(group, offset_ms, groups) / count
        spread = np.sqrt(np.bincount(group, (offset_ms - mean[group]) ** 2, groups) / count)
        early = np.bincount(group, offset_ms < -ON_TIME_MS, groups) / count
        late = np.bincount(group, offset_ms > ON_TIME_MS, groups) / count
    worst = np.full(groups, np.nan)
    by_size = np.argsort(np.abs(offset_ms), kind="stable")
    worst[group[by_size]] = offset_ms[by_size]  # the last one written is the largest
    return Figures(count.astype(np.int64), mean, spread, worst, early, late)


def pull_of_bars(time_s: FloatArray, drift_ms: FloatArray, bar_starts_s: FloatArray) -> FloatArray:
    """How much the band pulls ahead (negative: rushing) or falls behind (dragging) over each bar, in ms.

    Parameters
    ----------
    time_s, drift_ms : float array, shape (n,)
        Strokes in order, and their drift.
    bar_starts_s : float array, shape (bars + 1,)
        Starts of the bars and the end of the last one.
    """
    at = np.interp(bar_starts_s, time_s, drift_ms)
    return np.diff(at)
