"""Systems with five diagonals are solved as their whole matrices would be."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.timing.five_diagonals import solve_five_diagonals


@given(st.integers(3, 420), st.integers(0, 2**31))
def test_the_solution_is_that_of_the_whole_matrix(count, seed):
    """Of any length, odd or even, below and above what is solved as it is."""
    rng = np.random.default_rng(seed)
    factor = np.eye(count) + sum(np.diag(rng.normal(size=count - k), -k) for k in (1, 2))
    whole = factor @ factor.T + 0.1 * np.eye(count)
    bands = np.zeros((3, count))
    for k in range(3):
        bands[2 - k, k:] = np.diag(whole, k)
    right = rng.normal(size=count)
    assert solve_five_diagonals(bands, right) == pytest.approx(np.linalg.solve(whole, right), rel=1e-6, abs=1e-6)
