"""A drum of its own: told by what would be its strokes."""

from __future__ import annotations

import numpy as np
import pytest

from supple_snare.sound.own_drum import own_drum_odds
from supple_snare.sound.signs import SIGNS, Signs

HEARD = 100


def odds_with(
    strokes: int, *, closeness: float = -2.0, first_ms: float = 1.5, stands_out_db: float = 4.0, sure: float = 3.0
) -> float:
    """Log odds where so many of a hundred attacks seem to be strokes, heard so much before anywhere else."""
    own = np.arange(HEARD) < strokes
    values = dict.fromkeys(SIGNS, np.zeros(HEARD))
    values |= {"first": np.where(own, first_ms, -2.0), "level": np.where(own, stands_out_db - 20.0, -20.0)}
    return own_drum_odds(closeness, Signs(**values), np.where(own, sure, -5.0))


def test_a_drum_of_few_strokes_is_seen_under_heavy_bleed():
    """What starts in the take at large speaks against it; eight strokes that nobody hears earlier say more."""
    assert odds_with(8) > 0.0


@pytest.mark.parametrize(
    "otherwise", [{"first_ms": -2.0}, {"closeness": -8.0}, {"stands_out_db": 0.0, "sure": 0.5, "first_ms": 0.5}]
)
def test_strokes_that_a_neighbour_hears_first_or_that_hardly_differ_show_no_drum(otherwise):
    """As those do which the microphone of an idle drum claims."""
    assert odds_with(8, **otherwise) < 0.0


def test_no_stroke_shows_no_drum():
    assert odds_with(0) < odds_with(1, first_ms=-5.0)


def test_a_close_microphone_that_hears_nobody_else_is_no_trouble():
    """All attacks are strokes then: there is no rest to stand out of."""
    assert odds_with(HEARD, closeness=6.0) > 0.0
