"""Where curves are highest."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray


def highest_around(values: AnyArray, reach: int, axis: int = 0) -> AnyArray:
    """The largest of each value and so many neighbours to either side of it, in the shape of the values."""
    rows = np.moveaxis(values, axis, 0)
    beyond = np.pad(rows, [(reach, reach)] + [(0, 0)] * (rows.ndim - 1), mode="edge")
    highest = beyond[: len(rows)].copy()
    for first in range(1, 2 * reach + 1):
        np.maximum(highest, beyond[first : first + len(rows)], out=highest)
    return np.moveaxis(highest, 0, axis)


def spaced_peaks(curve: AnyArray, least: float, spacing: int) -> NDArray[np.intp]:
    """Where a curve is higher than before and after, in the middle if it stays so, and as high as is asked.

    Parameters
    ----------
    curve : float array, shape (n,)
    least : float
        Lower peaks do not count.
    spacing : int
        Of two peaks nearer than this the higher counts.

    Returns
    -------
    int array, shape (peaks,)
        In order.
    """
    first = np.flatnonzero(np.append(True, np.diff(curve) != 0.0)[: len(curve)])
    last = np.append(first[1:], len(curve)) - 1
    height = curve[first]
    is_peak = np.zeros(len(height), dtype=np.bool_)
    is_peak[1:-1] = (height[1:-1] > np.maximum(height[:-2], height[2:])) & (height[1:-1] >= least)
    peaks = ((first + last) // 2)[is_peak]
    before, after = np.searchsorted(peaks, peaks - spacing, "right"), np.searchsorted(peaks, peaks + spacing)
    counts = np.ones(len(peaks), dtype=np.bool_)
    highest_first = np.argsort(curve[peaks], kind="stable")[::-1]
    for peak in highest_first[(after - before > 1)[highest_first]]:
        if counts[peak]:
            counts[before[peak] : after[peak]] = False
            counts[peak] = True
    return peaks[counts]
