"""The folder of a session: what reached the disk opens, whatever happened to its files, and one window writes."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import random
import re

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.session import journal as journals
from supple_snare.session.deltas import delta
from supple_snare.session.document import FORMAT_VERSION
from supple_snare.session.folder import SessionFolder, open_history
from supple_snare.session.history import History
from supple_snare.session.listening import Desk
from supple_snare.session.locks import Holder
from supple_snare.session.storage import FILE_NAME, encode_session, load_session, pack
from tests.session.samples import sample_session, steps


def renamed(session, name):
    """Another session."""
    return msgspec.structs.replace(session, name=name)


def three_steps() -> History:
    """A history with a past and a future."""
    history = History(sample_session())
    for name in ("one", "two", "three"):
        history = history.step(f"Name it {name}", renamed(history.present, name))
    return history.undo()


def take(path) -> SessionFolder:
    """A folder to write into."""
    folder = SessionFolder.take(path)
    assert isinstance(folder, SessionFolder)
    return folder


@settings(max_examples=40)
@given(steps, st.integers(0, 99))
def test_the_whole_history_opens_again(tmp_path_factory, actions, seed):
    """Any row of steps, undos, amended steps and new windows in between: the undo list is on disk as it stood."""
    rng, path = random.Random(seed), tmp_path_factory.mktemp("session")
    history, folder = History(sample_session()), take(path)
    for action in actions:
        session = action(history.present, rng.randrange(100))
        history = history.step(f"step {rng.random()}", session) if rng.random() < 0.7 else history.amend(session)
        for _ in range(rng.choice((0, 0, 0, 1, 3))):
            history = history.undo()
        history = history.redo() if rng.random() < 0.1 else history
        if rng.random() < 0.7:
            folder.write(history)
        if rng.random() < 0.1:
            folder.release()
            folder = take(path)
    folder.write(history)
    folder.release()
    opened = open_history(path)
    assert opened == type(opened)(history)
    assert load_session(path) == history.present
    assert not list(path.glob("session.aside*"))


def test_a_long_history_forgets_its_far_end_and_stays_small(tmp_path, monkeypatch):
    """Past its bound the oldest steps go; one step more costs little, and a grown journal is written anew."""
    monkeypatch.setattr("supple_snare.session.history._LONGEST", 20)
    monkeypatch.setattr(journals, "_LONG_BYTES", 40_000)
    history, sizes = History(sample_session()), []
    with take(tmp_path) as folder:
        for number in range(300):
            history = history.step(f"Step {number}", renamed(history.present, f"name {number}"))
            folder.write(history)
            sizes.append((tmp_path / journals.FILE_NAME).stat().st_size)
    assert open_history(tmp_path).history == history
    assert max(sizes) < 50_000
    assert sizes[11] - sizes[10] < 300


@settings(max_examples=60)
@given(st.floats(0.0, 1.0), st.integers(0, 255), st.booleans())
def test_a_torn_or_spoilt_journal_gives_what_is_whole(tmp_path_factory, share, byte, torn):
    """Cut off or overwritten anywhere, it never keeps the newest session from being opened."""
    path = tmp_path_factory.mktemp("session")
    history = three_steps()
    with take(path) as folder:
        folder.write(History(sample_session()))
        folder.write(history)
    file = path / journals.FILE_NAME
    data = bytearray(file.read_bytes())
    place = round(share * (len(data) - 1))
    data[place:] = b"" if torn else bytes([byte]) + data[place + 1 :]
    file.write_bytes(data)
    assert open_history(path).history.present == history.present


def written_in_steps(path, count: int, *, undone: int = 0) -> History:
    """A folder with a journal of one record a step."""
    history = History(sample_session())
    with take(path) as folder:
        folder.write(history)
        for number in range(count):
            history = history.step(f"Step {number}", renamed(history.present, f"name {number}"))
            folder.write(history)
        for _ in range(undone):
            history = history.undo()
        folder.write(history)
    return history


def test_a_damaged_line_break_loses_no_session_of_the_undo_list(tmp_path_factory):
    """Whichever it is, the two lines that it joins are told apart again, and the damage is told."""
    path = tmp_path_factory.mktemp("session")
    history = written_in_steps(path, 6)
    data = (path / journals.FILE_NAME).read_bytes()
    breaks = [place for place, byte in enumerate(data[:-1]) if byte == ord("\n")]
    assert len(breaks) > 6
    for place in breaks:
        (path / journals.FILE_NAME).write_bytes(data[:place] + b"x" + data[place + 1 :])
        opened = open_history(path)
        assert "damaged" in opened.words[0]
        assert opened.history.present == history.present
        assert [session for _, session in opened.history.past] == [session for _, session in history.past]


@settings(max_examples=30)
@given(st.floats(0.0, 1.0), st.integers(1, 255), st.integers(0, 3))
def test_one_damaged_byte_loses_no_session_of_the_undo_list(tmp_path_factory, share, flip, undone):
    """What a damaged line told is worked out from both sides of it; the damage is told, and kept aside."""
    path = tmp_path_factory.mktemp("session")
    history = written_in_steps(path, 12, undone=undone)
    file = path / journals.FILE_NAME
    data = bytearray(file.read_bytes())
    place = round(share * (len(data) - 1))
    data[place] ^= flip
    file.write_bytes(data)
    opened = open_history(path)
    assert opened.history.present == history.present
    assert re.search("damaged|torn", opened.words[0])
    assert "outside" not in opened.words[0]
    # What had been undone lies after the session in the file: of that, nothing else may tell.
    assert [session for _, session in opened.history.past] == [session for _, session in history.past]
    if data.count(b"\n", place) > 3:
        labels = [[label for label, _ in each.past] for each in (opened.history, history)]
        assert sum(one != two for one, two in zip(*labels, strict=True)) <= 2
    with take(path) as folder:
        folder.write(opened.history)
    assert (path / f"{journals.FILE_NAME}.aside-1").read_bytes() == data
    assert open_history(path) == type(opened)(opened.history)


@pytest.mark.parametrize("damage", ["missing", "empty", "noise", "link"])
def test_a_journal_that_is_lost_whole_is_told(tmp_path, damage):
    """The session opens, its undo list begins anew, and nobody is said to have changed its file."""
    path = tmp_path / "session"
    history = written_in_steps(path, 3)
    file, elsewhere = path / journals.FILE_NAME, tmp_path / "snare.wav"
    elsewhere.write_bytes(b"sound")
    file.unlink()
    match damage:
        case "empty":
            file.write_bytes(b"")
        case "noise":
            file.write_bytes(bytes(range(256)) * 9)
        case "link":
            file.symlink_to(elsewhere)
    opened = open_history(path)
    assert opened.history == History(history.present)
    assert "undo begins here" in opened.words[0]
    with take(path) as folder:
        folder.write(opened.history)
    assert not open_history(path).words
    assert elsewhere.read_bytes() == b"sound"
    asides = list(path.glob("journal.aside-*"))
    assert len(asides) == (damage != "missing")


def test_two_damaged_places_lose_only_what_lies_between(tmp_path):
    """And it is said how much."""
    history = written_in_steps(tmp_path, 12)
    file = tmp_path / journals.FILE_NAME
    lines = file.read_bytes().splitlines(keepends=True)
    for number in (4, 9):
        lines[number] = b"x" + lines[number][1:]
    file.write_bytes(b"".join(lines))
    opened = open_history(tmp_path)
    assert opened.history.present == history.present
    known = opened.history.row()[1]
    assert [each for each in history.row()[1] if each in known] == known
    lost = len(history.row()[1]) - len(known)
    assert 0 < lost <= 6
    assert f"{lost} of its steps are lost" in opened.words[0]


def test_a_journal_of_an_earlier_version_opens(tmp_path):
    """It told how many sessions to forget and to keep; its undo list is whole, and goes on as today's."""
    sessions = [renamed(sample_session(), f"name {number}") for number in range(4)]
    states = [pack(session, tmp_path) for session in sessions]
    data = encode_session(sessions[2], tmp_path)
    changes = [["", delta({}, states[0])], ["one", delta(states[0], states[1])]]
    records = [
        {"format": "supple snare journal", "version": FORMAT_VERSION},
        {"drop": 0, "keep": 0, "steps": changes, "at": 1},
        {"file": "older"},
        {
            "drop": 0,
            "keep": 2,
            "steps": [["two", delta(states[1], states[2])], ["x", delta(states[2], states[3])]],
            "at": 2,
        },
        {"file": hashlib.blake2b(data, digest_size=16).hexdigest()},
    ]
    (tmp_path / journals.FILE_NAME).write_bytes(b"".join(map(journals._line, records)))
    (tmp_path / FILE_NAME).write_bytes(data)
    opened = open_history(tmp_path)
    assert not opened.words
    assert opened.history.row() == (("", "one", "two", "x"), sessions, 2)
    with take(tmp_path) as folder:
        folder.write(opened.history.redo())
    assert open_history(tmp_path).history == opened.history.redo()


