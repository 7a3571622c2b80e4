"""The files of a session: known by what they hold, found again, taken as they are now."""

from __future__ import annotations

import shutil

import pytest

from supple_snare.errors import RecordingError
from supple_snare.session import edits
from supple_snare.session.document import Session
from supple_snare.session.recordings import (
    Trouble,
    accepted,
    check_file,
    files_of,
    find_files,
    look_again,
    relocated,
    with_fingerprints,
)
from supple_snare.session.snapshots import keep_snapshot, take_snapshot
from supple_snare.sound.files import read_recording
from supple_snare.sound.fingerprint import take_fingerprint
from tests.conftest import make_take


@pytest.fixture
def session(take) -> Session:
    """A session whose files are known, with a snapshot."""
    session = edits.add_recordings(Session(), [read_recording(path) for path in take.files])
    session = keep_snapshot(session, "before")
    return with_fingerprints(session, {path: take_fingerprint(path) for path in take.files})


def test_a_good_file_is_told_from_one_that_is_missing_changed_or_broken(session, take):
    """Whatever was done to it; a changed size is known without reading it."""
    good, changed, _ = (take.files[index] for index in range(3))
    file = {file.path: file for file in files_of(session)}
    assert check_file(file[good]) == (take_fingerprint(good), None)
    data = bytearray(changed.read_bytes())
    data[5_000] ^= 1
    changed.write_bytes(data)
    assert check_file(file[changed])[1] is Trouble.CHANGED
    changed.write_bytes(data[:-3])
    assert check_file(file[changed])[1] is Trouble.CHANGED
    changed.unlink()
    assert check_file(file[changed])[1] is Trouble.MISSING


def test_files_are_found_by_what_they_hold(session, take, tmp_path):
    """Another name is no matter, the same name with other sound is no match; only hidden folders are left out."""
    far = tmp_path / "far" / "deeper"
    far.mkdir(parents=True)
    kick, snare, room = take.files
    shutil.copy(kick, far / "bass drum.wav")
    shutil.copy(snare, tmp_path / "far" / room.name)
    (tmp_path / "far" / ".trash").mkdir()
    shutil.copy(room, tmp_path / "far" / ".trash" / room.name)
    found = find_files(files_of(session), [tmp_path / "far"])
    assert found == {kick: far / "bass drum.wav", snare: tmp_path / "far" / room.name}
    moved = relocated(session, found)
    assert moved.tracks[0].recording.path == far / "bass drum.wav"
    assert take_snapshot(moved, "before").tracks[0].recording.path == far / "bass drum.wav"
    assert relocated(session, {}) is session


def test_a_file_never_read_whole_is_known_by_name_and_length(take, tmp_path):
    """As in sessions of earlier versions."""
    session = edits.add_recordings(Session(), [read_recording(path) for path in take.files])
    make_take(tmp_path / "other", bars=4)
    assert find_files(files_of(session), [tmp_path / "other"]) == {}
    shutil.copytree(take.root, tmp_path / "copy")
    assert len(find_files(files_of(session), [tmp_path / "copy"])) == 3


def test_a_changed_file_is_taken_with_its_new_length(session, take, tmp_path):
    """And then it is good; one that is no recording any more is refused."""
    other = make_take(tmp_path / "other", bars=4)
    shutil.copy(other.files[0], take.files[0])
    file = files_of(session)[0]
    assert check_file(file)[1] is Trouble.CHANGED
    after = accepted(session, {file.path: look_again(file)})
    assert after.tracks[0].recording.frames < session.tracks[0].recording.frames
    assert check_file(files_of(after)[0])[1] is None
    take.files[0].write_text("no sound")
    with pytest.raises(RecordingError):
        look_again(file)
