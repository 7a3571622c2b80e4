"""Nothing is ever lost: sessions in the window saved by themselves, opened again, brought back, shared."""

from __future__ import annotations

import time

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QFileDialog

from supple_snare.desk import saving
from supple_snare.desk.outputs import SimulatedOutput
from supple_snare.desk.player import Player
from supple_snare.desk.recent import recent_sessions
from supple_snare.desk.step_list import show_steps
from supple_snare.desk.window import Window
from supple_snare.errors import SessionError
from supple_snare.session.folder import SessionFolder, open_history
from supple_snare.session.listening import write_desk
from supple_snare.session.storage import load_session
from supple_snare.timing.tighten import Kept
from tests.desk.conftest import settle, wait_until


def name_it(window: Window, name: str) -> None:
    """One step that changes something."""
    window.work.do(f"Name it {name}", msgspec.structs.replace(window.work.session, name=name))


def deeds(window: Window) -> dict[str, QAbstractButton]:
    """What the message offers to do."""
    return {push.text(): push for push in window.message.acts}


@pytest.fixture
def other(qapp, window):
    """A second window beside the first."""
    other = Window(player=Player(SimulatedOutput()))
    yield other
    other.work._unchanged = other.work.session
    other.close()
    other.deleteLater()


def test_a_saved_session_opens_as_it_was_with_its_undo_list(ready, tmp_path):
    """Saved by itself after each change once it has a folder; opened by another sitting, undo goes on."""
    assert ready.work.save_as(tmp_path / "session")
    index = 3
    ready.work.look(step="tighten", selected_s=float(ready.work.view.strokes.time_s[index]))
    before = ready.work.session
    QTest.keyClick(ready, Qt.Key.Key_H)
    assert not ready.work.is_saved
    wait_until(lambda: ready.work.is_saved)
    expected = ready.work.session
    assert load_session(tmp_path / "session") == expected
    ready.doors.begin()
    assert recent_sessions() == [tmp_path / "session"]
    ready.doors.open_paths([tmp_path / "session"])
    assert ready.work.session == expected
    settle(ready)
    assert ready.work.view.plan.kept[index] == Kept.HELD
    assert ready.work.history.undo_label.startswith("Hold")
    ready.work.undo()
    assert ready.work.session == before
    wait_until(lambda: ready.work.is_saved)
    assert open_history(tmp_path / "session").history.redo_label.startswith("Hold")


def test_every_step_can_be_gone_to_in_the_list(window):
    """By arrow keys, in words, both ways; a new step drops what was taken back."""
    for name in ("one", "two", "three"):
        name_it(window, name)
    steps = show_steps(window.work, window)
    assert [steps.list.item(row).text() for row in (0, 3)] == ["As it was opened", "Name it three"]
    QTest.keyClick(steps.list, Qt.Key.Key_Up)
    QTest.keyClick(steps.list, Qt.Key.Key_Up)
    assert window.work.session.name == "one"
    assert steps.list.item(3).text() == "↷ Name it three"
    QTest.keyClick(steps.list, Qt.Key.Key_Down)
    assert window.work.session.name == "two"
    name_it(window, "four")
    assert [steps.list.item(row).text() for row in range(2, 4)] == ["Name it two", "Name it four"]
    steps.close()


def test_an_unsaved_session_outlives_a_crash(ready, other, tmp_path):
    """Changed without a folder, it is sheltered; the next start offers it and brings it back as it was."""
    name_it(ready, "Dockside March")
    wait_until(lambda: ready.work.is_saved)
    lost, place = ready.work.session, ready.work.saving._place
    other.doors.offer_lost()
    assert deeds(other) == {}  # the first window works on it
    place.release()  # as if its process had been killed
    other.doors.offer_lost()
    assert "Dockside March" in other.message.text
    deeds(other)["Bring it back"].click()
    assert other.work.session == lost
    assert other.work.history.undo_label == "Name it Dockside March"
    assert other.work.is_unsaved
    assert other.work.save_as(tmp_path / "kept")
    assert not place.path.exists()
    assert load_session(tmp_path / "kept") == lost


def test_the_second_window_reads_and_says_who_writes(window, other, tmp_path):
    """Its changes are kept apart; no folder that holds a session is ever written over."""
    name_it(window, "Dockside March")
    assert window.work.save_as(tmp_path / "session")
    other.doors.open_paths([tmp_path / "session"])
    assert other.work.session == window.work.session
    assert "is being worked on by" in other.message.text
    assert other._state.text() == "open for reading"
    name_it(other, "Mine")
    wait_until(lambda: other.work.is_saved)
    assert load_session(tmp_path / "session").name == "Dockside March"
    assert not other.work.save_as(tmp_path / "session")
    assert "holds another session" in other.message.text
    assert other.work.save_as(tmp_path / "mine")
    assert other._state.text() == "saved"


def test_a_folder_that_cannot_be_written_is_told_and_its_work_sheltered(window, tmp_path, monkeypatch):
    """A full disk or a removed drive: nothing is lost, it is tried again, and the end is told as well."""
    assert window.work.save_as(tmp_path / "session")
    monkeypatch.setattr(saving, "_AGAIN_MS", 50)
    write = SessionFolder.write

    def full(folder: SessionFolder, history, desk=None) -> None:
        if folder.path.parent == tmp_path:
            raise SessionError("The disk is full.")
        write(folder, history, desk)

    with monkeypatch.context() as patch:
        patch.setattr(SessionFolder, "write", full)
        name_it(window, "Dockside March")
        wait_until(lambda: bool(window.work.saving.problem))
        assert window.message.text == "The disk is full."
        assert window._state.text() == "cannot be saved!"
        assert open_history(window.work.saving._place.path).history.present.name == "Dockside March"
    wait_until(lambda: not window.work.saving.problem)
    assert load_session(tmp_path / "session").name == "Dockside March"
    assert window.work.saving._place is None
    assert "saved again" in window.message.text


