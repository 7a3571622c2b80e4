"""Audio files: what is refused and how, and that samples survive the way in and out."""

from __future__ import annotations

import os
import shutil
import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.disk.outputs import OutputSet, WriteGuard
from supple_snare.errors import OutputError, RecordingChangedError, RecordingError
from supple_snare.sound.files import BlockReader, block_spans, read_recording
from supple_snare.sound.writing import Writer

RATE = 48_000


def tone(frames: int = 24_000, channels: int = 1) -> np.ndarray:
    """Something that is heard."""
    sound = 0.4 * np.sin(np.arange(frames) * 0.05)
    return np.stack([sound * (1 - 0.3 * side) for side in range(channels)], axis=1)


def write(path: Path, sound: np.ndarray | None = None, rate: int = RATE, subtype: str = "PCM_24") -> Path:
    """A file to read."""
    soundfile.write(path, tone() if sound is None else sound, rate, subtype=subtype)
    return path


def halved(path: Path) -> Path:
    """The first half of a file's bytes."""
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    return path


BAD_FILES = {
    "missing.wav": (lambda path: path, "no such file"),
    "empty.wav": (lambda path: path.write_bytes(b"") or path, "is empty"),
    "words.wav": (lambda path: path.write_text("not sound " * 99) and path, "not an audio file"),
    "cut.wav": (lambda path: halved(write(path)), "cut short"),
    "cut.flac": (lambda path: halved(write(path)), "cut short"),
    "cut.aiff": (lambda path: halved(write(path)), "cut short"),
    "nothing.wav": (lambda path: write(path, np.zeros((0, 1))), "holds no sound"),
    "wide.wav": (lambda path: write(path, tone(channels=3)), "3 channels"),
    "slow.wav": (lambda path: write(path, rate=4_000), "4000 Hz"),
    "folder.wav": (lambda path: path.mkdir() or path, "is a folder"),
}


@pytest.mark.parametrize("name", BAD_FILES)
def test_a_bad_file_is_named_with_what_is_wrong(tmp_path, name):
    """One sentence: the file's name, the fault, and what to do."""
    make, fault = BAD_FILES[name]
    path = make(tmp_path / name)
    with pytest.raises(RecordingError, match=fault) as caught:
        read_recording(path)
    assert str(caught.value).startswith(f"{name}: ")
    assert str(caught.value).count("\n") == 0
    assert caught.value.path == path


def test_an_unreadable_file_is_told_apart_from_a_broken_one(tmp_path, monkeypatch):
    """Permissions are named as such (asked of the system, since root may read everything)."""
    path = write(tmp_path / "locked.wav")

    def refused(_path) -> int:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr("supple_snare.sound.files.open_for_reading", refused)
    with pytest.raises(RecordingError, match="permissions"):
        read_recording(path)


@pytest.mark.parametrize(
    ("suffix", "subtype", "channels"),
    [
        (".wav", "PCM_16", 1),
        (".wav", "PCM_24", 2),
        (".wav", "PCM_32", 1),
        (".wav", "PCM_U8", 1),
        (".wav", "FLOAT", 2),
        (".wav", "DOUBLE", 1),
        (".flac", "PCM_16", 2),
        (".flac", "PCM_24", 1),
        (".aiff", "PCM_24", 2),
    ],
)
def test_samples_come_out_as_they_went_in(tmp_path, suffix, subtype, channels):
    """Every kind of file, copied block by block, is the same to the bit."""
    rng = np.random.default_rng(3)
    source = write(tmp_path / f"in{suffix}", rng.uniform(-1, 0.99, (9_999, channels)), subtype=subtype)
    recording = read_recording(source)
    target = tmp_path / f"out{suffix}"
    with BlockReader(recording) as reader, OutputSet() as outputs, Writer(outputs, target, recording) as writer:
        for start, count in block_spans(recording.frames, 1_000):
            writer.write(reader.read(start, count))
    copy = read_recording(target)
    assert (copy.frames, copy.rate_hz, copy.channels, copy.subtype) == (9_999, RATE, channels, subtype)
    kind = recording.dtype
    assert np.array_equal(soundfile.read(source, dtype=kind)[0], soundfile.read(target, dtype=kind)[0])
    if suffix == ".wav" and "PCM" in subtype:
        assert source.read_bytes() == target.read_bytes()


