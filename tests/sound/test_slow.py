"""Half speed: twice as long, the same pitch, no seams."""

import numpy as np
import pytest

from supple_snare.sound.slow import HOP_FRAMES, HalfSpeed

RATE = 48_000


def slowed(sound: np.ndarray, start: int, hops: int) -> np.ndarray:
    """So many hops of the result, one side."""
    padded = np.pad(sound, (4_000, 8_000)).astype(np.float32)
    slow = HalfSpeed(lambda at, count: np.repeat(padded[at + 4_000 : at + 4_000 + count, None], 2, axis=1))
    return np.concatenate([slow.next(start + number * HOP_FRAMES // 2) for number in range(hops)])[:, 0]


@pytest.mark.parametrize("pitch_hz", [160.0, 440.0, 1_000.0])
def test_a_tone_keeps_its_pitch_and_its_level(pitch_hz):
    """Every stretch goes on where the one before ended."""
    tone = 0.5 * np.sin(2 * np.pi * pitch_hz * np.arange(2 * RATE) / RATE)
    result = slowed(tone, 9_600, 90)
    spectrum = np.abs(np.fft.rfft(result * np.hanning(len(result))))
    assert np.argmax(spectrum) * RATE / len(result) == pytest.approx(pitch_hz, rel=0.01)
    assert np.abs(np.diff(result)).max() < 1.3 * np.abs(np.diff(tone)).max()
    assert np.sqrt(np.mean(result**2)) == pytest.approx(0.5 / np.sqrt(2), rel=0.03)


def test_strokes_lie_twice_as_far_apart():
    """Clicks are heard once each, where they are due, within the reach of the search."""
    clicks = np.zeros(2 * RATE)
    clicks[RATE // 4 :: RATE // 4] = 0.9
    result = slowed(clicks, 0, 180)
    loud = np.flatnonzero(np.abs(result) > 0.3)
    starts = loud[np.append(True, np.diff(loud) > 2_000)]
    due = np.arange(RATE // 2, len(result) - 2_000, RATE // 2)
    assert len(starts) == len(due)
    assert np.abs(starts - due).max() < 1_700  # two hops of the search
