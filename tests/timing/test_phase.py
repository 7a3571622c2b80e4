"""Where the lines of a grid lie among strokes that lean."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.timing.phase import middle_s


def places(*strokes):
    """Rests in ms, beats and leads of strokes told as (how many, lead, beat, lean in ms), each scattered by 4 ms."""
    rng = np.random.default_rng(3)
    rows = [(lean + rng.normal(0.0, 4.0, count), beat, lead) for count, lead, beat, lean in strokes]
    rest = np.concatenate([row[0] for row in rows]) / 1000.0
    beat, lead = (np.repeat([row[at] for row in rows], [len(row[0]) for row in rows]) for at in (1, 2))
    return rest, beat.astype(float), lead.astype(np.int64)


def test_a_place_played_in_every_bar_has_hardly_more_of_a_say_than_one_played_now_and_then():
    rest, beat, lead = places((300, 0, 1.0, 4.0), (20, 1, 0.0, -2.0), (20, 1, 2.0, -1.3), (20, 1, 2.5, -0.7))
    assert np.mean(rest) > 0.0025
    assert middle_s(rest, np.ones(len(rest)), beat, lead) == pytest.approx(0.0, abs=0.001)


def test_wild_strokes_have_no_say():
    rest, beat, lead = places((40, 0, 0.0, 1.0), (40, 0, 1.0, -1.0), (6, 0, 3.0, 90.0))
    assert middle_s(rest, np.ones(len(rest)), beat, lead) == pytest.approx(0.0, abs=0.001)


@given(shift_s=st.floats(-10.0, 100.0), times=st.floats(0.01, 100.0), seed=st.integers(0, 50))
def test_it_moves_with_the_strokes_and_does_not_ask_how_much_they_count_as_a_whole(shift_s, times, seed):
    rng = np.random.default_rng(seed)
    rest, weight = rng.normal(0.0, 0.008, 60), rng.uniform(0.1, 1.0, 60)
    beat, lead = rng.integers(0, 16, 60) / 4.0, rng.integers(0, 3, 60)
    still = middle_s(rest, weight, beat, lead)
    assert abs(still) < 0.008
    assert middle_s(rest + shift_s, times * weight, beat, lead) == pytest.approx(still + shift_s, abs=1e-6)