def test_reading_past_the_ends_gives_silence(tmp_path):
    """A block that hangs over either end is filled with zeros."""
    recording = read_recording(write(tmp_path / "a.wav"))
    with BlockReader(recording, "float32") as reader:
        whole = reader.read(-10, recording.frames + 20)
        assert not whole[:10].any()
        assert not whole[-10:].any()
        assert np.array_equal(reader.read(100, 50), whole[110:160])
        assert not reader.read(recording.frames + 5, 10).any()


def test_a_file_that_shrinks_while_read_is_noticed(tmp_path):
    """What was there a moment ago may not be there now."""
    path = write(tmp_path / "a.wav")
    recording = read_recording(path)
    halved(path)
    with BlockReader(recording) as reader, pytest.raises(RecordingChangedError, match=r"a\.wav: .*changed"):
        reader.read(0, recording.frames)


def test_a_file_exchanged_while_it_is_read_is_noticed(tmp_path):
    """Written over in place at the same length, or replaced by another: nothing of it is given out."""
    path = write(tmp_path / "a.wav")
    recording, other = read_recording(path), write(tmp_path / "b.wav").read_bytes()
    with BlockReader(recording) as reader:
        reader.read(0, 100)
        with path.open("r+b") as file:
            file.write(other)
        os.utime(path, ns=(1, 1))
        with pytest.raises(RecordingChangedError):
            reader.read(100, 100)
        path.rename(tmp_path / "c.wav")
        shutil.copy(tmp_path / "b.wav", path)
        with pytest.raises(RecordingChangedError):
            reader.read(100, 100)


def test_the_recorders_time_stamp_is_read(tmp_path):
    """A broadcast wave's time reference becomes the start in seconds."""
    path = write(tmp_path / "stamped.wav")
    chunk = bytearray(602)
    chunk[338:346] = struct.pack("<Q", 96_000)
    data = path.read_bytes()
    body = data[12:] + b"bext" + struct.pack("<I", len(chunk)) + bytes(chunk)
    path.write_bytes(b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body)
    assert read_recording(path).start_s == pytest.approx(2.0)


class TestWriter:
    """Whole files or none."""

    def test_a_fault_leaves_nothing_behind(self, tmp_path):
        """What was half written is removed, and the name never appeared."""
        recording = read_recording(write(tmp_path / "a.wav"))
        out = tmp_path / "out"
        out.mkdir()
        with (
            pytest.raises(ValueError, match="fault"),
            OutputSet() as outputs,
            Writer(outputs, out / "a.wav", recording) as writer,
        ):
            writer.write(np.zeros((10, 1), dtype=np.int32))
            raise ValueError("fault")
        assert list(out.iterdir()) == []

    def test_a_file_that_was_there_survives_a_fault(self, tmp_path):
        """Only a whole new file replaces an old one."""
        recording = read_recording(write(tmp_path / "a.wav"))
        old = tmp_path / "old.wav"
        old.write_text("precious")
        guard = WriteGuard(replaces_all=True)
        with pytest.raises(ValueError, match="fault"), OutputSet(guard) as outputs, Writer(outputs, old, recording):
            raise ValueError("fault")
        assert old.read_text() == "precious"

    def test_a_folder_that_cannot_be_made_is_named(self, tmp_path):
        """The message tells where."""
        recording = read_recording(write(tmp_path / "a.wav"))
        with pytest.raises(OutputError, match=r"a\.wav/b\.wav: it could not be written"), OutputSet() as outputs:
            Writer(outputs, tmp_path / "a.wav" / "b.wav", recording)


@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from([".wav", ".flac", ".aiff"]),
    st.lists(st.tuples(st.integers(0, 80), st.integers(0, 255)), min_size=1, max_size=6),
    st.floats(0.05, 1.0),
)
def test_a_damaged_header_is_told_and_takes_no_memory(tmp_path, suffix, changes, kept):
    """Bytes of the header changed and the end cut off: readable to the end it promises, or one sentence."""
    path = tmp_path / f"take{suffix}"
    soundfile.write(path, 0.1 * np.sin(np.arange(4_000) / 20.0), 48_000, subtype="PCM_16")
    data = bytearray(path.read_bytes())
    for place, value in changes:
        data[min(place, len(data) - 1)] = value
    path.write_bytes(bytes(data[: max(1, int(kept * len(data)))]))
    try:
        recording = read_recording(path)
        assert recording.channels in (1, 2)
        with BlockReader(recording) as reader:
            assert reader.read(max(0, recording.frames - 100), 100).shape == (100, recording.channels)
    except RecordingError as error:
        assert path.name in str(error)
