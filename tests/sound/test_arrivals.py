"""When what neighbours strike comes in, and that it keeps no stroke early."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.sound.arrivals import Arrivals, find_arrivals
from supple_snare.sound.likeliest import likeliest_starts
from tests.conftest import drum
from tests.sound.risen import COUNT, TRUTH, mixed_of, rises_of, some_strokes


@given(st.floats(0.0, 0.008), st.integers(0, 100))
def test_a_steady_way_is_learned_from_bleed(way_s, seed):
    """Among other bleed, strokes of a neighbour come in as late after a stroke as the others of its bleed do."""
    rng = np.random.default_rng(seed)
    struck_s = np.cumsum(rng.uniform(0.3, 0.6, 24))
    others_s = rng.uniform(0.0, struck_s[-1], 30)
    bleed_s = np.sort(np.concatenate([struck_s[::2] + way_s + rng.normal(0.0, 0.0001, 12), others_s]))
    own_s = struck_s[1::2] + way_s + 0.006
    found = find_arrivals(own_s, bleed_s, [struck_s])
    nearest_s = np.abs(found.time_s - (own_s - 0.006)[:, None]).min(axis=1)
    assert nearest_s == pytest.approx(0.0, abs=0.0004)


def test_what_is_struck_long_before_or_after_covers_nothing():
    """Only what comes in within some 30 ms before; a neighbour that never plays brings nothing."""
    own_s = np.array([1.0, 2.0, 3.0, 4.0])
    found = find_arrivals(own_s, np.zeros(0), [np.array([1.5, 1.98, 2.9, 4.2]), np.zeros(0)])
    assert found.any().tolist() == [False, True, False, False]
    assert find_arrivals(own_s, np.zeros(0), []).any().tolist() == [False] * 4


def test_bleed_passes_a_share_as_it_comes_in_or_soon_after():
    """Densities are those of one second: of each arrival alone they add up to 1."""
    arrivals = Arrivals(np.array([[1.0, np.inf]]), np.array([0.0003, 0.0005]), np.array([0.0015, 0.003]))
    moment_s = np.linspace(0.95, 1.05, 100_001)
    density = arrivals.density(moment_s[None, :])[0]
    assert np.sum(density) * (moment_s[1] - moment_s[0]) == pytest.approx(1.0, abs=0.01)
    assert moment_s[density.argmax()] == pytest.approx(1.0, abs=0.0001)


@pytest.mark.parametrize("ahead_ms", [5.0, 6.0, 7.0])
def test_where_a_neighbour_is_known_to_come_in_no_stroke_starts(ahead_ms):
    """A neighbour just ahead is louder than it was taken for: when it comes in tells that it is no start."""
    strokes = some_strokes(levels=(0.7, 1.0))
    neighbour = 0.35 * drum(np.random.default_rng(9), 600.0)
    one = np.arange(COUNT) == 4
    rises = mixed_of(one, rises_of(strokes, before=neighbour, ahead_s=ahead_ms / 1000.0), rises_of(strokes))
    others = np.maximum(rises.quiet, np.where(one[:, None], 0.1, 0.0) * rises.peak)
    guess_s = np.where(one, TRUTH - ahead_ms / 1000.0, TRUTH)
    arrivals = find_arrivals(TRUTH, np.zeros(0), [TRUTH[one] - ahead_ms / 1000.0])
    untold_s = likeliest_starts(rises, others, guess_s)
    told_s = likeliest_starts(rises, others, guess_s, arrivals)
    assert np.abs(untold_s - TRUTH)[4] > 0.002
    assert told_s == pytest.approx(TRUTH, abs=0.0005)


def test_a_start_that_was_told_well_is_not_lost_when_told_once_more():
    """Under a neighbour's ring no sign need tell where a stroke began: what was told before may be right."""
    strokes = some_strokes(seed=7, levels=(0.5, 1.0))
    neighbour = 0.5 * drum(np.random.default_rng(57), 1_500.0)
    covered = np.arange(COUNT) % 2 == 0
    rises = mixed_of(covered, rises_of(strokes, before=neighbour, ahead_s=0.008), rises_of(strokes))
    others = np.maximum(rises.quiet, np.where(covered[:, None], 0.3, 0.0) * rises.peak)
    arrivals = find_arrivals(TRUTH, np.zeros(0), [TRUTH[covered] - 0.008])
    assert likeliest_starts(rises, others, TRUTH, arrivals) == pytest.approx(TRUTH, abs=0.0005)
