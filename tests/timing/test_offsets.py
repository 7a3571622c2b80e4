"""Slots, drift and feel: one best path, and a split that a wild stroke cannot bend."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.timing.assign import assign_slots
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import measure_offsets
from supple_snare.timing.strokes import gather_strokes

GRID = Grid(100.0, 1.0)
SLOT_S = 0.15


def played(seed: int, count: int = 200) -> tuple[np.ndarray, np.ndarray]:
    """Slot numbers of a part and their times on the grid."""
    rng = np.random.default_rng(seed)
    index = np.sort(rng.choice(2 * count, count, replace=False))
    return index, 1.0 + SLOT_S * index


@settings(max_examples=40)
@given(st.lists(st.floats(0, 20), min_size=1, max_size=60).map(np.unique))
def test_slots_keep_order_and_are_taken_once(times):
    """Whatever is played, chosen slots rise strictly and lie near."""
    slots = GRID.slots(times[0], times[-1])
    chosen = assign_slots(times, slots).slot_index
    placed = chosen >= 0
    assert np.all(np.diff(chosen[placed]) > 0)
    assert np.all(np.abs(slots.time_s[chosen[placed]] - times[placed]) < 0.5)


@pytest.mark.parametrize("seed", range(4))
def test_drift_of_almost_half_a_slot_is_followed(seed):
    """Where the nearest line is the wrong one for long stretches, the path still finds the right ones."""
    index, grid_s = played(seed)
    rng = np.random.default_rng(seed + 100)
    drift = 0.45 * SLOT_S * np.sin(grid_s / 9.0)
    time = grid_s + drift + rng.normal(0, 0.006, len(grid_s))
    slots = GRID.slots(time[0], time[-1])
    found = np.rint((slots.time_s[assign_slots(time, slots).slot_index] - 1.0) / SLOT_S)
    assert np.mean(found != index) < 0.005
    nearest = np.rint((time - 1.0) / SLOT_S)
    assert np.mean(nearest != index) > np.mean(found != index)


def test_a_late_stroke_keeps_its_slot_when_the_next_one_is_taken():
    """60 % of a slot late, with the neighbours in place: order tells the right line."""
    grid_s = 1.0 + SLOT_S * np.arange(16)
    time = grid_s.copy()
    time[7] += 0.6 * SLOT_S
    offsets = measure_offsets(gather_strokes([Hits.of(time)]), GRID)
    assert offsets.offset_ms[7] == pytest.approx(600 * SLOT_S)
    assert offsets.close_call[7]


def test_a_stroke_too_many_is_left_without_a_slot():
    """Two strokes for one slot: one of them rides along, nobody is pushed off."""
    time = np.sort(np.append(1.0 + SLOT_S * np.arange(12), 1.0 + SLOT_S * 5 + 0.04))
    offsets = measure_offsets(gather_strokes([Hits.of(time)]), GRID)
    assert np.count_nonzero(~offsets.placed) == 1
    assert np.abs(offsets.offset_ms[offsets.placed]).max() < 41


def test_nothing_played_measures_nothing():
    """No strokes, no offsets, no error."""
    assert len(measure_offsets(gather_strokes([Hits.none()]), GRID)) == 0
