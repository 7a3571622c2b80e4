"""The hand-over: whole files under the right names, or none."""

from __future__ import annotations

import os
import resource
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from supple_snare.errors import CancelledError, OutputError
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings
from supple_snare.session.grid_edits import with_grid
from supple_snare.session.handover import own_track, plan_files, write_files
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording
from supple_snare.sound.mixing import Click, MixTrack
from supple_snare.timing.grid import Grid
from tests.conftest import make_take

EDITS = EditList.of([0, 60_000], [0, 240], [0, 240])


def tracks_of(take, edits=EDITS):
    """Recordings of a take with one edit list."""
    return [(read_recording(path), edits) for path in take.files]


def test_files_keep_name_rate_width_and_length(take, tmp_path):
    """What comes out is like what went in, and the edit is in it."""
    written = write_files(plan_files(tracks_of(take), tmp_path / "new" / "out")).files
    assert [path.name for path in written] == [path.name for path in take.files]
    for source, target in zip(take.files, written, strict=True):
        before, after = soundfile.info(source), soundfile.info(target)
        assert (before.frames, before.samplerate, before.subtype) == (after.frames, after.samplerate, after.subtype)
        played, tightened = soundfile.read(source, dtype="int32")[0], soundfile.read(target, dtype="int32")[0]
        assert np.array_equal(played[:59_000], tightened[:59_000])
        assert np.array_equal(played[60_000:61_000], tightened[60_240:61_240])


@pytest.mark.parametrize(("subtype", "suffix"), [("PCM_16", ".wav"), ("PCM_24", ".wav"), ("PCM_24", ".flac")])
def test_no_edit_is_no_change(tmp_path, subtype, suffix):
    """Strength 0: samples equal bit for bit."""
    take = make_take(tmp_path / "take", bars=1, subtype=subtype, suffix=suffix)
    for source, target in zip(
        take.files, write_files(plan_files(tracks_of(take, EditList.identity()), tmp_path / "out")).files, strict=True
    ):
        assert np.array_equal(soundfile.read(source, dtype="int32")[0], soundfile.read(target, dtype="int32")[0])


def test_the_click_is_printed_as_a_track(take, tmp_path):
    """As long as the take, on its counts, under a name that no track has."""
    session = add_recordings(Session(), [read_recording(path) for path in take.files])
    session = with_grid(session, Grid(take.tempo_bpm, take.first_beat_s))
    take.files[0].rename(take.root / "click.wav")
    tracks = [(read_recording(take.root / "click.wav"), EDITS)]
    click = own_track(session, Click(session.grid, level_db=-6.0))
    _track, written = write_files(plan_files(tracks, tmp_path / "out", own=[click])).files
    assert written.name == "click 2.wav"
    info = soundfile.info(written)
    assert (info.frames, info.samplerate, info.subtype) == (tracks[0][0].frames, 48_000, "PCM_24")
    sound = np.abs(soundfile.read(written)[0])
    loud = np.flatnonzero(sound > 0.01)
    starts = loud[np.append(True, np.diff(loud) > 5_000)] / 48_000
    due = np.arange(len(starts)) * 60.0 / take.tempo_bpm
    assert starts - take.first_beat_s == pytest.approx(due, abs=0.001)
    assert 0.4 < sound.max() <= 0.51


def test_a_mix_is_stopped_like_any_file(take, tmp_path):
    """It tells how far it is, while it is measured and while it is written; stopped, no half file is left."""
    session = add_recordings(Session(), [read_recording(path) for path in take.files])
    mix = own_track(session, [MixTrack(*track) for track in tracks_of(take)])
    jobs = plan_files([], tmp_path / "out", own=[mix])
    shares = []
    write_files(jobs, progress=shares.append)
    assert shares == sorted(shares) and shares[-1] == 1.0
    assert any(0.0 < share < 0.5 for share in shares) and any(0.5 < share < 1.0 for share in shares)
    jobs[0].target.unlink()

    def stop_half_way(share: float) -> None:
        if share > 0.5:
            raise CancelledError

    with pytest.raises(CancelledError):
        write_files(jobs, progress=stop_half_way)
    assert not list((tmp_path / "out").iterdir())


