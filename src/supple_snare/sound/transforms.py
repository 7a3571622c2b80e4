"""Fourier transforms of sounds, in the precision that the sounds have.

NumPy's are as fast as SciPy's, and need no second to import, if they are scaled alike both ways: else single precision
goes through double.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray

Spectrum = NDArray[np.complexfloating[Any, Any]]


def spectrum_of(sound: AnyArray, size: int | None = None) -> Spectrum:
    """The spectra of rows of samples, filled up with silence to a size, shape (…, size // 2 + 1).

    Divided by the root of the size.
    """
    if size is not None and size > sound.shape[-1]:
        whole = np.zeros((*sound.shape[:-1], size), dtype=sound.dtype)  # NumPy itself fills up four times as slowly
        whole[..., : sound.shape[-1]] = sound
        sound = whole
    return np.fft.rfft(sound, norm="ortho")


def sound_of(spectrum: Spectrum, size: int) -> AnyArray:
    """The samples whose spectra these are, shape (…, size)."""
    return np.fft.irfft(spectrum, size, norm="ortho")


def fast_length(samples: int) -> int:
    """The least length of so many samples or more that is transformed fast.

    >>> fast_length(4_500)
    4608
    """
    return min(odd << max(0, math.ceil(math.log2(samples / odd))) for odd in (1, 3, 5, 9, 15))