def test_a_session_is_saved_as_a_new_folder_beside_its_recordings(ready, take, tmp_path, monkeypatch):
    """A name is proposed; a folder with other things in it keeps them; one that holds a session is left alone."""
    proposed, answers = [], [tmp_path / "new" / "march", tmp_path / "full", tmp_path / "new" / "march"]

    def answer(_window, _title, proposal, *_filters, **_options):
        proposed.append(proposal)
        return str(answers.pop(0)), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", answer)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "notes.txt").write_text("mine")
    name = ready.work.session.name
    assert ready.doors.save()
    assert proposed == [str(take.files[0].parent / name)]
    assert ready.work.folder == tmp_path / "new" / "march"
    assert ready.doors.save_as()
    assert ready.work.folder == tmp_path / "full" / name
    assert not ready.doors.save_as()
    assert "holds another session already" in ready.message.text
    settle(ready)


def test_moved_recordings_are_found_again_or_asked_for_once(ready, take, tmp_path, monkeypatch):
    """Under other names too, with undo knowing the new places; playing leaves out what is not there."""
    work = ready.work
    work.do("Name it", msgspec.structs.replace(work.session, name="Dockside March"))
    assert work.save_as(tmp_path / "sessions" / "session")
    shown = work.view.strokes.time_s.tolist()
    ready.doors.begin()
    (tmp_path / "far").mkdir()
    for number, path in enumerate(take.files):
        path.rename(tmp_path / "far" / f"{number}.wav")
    ready.doors.open_paths([tmp_path / "sessions" / "session"])
    settle(ready)
    assert "kick.wav, room.wav, snare.wav were not found" in ready.message.text
    assert work.view is None or not ready.player._programme.tracks
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path / "far"))
    deeds(ready)["Find them …"].click()
    settle(ready)
    assert "3 recordings were found again" in ready.message.text
    assert [track.recording.path.name for track in work.session.tracks] == ["0.wav", "1.wav", "2.wav"]
    assert work.view.strokes.time_s.tolist() == shown
    work.undo()
    assert work.session.tracks[0].recording.path == tmp_path / "far" / "0.wav"
    assert len(ready.player._programme.tracks) == 3
    ready.doors.begin()
    (tmp_path / "far").rename(tmp_path / "sessions" / "beside")
    ready.doors.open_paths([tmp_path / "sessions" / "session"])
    settle(ready)
    assert "found again" in ready.message.text


def test_a_changed_recording_is_told_before_anything_is_drawn_from_it(ready, take, tmp_path):
    """One byte is enough; it can be taken as it is now."""
    assert ready.work.save_as(tmp_path / "session")
    ready.doors.begin()
    data = bytearray(take.files[0].read_bytes())
    data[-100] ^= 255
    take.files[0].write_bytes(data)
    ready.doors.open_paths([tmp_path / "session"])
    settle(ready)
    assert "kick.wav is not the file it was" in ready.message.text
    assert ready.work.view is None
    assert [track.recording.path.name for track in ready.player._programme.tracks] == ["snare.wav", "room.wav"]
    deeds(ready)["Use as they are now"].click()
    settle(ready)
    assert ready.work.view is not None
    assert not ready.message.isVisible()


def refuse(*_arguments: object, **_named: object) -> None:
    """Nothing is to be made anew."""
    raise AssertionError("made anew")


def test_what_was_heard_is_kept_beside_the_session(ready, take, tmp_path, monkeypatch):
    """The second opening listens to nothing; it draws and cuts the same."""
    work = ready.work
    assert work.save_as(tmp_path / "session")
    ready.doors.begin()
    ready.doors.open_paths([tmp_path / "session"])
    settle(ready)
    before, seams = work.view, work.seams.cut_of(work.group)
    ready.doors.begin()
    for name in ("analyse", "judge_group"):
        monkeypatch.setattr(f"supple_snare.desk.hearing.{name}", refuse)
    monkeypatch.setattr("supple_snare.sound.matching.Matcher.best", refuse)
    ready.doors.open_paths([tmp_path / "session"])
    settle(ready)
    assert work.view.strokes.time_s.tolist() == before.strokes.time_s.tolist()
    assert work.seams.cut_of(work.group).edits.at.tolist() == seams.edits.at.tolist()
    assert any((tmp_path / "session" / "cache").iterdir())


def test_saving_waits_for_how_the_session_is_looked_at(window, tmp_path, monkeypatch):
    """Where nothing else has changed, too: what is opened next may be this folder."""

    def slowly(folder, desk):
        time.sleep(0.2)
        write_desk(folder, desk)

    assert window.work.save_as(tmp_path / "session")
    monkeypatch.setattr("supple_snare.session.folder.write_desk", slowly)
    window.work.listen(click_db=-31.0)
    assert window.work.save()
    assert open_history(tmp_path / "session").desk.listening.click_db == -31.0


def test_work_that_comes_back_after_the_end_disturbs_nobody(window, tmp_path):
    """A job may finish while the window closes: nothing is written any more, and nothing goes wrong."""
    assert window.work.save_as(tmp_path / "session")
    name_it(window, "Dockside March")
    window.leave_at_once()
    name_it(window, "Too late")
    window.work.look(step="grid")
    saving = window.work.saving
    assert not saving.is_waiting
    assert load_session(tmp_path / "session").name == "Dockside March"
