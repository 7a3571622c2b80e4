"""A short share of `bench/fuzz.py`: damaged and forged files are read or refused with a sentence."""

from __future__ import annotations

import pytest
from bench.fuzz import READERS, first_fault


@pytest.mark.parametrize("kind", list(READERS))
def test_no_file_from_elsewhere_does_harm(kind):
    """No other error, and none that takes long."""
    assert first_fault(kind, range(1, 120)) is None
