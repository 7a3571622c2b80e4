"""Sections of a take: which moment belongs to which."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike

from supple_snare.timing.units import IntArray

EARLY_S = 0.040
"""The first stroke of a section is often played a little before the line that the section was drawn at."""


def section_of(starts_s: Sequence[float], time_s: ArrayLike) -> IntArray:
    """Number of the section that each moment belongs to.

    Parameters
    ----------
    starts_s : sequence of float
        Where sections start, increasing. What lies before the first belongs to it as well.
    time_s : array of float

    Returns
    -------
    int array of the same shape

    >>> section_of([0.0, 10.0], [-1.0, 9.0, 9.99, 10.0, 30.0]).tolist()
    [0, 0, 1, 1, 1]
    """
    later = np.asarray(starts_s, dtype=np.float64)[1:] - EARLY_S
    return np.searchsorted(later, np.asarray(time_s, dtype=np.float64), side="right").astype(np.int64)
