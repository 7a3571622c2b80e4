"""The page's numbers: the same beat under the same beat, and back from pixels to time."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.desk.page_geometry import BARS_A_ROW, LEAN_CAP, PageLayout, lean_angle
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter

layouts = st.builds(
    PageLayout,
    grid=st.builds(
        Grid,
        tempo_bpm=st.floats(40, 240),
        first_beat_s=st.floats(-3, 30),
        meter=st.sampled_from([Meter(4, 4), Meter(3, 4), Meter(6, 8)]),
    ),
    length_s=st.floats(5, 400),
    bars_a_row=st.sampled_from(BARS_A_ROW),
    width_px=st.floats(300, 2_000),
    row_px=st.floats(60, 200),
    quiet_s=st.floats(0, 5),
)


@given(layouts, st.floats(0, 1))
def test_a_place_leads_back_to_its_moment(layout, share):
    """Time to row and pixel, and back."""
    time_s = share * layout.length_s
    row, x = layout.place_of(time_s)
    assert layout.time_at(x, (row + 0.5) * layout.row_px) == pytest.approx(time_s, abs=1e-6)


@given(layouts)
def test_rows_follow_one_another_and_hold_the_take(layout):
    """Each row begins where the one before ends, margins aside; first and last sample are on some row."""
    assert layout.row_bar(1) - layout.row_bar(0) == pytest.approx(layout.bars_a_row)
    _, end = layout.row_span_s(layout.rows - 1)
    assert end >= layout.length_s - 1e-6
    assert layout.row_span_s(0)[0] <= layout.quiet_s + 1e-6
    assert (1.0 - layout.first_bar) % layout.bars_a_row == pytest.approx(0.0)


@given(layouts)
def test_a_row_shows_nothing_before_the_take_and_nothing_after(layout):
    """What lies between the ends of a row's part of the take is a moment of the take."""
    for row in {0, layout.rows // 2, layout.rows - 1}:
        left, right = layout.take_px(row)
        assert layout.line_left_px <= left <= right <= layout.line_left_px + layout.line_width_px
        if right > left:
            first_s, last_s = layout.times_in_row(row, [left, right])
            assert first_s >= -1e-6
            assert last_s <= layout.length_s + 1e-6


@given(layouts, st.integers(1, 8))
def test_the_same_beat_stands_under_the_same_beat(layout, bar):
    """A row later, the same beat has the same x."""
    here = layout.x_in_row(0, layout.grid.bar_time_s(layout.row_bar(0) + bar))
    below = layout.x_in_row(1, layout.grid.bar_time_s(layout.row_bar(1) + bar))
    assert here == pytest.approx(below)


def test_pegs_lean_in_proportion_and_never_lie_flat():
    """10 ms are 15 degrees; the cap is told by another head."""
    assert np.degrees(lean_angle([-10.0, 0.0, 4.0])) == pytest.approx([-15.0, 0.0, 6.0])
    assert lean_angle(500.0) == pytest.approx(LEAN_CAP)


@given(layouts, st.lists(st.floats(0, 1), max_size=20))
def test_places_are_those_that_each_row_shows(layout, shares):
    """As asked row by row, in the order of rows; what lies in a margin stands in two of them."""
    time_s = layout.quiet_s + (layout.length_s - layout.quiet_s) * np.sort(np.array(shares, dtype=float))
    which, row, x = layout.places(range(layout.rows), time_s)
    told = list(zip(row.tolist(), which.tolist(), strict=True))
    assert told == sorted(told)
    assert set(which.tolist()) == set(range(len(time_s)))
    np.testing.assert_allclose(x, layout.x_in_row(row, time_s[which]), atol=1e-6)
    assert np.all((x >= layout.line_left_px - 1e-6) & (x <= layout.line_left_px + layout.line_width_px + 1e-6))
