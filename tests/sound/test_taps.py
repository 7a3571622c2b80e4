"""Tones at moments: the same whatever the blocks, where they should be, and as loud."""

import numpy as np
import pytest

from supple_snare.sound.mixing import Mixer
from supple_snare.sound.taps import Taps, TapTrack

RATE = 48_000


def rendered(taps: Taps, *sizes: int) -> np.ndarray:
    """One side of what sounds, in blocks of these sizes."""
    blocks, start = [], 0
    for size in sizes:
        block = np.zeros((size, 2), dtype=np.float32)
        taps.add_to(block, start, RATE)
        blocks.append(block)
        start += size
    return np.concatenate(blocks)[:, 0]


def test_blocks_do_not_matter_and_nothing_sounds_before_its_moment():
    """One block or many; the first sound is at the tap, the last soon after its end."""
    taps = Taps.of_moments(np.array([0.1, 0.5]), np.array([-6.0, -12.0]), RATE)
    whole = rendered(taps, RATE)
    assert rendered(taps, 1_000, 7_000, 333, 39_667) == pytest.approx(whole, abs=1e-6)
    heard = np.flatnonzero(np.abs(whole) > 1e-6)
    assert heard[0] - 4_800 in (0, 1)
    assert not whole[8_000:24_000].any()
    assert np.abs(whole[:8_000]).max() == pytest.approx(2 * np.abs(whole[24_000:]).max(), rel=0.05)


def test_notes_have_their_pitch_and_are_let_go():
    """An A of half a second: 440 Hz, and silence after it."""
    taps = Taps.of_notes(np.array([0.2]), np.array([0.7]), np.array([0.0]), np.array([69]), RATE)
    sound = rendered(taps, RATE)
    spectrum = np.abs(np.fft.rfft(sound[9_600:33_600]))
    assert np.argmax(spectrum) * RATE / 24_000 == pytest.approx(440.0, abs=2.0)
    assert not sound[round(0.74 * RATE) :].any()


def test_the_mix_plays_the_version_that_is_heard():
    """As played or tightened, at their gain; nothing at gain 0."""
    played = Taps.of_moments(np.array([0.1]), np.array([0.0]), RATE)
    tight = Taps.of_moments(np.array([0.2]), np.array([0.0]), RATE)
    mixer = Mixer()
    mixer.taps = (TapTrack(played, tight, 0.5), TapTrack(tight, played, 0.0))
    first = mixer.block(0, RATE, tightened=False)
    second = mixer.block(0, RATE, tightened=True)
    assert np.flatnonzero(np.abs(first[:, 0]) > 1e-6)[0] - 4_800 in (0, 1)
    assert np.flatnonzero(np.abs(second[:, 0]) > 1e-6)[0] - 9_600 in (0, 1)
    assert not rendered(Taps.of_moments(np.zeros(0), np.zeros(0), RATE), 100).any()
