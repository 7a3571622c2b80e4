"""When what neighbours strike comes into a microphone: what covers the beginning of a stroke begins just then.

The sound of a neighbour's drum comes by the straight way a steady time after the stroke, which the attacks that are
surely its bleed tell. Where they are too few, it is known only to take a few milliseconds.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.events import lags_s, steady_lags
from supple_snare.timing.units import FloatArray

_LEAST_S, _MOST_S = -0.001, 0.010
"""A neighbour's stroke comes in so long after it; before it, where that was found late."""

_ALIKE_S = 0.0006
_FEWEST, _SHARE, _MORE_THAN_CHANCE = 5, 0.15, 3.0
"""Ways that take as long as one another, so many of them, of so many strokes, tell how long it takes."""

_UNKNOWN_S = 0.0005
_KNOWN_RISE_S, _UNKNOWN_RISE_S = 0.0003, 0.0005
_KNOWN_FALL_S, _UNKNOWN_FALL_S = 0.0015, 0.003
"""The bleed passes a share of a stroke's peak as it comes in or soon after: the more so, the better that is known."""

_BACK_S, _AHEAD_S = 0.030, 0.012
_LATEST = 2
"""What comes in so long before an attack is found, up to so long after, may cover it: the latest of each neighbour."""


@dataclass(frozen=True, eq=False)
class Arrivals:
    """When bleed came in near n attacks of one microphone, k times at most.

    Attributes
    ----------
    time_s : float array, shape (n, k)
        Infinite where nothing did.
    rise_s, fall_s : float array, shape (k,)
        How far the moments at which it passes something stray before and after.
    """

    time_s: FloatArray
    rise_s: FloatArray
    fall_s: FloatArray

    def any(self) -> NDArray[np.bool_]:
        """Near which attacks something came in, shape (n,)."""
        return np.asarray(np.isfinite(self.time_s).any(axis=1))

    def density(self, passed_s: FloatArray) -> FloatArray:
        """How likely some of it passes something at moments of shape (n, signs): the likeliest of it, a second."""
        likeliest = np.zeros(passed_s.shape)
        for time_s, rise_s, fall_s in zip(self.time_s.T, self.rise_s, self.fall_s, strict=True):
            late_s = passed_s - time_s[:, None]
            shape = np.where(late_s > 0.0, np.exp(-late_s / fall_s), np.exp(-((late_s / rise_s) ** 2)))
            likeliest = np.maximum(likeliest, shape / (fall_s + 0.5 * np.sqrt(np.pi) * rise_s))
        return likeliest


def find_arrivals(start_s: FloatArray, bleed_s: FloatArray, neighbours_s: Sequence[FloatArray]) -> Arrivals:
    """When what neighbours strike comes into a microphone near its own attacks.

    Parameters
    ----------
    start_s : float array, shape (n,)
        Starts of these attacks, to some 10 ms.
    bleed_s : float array
        Those of the attacks that surely only bleed in, in order.
    neighbours_s : sequence of float arrays
        When each neighbour was struck, in order.
    """
    struck = [struck_s for struck_s in neighbours_s if len(struck_s)]
    ways_s = [_way_s(bleed_s, struck_s) for struck_s in struck]
    come = [struck_s + (_UNKNOWN_S if way_s is None else way_s) for struck_s, way_s in zip(struck, ways_s, strict=True)]
    known = np.repeat(np.array([way_s is not None for way_s in ways_s], dtype=bool), _LATEST)
    return Arrivals(
        np.column_stack([np.zeros((len(start_s), 0)), *(_latest_s(come_s, start_s) for come_s in come)]),
        np.where(known, _KNOWN_RISE_S, _UNKNOWN_RISE_S),
        np.where(known, _KNOWN_FALL_S, _UNKNOWN_FALL_S),
    )


def _way_s(bleed_s: FloatArray, struck_s: FloatArray) -> float | None:
    """How long a neighbour's strokes take to come in; None where too few tell."""
    _, lag_s = lags_s(bleed_s, struck_s, _LEAST_S, _MOST_S)
    usual_s, by_chance = steady_lags(lag_s, _ALIKE_S, _MOST_S - _LEAST_S)
    enough = max(_FEWEST, _SHARE * len(struck_s), _MORE_THAN_CHANCE * by_chance)
    return float(np.median(usual_s)) if len(usual_s) >= enough else None


def _latest_s(come_s: FloatArray, start_s: FloatArray) -> FloatArray:
    """The latest of some moments near each start, shape (n, _LATEST), infinite where there are none."""
    place = np.searchsorted(come_s, start_s + _AHEAD_S)[:, None] - 1 - np.arange(_LATEST)
    near_s = np.where(place >= 0, come_s[np.maximum(place, 0)], np.inf)
    return np.where(near_s > start_s[:, None] - _BACK_S, near_s, np.inf)
