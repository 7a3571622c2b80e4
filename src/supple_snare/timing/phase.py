"""Where the lines of a steady grid lie among strokes that lean."""

from __future__ import annotations

import numpy as np

from supple_snare.timing.split import robust_weights
from supple_snare.timing.units import FloatArray, IntArray

_PLACES_A_BEAT = 24

_LEAN_SHARE = 0.5
"""How much the leans of places differ, as a variance, for what strokes stray from the lean of their place."""


def middle_s(rest_s: FloatArray, weight: FloatArray, beat: FloatArray, lead: IntArray) -> float:
    """The time about which strokes lie whose beats' lengths are taken off.

    A drum leans at one place of the bar much as it does there in any other bar, so that a hundred strokes of one place
    tell little more than ten: places count by how many there are of them (the mean of a random-effects model, N. M.
    Laird and J. H. Ware, Biometrics 38, 1982), and wild strokes do not.

    Parameters
    ----------
    rest_s, weight : float array, shape (n,)
        Time of each hit without the beats that lie before it, and how much it counts.
    beat : float array, shape (n,)
        Beat of its line, from the beginning of its bar.
    lead : int array, shape (n,)

    Returns
    -------
    float
        In seconds.
    """
    counted = weight * robust_weights(1000.0 * (rest_s - np.median(rest_s)))
    place = np.rint(_PLACES_A_BEAT * beat).astype(np.int64)
    _, cell = np.unique(np.stack([lead, place]), axis=1, return_inverse=True)
    cell = cell.reshape(-1)
    total, squares = np.bincount(cell, counted), np.bincount(cell, counted**2)
    mean_s = np.bincount(cell, counted * rest_s) / np.maximum(total, 1e-30)
    strokes = total**2 / np.maximum(squares, 1e-30)
    # One stroke as loud as those of the place: `total / strokes`. So many of them, as far as they tell more than one.
    return float(np.average(mean_s, weights=total / (1.0 + _LEAN_SHARE * strokes) + 1e-30))
