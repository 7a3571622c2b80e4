"""A short share of `bench/kills.py`: programs killed in the middle of edits and saves."""

from __future__ import annotations

import pytest
from bench.kills import one


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_killed_program_loses_two_seconds_at_most(tmp_path, seed):
    """The session opens with its undo list, from its folder (odd seeds) or from the shelter."""
    whole, oldest_lost_s = one(seed, tmp_path)
    assert whole
    assert oldest_lost_s < 2.0
