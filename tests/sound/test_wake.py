"""What a drum's own strokes draw after them."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.sound.wake import share_in_wake

STROKES_S = 0.5 * np.arange(1, 25)


def share_of(softer_s, level_db=-15.0):
    """The share for softer attacks among plain strokes."""
    start_s = np.concatenate([STROKES_S, softer_s])
    levels = np.concatenate([np.zeros(len(STROKES_S)), np.full(len(softer_s), level_db)])
    order = np.argsort(start_s)
    share = share_in_wake(start_s[order], levels[order], order < len(STROKES_S))
    return share[np.argsort(order)][len(STROKES_S) :]


@given(st.floats(0.04, 0.3), st.integers(0, 1_000))
def test_what_bounces_off_is_told_from_what_is_played(late_s, seed):
    scatter_s = np.random.default_rng(seed).normal(0.0, 0.008, len(STROKES_S))
    assert share_of(STROKES_S + late_s).min() == 1.0
    assert np.median(share_of(STROKES_S + late_s + scatter_s)) < 0.5


def test_half_of_the_strokes_that_bounce_are_half():
    np.testing.assert_allclose(share_of(STROKES_S[::2] + 0.14), 11 / 23)


def test_a_stroke_as_loud_is_no_bounce():
    assert not share_of(STROKES_S + 0.14, level_db=-1.0).any()


def test_nothing_is_said_where_few_strokes_are_known():
    start_s = np.array([0.5, 0.6, 1.0, 1.1])
    assert not share_in_wake(start_s, np.array([0.0, -20.0, 0.0, -20.0]), np.array([True, False, True, False])).any()
    assert share_in_wake(np.zeros(0), np.zeros(0), np.zeros(0, dtype=bool)).shape == (0,)
