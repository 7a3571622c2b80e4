"""Bands of a sound, by Butterworth filters that look back only: an attack must not be heard before it starts.

A sound is transformed once, whatever bands are asked for, and the filters shape its spectrum. SciPy's would do as well;
but to import its signal module takes longer than to listen to a minute of a track.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray
from supple_snare.sound.transforms import fast_length, sound_of, spectrum_of
from supple_snare.timing.units import FloatArray, frozen

_WHOLE_SHARE = 0.45
"""A band that reaches to this part of the rate has no upper edge."""

_TAIL_S = 0.01
"""The filters have all but forgotten a sound so long after its end. What they still remember comes before its start."""


class Bands:
    """A sound from which bands are taken.

    Parameters
    ----------
    sound : float array, shape (…, samples)
    rate_hz : int
    """

    def __init__(self, sound: AnyArray, rate_hz: int) -> None:
        self._sound, self._rate_hz = sound, rate_hz
        self._size = fast_length(sound.shape[-1] + round(_TAIL_S * rate_hz))
        self._spectrum = spectrum_of(sound, self._size)

    def between(
        self, low_hz: float | None, high_hz: float | None, *, order: int = 2, low_order: int | None = None
    ) -> AnyArray:
        """What lies between two frequencies, in the shape of the sound.

        Parameters
        ----------
        low_hz, high_hz : float or None
            None for no edge.
        order : int
            Steepness of each edge, 6 dB an octave for each.
        low_order : int, optional
            Of the lower edge, where that is another one.
        """
        if not (low_hz or high_hz):
            return self._sound
        response = _response_of_bins(self._size, self._rate_hz, low_hz, high_hz, order, low_order)
        shaped = self._spectrum * response.astype(self._spectrum.dtype)
        return sound_of(shaped, self._size)[..., : self._sound.shape[-1]]


def power_kept(
    hz: FloatArray, low_hz: float | None, high_hz: float | None, *, rate_hz: int, order: int = 2
) -> FloatArray:
    """What `Bands.between` leaves of the power of tones, from 0 to 1, shape as `hz`."""
    return np.abs(_response(hz, rate_hz, low_hz, high_hz, order, order)) ** 2


@lru_cache(maxsize=64)
def _response_of_bins(
    size: int, rate_hz: int, low_hz: float | None, high_hz: float | None, order: int, low_order: int | None
) -> NDArray[np.complex128]:
    hz = np.fft.rfftfreq(size, 1.0 / rate_hz).astype(np.float64)
    return frozen(_response(hz, rate_hz, low_hz, high_hz, order, low_order or order), np.complex128)


def _response(
    hz: FloatArray, rate_hz: int, low_hz: float | None, high_hz: float | None, order: int, low_order: int
) -> NDArray[np.complex128]:
    """By how much tones are louder and later through a band's edges, each a digital filter by the bilinear transform
    (A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal Processing", 1989, section 7.1)."""
    response = np.ones(hz.shape, dtype=np.complex128)
    if low_hz and low_hz < _WHOLE_SHARE * rate_hz:
        over = _over_edge(hz, low_hz, rate_hz)
        response *= over**low_order / _butterworth(over, low_order)
    if high_hz and high_hz < _WHOLE_SHARE * rate_hz:
        response /= _butterworth(_over_edge(hz, high_hz, rate_hz), order)
    return response


def _over_edge(hz: FloatArray, edge_hz: float, rate_hz: int) -> NDArray[np.complex128]:
    return 1j * np.tan(np.pi * hz / rate_hz) / np.tan(np.pi * edge_hz / rate_hz)


def _butterworth(over_edge: NDArray[np.complex128], order: int) -> NDArray[np.complex128]:
    """The Butterworth polynomial: its roots lie evenly on the left half of the unit circle."""
    roots = np.exp(1j * np.pi * (0.5 + (np.arange(order) + 0.5) / order))
    polynomial: NDArray[np.complex128] = np.prod(over_edge[..., None] - roots, axis=-1)
    return polynomial
