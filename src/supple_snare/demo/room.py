"""The boathouse: where players and microphones stand, how long sound takes between them, and what the walls add."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, fftconvolve, sosfilt

from supple_snare.demo.instruments import RATE_HZ
from supple_snare.timing.units import FloatArray

_SOUND_M_S = 343.0


@dataclass(frozen=True)
class Spot:
    """A place in the room in metres."""

    x: float
    y: float
    z: float

    def distance_m(self, other: Spot) -> float:
        """Distance to another place."""
        return float(np.sqrt((self.x - other.x) ** 2 + (self.y - other.y) ** 2 + (self.z - other.z) ** 2))


PLAYERS = {
    "snare": Spot(0.0, 0.0, 0.9),
    "bass drum": Spot(1.1, 0.3, 0.8),
    "washboard": Spot(-1.2, 0.4, 1.1),
    "sousaphone": Spot(0.0, 0.0, 1.4),
    "cornet one": Spot(-0.5, 0.0, 1.5),
    "cornet two": Spot(0.6, 0.0, 1.5),
}

DRUMMERS = ("snare", "bass drum", "washboard")


@dataclass(frozen=True)
class Microphone:
    """A microphone.

    Attributes
    ----------
    name : str
        Becomes the file's name.
    spot : Spot
    gain : float
        So that takes come in at usual levels.
    hears : tuple of str
        The players of this pass; the horns were recorded after the drums.
    rejects : float
        How much of what does not stand right before it a directed microphone lets through, 0 to 1.
    wet : float
        Level of the room behind the direct sound.
    """

    name: str
    spot: Spot
    gain: float
    hears: tuple[str, ...]
    rejects: float = 1.0
    wet: float = 0.03


MICROPHONES = (
    Microphone("snare", Spot(0.05, -0.12, 0.99), 0.06, DRUMMERS, 0.55),
    Microphone("bass drum", Spot(1.18, 0.18, 0.82), 0.085, DRUMMERS, 0.4),
    Microphone("washboard", Spot(-1.2, 0.22, 1.18), 0.09, DRUMMERS, 0.5),
    Microphone("pair left", Spot(-0.8, -1.3, 2.2), 0.4, DRUMMERS, 1.0, 0.08),
    Microphone("pair right", Spot(0.8, -1.3, 2.2), 0.4, DRUMMERS, 1.0, 0.08),
    Microphone("boathouse", Spot(0.4, -5.2, 2.6), 0.45, DRUMMERS, 1.0, 0.35),
    Microphone("sousaphone", Spot(0.1, -0.5, 1.9), 0.5, ("sousaphone",)),
    Microphone("cornet one", Spot(-0.5, -0.45, 1.5), 0.36, ("cornet one", "cornet two"), 0.12),
    Microphone("cornet two", Spot(0.6, -0.45, 1.5), 0.36, ("cornet one", "cornet two"), 0.12),
)


def record(microphone: Microphone, dry: dict[str, FloatArray], rng: np.random.Generator) -> FloatArray:
    """What a microphone picks up of the dry players, shape (samples,)."""
    length = len(next(iter(dry.values())))
    heard = np.zeros(length)
    nearest = min(microphone.hears, key=lambda name: PLAYERS[name].distance_m(microphone.spot))
    for name in microphone.hears:
        distance = PLAYERS[name].distance_m(microphone.spot)
        gain = (1.0 if name == nearest else microphone.rejects) / max(distance, 0.1)
        direct = _delayed(dry[name], distance / _SOUND_M_S)
        if name != nearest and microphone.rejects < 1.0:
            direct = _duller(direct, 7500.0)  # off its axis a directed microphone hears less treble
        heard += gain * direct + microphone.wet * _walls(dry[name], distance, rng)
    rumble = np.cumsum(rng.normal(size=length))
    rumble = _duller(rumble - np.linspace(rumble[0], rumble[-1], length), 60.0)
    heard = microphone.gain * heard + 2e-4 * rumble / max(float(np.abs(rumble).max()), 1e-9)
    return heard + rng.normal(size=length) * 1.2e-5


def _delayed(sound: FloatArray, delay_s: float) -> FloatArray:
    """Sound later by a fraction of a sample's precision, as air does it."""
    whole = int(delay_s * RATE_HZ)
    part = delay_s * RATE_HZ - whole
    kernel = np.sinc(np.arange(-16, 17) - part) * np.hanning(33)
    shifted = np.convolve(sound, kernel, mode="same")
    return np.concatenate([np.zeros(whole), shifted[: len(sound) - whole]])


def _duller(sound: FloatArray, cutoff_hz: float) -> FloatArray:
    return np.asarray(sosfilt(butter(1, cutoff_hz, fs=RATE_HZ, output="sos"), sound))


def _walls(sound: FloatArray, distance_m: float, rng: np.random.Generator) -> FloatArray:
    """A few early reflections from planks and water, then a diffuse tail of 0.7 s."""
    tail = np.zeros(round(0.75 * RATE_HZ))
    for _ in range(9):
        at = round((distance_m + rng.uniform(1.5, 11.0)) / _SOUND_M_S * RATE_HZ)
        tail[at] += rng.choice([-1.0, 1.0]) * rng.uniform(0.3, 0.9)
    time = np.arange(len(tail)) / RATE_HZ
    diffuse = _duller(rng.normal(size=len(tail)), 2800.0) * np.exp(-time / 0.16)
    diffuse[: round((distance_m + 4.0) / _SOUND_M_S * RATE_HZ)] = 0.0
    return np.asarray(fftconvolve(sound, tail + 0.09 * diffuse)[: len(sound)])
