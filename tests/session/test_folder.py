"""The folder of a session: what reached the disk opens, whatever happened to its files, and one window writes."""

from __future__ import annotations

import json
import random

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.session import journal as journals
from supple_snare.session.folder import ASIDE, SessionFolder, open_history
from supple_snare.session.history import History
from supple_snare.session.locks import Holder
from supple_snare.session.storage import FILE_NAME, load_session
from tests.session.test_session import sample_session, steps


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
    assert not list(path.glob(f"{ASIDE}*"))


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
    assert load_session(tmp_path / f"{ASIDE}-1.json").name == "by hand"


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
    assert (tmp_path / f"{ASIDE}-1.json").read_bytes() == b"{"
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
    for place in ("supple_snare.exchange.replacing.os.fsync", "supple_snare.session.journal.os.fsync"):
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
