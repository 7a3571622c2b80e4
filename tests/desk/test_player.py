"""Playback through the simulated output: what is heard is what is written, and switches keep the musical place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile

from supple_snare.desk.outputs import SimulatedOutput
from supple_snare.desk.player import Player
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording
from supple_snare.sound.mixing import MixTrack
from supple_snare.sound.playback import BLOCK_FRAMES, Programme
from tests.desk.conftest import wait_until

RATE = 48_000


@pytest.fixture
def programme(tmp_path):
    """Three seconds of noise, the second half moved by 400 samples."""
    sound = np.random.default_rng(1).uniform(-0.5, 0.5, 3 * RATE)
    path = tmp_path / "a.wav"
    soundfile.write(path, sound, RATE, subtype="PCM_24")
    edits = EditList.of([0, 72_000], [0, 400], [0, 240])
    recording = read_recording(path)
    return Programme((MixTrack(recording, edits),), RATE, recording.frames, lead_edits=edits)


@pytest.fixture
def player(qapp, programme):
    """A player with that programme."""
    player = Player(SimulatedOutput())
    player.set_programme(programme)
    yield player
    player.close()


def expected(programme: Programme, *, tightened: bool) -> np.ndarray:
    """The whole result of the only track."""
    track = programme.tracks[0]
    played = soundfile.read(track.recording.path, dtype="float32", always_2d=True)[0]
    if not tightened:
        return played[:, 0]

    def read(start, count):
        padded = np.pad(played, ((2_000, 2_000), (0, 0)))
        return padded[start + 2_000 : start + 2_000 + count]

    return track.edits.render(read, 0, len(played))[:, 0]


def heard(player: Player) -> np.ndarray:
    """One side of what the output received."""
    return player.output.sound()[:, 0]


def test_what_is_heard_is_the_rendered_track(player, programme):
    """From any place on, sample for sample, at the pace of real time, to the end."""
    player.seek(1.4)
    player.play()
    wait_until(lambda: not player.is_playing, 5)
    sound = heard(player)
    start = round(1.4 * RATE)
    whole = expected(programme, tightened=True)[start:]
    assert np.array_equal(sound[: len(whole)], whole)
    assert not sound[len(whole) :].any()


def test_play_stop_and_place(player):
    """Stopping keeps the place; playing goes on from there; signals tell."""
    states = []
    player.playing_changed.connect(states.append)
    player.seek(0.5)
    player.play()
    wait_until(lambda: player.position_s > 0.7, 3)
    player.stop()
    place = player.position_s
    assert 0.7 < place < 1.2
    player.play()
    wait_until(lambda: player.position_s > place, 3)
    player.stop()
    assert states == [True, False, True, False]


def test_switching_versions_keeps_the_musical_place(player, programme):
    """After the one block of fade the other version sounds, at the place that corresponds."""
    player.seek(1.7)
    player.play()
    wait_until(lambda: player.position_s > 1.8, 3)
    player.change(tightened=False)
    wait_until(lambda: len(heard(player)) > 0.9 * RATE, 4)
    player.stop()
    sound = heard(player)
    played, tight = expected(programme, tightened=False), expected(programme, tightened=True)
    start = round(1.7 * RATE)
    same = sound == tight[start : start + len(sound)]
    switched = int(np.argmin(same))
    after = sound[switched + BLOCK_FRAMES : switched + BLOCK_FRAMES + 4_000]
    place = start + switched + BLOCK_FRAMES - 400
    assert np.array_equal(after, played[place : place + len(after)])


def test_a_loop_comes_round_without_a_gap(player, programme):
    """The bars go round; only the last 256 samples of the loop are faded into its beginning."""
    first, last = 30_000, 45_000
    player.change(loop=(first, last))
    player.seek(first / RATE)
    player.play()
    wait_until(lambda: len(heard(player)) > 40_000, 5)
    player.stop()
    sound, whole = heard(player), expected(programme, tightened=True)
    length = last - first
    assert np.array_equal(sound[: length - 256], whole[first : last - 256])
    assert np.array_equal(sound[length : 2 * length - 256], whole[first : last - 256])
    assert np.abs(np.diff(sound[length - 300 : length + 300])).max() < 1.1


def test_muting_while_playing_fades_to_silence(player, programme):
    """A change is taken over at a block's edge, with a fade."""
    player.play()
    wait_until(lambda: len(heard(player)) > 10_000, 3)
    player.change(tracks=(MixTrack(programme.tracks[0].recording, programme.tracks[0].edits, 0.0),))
    wait_until(lambda: not heard(player)[-BLOCK_FRAMES:].any(), 3)
    player.stop()


def test_a_file_that_vanishes_stops_with_a_sentence(player, programme):
    """The place is kept and the file named."""
    track = programme.tracks[0]
    gone = replace(track.recording, path=track.recording.path.with_name("gone.wav"))
    player.change(tracks=(replace(track, recording=gone),))
    told = []
    player.failed.connect(told.append)
    player.play()
    wait_until(lambda: bool(told), 3)
    assert "gone.wav" in told[0]
    assert not player.is_playing


def test_nothing_to_play_plays_nothing(qapp):
    """An empty session does not start."""
    player = Player(SimulatedOutput())
    player.play()
    assert not player.is_playing
    assert player.output.is_simulated
    assert "simulated" in player.output.name
