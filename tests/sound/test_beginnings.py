"""How attacks begin: what passes the first share of a peak is the attack, or was there before it."""

from __future__ import annotations

import numpy as np
import pytest

from supple_snare.sound.beginnings import begins_as_often, begins_at_once
from supple_snare.sound.rises import SHAPE_SAMPLES, SHARES, VIEWS, Rises

QUICK_MS = (0.0, 0.05, 0.10, 0.20, 1.2)
SLOW_MS = (0.0, 0.4, 1.0, 5.0, 5.5)
"""How long after its start a snare passes each share, and a bass drum whose click comes first."""


def rises_by(lag_ms: np.ndarray) -> Rises:
    """Strokes that pass each share so long after seconds 1, 2, 3 …"""
    count = len(lag_ms)
    crossing_s = np.repeat((np.arange(1.0, count + 1.0)[:, None] + 0.001 * lag_ms)[:, None], len(VIEWS), axis=1)
    assert crossing_s.shape == (count, len(VIEWS), len(SHARES))
    flat = np.ones((count, len(VIEWS)))
    shape = np.zeros((count, SHAPE_SAMPLES), dtype=np.int8)
    level = np.ones(count)
    return Rises(crossing_s, flat, 0.001 * flat, 60.0 * flat, 10.0 * level, level, crossing_s[:, 0, 0], shape, level)


def rises_of(first_ms: np.ndarray, usual_ms: tuple[float, ...] = QUICK_MS) -> Rises:
    """Strokes of a drum whose first shares seem passed so much before their starts, as something softer does that."""
    lag_ms = np.tile(usual_ms, (len(first_ms), 1))
    lag_ms[:, 0] -= first_ms
    return rises_by(lag_ms)


@pytest.mark.parametrize("usual_ms", [QUICK_MS, SLOW_MS])
def test_what_sounds_just_before_one_stroke_is_not_its_beginning(usual_ms):
    first_ms = np.zeros(20)
    first_ms[7] = 4.0
    assert np.flatnonzero(~begins_at_once(rises_of(first_ms, usual_ms))).tolist() == [7]


def test_where_nearly_all_are_covered_few_early_first_shares_pass_for_beginnings():
    """Under a fast bass drum hardly any first share is the snare's own: long steps are usual there, and none is its."""
    first_ms = np.random.default_rng(1).uniform(2.0, 20.0, 40)
    first_ms[:4] = 0.0
    at_once = begins_at_once(rises_of(first_ms))
    assert at_once[:4].all()
    assert not at_once[4:].any()


@pytest.mark.parametrize("early_ms", [1.5, 4.0])
def test_a_drum_that_begins_slowly_does_so_each_time(early_ms):
    """A soft contact before the blow is a beginning where it comes again and again, to 0.1 ms."""
    assert begins_at_once(rises_of(np.full(20, early_ms))).all()


def test_one_that_takes_as_long_as_others_by_chance_does_not_begin_as_they_do():
    """Every stroke needs 4.3 ms from its first share to the fourth; one whose first share something else passed 3.8 ms
    before needs as long as that in all, by other ways."""
    lag_ms = np.tile((0.0, 0.4, 0.9, 4.3, 5.5), (20, 1))
    lag_ms[7] = (-3.8, 0.0, 0.2, 0.5, 5.5)
    assert np.flatnonzero(~begins_as_often(rises_by(lag_ms))).tolist() == [7]
