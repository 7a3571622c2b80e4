"""Reading ahead: what is read is what the file holds, whoever asks and whenever."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
import soundfile

from supple_snare.errors import RecordingError
from supple_snare.sound.ahead import CHUNK_FRAMES, ReadAhead
from supple_snare.sound.files import read_recording

FRAMES = 20 * CHUNK_FRAMES + 777


@pytest.fixture
def recording(tmp_path):
    """A long recording, every sample another value."""
    sound = np.random.default_rng(1).integers(-(1 << 15), 1 << 15, FRAMES)
    soundfile.write(tmp_path / "long.wav", sound.astype(np.int16), 48_000)
    return read_recording(tmp_path / "long.wav")


def test_several_threads_read_what_is_there(recording):
    """Across chunks, before the start and after the end, while others read elsewhere."""
    whole = soundfile.read(recording.path, dtype="float32", always_2d=True)[0]
    padded = np.pad(whole, ((5_000, 5_000), (0, 0)))
    reads = ReadAhead()

    def check(seed: int) -> bool:
        rng = np.random.default_rng(seed)
        for _ in range(60):
            start = int(rng.integers(-5_000, FRAMES + 2_000))
            count = int(rng.integers(1, min(3_000, FRAMES + 5_000 - start)))
            if rng.random() < 0.2:
                reads.prepare([recording], start)
            if not np.array_equal(reads.read(recording, start, count), padded[start + 5_000 :][:count]):
                return False
        return True

    with ThreadPoolExecutor(4) as threads:
        assert all(threads.map(check, range(4)))
    reads.close()


def test_what_was_prepared_needs_no_file(recording):
    """The thread has it in memory before it is asked for, and only some seconds of it."""
    reads = ReadAhead()
    reads.prepare([recording], 3 * CHUNK_FRAMES + 20_000)
    reads._reader.shutdown(wait=True)
    track = reads._track(recording)
    assert set(track._known) == {3, 4}
    for number in range(15):
        track.chunk(number)
    assert len(track._known) < 15
    reads.close()


def test_a_file_that_is_not_there_is_told_to_who_asks(recording):
    """Fetching it in the background tells nobody."""
    recording.path.unlink()
    reads = ReadAhead()
    reads.prepare([recording], 0)
    with pytest.raises(RecordingError, match=r"long\.wav"):
        reads.read(recording, 0, 100)
    reads.close()
