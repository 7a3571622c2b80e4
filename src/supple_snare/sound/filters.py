"""Bands of a sound, by filters that look back only: an attack must not be heard before it starts."""

from __future__ import annotations

from supple_snare.sound.files import AnyArray

_WHOLE_SHARE = 0.45
"""A band that reaches to this part of the rate has no upper edge."""


def banded(sound: AnyArray, low_hz: float | None, high_hz: float | None, *, rate_hz: int, order: int = 2) -> AnyArray:
    """What of a sound lies between two frequencies; None for no edge.

    Parameters
    ----------
    sound : float array, shape (…, samples)
    low_hz, high_hz : float or None
    rate_hz : int
    order : int
        Steepness of each edge, 6 dB an octave for each.
    """
    from scipy.signal import butter, sosfilt

    if low_hz and low_hz < _WHOLE_SHARE * rate_hz:
        sound = sosfilt(butter(order, low_hz, "high", fs=rate_hz, output="sos").astype(sound.dtype), sound, axis=-1)
    if high_hz and high_hz < _WHOLE_SHARE * rate_hz:
        sound = sosfilt(butter(order, high_hz, "low", fs=rate_hz, output="sos").astype(sound.dtype), sound, axis=-1)
    return sound
