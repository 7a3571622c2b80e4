"""Strokes that a microphone far from a kit hides: those struck along with a drum that has a microphone of its own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.strokes import TOGETHER_MS
from supple_snare.timing.units import FloatArray, ms_to_s

_HALFWAY = (0.35, 0.65)
"""A swung hat, too, is struck about halfway between two of its strokes; a run of a snare between them is not."""


def hidden_strokes_s(own_s: FloatArray, closer_s: Sequence[FloatArray]) -> FloatArray:
    """Where a line that only a far microphone hears was probably struck along with drums that are heard closer.

    What counts as that microphone's own are strokes that no closer one hears: a hat between those of the drums. Most of
    what it plays on the beat is missing, and what is left would seem to play beside the beat.

    Parameters
    ----------
    own_s : float array, shape (n,)
        Strokes that only the far microphone has, increasing.
    closer_s : sequence of float arrays
        Strokes of the drums that are heard closer.

    Returns
    -------
    float array, shape (k,)
        Those moments at which any of these was struck about halfway from one of its own strokes to the next.
    """
    if len(own_s) < 2 or not closer_s:
        return np.zeros(0)
    moments = np.sort(np.concatenate(closer_s))
    moments = moments[np.diff(moments, prepend=-np.inf) > ms_to_s(TOGETHER_MS)]
    after = np.clip(np.searchsorted(own_s, moments), 1, len(own_s) - 1)
    share = (moments - own_s[after - 1]) / (own_s[after] - own_s[after - 1])
    return moments[(share > _HALFWAY[0]) & (share < _HALFWAY[1])]
