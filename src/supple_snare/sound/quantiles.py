"""Quantiles of rows in which not all values count alike."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.units import FloatArray


def median_of_known(values: FloatArray, known: NDArray[np.bool_]) -> FloatArray:
    """Median over the last axis of what is known; infinite where nothing is."""
    count = np.count_nonzero(known, axis=-1)
    ordered = np.sort(np.where(known, values, np.inf), axis=-1)
    middles = (np.maximum((count - 1) // 2, 0), np.minimum(count // 2, values.shape[-1] - 1))
    low, high = (np.take_along_axis(ordered, which[..., None], axis=-1)[..., 0] for which in middles)
    return np.asarray(0.5 * (low + high))


def weighted_quantile(values: FloatArray, weight: FloatArray, quantile: float) -> FloatArray:
    """Weighted quantile of each row; the least value where all weights are 0."""
    order = np.argsort(values, axis=1, kind="stable")
    total = np.cumsum(np.take_along_axis(weight, order, axis=1), axis=1)
    at = np.argmax(total >= quantile * total[:, -1:], axis=1)
    return np.take_along_axis(np.take_along_axis(values, order, axis=1), at[:, None], axis=1)[:, 0]
