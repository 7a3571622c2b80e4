"""What speaks for a tempo and a place of the beat: how the hits of a take lie over the beats that these give."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from supple_snare.timing.pulse import PLACES, TEMPLATES
from supple_snare.timing.units import FloatArray, IntArray

_MAIN_SHARE = 0.25
"""A lead with fewer hits than this share of the usual one, as a tom in fills has, does not tell where beats are."""

CELLS = 12
_BLUR = np.array([0.25, 0.7, 1.0, 0.7, 0.25])
"""Patterns are compared in so many cells a beat, each hit blurred over its neighbours."""

_WIDEST = np.stack([each.log_density() for each in sorted(TEMPLATES, key=lambda each: each.width)[-3:]])
"""Densities of the templates that forgive most, shape (3, PLACES)."""

_TURNS_MOST = 1.2
_FASTEST_S = 0.045
_FAST_PERCENT = 15.0

WEIGHTS: Mapping[str, float] = MappingProxyType(
    {
        "loose_fit": 3.86,
        "on_beat": 4.48,
        "lead_on_beat": 2.77,
        "turns": 3.70,
        "returns": 5.01,
        "tempo": -6.48,
        "sparse": 2.01,
        "sparse_squared": -0.55,
        "dense": -3.78,
        "dense_squared": -2.93,
    }
)
"""How much each sign counts, in the logarithm of odds; fitted by `bench/tempo.py`."""


def beat_signs(beat: FloatArray, time_s: FloatArray, weight: FloatArray, lead: IntArray) -> dict[str, float]:
    """Measure how hits lie over beats.

    Parameters
    ----------
    beat : float array, shape (n,)
        Place of each hit, in beats.
    time_s, weight : float array, shape (n,)
        Moments, and how much each hit counts.
    lead : int array, shape (n,)

    Returns
    -------
    dict of str to float
        One figure for each of `WEIGHTS`:

        ``loose_fit``
            Mean logarithm of likelihood of the places in the widest templates.
        ``on_beat``, ``lead_on_beat``
            1 where everything falls on beats, −1 between them: of all hits, and of the lead that does so most.
        ``turns``
            How much leads take turns from beat to beat.
        ``returns``
            How alike the pattern is two, three or four beats later, at best.
        ``tempo``
            Natural logarithm of beats a second.
        ``sparse``, ``sparse_squared``
            Natural logarithm of hits a beat, of the lead that plays least.
        ``dense``, ``dense_squared``
            Natural logarithm of the short intervals between hits, in beats.
    """
    _, lead, count = np.unique(lead, return_inverse=True, return_counts=True)
    main = main_leads(lead)
    beats_s = float((beat[-1] - beat[0]) / (time_s[-1] - time_s[0]))
    around = {period: turning(beat, weight, lead, period)[main] for period in (1.0, 2.0, 3.0)}
    turns = max(float(np.abs(around[each]).sum() - np.abs(around[each].sum())) for each in (2.0, 3.0))
    sparse = float(np.log(count[main].min() / (beat[-1] - beat[0] + 1.0)))
    between_s = np.diff(time_s)
    between_s = between_s[between_s > _FASTEST_S]
    dense = float(np.log(beats_s * np.percentile(between_s, _FAST_PERCENT))) if len(between_s) else 0.0
    return {
        "loose_fit": _loose_fit(beat, weight),
        "on_beat": float(np.average(np.cos(2.0 * np.pi * beat), weights=weight)),
        "lead_on_beat": float(around[1.0].real.max()),
        "turns": min(turns, _TURNS_MOST),
        "returns": _returns(beat, weight, lead),
        "tempo": float(np.log(beats_s)),
        "sparse": sparse,
        "sparse_squared": sparse**2,
        "dense": dense,
        "dense_squared": dense**2,
    }


def log_odds(signs: Mapping[str, float]) -> float:
    """What all signs say together, up to a constant of the take."""
    return sum(weight * signs[name] for name, weight in WEIGHTS.items())


def main_leads(lead: IntArray) -> IntArray:
    """Numbers of the leads that play throughout, from that of each hit, shape (n,)."""
    number, count = np.unique(lead, return_counts=True)
    return np.asarray(number[count >= _MAIN_SHARE * np.median(count)])


def blurred_rows(beat: FloatArray, weight: FloatArray, lead: IntArray, length: int) -> FloatArray:
    """Weights of hits in `CELLS` cells a beat from beat 0 on, each over its neighbours, shape (leads, length)."""
    number, row = np.unique(lead, return_inverse=True)
    cell = np.rint(beat * CELLS).astype(np.int64)
    rows = np.bincount(row * length + cell, weight, len(number) * length).reshape(-1, length)
    return np.stack([np.convolve(row, _BLUR, "same") for row in rows])


def turning(beat: FloatArray, weight: FloatArray, lead: IntArray, period: float) -> FloatArray:
    """For each lead how strongly, and where, it comes back after a period of beats: complex, at most 1 in size."""
    turn = weight * np.exp(2j * np.pi * beat / period)
    return np.array([turn[lead == number].sum() / weight[lead == number].sum() for number in np.unique(lead)])


def _loose_fit(beat: FloatArray, weight: FloatArray) -> float:
    place = np.rint((beat % 1.0) * PLACES).astype(np.int64) % PLACES
    share = np.bincount(place, weight, PLACES) / weight.sum()
    return float((_WIDEST @ share).max())


def _returns(beat: FloatArray, weight: FloatArray, lead: IntArray) -> float:
    beat = beat - np.floor(beat[0])
    length = int(np.rint(beat.max() * CELLS)) + 1
    rows = blurred_rows(beat, weight, lead, length)
    rows -= rows.mean(axis=1, keepdims=True)
    power = float((rows**2).sum()) / length + 1e-12
    lags = [each * CELLS for each in (2, 3, 4) if length > (each + 1) * CELLS]
    return max((float((rows[:, :-lag] * rows[:, lag:]).sum()) / (length - lag) / power for lag in lags), default=0.0)
