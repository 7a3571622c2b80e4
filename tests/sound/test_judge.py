"""The judge of bleed: what is usual on a track counts, and the line lies in the gap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.sound import judge
from supple_snare.sound.judge import emptiest_place, network_inputs
from supple_snare.sound.signs import SIGNS, networks

COUNT = 40


def judged_odds(signs: np.ndarray, guess: np.ndarray, usual: slice = slice(None)) -> np.ndarray:
    """By the networks that come with the program."""
    return judge.judged_odds(signs, guess, networks(), usual)


def some_signs(ahead_own: float = 8.0, ahead_bleed: float = -8.0) -> tuple[np.ndarray, np.ndarray]:
    """Signs of a track on which every fourth attack is a stroke of its own, and a first guess at them."""
    rng = np.random.default_rng(3)
    own = np.arange(COUNT) % 4 == 0
    centre = {
        "own_share": (0.95, 0.1),
        "level": (-2.0, -16.0),
        "ahead": (ahead_own, ahead_bleed),
        "best_band": (18.0, 0.0),
        "first": (2.0, -2.0),
        "rise": (11.0, 7.0),
        "ahead_close": (ahead_own, ahead_bleed),
        "own_level": (-2.0, -25.0),
        "left_over": (-2.0, -16.0),
        "worth": (3.0, -12.0),
        "like_own": (1.5, 0.4),
        "like_more_own": (1.3, 0.3),
        "like_bleed": (0.5, 1.1),
        "like_more_bleed": (0.4, 0.9),
        "bare_like_own": (1.6, 0.3),
        "bare_like_more_own": (1.3, 0.2),
        "bare_level": (-2.0, -25.0),
        "bare_share": (0.0, -10.0),
        "in_wake": (0.0, 0.0),
    }
    columns = [np.where(own, *centre[name]) + rng.normal(0.0, 0.05, COUNT) for name in SIGNS]
    return np.stack(columns, axis=1), np.where(own, 5.0, -5.0)


def test_plain_strokes_and_plain_bleed_are_told_apart():
    """Also on a take where bleed is nearly as loud as the strokes."""
    for ahead_bleed in (-8.0, 0.0):
        odds = judged_odds(*some_signs(ahead_bleed=ahead_bleed))
        assert ((odds > 0.0) == (np.arange(COUNT) % 4 == 0)).all()


def test_order_changes_no_odds():
    """Attacks are weighed against the track, not against their neighbours in the list."""
    signs, guess = some_signs()
    shuffled = np.random.default_rng(1).permutation(COUNT)
    odds = judged_odds(signs, guess)
    assert judged_odds(signs[shuffled], guess[shuffled]) == pytest.approx(odds[shuffled])


def test_the_networks_take_what_they_are_given():
    """The signs, as they are and as they lie to a track's strokes and bleed; hardly any attacks are no trouble."""
    signs, guess = some_signs()
    inputs = network_inputs(signs, guess, 0.0)
    assert inputs.shape == (COUNT, 3 * len(SIGNS)) == (COUNT, len(networks().mean))
    assert len(judged_odds(signs[:1], guess[:1])) == 1
    assert len(judged_odds(signs[:0], guess[:0])) == 0


@given(st.floats(-9.0, -2.0), st.floats(2.0, 9.0), st.floats(-1.5, 1.5))
def test_the_line_lies_in_the_gap(low, high, shift):
    """Wherever both heaps lie, it comes between them."""
    rng = np.random.default_rng(8)
    odds = np.concatenate([rng.normal(low, 0.3, 60), rng.normal(high, 0.3, 15)]) + shift
    line = emptiest_place(odds)
    assert np.count_nonzero(odds > line) == 15


def test_one_heap_alone_moves_no_line():
    """Nothing but strokes, or nothing but bleed: the line stays where it is."""
    for centre in (-5.0, 5.0):
        assert abs(emptiest_place(np.random.default_rng(2).normal(centre, 0.6, 80))) < 0.6


def test_what_is_usual_may_be_told_by_some_of_the_attacks():
    """Others are judged as these are, and change nothing for them."""
    signs, guess = some_signs()
    twice, twice_guess = np.concatenate([signs, signs[::3]]), np.concatenate([guess, guess[::3]])
    odds = judged_odds(twice, twice_guess, usual=slice(len(signs)))
    assert odds[: len(signs)] == pytest.approx(judged_odds(signs, guess))
    assert odds[len(signs) :] == pytest.approx(odds[: len(signs) : 3])


def test_a_gap_above_ghost_notes_is_not_the_line():
    """Half way between bleed and loud strokes lie soft ones: the line comes to lie below them."""
    rng = np.random.default_rng(6)
    heaps = [rng.normal(centre, 0.5, count) for centre, count in ((-9.5, 60), (-0.5, 25), (6.5, 100))]
    line = emptiest_place(np.concatenate(heaps))
    assert heaps[0].max() < line < heaps[1].min()
