"""Precedence: whether another microphone hears an attack before its own does, as bleed is heard."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.events import later_s
from supple_snare.timing.hits import nearest_index
from supple_snare.timing.units import FloatArray

_LATER_MS = 2.0
_MOST_MS = 7.0
_NEAREST_SHARE = 0.3
"""Where several attacks of a neighbour are near, the one is meant that is nearest to so much of the farthest lead."""


def lead_of_others_ms(
    analyses: Sequence[Analysis], heard_s: Sequence[FloatArray], track: int, *, farthest_s: float
) -> FloatArray:
    """How much earlier (negative) some other track hears what starts in one: at most 7 ms, and 2 where none does.

    That is told by the signs of the attack that both show; by its starts where these are too few.

    Parameters
    ----------
    analyses : sequence of Analysis
    heard_s : sequence of float arrays
        When the attacks of each track start, in order.
    track : int
    farthest_s : float
        How much farther the microphone stands than the nearest: it may hear everything so much later.

    Returns
    -------
    float array, shape (n,)
    """
    time_s, seen_s = heard_s[track], analyses[track].attacks.seen_s
    farthest_ms = _MOST_MS + 1000.0 * farthest_s
    lead_ms = np.full(len(time_s), _LATER_MS)
    for number, others_s in enumerate(heard_s):
        if number == track or not len(others_s):
            continue
        nearest = nearest_index(others_s, time_s - 0.001 * _NEAREST_SHARE * farthest_ms)
        by_starts = others_s[nearest] - time_s
        by_signs = later_s(seen_s, analyses[number].attacks.seen_s[nearest])
        apart_ms = 1000.0 * np.where(np.isfinite(by_signs), by_signs, by_starts)
        near = (apart_ms > -farthest_ms) & (apart_ms < _LATER_MS)
        lead_ms = np.minimum(lead_ms, np.where(near, apart_ms, _LATER_MS))
    return np.maximum(lead_ms, -_MOST_MS)
