"""Half speed at the same pitch, for listening closely."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Stereo = NDArray[np.float32]

HOP_FRAMES = 1024
"""Of the result, for each step: 21 ms at 48 kHz, half of what is overlapped."""

_SEARCH_FRAMES = 320
"""How far from its place a stretch may be taken so that it goes on where the one before ended: a period of 150 Hz."""


class HalfSpeed:
    """Overlap-add of stretches that fit each other (WSOLA: Verhelst and Roelands, ICASSP 1993), at half speed.

    Parameters
    ----------
    read : callable
        Reads (start, count) of the sound, shape (count, 2).
    """

    def __init__(self, read: Callable[[int, int], Stereo]) -> None:
        self._read = read
        self._tail: Stereo | None = None
        ramp = (np.arange(HOP_FRAMES, dtype=np.float32) + 0.5) / HOP_FRAMES
        self._rising = (0.5 - 0.5 * np.cos(np.pi * ramp))[:, None].astype(np.float32)

    def restart(self) -> None:
        """What comes next follows nothing."""
        self._tail = None

    def next(self, place: int) -> Stereo:
        """The next `HOP_FRAMES` of the result, those of about `place` on; the place after is half a hop later."""
        if self._tail is None:
            stretch = self._read(place, 2 * HOP_FRAMES)
            sound = stretch[:HOP_FRAMES].copy()
        else:
            around = self._read(place - _SEARCH_FRAMES, 2 * HOP_FRAMES + 2 * _SEARCH_FRAMES)
            shift = _best_shift(around[: HOP_FRAMES + 2 * _SEARCH_FRAMES], self._tail)
            stretch = around[shift : shift + 2 * HOP_FRAMES]
            sound = self._tail * (1.0 - self._rising) + stretch[:HOP_FRAMES] * self._rising
        self._tail = stretch[HOP_FRAMES : 2 * HOP_FRAMES]
        return np.asarray(sound, dtype=np.float32)


def _best_shift(around: Stereo, wanted: Stereo) -> int:
    """Where in a sound the wanted one is most alike, by the cosine of the angle between them."""
    sound, goal = around.sum(axis=1, dtype=np.float32), wanted.sum(axis=1, dtype=np.float32)
    match = np.correlate(sound, goal, mode="valid")
    power = np.concatenate([[0.0], np.cumsum(sound.astype(np.float64) ** 2)])
    energy = np.maximum(power[len(goal) :] - power[: -len(goal)], 1e-9)
    return int(np.argmax(match / np.sqrt(energy)))
