"""The sounds: struck skins and metal as sums of ringing modes and noise, brass as harmonics that open with force.

No two strokes are alike: each is struck at another place, with another force and another hand.
Every sound begins at its first sample; amplitudes are about 1 for full force.
"""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, sosfilt

from supple_snare.timing.units import FloatArray

RATE_HZ = 48_000

# Frequency ratios of a circular membrane's modes (N. H. Fletcher and T. D. Rossing, "The Physics of Musical
# Instruments", 1991), raised a little by the air in a drum with two heads.
_MEMBRANE = np.array([1.0, 1.59, 2.14, 2.30, 2.65, 2.92, 3.16, 3.50, 3.60, 4.06, 4.15, 4.60])


def _time(length_s: float) -> FloatArray:
    return np.arange(round(length_s * RATE_HZ)) / RATE_HZ


def _modes(
    rng: np.random.Generator, hz: FloatArray, decay_s: FloatArray, gain: FloatArray, length_s: float
) -> FloatArray:
    time = _time(length_s)[:, None]
    phase = rng.uniform(-0.4, 0.4, len(hz))
    gain = gain * rng.uniform(0.7, 1.3, len(hz))
    return np.asarray((gain * np.sin(2 * np.pi * hz * time + phase) * np.exp(-time / decay_s)).sum(axis=1))


def _noise(rng: np.random.Generator, low_hz: float, high_hz: float, decay_s: float, length_s: float) -> FloatArray:
    sos = butter(2, [low_hz, min(high_hz, 0.45 * RATE_HZ)], "bandpass", fs=RATE_HZ, output="sos")
    sound = sosfilt(sos, rng.normal(size=round(length_s * RATE_HZ)))
    return np.asarray(sound * np.exp(-_time(length_s) / decay_s))


def _attack(sound: FloatArray, rise_s: float) -> FloatArray:
    """Let a sound rise as fast as its beater lets go."""
    return sound * (1.0 - np.exp(-_time(len(sound) / RATE_HZ) / rise_s))


def snare(rng: np.random.Generator, force: float) -> FloatArray:
    """A rope-tensioned street snare."""
    skin = _modes(
        rng,
        188.0 * rng.uniform(0.995, 1.005) * _MEMBRANE,
        0.11 / (1.0 + 0.5 * np.arange(12.0)),
        1.0 / (1.0 + (1.3 - force) * np.arange(12.0)),
        0.5,
    )
    wires = _noise(rng, 1400, 3000 + 9000 * force, rng.uniform(0.07, 0.09), 0.5)
    stick = _noise(rng, 2500, 14000, 0.003, 0.5)
    sound = 0.35 * skin + 0.5 * wires + 0.55 * force * stick
    return _attack(sound, 0.0004) * force**1.2


def bass_drum(rng: np.random.Generator, force: float) -> FloatArray:
    """A marching bass drum with a felt beater."""
    time = _time(0.8)
    fall = 54.0 * time + 1.1 * force * (1.0 - np.exp(-time / 0.03))
    deep = np.sin(2 * np.pi * fall + rng.uniform(-0.2, 0.2)) * np.exp(-time / 0.24)
    skin = _modes(rng, 92.0 * _MEMBRANE[:8], 0.09 / (1.0 + np.arange(8.0)), 0.5 / (1.0 + np.arange(8.0)), 0.8)
    felt = _noise(rng, 200, 1800 + 2500 * force, 0.006, 0.8)
    return _attack(0.8 * deep + 0.35 * skin + 0.5 * felt, 0.0018) * force


def washboard(rng: np.random.Generator, force: float) -> FloatArray:
    """Thimbles drawn over a few ridges of tin."""
    length = 0.16
    sound = np.zeros(round(length * RATE_HZ))
    ridges = 1 if force < 0.4 else int(rng.integers(2, 4))
    gap = rng.uniform(0.006, 0.009)
    for ridge in range(ridges):
        hz = rng.uniform(2300, 2500) * np.array([1.0, 1.53, 2.27, 3.1, 4.2])
        tick = _modes(rng, hz, 0.014 * np.ones(5) * rng.uniform(0.8, 1.2), np.array([0.6, 0.5, 0.4, 0.3, 0.2]), 0.12)
        tick += _noise(rng, 3000, 16000, 0.004, 0.12)
        at = round(ridge * gap * RATE_HZ)
        room = min(len(tick), len(sound) - at)
        sound[at : at + room] += (1.0 if ridge == 0 else 0.7) * tick[:room]
    return _attack(sound, 0.0002) * 0.6 * force


def brass(rng: np.random.Generator, force: float, pitch_hz: float, length_s: float, *, rise_s: float) -> FloatArray:
    """A brass tone: its upper harmonics come with force and a little after the first."""
    time = _time(length_s + 0.12)
    release = np.clip((length_s + 0.12 - time) / 0.12, 0.0, 1.0) ** 2
    swell = (1.0 - np.exp(-time / rise_s)) * (0.85 + 0.15 * np.exp(-time / 0.15))
    vibrato = 1.0 + 0.003 * np.sin(2 * np.pi * rng.uniform(4.8, 5.4) * time) * np.clip(time / 0.4 - 0.5, 0, 1)
    scoop = 1.0 - 0.02 * np.exp(-time / 0.025)
    phase = 2 * np.pi * np.cumsum(pitch_hz * rng.uniform(0.998, 1.002) * vibrato * scoop) / RATE_HZ
    tone = np.zeros(len(time))
    for harmonic in range(1, min(24, int(9000 / pitch_hz)) + 1):
        opening = swell ** (1.0 + 0.35 * harmonic * (1.2 - force))
        tone += opening * harmonic**-0.9 * np.sin(harmonic * phase + rng.uniform(0, 0.5))
    tongue = _noise(rng, 600, 5000, 0.008, length_s + 0.12)
    breath = 0.008 * _noise(rng, 800, 6000, 9.0, length_s + 0.12) * swell
    return (0.32 * tone + 0.12 * tongue + breath) * release * force
