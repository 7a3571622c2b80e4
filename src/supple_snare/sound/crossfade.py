"""Crossfades between two sides of a seam that keep the level of what sounds."""

from __future__ import annotations

import numpy as np

from supple_snare.timing.units import FloatArray

_MOST_GAIN = 2.5
"""A fade between sides of opposite phase is made up for as far as that: what little they share would else stand out."""


def _around(values: FloatArray) -> FloatArray:
    """Sums over all channels and half of the fade around each place, shape (..., length, 1)."""
    length = values.shape[-2]
    half = length // 4
    total = np.cumsum(values.sum(axis=-1), axis=-1)
    total = np.concatenate([np.zeros_like(total[..., :1]), total], axis=-1)
    place = np.arange(length)
    first, last = np.maximum(place - half, 0), np.minimum(place + half + 1, length)
    return np.asarray((total[..., last] - total[..., first]) / (last - first))[..., None]


def rising_side(length: int) -> FloatArray:
    """How far a fade has come, from near 0 to near 1."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * (np.arange(length) + 1.0) / (length + 1.0)))


def fade_gains(leaving: FloatArray, coming: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Gains of both sides of a crossfade that keep the level of this track on its way from one to the other.

    With powers P and Q of the sides around a place and their correlation r there, the sum out·leaving + in·coming has
    the power out²·P + in²·Q + 2·r·out·in·√(P·Q). The gains are those of sides that have nothing in common, times what
    makes up for what they have: equal gain for equal sides, equal power for unrelated ones, more for opposed ones.

    Parameters
    ----------
    leaving, coming : float arrays, shape (length, channels)
        Or of several tracks, shape (tracks, length, channels).

    Returns
    -------
    out, in : float arrays, shape (length, 1) or (tracks, length, 1)
    """
    rising = rising_side(leaving.shape[-2])[:, None]
    falling = 1.0 - rising
    left, right, shared = _around(leaving**2), _around(coming**2), _around(leaving * coming)
    power = falling**2 * left + rising**2 * right
    there = np.maximum(power + 2.0 * falling * rising * shared, 1e-30)
    gain = np.minimum(np.sqrt(power / (falling**2 + rising**2) / there), _MOST_GAIN)
    return falling * gain, rising * gain
