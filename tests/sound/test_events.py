"""Events: what starts in several microphones, and who hears it first."""

import numpy as np
import pytest

from supple_snare.sound.events import gather_events
from tests.conftest import RATE_HZ, levels_of

STROKES_S = np.arange(0.5, 11.0, 0.37)
SIGNS_S = np.array([0.0, 0.001, 0.002, 0.004])


def gathered(early_s: float, seen: np.ndarray):
    """Two microphones, the second 2 ms farther away, which puts its starts so much too early; signs seen in it."""
    heard = [STROKES_S, STROKES_S + 0.002 - early_s]
    passed = [STROKES_S[:, None] + SIGNS_S, np.where(seen, STROKES_S[:, None] + 0.002 + SIGNS_S, np.nan)]
    return heard, passed, [levels_of(np.zeros(12 * RATE_HZ))] * 2


def test_who_hears_it_first_is_told_by_signs_that_both_show():
    """However early one of them thinks it began; by fewer than three signs it is not told."""
    seen = np.ones((len(STROKES_S), len(SIGNS_S)), dtype=bool)
    seen[0, :2], seen[1:4, 0] = False, False
    heard, passed, levels = gathered(0.006, seen)
    heard[0], passed[0] = heard[0][:-1], passed[0][:-1]
    events = gather_events(levels, heard, passed)
    everything = np.arange(len(STROKES_S))
    behind_s = events.behind_s(everything, 0, 1)
    assert np.isnan(behind_s[[0, -1]]).all()
    assert behind_s[1:-1] == pytest.approx(0.002)
    assert events.behind_s(everything, 1, 0)[1:-1] == pytest.approx(-0.002)


def test_a_microphone_is_not_far_because_another_puts_its_starts_too_early():
    heard, passed, levels = gathered(0.0115, np.ones((len(STROKES_S), len(SIGNS_S)), dtype=bool))
    assert gather_events(levels, heard).distance_s.max() > 0.009
    assert gather_events(levels, heard, passed).distance_s.tolist() == [0.0, 0.0]
