"""Peaks of curves."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays
from scipy.ndimage import maximum_filter
from scipy.signal import find_peaks

from supple_snare.sound.maxima import highest_around, spaced_peaks

HEIGHTS = st.integers(0, 400).map(lambda step: np.float32(step / 16))


@given(arrays(np.float32, st.integers(0, 80), elements=HEIGHTS), st.integers(1, 9))
def test_peaks_are_those_that_a_library_finds(curve, spacing):
    """Plateaus, ends and all; of peaks of one height that are too near either may count."""
    found = spaced_peaks(curve, 2.5, spacing)
    every = find_peaks(curve, height=2.5)[0]
    assert np.array_equal(spaced_peaks(curve, 2.5, 1), every)
    assert np.all(np.diff(found) >= spacing)
    if len(np.unique(curve[every])) == len(every):
        assert np.array_equal(found, find_peaks(curve, height=2.5, distance=spacing)[0])


@given(arrays(np.float32, array_shapes(min_dims=2, max_dims=2), elements=HEIGHTS), st.integers(0, 4), st.integers(0, 1))
def test_the_highest_around_is_that_of_the_neighbours(values, reach, axis):
    size = [1, 1]
    size[axis] = 2 * reach + 1
    assert np.array_equal(highest_around(values, reach, axis), maximum_filter(values, size, mode="nearest"))
