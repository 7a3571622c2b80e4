"""The grid: places and times agree, whatever the tempo, meter and swing."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.grid import Grid, Meter, Subdivision, is_on_count

grids = st.builds(
    Grid,
    tempo_bpm=st.floats(30, 300),
    first_beat_s=st.floats(-5, 60),
    meter=st.sampled_from([Meter(4, 4), Meter(3, 4), Meter(6, 8), Meter(7, 8)]),
    subdivision=st.sampled_from([Subdivision(8), Subdivision(16), Subdivision(32)]),
    swing=st.floats(0.5, 0.75),
)


@given(grids, st.floats(-50, 500))
def test_bar_and_time_are_inverse(grid, bar):
    """A bar's time lies at that bar."""
    assert grid.bar_at(grid.bar_time_s(bar)) == pytest.approx(bar, abs=1e-6)


@given(grids, st.floats(0, 100), st.floats(0, 30))
def test_slots_increase_and_leave_a_bar_to_spare(grid, start, length):
    """Slots rise, every bar has its full number, and both ends of the span have slots beyond them."""
    slots = grid.slots(start, start + length)
    assert np.all(np.diff(slots.time_s) > 0)
    assert slots.time_s[0] <= start - grid.bar_s * 0.99
    assert slots.time_s[-1] >= start + length
    assert np.all(np.bincount(slots.bar - slots.bar[0]) == grid.slots_per_bar)
    assert grid.bar_time_s(slots.bar[0]) == pytest.approx(slots.time_s[0])


def test_swing_moves_every_second_slot_by_its_share_of_the_pair():
    """A swing of two thirds is a triplet feel."""
    grid = Grid(60.0, 0.0, subdivision=Subdivision(8), swing=2 / 3)
    slots = grid.slots(0.0, 1.0)
    bar = slots.time_s[slots.bar == 1]
    assert bar == pytest.approx([0, 2 / 3, 1, 5 / 3, 2, 8 / 3, 3, 11 / 3])


def test_triplets_and_odd_meters():
    """1/8T has twelve slots in 4/4; counts of 6/8 are eighths."""
    assert Grid(subdivision=Subdivision.parse("1/8T")).slots_per_bar == 12
    six = Grid(meter=Meter.parse("6/8"), subdivision=Subdivision(16))
    slots = six.slots(0.0, 1.0)
    assert np.count_nonzero(is_on_count(slots.beat[slots.bar == 1], six.meter)) == 6


@pytest.mark.parametrize(
    "make",
    [
        lambda: Grid(tempo_bpm=-3),
        lambda: Grid(tempo_bpm=float("nan")),
        lambda: Grid(swing=0.9),
        lambda: Grid(first_beat_s=float("inf")),
        lambda: Grid(meter=Meter(7, 8), subdivision=Subdivision(4)),
        lambda: Meter.parse("4/5"),
        lambda: Meter.parse("waltz"),
        lambda: Subdivision.parse("1/7"),
    ],
)
def test_nonsense_is_refused_in_one_sentence(make):
    """Values that make no sense say so."""
    with pytest.raises(UsageError, match=r"\."):
        make()
