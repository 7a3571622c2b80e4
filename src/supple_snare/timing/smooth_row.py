"""A smooth curve along a row of evenly spaced places, tied to what was seen between them: penalised least squares.

Second differences are held down (E. T. Whittaker, "On a new method of graduation", Proc. Edinb. Math. Soc. 41, 1923):
waves of a chosen length lose half their height, shorter ones nearly all of it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.units import FloatArray, IntArray


def wave_penalty(wave: float) -> float:
    """Weight at which a wave of that length loses half its height."""
    return float((wave / (2.0 * np.pi)) ** 4)


class SmoothRow:
    """Least squares over a row of evenly spaced values, as a matrix of two diagonals beside the main one.

    Parameters
    ----------
    found : float array, shape (n,)
        What each value should be near.
    weight : float
        How much that counts; 0 where only ties say something.
    """

    def __init__(self, found: FloatArray, weight: float = 1.0) -> None:
        self._count = len(found)
        self._matrix = np.zeros((3, self._count))  # as scipy lays it: [2 - k, j] stands for row j - k, column j
        self._matrix[2] = weight
        self._right = weight * found

    def smooth(self, penalty: float, *, broken: Sequence[int]) -> None:
        """Hold second differences down, but for some."""
        weight = np.full(max(self._count - 2, 0), penalty)
        weight[list(broken)] = 0.0
        last = len(weight)
        for i, at_i in enumerate((1.0, -2.0, 1.0)):
            for j, at_j in enumerate((1.0, -2.0, 1.0)):
                if j >= i:
                    self._matrix[2 - (j - i), j : j + last] += at_i * at_j * weight

    def tie(self, place: FloatArray, value: FloatArray, weight: FloatArray) -> None:
        """Draw places, between two of the row or beyond them, to values."""
        index = np.clip(np.floor(place), 0, self._count - 2).astype(np.int64)
        share = place - index
        for at, here in ((index, 1.0 - share), (index + 1, share)):
            self._matrix[2] += np.bincount(at, weight * here * here, self._count)
            self._right += np.bincount(at, weight * here * value, self._count)
        self._matrix[1] += np.bincount(index + 1, weight * share * (1.0 - share), self._count)

    def space(self, places: IntArray, gap: float, weight: float) -> None:
        """Hold the values at some places to a distance from the next one."""
        self._matrix[2, places] += weight
        self._matrix[2, places + 1] += weight
        self._matrix[1, places + 1] -= weight
        self._right[places] -= weight * gap
        self._right[places + 1] += weight * gap

    def solved(self) -> FloatArray:
        """The values at which the sum of squares is least."""
        from scipy.linalg import solveh_banded

        return np.asarray(solveh_banded(self._matrix, self._right, check_finite=False))
