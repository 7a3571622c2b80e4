"""Peak pyramids."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.sound.peaks import BIN_FRAMES, PeaksBuilder


def build(sound: np.ndarray, block: int):
    """A pyramid from blocks."""
    builder = PeaksBuilder()
    for start in range(0, len(sound), block):
        builder.add(sound[start : start + block])
    return builder.finish(len(sound), 48_000)


@settings(max_examples=30)
@given(st.integers(1, 60_000), st.integers(1, 9_000), st.integers(0, 99))
def test_blocks_do_not_matter(frames, block, seed):
    """However the file is read, the pyramid is the same and its coarsest level holds the extremes."""
    sound = np.random.default_rng(seed).uniform(-1, 1, (frames, 2)).astype(np.float32)
    one, other = build(sound, frames), build(sound, block)
    assert all(np.array_equal(a, b) for a, b in zip(one.levels, other.levels, strict=True))
    assert one.levels[-1][:, 0].min() == sound.min()
    assert one.levels[-1][:, 1].max() == sound.max()


@settings(max_examples=60)
@given(st.floats(-5_000, 50_000), st.floats(10, 50_000), st.integers(1, 300))
def test_columns_cover_what_they_show(start, length, columns):
    """No column misses a sample it shows, nor reaches farther than its stretch of bins."""
    sound = np.random.default_rng(1).uniform(-1, 1, (40_000, 1)).astype(np.float32)
    peaks = build(sound, 40_000)
    got = peaks.between(start, start + length, columns)
    edges = start + length / columns * np.arange(columns + 1)
    for column in range(0, columns, max(1, columns // 7)):
        first, last = int(np.ceil(edges[column])), int(np.floor(edges[column + 1]))
        first, last = max(first, 0), min(last, len(sound))
        if first < last:
            assert got[column, 0] <= sound[first:last].min()
            assert got[column, 1] >= sound[first:last].max()


def test_outside_the_recording_is_silence():
    """Before the start and after the end there is nothing."""
    peaks = build(np.ones((1_000, 1), dtype=np.float32), 1_000)
    assert not peaks.between(-5_000, -100, 10).any()
    assert not peaks.between(2_000, 3_000, 10).any()


def test_empty_and_amplitude():
    """No samples make one silent bin; amplitude is the larger side."""
    assert PeaksBuilder().finish(0, 48_000).amplitude().tolist() == [0.0]
    sound = np.zeros((2 * BIN_FRAMES, 1), dtype=np.float32)
    sound[3] = -0.75
    assert build(sound, 50).amplitude() == pytest.approx([0.75, 0.0])
