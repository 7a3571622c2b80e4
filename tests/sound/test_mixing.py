"""The mix for listening."""

import numpy as np
import pytest
import soundfile

from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import BlockReader, read_recording
from supple_snare.sound.mixing import Click, Mixer, MixTrack
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter


@pytest.fixture
def recordings(tmp_path):
    """A mono and a stereo track of noise."""
    rng = np.random.default_rng(1)
    found = []
    for name, channels in (("mono", 1), ("stereo", 2)):
        path = tmp_path / f"{name}.wav"
        soundfile.write(path, rng.uniform(-0.4, 0.4, (96_000, channels)), 48_000, subtype="PCM_24")
        found.append(read_recording(path))
    return found


EDITS = EditList.of([0, 30_000, 61_000], [0, 350, -200], [0, 240, 240])


def test_blocks_equal_the_rendered_tracks(recordings):
    """What is heard is what is written: gains and sums of the same edit list, from any place on."""
    mixer = Mixer([MixTrack(recordings[0], EDITS, 0.5), MixTrack(recordings[1], EDITS, 0.8)])
    for start, count in ((0, 1_024), (29_500, 1_024), (60_900, 333), (95_900, 512), (12, 40_000)):
        parts = []
        for recording in recordings:
            with BlockReader(recording, "float32") as reader:
                parts.append(EDITS.render(reader.read, start, count))
        expected = 0.5 * parts[0] + 0.8 * parts[1]
        assert mixer.block(start, count, tightened=True) == pytest.approx(expected, abs=1e-6)
    mixer.close()


def test_as_played_ignores_the_edits(recordings):
    """The other version is the recording."""
    mixer = Mixer([MixTrack(recordings[1], EDITS)])
    with BlockReader(recordings[1], "float32") as reader:
        assert np.array_equal(mixer.block(30_000, 2_000, tightened=False), reader.read(30_000, 2_000))
    mixer.close()


def test_silenced_tracks_are_not_even_read(recordings, tmp_path):
    """Gain 0 leaves a track out, though its file be gone."""
    recordings[0].path.unlink()
    mixer = Mixer([MixTrack(recordings[0], EDITS, 0.0)])
    assert not mixer.block(0, 1_000, tightened=True).any()
    mixer.close()


def test_the_click_falls_on_the_counts():
    """In 3/4 at 120 bpm: every half second, the first of each bar higher."""
    mixer = Mixer()
    mixer.click = Click(Grid(120.0, 0.25, Meter(3, 4)), level_db=-6.0)
    sound = np.concatenate([mixer.block(start, 700, tightened=True) for start in range(0, 96_000, 700)])[:, 0]
    loud = np.flatnonzero(np.abs(sound) > 0.01)
    starts = loud[np.append(True, np.diff(loud) > 5_000)] / 48_000
    assert starts == pytest.approx([0.25, 0.75, 1.25, 1.75], abs=0.001)

    def pitch(at_s: float) -> float:
        spectrum = np.abs(np.fft.rfft(sound[round(at_s * 48_000) :][:960], 48_000))
        return float(np.argmax(spectrum))

    assert pitch(0.25) > 1.3 * pitch(0.75)
    assert pitch(1.75) == pytest.approx(pitch(0.25), abs=5)
