"""Precedence: who hears an attack first, by what both microphones show of it."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from supple_snare.sound.precedence import lead_of_others_ms

SEEN = np.array([0.0005, 0.001, 0.002, 0.004])
"""When the signs of an attack follow its start."""


def heard(seen_s: np.ndarray, hidden: int = 0) -> SimpleNamespace:
    """What a microphone hears of attacks that really start at moments, some of their first signs hidden."""
    signs_s = seen_s[:, None] + SEEN
    signs_s[:, :hidden] = np.nan
    return SimpleNamespace(attacks=SimpleNamespace(seen_s=signs_s))


def test_the_lead_is_that_of_the_earliest_other_track_within_what_can_be():
    start_s = [np.array([1.000, 2.000]), np.array([0.997, 2.0005]), np.array([5.0])]
    analyses = [heard(each) for each in start_s]
    assert lead_of_others_ms(analyses, start_s, 0, farthest_s=0.0) == pytest.approx([-3.0, 0.5])
    assert lead_of_others_ms(analyses, start_s, 2, farthest_s=0.0) == pytest.approx([2.0])


def test_a_start_that_is_guessed_too_early_leads_nobody():
    """Both show the same signs at the same time; where hardly any are seen, the starts are all there is."""
    own_s, guessed_s = np.array([1.0, 2.0]), np.array([0.994, 1.994])
    for hidden, expected in ((1, 1.0), (3, -6.0)):
        lead = lead_of_others_ms([heard(own_s), heard(own_s + 0.001, hidden)], [own_s, guessed_s], 0, farthest_s=0.0)
        assert lead == pytest.approx([expected, expected])
