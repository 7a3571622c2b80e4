"""Short tones at moments: grooves and MIDI parts made audible without any instrument."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.units import FloatArray, IntArray, frozen

_RING_S = 0.35
"""A tone falls by 8.7 dB in this time, however long it is held."""

_RELEASE_S = 0.03
_TAP_HZ, _TAP_S = 987.77, 0.02
_OVERTONES = ((1.0, 0.7), (2.0, 0.22), (3.0, 0.08))


@dataclass(frozen=True, eq=False)
class Taps:
    """Tones in order of time, arrays of shape (n,).

    Attributes
    ----------
    at : int array
        Frames at which they begin.
    gain : float array
        Amplitudes.
    pitch_hz : float array
    length : int array
        Frames for which they are held.
    ring_s : float
        How fast they fall.
    """

    at: IntArray
    gain: FloatArray
    pitch_hz: FloatArray
    length: IntArray
    ring_s: float = _RING_S

    @classmethod
    def of_moments(cls, time_s: FloatArray, level_db: FloatArray, rate_hz: int) -> Taps:
        """Dry taps, all of one pitch."""
        count = len(time_s)
        at = np.rint(np.asarray(time_s) * rate_hz)
        gain = 10.0 ** (np.asarray(level_db) / 20.0)
        held = np.full(count, round(_TAP_S * rate_hz))
        return cls(frozen(at, np.int64), frozen(gain), frozen(np.full(count, _TAP_HZ)), frozen(held, np.int64), 0.006)

    @classmethod
    def of_notes(
        cls, time_s: FloatArray, end_s: FloatArray, level_db: FloatArray, pitch: IntArray, rate_hz: int
    ) -> Taps:
        """Tones of MIDI notes."""
        order = np.argsort(time_s, kind="stable")
        at = np.rint(time_s[order] * rate_hz)
        length = np.maximum(np.rint(end_s[order] * rate_hz) - at, 1.0)
        pitch_hz = 440.0 * 2.0 ** ((pitch[order] - 69.0) / 12.0)
        gain = 10.0 ** (level_db[order] / 20.0)
        return cls(frozen(at, np.int64), frozen(gain), frozen(pitch_hz), frozen(length, np.int64))

    def add_to(self, mix: np.ndarray[tuple[int, int], np.dtype[np.float32]], start: int, rate_hz: int) -> None:
        """Add what sounds of them to a block that begins at a frame."""
        if not len(self.at):
            return
        release = round(_RELEASE_S * rate_hz)
        longest = int(self.length.max()) + release
        first, last = np.searchsorted(self.at, (start - longest, start + len(mix)))
        for index in range(int(first), int(last)):
            begin = int(self.at[index]) - start
            until = begin + int(self.length[index]) + release
            low, high = max(begin, 0), min(until, len(mix))
            if low >= high:
                continue
            place = np.arange(low - begin, high - begin)
            time = place / rate_hz
            phase = 2.0 * np.pi * float(self.pitch_hz[index]) * time
            tone = sum(share * np.sin(times * phase) for times, share in _OVERTONES)
            falling = np.exp(-time / self.ring_s) * np.clip((until - begin - place) / release, 0.0, 1.0)
            mix[low:high] += (float(self.gain[index]) * falling * tone)[:, None].astype(np.float32)


@dataclass(frozen=True, eq=False)
class TapTrack:
    """Tones of the mix, in both versions."""

    played: Taps
    tightened: Taps
    gain: float = 1.0
    pan: float = 0.0
