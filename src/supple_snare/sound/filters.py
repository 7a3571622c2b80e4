"""Bands of a sound, by filters that look back only: an attack must not be heard before it starts."""

from __future__ import annotations

from functools import cache
from typing import Literal

import numpy as np

from supple_snare.sound.files import AnyArray
from supple_snare.timing.units import FloatArray, frozen

_WHOLE_SHARE = 0.45
"""A band that reaches to this part of the rate has no upper edge."""


def banded(
    sound: AnyArray,
    low_hz: float | None,
    high_hz: float | None,
    *,
    rate_hz: int,
    order: int = 2,
    low_order: int | None = None,
) -> AnyArray:
    """What of a sound lies between two frequencies; None for no edge.

    Parameters
    ----------
    sound : float array, shape (…, samples)
    low_hz, high_hz : float or None
    rate_hz : int
    order : int
        Steepness of each edge, 6 dB an octave for each.
    low_order : int, optional
        Of the lower edge, where that is another one.
    """
    from scipy.signal import sosfilt

    # One pass through both edges takes hardly longer than through one.
    edges: list[FloatArray] = []
    if low_hz and low_hz < _WHOLE_SHARE * rate_hz:
        edges.append(_edge(low_order or order, low_hz, "high", rate_hz))
    if high_hz and high_hz < _WHOLE_SHARE * rate_hz:
        edges.append(_edge(order, high_hz, "low", rate_hz))
    return sosfilt(np.concatenate(edges).astype(sound.dtype), sound, axis=-1) if edges else sound


@cache
def _edge(order: int, edge_hz: float, kind: Literal["high", "low"], rate_hz: int) -> FloatArray:
    """A filter's sections; to design one takes longer than to run it over one attack."""
    from scipy.signal import butter

    return frozen(butter(order, edge_hz, kind, fs=rate_hz, output="sos"))


def power_kept(
    hz: FloatArray, low_hz: float | None, high_hz: float | None, *, rate_hz: int, order: int = 2
) -> FloatArray:
    """What `banded` leaves of the power of tones, from 0 to 1, shape as `hz`."""
    kept = np.ones(hz.shape)
    warped = np.tan(np.pi * hz / rate_hz)  # as the filters see frequencies
    if low_hz and low_hz < _WHOLE_SHARE * rate_hz:
        kept /= 1.0 + (np.tan(np.pi * low_hz / rate_hz) / warped) ** (2 * order)
    if high_hz and high_hz < _WHOLE_SHARE * rate_hz:
        kept /= 1.0 + (warped / np.tan(np.pi * high_hz / rate_hz)) ** (2 * order)
    return kept
