"""All conversions between seconds, milliseconds, samples, beats and decibels."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

LONGEST_TAKE_S = 86_400.0
"""A day: whatever tells of more is damaged, and memory for it is not taken."""

SILENCE_DB = -150.0
"""Level given to digital silence, below the floor of a 24-bit file (−144 dB)."""


def s_to_ms(time_s: ArrayLike) -> FloatArray:
    """Milliseconds of a time in seconds."""
    return np.asarray(time_s, dtype=np.float64) * 1000.0


def ms_to_s(time_ms: ArrayLike) -> FloatArray:
    """Seconds of a time in milliseconds."""
    return np.asarray(time_ms, dtype=np.float64) / 1000.0


def s_to_samples(time_s: ArrayLike, rate_hz: int) -> IntArray:
    """Nearest whole sample of a time in seconds."""
    return np.rint(np.asarray(time_s, dtype=np.float64) * rate_hz).astype(np.int64)


def samples_to_s(samples: ArrayLike, rate_hz: int) -> FloatArray:
    """Time in seconds of a sample index."""
    return np.asarray(samples, dtype=np.float64) / rate_hz


def ms_to_samples(time_ms: float, rate_hz: int) -> int:
    """Nearest whole number of samples of a span in milliseconds."""
    return round(time_ms * rate_hz / 1000.0)


def beats_to_s(beats: ArrayLike, tempo_bpm: float) -> FloatArray:
    """Length in seconds of a number of quarter notes."""
    return np.asarray(beats, dtype=np.float64) * (60.0 / tempo_bpm)


def s_to_beats(time_s: ArrayLike, tempo_bpm: float) -> FloatArray:
    """Number of quarter notes in a length in seconds."""
    return np.asarray(time_s, dtype=np.float64) * (tempo_bpm / 60.0)


def amplitude_to_db(amplitude: ArrayLike) -> FloatArray:
    """Level in dB of an amplitude (1.0 is full scale, 0 dB); silence becomes `SILENCE_DB`."""
    floor = 10.0 ** (SILENCE_DB / 20.0)
    return 20.0 * np.log10(np.maximum(np.abs(np.asarray(amplitude, dtype=np.float64)), floor))


def db_to_amplitude(level_db: float) -> float:
    """Amplitude of a level in dB."""
    return math.pow(10.0, level_db / 20.0)


def frozen(values: ArrayLike, dtype: Any = np.float64) -> NDArray[Any]:
    """A read-only array: values that stages share must not be changed by one of them."""
    array = np.array(values, dtype=dtype)
    array.flags.writeable = False
    return array