@pytest.mark.parametrize("gain", [0.5, 4.0])
def test_a_mix_is_written_as_it_is_heard_and_never_clips(take, tmp_path, gain):
    """The sum of the tightened tracks with their gains and pans; turned down as a whole where it would not fit."""
    session = add_recordings(Session(), [read_recording(path) for path in take.files])
    tracks = tracks_of(take)
    mixed = [MixTrack(recording, edits, gain, pan) for (recording, edits), pan in zip(tracks, (-1, 0, 1), strict=True)]
    *files, mix = write_files(plan_files(tracks, tmp_path / "out", own=[own_track(session, mixed)])).files
    assert mix.name == "mix.wav"
    one, middle, other = (soundfile.read(path)[0] for path in files)
    expected = gain * np.stack([one + middle, middle + other], axis=1)
    loudest = np.abs(expected).max()
    sound = soundfile.read(mix)[0]
    assert (loudest > 1.0) == (gain > 1.0)
    assert np.abs(sound).max() == pytest.approx(min(loudest, 0.98), abs=1e-4)
    assert np.abs(sound - expected * min(1.0, 0.98 / loudest)).max() <= 1e-5


@pytest.mark.parametrize(("container", "suffix", "subtype"), [("FLAC", ".flac", "PCM_24"), ("WAV", ".wav", "FLOAT")])
def test_another_format_on_wish(tmp_path, container, suffix, subtype):
    """A float file becomes 24-bit FLAC, or stays float in WAV."""
    take = make_take(tmp_path / "take", bars=1, subtype="FLOAT")
    written = write_files(plan_files(tracks_of(take), tmp_path / "out", container=container), container=container).files
    assert {path.suffix for path in written} == {suffix}
    assert {soundfile.info(path).subtype for path in written} == {subtype}


def test_recordings_are_never_replaced(take):
    """Neither by folder nor by a link to it."""
    before = {path: path.read_bytes() for path in take.files}
    with pytest.raises(OutputError, match=r"kick\.wav: .*replace a recording"):
        plan_files(tracks_of(take), take.root)
    link = take.root.parent / "link"
    link.symlink_to(take.root)
    with pytest.raises(OutputError, match="replace a recording"):
        plan_files(tracks_of(take), link)
    assert {path: path.read_bytes() for path in take.files} == before


def test_folders_that_cannot_be_written(take, tmp_path, monkeypatch):
    """A file in the way, or a folder without permission."""
    (tmp_path / "file").write_text("")
    with pytest.raises(OutputError, match="cannot be made"):
        plan_files(tracks_of(take), tmp_path / "file")
    tracks = tracks_of(take)
    monkeypatch.setattr("supple_snare.disk.outputs.os.access", lambda *_: False)
    with pytest.raises(OutputError, match="may not be written"):
        plan_files(tracks, tmp_path / "locked")


def test_two_files_of_one_name_are_told(take, tmp_path):
    """Converted to one format, two names may meet."""
    tracks = tracks_of(take)
    with pytest.raises(OutputError, match=r"kick\.wav: two tracks"):
        plan_files([tracks[0], tracks[0]], tmp_path / "out")


def test_stopping_leaves_the_folder_as_it_was(take, tmp_path):
    """No file of the set is there, nor the folder that was made for it."""
    calls = []

    def stop_in_the_second(share: float) -> None:
        calls.append(share)
        if share > 0.4:
            raise CancelledError

    with pytest.raises(CancelledError):
        write_files(plan_files(tracks_of(take), tmp_path / "out"), progress=stop_in_the_second)
    assert not (tmp_path / "out").exists()
    assert calls == sorted(calls)


def test_a_full_disk_is_one_sentence_and_no_half_file(take, tmp_path):
    """Writing past what the system allows: status 1, the file named, nothing left under any name."""

    def small_files_only() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (400_000, 400_000))

    out = tmp_path / "out"
    command = [sys.executable, "-m", "supple_snare", "tighten", *map(str, take.files)]
    command += ["--tempo", "110", "--first-beat", "0.5", "--out", str(out), "--json"]
    done = subprocess.run(
        command,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=small_files_only,
        env={**os.environ, "PYTHONPATH": str(Path(__file__).parents[2] / "src")},
    )
    assert done.returncode == 1
    assert done.stdout == ""
    assert "kick.wav: it could not be written: the disk is full" in done.stderr
    assert "Traceback" not in done.stderr
    assert not out.exists()