def test_a_journal_or_lock_taken_away_while_open_is_made_anew(tmp_path):
    """No second window gets in, and the undo list stays whole."""
    history = three_steps()
    folder = take(tmp_path)
    folder.write(history)
    for name in (journals.FILE_NAME, ".lock"):
        (tmp_path / name).unlink()
        assert isinstance(SessionFolder.take(tmp_path), Holder)
        history = history.step(f"Without {name}", renamed(history.present, name))
        folder.write(history)
        assert (tmp_path / name).is_file()
        assert open_history(tmp_path).history == history
    folder.release()
    take(tmp_path).release()


def test_a_folder_that_was_exchanged_is_not_written_into(tmp_path):
    """A synchronising program put another one in its place: the sentence says so, and it is left alone."""
    path = tmp_path / "session"
    folder = take(path)
    folder.write(three_steps())
    path.rename(tmp_path / "moved")
    path.mkdir()
    with pytest.raises(SessionError, match="replaced by another"):
        folder.write(three_steps())
    assert list(path.iterdir()) == []


@pytest.mark.parametrize("name", [".lock", "journal", FILE_NAME, "desk.json", "cache"])
@pytest.mark.parametrize("way", ["link", "second name", "pipe", "endless"])
@pytest.mark.timeout(20)
def test_a_folder_from_elsewhere_leads_to_no_recording(tmp_path, name, way):
    """Whatever the program's own names stand for in it, what they lead to stays as it is."""
    path, recording = tmp_path / "session", tmp_path / "snare.wav"
    written_in_steps(path, 2)
    (path / name).unlink(missing_ok=True)
    recording.write_bytes(b"sound")
    match way:
        case "link":
            (path / name).symlink_to(recording)
        case "second name":
            os.link(recording, path / name)
        case "pipe":
            os.mkfifo(path / name)
        case "endless":
            (path / name).symlink_to("/dev/zero")
    with contextlib.suppress(SessionError):
        open_history(path)
    with contextlib.suppress(SessionError), take(path) as folder:
        folder.write(three_steps(), Desk(step="feel"))
        folder.write(three_steps().undo(), Desk(step="grid"))
        assert open_history(path).history == three_steps().undo()
    assert recording.read_bytes() == b"sound"
    assert recording.stat().st_size == 5


