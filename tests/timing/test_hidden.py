"""Hidden strokes: what a far microphone's line plays along with drums that are heard closer."""

from __future__ import annotations

import numpy as np
import pytest

from supple_snare.timing.hidden import hidden_strokes_s


def test_strokes_on_the_beat_are_filled_in_and_those_beside_are_not():
    """A swung hat between a drum on the beat; a snare plays sixteenths around its second stroke."""
    hat_s = np.array([0.31, 0.81, 1.31, 1.81])
    kick_s, snare_s = np.array([0.0, 0.51, 1.0]), np.array([0.50, 1.40, 1.45, 1.75, 2.3])
    assert hidden_strokes_s(hat_s, [kick_s, snare_s]) == pytest.approx([0.50, 1.0])
    assert len(hidden_strokes_s(hat_s, [])) == len(hidden_strokes_s(hat_s[:1], [kick_s])) == 0
