"""The edit list: exact copies outside fades, the same for any block size, and places that go back and forth."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.sound.crossfade import fade_gains
from supple_snare.sound.editlist import EditList

FRAMES = 6_000
SOURCE = np.random.default_rng(1).integers(-(2**31), 2**31 - 1, (FRAMES, 2), dtype=np.int64).astype(np.int32)


def read(start: int, count: int) -> np.ndarray:
    """Like a file: silence outside."""
    block = np.zeros((count, 2), dtype=np.int32)
    first, last = max(start, 0), min(start + count, FRAMES)
    if first < last:
        block[first - start : last - start] = SOURCE[first:last]
    return block


@st.composite
def edit_lists(draw):
    """Pieces at least 100 samples long, moved by up to 300."""
    count = draw(st.integers(0, 8))
    at = sorted(draw(st.lists(st.integers(1, 50), min_size=count, max_size=count, unique=True)))
    shift = [0, *draw(st.lists(st.integers(-300, 300), min_size=count, max_size=count))]
    fade = [0, *draw(st.lists(st.integers(1, 90), min_size=count, max_size=count))]
    return EditList.of([0, *(100 * place for place in at)], shift, fade)


@settings(max_examples=60)
@given(edit_lists(), st.integers(1, 2_500))
def test_block_size_does_not_matter(edits, size):
    """Rendered in one go or block by block: the same samples."""
    whole = edits.render(read, 0, FRAMES, quantum=256)
    parts = [edits.render(read, s, min(size, FRAMES - s), quantum=256) for s in range(0, FRAMES, size)]
    assert np.array_equal(np.concatenate(parts), whole)


@settings(max_examples=60)
@given(edit_lists(), st.integers(1, 2_000))
def test_before_the_beginning_there_is_silence(edits, before):
    """Half speed and the fade of a loop read from there; every sample of it is written, whatever memory held."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(np, "empty", lambda shape, dtype=float: np.full(shape, 99, dtype=dtype))
        early = edits.render(read, -before, before + FRAMES, quantum=256)
    assert np.array_equal(early[before:], edits.render(read, 0, FRAMES, quantum=256))
    assert not early[:before].any()


@settings(max_examples=60)
@given(edit_lists())
def test_outside_fades_every_sample_is_a_copy(edits):
    """Each sample that no fade touches is the recording's, moved by its piece."""
    whole = edits.render(read, 0, FRAMES, quantum=256)
    faded = np.zeros(FRAMES, dtype=bool)
    for at, fade in zip(edits.at, edits.fade, strict=True):
        faded[at - fade : at] = True
    place = np.arange(FRAMES)
    source = edits.source_of(place)
    inside = (source >= 0) & (source < FRAMES)
    expected = np.where(inside[:, None], SOURCE[np.clip(source, 0, FRAMES - 1)], 0)
    assert np.array_equal(whole[~faded], expected[~faded])


@settings(max_examples=60)
@given(edit_lists(), st.integers(0, FRAMES - 1))
def test_result_of_finds_a_place_where_the_source_sounds(edits, place):
    """Going to the recording and back ends at the same sound, unless it was skipped."""
    source = int(edits.source_of(place))
    back = int(edits.result_of(source))
    assert int(edits.source_of(back)) == source or back <= place


def test_fades_are_rounded_to_the_files_own_steps():
    """A 16-bit file gets only values that 16 bits can hold."""
    edits = EditList.of([0, 3_000], [0, 40], [0, 200])
    low16 = EditList.render(edits, lambda s, c: read(s, c) // 65_536 * 65_536, 0, FRAMES, quantum=65_536)
    assert not np.any(low16 % 65_536)


def test_loud_fades_clip_and_do_not_wrap():
    """Two full-scale sides in an equal-power fade stay full scale."""
    full = np.iinfo(np.int32).max // 256 * 256
    edits = EditList.of([0, 500], [0, 10], [0, 100])
    mixed = edits.render(lambda _s, c: np.full((c, 1), full, dtype=np.int32), 0, 1_000, quantum=256)
    assert mixed.min() >= full // 2


@settings(max_examples=40)
@given(st.floats(-0.6, 1), st.floats(0.05, 20.0), st.integers(0, 99))
def test_a_fade_keeps_the_level(likeness, louder, seed):
    """Unless the sides are opposed, and however loud each is: it goes from one to the other, without a dip."""
    rng, length = np.random.default_rng(seed), 40_000
    leaving, other = rng.normal(size=(2, length, 1))
    coming = louder * (likeness * leaving + np.sqrt(1.0 - likeness**2) * other)
    out, into = fade_gains(leaving, coming)
    mixed = leaving * out + coming * into
    levels = [10 * np.log10(np.mean(part**2)) for part in np.split(mixed, 20)]
    ends = sorted((0.0, 20 * np.log10(louder)))
    assert ends[0] - 1.0 < min(levels) and max(levels) < ends[1] + 1.0


def test_a_fade_between_equal_sides_changes_nothing():
    """Nor does one between silences sound, or one of a side and silence make it louder."""
    sound = np.random.default_rng(2).normal(size=(300, 2))
    out, into = fade_gains(sound, sound)
    assert out + into == pytest.approx(1.0)
    out, into = fade_gains(sound, 0.0 * sound)
    assert np.max(out) <= 1.0
    assert np.isfinite(np.concatenate(fade_gains(0.0 * sound, 0.0 * sound))).all()


def test_identity_copies():
    """Nothing moved, nothing changed."""
    edits = EditList.identity()
    assert edits.is_identity
    assert np.array_equal(edits.render(read, -50, FRAMES + 100), read(-50, FRAMES + 100))


def test_the_gains_of_several_tracks_are_those_of_each():
    """Tracks side by side do not hear each other."""
    rng = np.random.default_rng(3)
    leaving, coming = rng.normal(size=(2, 5, 240, 2))
    together = fade_gains(leaving, coming)
    for number in range(5):
        for gains, own in zip(together, fade_gains(leaving[number], coming[number]), strict=True):
            assert np.array_equal(gains[number], own)