def test_killed_between_journal_and_file_opens_the_newer(tmp_path):
    """The journal goes first; the file as it was before is not taken for one changed by hand."""
    history = three_steps()
    with take(tmp_path) as folder:
        folder.write(history)
        before = (tmp_path / FILE_NAME).read_bytes()
        newer = history.step("Newer", renamed(history.present, "newer"))
        folder.write(newer)
    (tmp_path / FILE_NAME).write_bytes(before)
    assert open_history(tmp_path).history == newer


def test_a_file_changed_by_hand_is_what_opens_and_can_be_undone(tmp_path):
    """And while a window has it open, what others write there is put aside, not written over."""
    history, file = three_steps(), tmp_path / FILE_NAME
    with take(tmp_path) as folder:
        folder.write(history)
        content = json.loads(file.read_text())
        content["session"]["name"] = "by hand"
        file.write_text(json.dumps(content))
        opened = open_history(tmp_path)
        folder.write(history)
    assert "changed outside" in opened.words[0]
    assert opened.history.present.name == "by hand"
    assert opened.history.undo().present == history.present
    assert load_session(tmp_path / "session.aside-1.json").name == "by hand"


def test_a_damaged_or_missing_file_is_made_good_from_the_journal(tmp_path):
    """The damaged one is kept beside; without a journal it is an error and nothing is touched."""
    history, file = three_steps(), tmp_path / FILE_NAME
    with take(tmp_path) as folder:
        folder.write(history)
    for damage in (b"{", b"", None):
        file.unlink() if damage is None else file.write_bytes(damage)
        opened = open_history(tmp_path)
        assert opened.history == history
        assert "journal" in opened.words[0]
    file.write_bytes(b"{")
    with take(tmp_path) as folder:
        folder.write(history)
    assert load_session(tmp_path) == history.present
    assert (tmp_path / "session.aside-1.json").read_bytes() == b"{"
    (tmp_path / journals.FILE_NAME).unlink()
    file.write_bytes(b"[1")
    with pytest.raises(SessionError, match="damaged"):
        open_history(tmp_path)
    assert file.read_bytes() == b"[1"


def test_what_a_newer_version_wrote_is_left_alone(tmp_path, monkeypatch):
    """Neither its session nor its journal is opened, even if this version could read one of them."""
    with take(tmp_path) as folder:
        folder.write(three_steps())
    content = json.loads((tmp_path / FILE_NAME).read_text())
    (tmp_path / FILE_NAME).write_text(json.dumps(content | {"version": 99}))
    with pytest.raises(NewerSessionError, match="newer version"):
        open_history(tmp_path)


def test_only_one_window_writes_and_the_other_learns_who(tmp_path):
    """Let go, it can be taken."""
    folder = take(tmp_path)
    holder = SessionFolder.take(tmp_path)
    assert isinstance(holder, Holder)
    assert "another window" in holder.describe()
    folder.release()
    take(tmp_path).release()


def test_a_full_disk_loses_nothing(tmp_path, monkeypatch):
    """Wherever writing fails, the state written before opens, and the next try succeeds."""
    history = three_steps()
    newer = history.step("Newer", renamed(history.present, "newer"))
    folder = take(tmp_path)
    folder.write(history)
    for place in ("supple_snare.disk.replacing.os.fsync", "supple_snare.session.journal.os.fsync"):
        with monkeypatch.context() as patch:

            def full(_descriptor: int) -> None:
                raise OSError(28, "No space left on device")

            patch.setattr(place, full)
            with pytest.raises(SessionError, match="No space left"):
                folder.write(newer)
        assert open_history(tmp_path).history.present in (history.present, newer.present)
    folder.write(newer)
    folder.release()
    assert open_history(tmp_path).history == newer
