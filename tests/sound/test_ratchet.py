"""Hits on short recordings of three generators are found no worse than they were."""

from __future__ import annotations

import pytest
from bench.ratchet import measure, recipes, recorded


def test_all_recordings_have_figures_that_stand():
    """None can be left out unseen."""
    assert set(recorded()) == set(recipes())


@pytest.mark.parametrize("name", list(recipes()))
def test_no_figure_falls_again(name):
    """If one rises, `bench/ratchet.py --write` keeps that."""
    found, before = measure(name), recorded()[name]
    assert found.is_no_worse(before), f"{found} against {before}"
