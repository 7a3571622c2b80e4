"""Drum kits made of nothing but numbers, for measurements that must run where no one-shots are installed.

Skins ring in the modes of a membrane (N. H. Fletcher and T. D. Rossing, "The Physics of Musical Instruments", 1991),
metal in many that fit no row; sticks and wires are noise. A seed draws the kit: how each drum is tuned and damped. No
two strokes of it are alike.
"""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, sosfilt

from material import RATE_HZ, Kit, Sound

MEMBRANE = np.array([1.0, 1.59, 2.14, 2.30, 2.65, 2.92, 3.16, 3.50, 3.60, 4.06])
FORCES = np.linspace(0.25, 1.0, 6)


def kit(seed: int) -> Kit:
    """A kit of bass drum, snare, two toms, hat and crash, six strokes of each from soft to loud."""
    rng = np.random.default_rng(seed)
    skins = {
        "kick": (rng.uniform(48.0, 65.0), rng.uniform(0.10, 0.25), 0.0, rng.uniform(2_000.0, 5_000.0)),
        "snare": (rng.uniform(160.0, 230.0), rng.uniform(0.05, 0.12), rng.uniform(0.4, 1.0), 12_000.0),
        "tom": (rng.uniform(130.0, 180.0), rng.uniform(0.12, 0.30), 0.0, rng.uniform(5_000.0, 9_000.0)),
        "floor": (rng.uniform(75.0, 110.0), rng.uniform(0.15, 0.35), 0.0, rng.uniform(4_000.0, 8_000.0)),
    }
    made = {name: [_skin(rng, *drum, float(force)) for force in FORCES] for name, drum in skins.items()}
    metals = {"hat": (rng.uniform(0.03, 0.08), 0.3), "crash": (rng.uniform(0.4, 0.8), 1.2)}
    for name, (decay_s, length_s) in metals.items():
        partials_hz = rng.uniform(2_500.0, 14_000.0, 40)
        made[name] = [_metal(rng, partials_hz, decay_s, length_s, float(force)) for force in FORCES]
    return made


def _skin(
    rng: np.random.Generator, pitch_hz: float, decay_s: float, wires: float, stick_hz: float, force: float
) -> Sound:
    time_s = np.arange(round(6.0 * decay_s * RATE_HZ) + RATE_HZ // 8) / RATE_HZ
    modes_hz = pitch_hz * MEMBRANE * rng.uniform(0.99, 1.01, len(MEMBRANE))
    falls_s = decay_s / (1.0 + 0.6 * np.arange(len(MEMBRANE)))
    loud = rng.uniform(0.6, 1.4, len(MEMBRANE)) / (1.0 + (1.4 - force) * np.arange(len(MEMBRANE)))
    phase = 2.0 * np.pi * modes_hz * time_s[:, None]
    sound = (loud * np.sin(phase) * np.exp(-time_s[:, None] / falls_s)).sum(axis=1)
    sound += 0.8 * force * _noise(rng, time_s, 200.0, stick_hz, 0.004)
    sound += 1.5 * wires * _noise(rng, time_s, 1_500.0, 4_000.0 + 9_000.0 * force, 0.08)
    return _begun(sound, time_s, rng.uniform(0.0003, 0.0012), force)


def _metal(rng: np.random.Generator, partials_hz: Sound, decay_s: float, length_s: float, force: float) -> Sound:
    time_s = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
    phase = 2.0 * np.pi * partials_hz * time_s[:, None] + rng.uniform(0.0, 6.0, len(partials_hz))
    sound = (rng.uniform(0.3, 1.0, len(partials_hz)) * np.sin(phase)).sum(axis=1) * np.exp(-time_s / decay_s)
    sound += 6.0 * _noise(rng, time_s, 4_000.0, 16_000.0, decay_s)
    return _begun(sound, time_s, 0.0003, force)


def _noise(rng: np.random.Generator, time_s: Sound, low_hz: float, high_hz: float, decay_s: float) -> Sound:
    band = butter(2, (low_hz, high_hz), "band", fs=RATE_HZ, output="sos")
    return np.asarray(sosfilt(band, rng.normal(size=len(time_s))) * np.exp(-time_s / decay_s))


def _begun(sound: Sound, time_s: Sound, rise_s: float, force: float) -> Sound:
    """A sound that rises as fast as its stick lets go, as loud as it was struck."""
    begun = np.append(np.zeros(round(0.001 * RATE_HZ)), sound * (1.0 - np.exp(-time_s / rise_s)))
    return np.asarray(force * begun / np.abs(begun).max())
