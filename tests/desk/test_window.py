"""The job done in the real window: asserting on the session, not on the widgets' insides."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QCoreApplication, QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractSpinBox, QLabel

import supple_snare
from supple_snare.desk.cards.gather import GatherCard
from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.cards.handover import HandOverCard
from supple_snare.desk.cards.tighten import TightenCard
from supple_snare.desk.hit_tools import chosen_track
from supple_snare.desk.keys_sheet import KeysSheet
from supple_snare.desk.response_curve import ResponseCurve
from supple_snare.desk.steps import step_states
from supple_snare.desk.workspace import STEPS
from supple_snare.timing.tighten import Kept
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, mouse, point_of


def test_dropped_files_become_a_group_with_leads(window, take):
    """Gather by drop: the tracks, listened to off the interface thread, ranked by themselves."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in take.files])
    action, none = Qt.DropAction.CopyAction, Qt.KeyboardModifier.NoModifier
    window.dropEvent(QDropEvent(QPointF(5, 5), action, data, Qt.MouseButton.LeftButton, none))
    settle(window)
    assert [track.name for track in window.work.session.tracks] == ["Kick", "Snare", "Room"]
    names = {window.work.session.track(key).name for key in window.work.view.leads}
    assert names == {"Kick", "Snare"}
    assert window.cast.rows.keys() == {"t1", "t2", "t3"}


def test_bad_files_are_named_and_good_ones_taken(window, take, tmp_path):
    """One of several files is broken: the others come in, the message names the broken one."""
    broken = tmp_path / "broken.wav"
    broken.write_text("no sound")
    window.work.add_files([broken, take.files[0]])
    wait_until(lambda: bool(window.work.session.tracks))
    assert len(window.work.session.tracks) == 1
    assert window.message.isVisible()
    assert "broken.wav: this is not an audio file" in window.message.text


def test_tracks_that_differ_are_warned_of(window, take, tmp_path):
    """Another length is a warning on the Gather card; another rate is refused."""
    short, slow = tmp_path / "short.wav", tmp_path / "slow.wav"
    soundfile.write(short, np.full(48_000, 0.1), 48_000, subtype="PCM_24")
    soundfile.write(slow, np.zeros(48_000), 44_100)
    window.work.add_files([*take.files, short], group_name="Drums")
    settle(window)
    card = window.cards["gather"]
    assert isinstance(card, GatherCard)
    card.refresh()
    assert "short.wav is 1.000 s long" in card._warnings.text()
    window.work.add_files([slow], group_name="Drums")
    settle(window)
    assert len(window.work.session.tracks) == 4
    assert "44100 Hz" in window.message.text


def test_every_step_opens_and_tells_its_state(ready):
    """Steps can be opened in any order; page and transport stay where they were."""
    ready.player.seek(3.0)
    for step in reversed(STEPS):
        for _again in range(2):
            ready.steps.buttons[step].click()
            assert ready.work.looks.step == step
            assert [name for name, push in ready.steps.buttons.items() if push.isChecked()] == [step]
        assert ready.cards[step].isVisible()
        ready.grab()
    assert ready.player.position_s == pytest.approx(3.0)
    states = step_states(ready.work)
    assert states["gather"] == "3 tracks · 1 group"
    assert states["hits"] == f"{len(ready.work.view.strokes)} strokes"


class TestTighten:
    """Three controls and their picture."""

    def test_turning_strength_is_one_step(self, ready):
        """The page follows each turn of the slider; undo takes the whole turn back."""
        ready.work.look(step="tighten")
        card = ready.cards["tighten"]
        assert isinstance(card, TightenCard)
        steps_before = len(ready.work.history.past)
        card.strength.pressed.emit()
        moves, pictures = [], []
        for percent in (20, 50, 94):
            card.strength._slider.setValue(percent)
            moves.append(float(np.abs(ready.work.view.plan.move_ms).sum()))
            pictures.append(ready.page.grab().toImage())
        card.strength.released.emit()
        assert moves == sorted(moves)
        assert pictures[0] != pictures[1] != pictures[2]
        assert ready.work.group.response.strength == pytest.approx(0.94)
        assert len(ready.work.history.past) == steps_before + 1
        QTest.keyClick(ready, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        assert ready.work.group.response.strength == 0.8
        ready.work.redo()
        assert ready.work.group.response.strength == pytest.approx(0.94)

    def test_handles_of_the_curve_are_dragged(self, ready):
        """Each handle changes its own number."""
        ready.work.look(step="tighten")
        curve = ready.cards["tighten"].findChild(ResponseCurve)
        for name, by in (("tolerance", QPointF(20, 0)), ("reach", QPointF(-15, 0)), ("strength", QPointF(0, -12))):
            before = ready.work.group.response
            handle = curve.handle_points()[name]
            drag(curve, handle, handle + by)
            after = ready.work.group.response
            changed = {f for f in ("strength", "tolerance_ms", "reach_ms") if getattr(after, f) != getattr(before, f)}
            assert changed == {"strength" if name == "strength" else f"{name}_ms"}

    def test_bands_of_the_chart_are_dragged(self, ready):
        """The same windows on the lean chart."""
        ready.work.look(step="tighten")
        handle = ready.chart._handle("reach")
        drag(ready.chart, handle, handle + QPointF(0, 20))
        assert ready.work.group.response.reach_ms < 45.0

    def test_hold_and_release(self, ready):
        """H keeps the selected stroke as played, Shift+H lets it go; both are named in undo."""
        ready.work.look(step="tighten")
        index = int(np.argmax(np.abs(ready.work.view.plan.move_ms)))
        ready.work.look(selected_s=float(ready.work.view.strokes.time_s[index]))
        QTest.keyClick(ready, Qt.Key.Key_H)
        assert ready.work.view.plan.kept[index] == Kept.HELD
        assert ready.work.history.undo_label.startswith("Hold bar")
        QTest.keyClick(ready, Qt.Key.Key_H, Qt.KeyboardModifier.ShiftModifier)
        assert ready.work.view.plan.kept[index] == Kept.NO

    def test_dragging_over_the_page_selects_a_range(self, ready):
        """A range can be held as a whole, and looped."""
        ready.work.look(step="tighten")
        drag(ready.page, point_of(ready, 3.0), point_of(ready, 5.0))
        assert ready.work.looks.range_s == pytest.approx((3.0, 5.0), abs=0.02)
        QTest.keyClick(ready, Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier)
        assert ready.work.looks.loop_bars == (2, 3)


class TestGrid:
    """Tempo and first beat."""

    def test_the_line_of_bar_one_is_dragged_onto_a_hit(self, ready):
        """It jumps to the stroke it is let go on."""
        ready.work.look(step="grid")
        target = float(ready.work.view.strokes.time_s[1])
        start = point_of(ready, ready.work.session.grid.first_beat_s)
        layout = ready.page.page_layout
        drag(ready.page, start, QPointF(float(layout.x_in_row(0, target)) + 2, start.y()))
        assert ready.work.session.grid.first_beat_s == pytest.approx(target)
        assert ready.work.session.grid.tempo_bpm == 110.0

    def test_a_later_line_sets_the_tempo(self, ready):
        """Bar 3 pulled later makes it slower, bar 1 stays."""
        ready.work.look(step="grid")
        grid = ready.work.session.grid
        start = point_of(ready, float(grid.bar_time_s(3)))
        drag(ready.page, start, start + QPointF(30, 0))
        after = ready.work.session.grid
        assert after.first_beat_s == grid.first_beat_s
        assert 95 < after.tempo_bpm < 110

    def test_taps_and_typed_values(self, ready):
        """Four taps make a tempo; a meter that makes no sense is refused with a sentence."""
        card = ready.cards["grid"]
        assert isinstance(card, GridCard)
        card._taps = [time.monotonic() - 1.5, time.monotonic() - 1.0, time.monotonic() - 0.5]
        card.tap()
        assert ready.work.session.grid.tempo_bpm == pytest.approx(120.0, abs=1.0)
        heard = iter([4.1, 4.7, 5.3, 5.9])
        card.heard_s = lambda: next(heard)
        for _ in range(4):
            card.tap()
        grid = ready.work.session.grid
        assert grid.tempo_bpm == pytest.approx(100.0)
        assert float(grid.bar_at(4.1)) * 4 % 1.0 == pytest.approx(0.0, abs=1e-6), "a tap is a beat"
        card._set_meter("4/5")
        assert "makes no sense" in ready.message.text
        card._set_meter("3/4")
        assert str(ready.work.session.grid.meter) == "3/4"


def test_the_sheet_of_keys_names_every_key_once(ready):
    """It is made of the actions: each with a key is listed, under one chapter, and no key does two things."""
    listed = [action for actions in ready._menus.actions.values() for action in actions]
    keyed = [action for action in ready.actions() if action.shortcuts()]
    assert sorted(map(id, keyed)) == sorted(id(action) for action in listed if action.shortcuts())
    keys = [key.toString() for action in ready.actions() for key in action.shortcuts()]
    assert len(keys) == len(set(keys))
    sheet = KeysSheet(ready, ready._menus.actions)
    texts = [label.text() for label in sheet.findChildren(QLabel)]
    # A step may have the name of a chapter.
    assert all(texts.count(action.text()) == 1 + (action.text() in ready._menus.actions) for action in keyed)
    assert sheet.sizeHint().height() < 700


def test_return_ends_typing_and_is_no_key_of_the_window(ready, qtbot):
    """A strength that was typed holds at once; the next key is the window's again."""
    ready.activateWindow()
    ready.work.look(step="tighten")
    box = ready.cards["tighten"].strength.findChild(QAbstractSpinBox)
    box.setFocus()
    box.selectAll()
    qtbot.keyClicks(box, "55")
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert ready.work.group.response.strength == pytest.approx(0.55)
    assert not ready.message.isVisible()
    assert ready.page.hasFocus()
    settle(ready)


def test_hand_over_writes_what_the_command_line_writes(ready, take, tmp_path):
    """Folder, progress, files: every track of the group, tight, and the button is ready again."""
    ready.work.look(step="hand over")
    card = ready.cards["hand over"]
    assert isinstance(card, HandOverCard)
    assert card.folder.text() == str(take.files[0].parent / "New session tightened")
    card.folder.clear()
    assert not card.write.isEnabled()
    card.folder.setText(str(tmp_path / "tight"))
    card.write.click()
    wait_until(lambda: "written" in card.result.text())
    assert sorted(path.name for path in (tmp_path / "tight").iterdir()) == [
        "kick.wav",
        "room.wav",
        "snare.wav",
        "what was done.txt",
    ]
    assert soundfile.info(tmp_path / "tight" / "kick.wav").frames == soundfile.info(take.files[0]).frames
    settle(ready)
    assert card.write.isEnabled()
    card.folder.setText(str(take.root))
    card.write.click()
    wait_until(lambda: "replace a recording" in card.result.text())


def exchanged(path: Path, *, unseen: bool) -> None:
    """A recording written over in place; as no look at its size and times shows, if so wished."""
    state, data = path.stat(), bytearray(path.read_bytes())
    data[90_000:120_000] = bytes(30_000)
    with path.open("r+b") as file:
        file.write(data)
    if unseen:
        os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))


def test_a_recording_exchanged_while_open_is_told_and_decided_on(ready, take):
    """Told when the window comes to the front again; nothing is drawn from it until a person said what to do."""
    exchanged(take.files[0], unseen=False)
    QCoreApplication.sendEvent(ready, QEvent(QEvent.Type.WindowActivate))
    wait_until(lambda: bool(ready.work.hearing.troubles))
    assert "kick.wav is not the file it was" in ready.message.text
    assert not ready.work.hearing.is_good(take.files[0].resolve())
    ready.work.take_changed()
    settle(ready)
    assert not ready.work.hearing.troubles
    assert ready.work.hearing.is_good(take.files[0].resolve())


def test_nothing_is_handed_over_from_a_recording_that_was_exchanged_unseen(ready, take, tmp_path):
    """All are read whole before anything is written."""
    exchanged(take.files[1], unseen=True)
    ready.work.look(step="hand over")
    card = ready.cards["hand over"]
    card.folder.setText(str(tmp_path / "tight"))
    card.write.click()
    wait_until(lambda: "snare.wav" in card.result.text())
    assert "changed or exchanged" in card.result.text()
    assert not (tmp_path / "tight").exists()
    settle(ready)


def test_a_damaged_session_is_told_and_the_open_one_stays(ready, tmp_path):
    """Bad input loses nothing."""
    (tmp_path / "session.json").write_text("{")
    before = ready.work.session
    ready.doors.open_paths([tmp_path])
    assert ready.work.session == before
    assert "not a session" in ready.message.text


def test_the_cast_ranks_and_silences(ready):
    """A click on the circle adds a lead at the end; S and M are heard in the programme."""
    room = ready.cast.rows["t3"]
    mouse(room, QEvent.Type.MouseButtonPress, QPointF(20, 20))
    assert ready.work.view.leads[-1] == "t3"
    mouse(room, QEvent.Type.MouseButtonPress, room._mute_box().center())
    assert [track.gain > 0 for track in ready.player._programme.tracks] == [True, True, False]
    mouse(room, QEvent.Type.MouseButtonPress, room._solo_box().center())
    assert [track.gain > 0 for track in ready.player._programme.tracks] == [False, False, True]


def test_a_track_of_the_cast_is_chosen_by_its_name(ready):
    """In Hits the card and the level chart follow a click on it, and no hit of another track stays chosen."""
    ready.work.look(step="hits")
    mouse(ready.cast.rows["t3"], QEvent.Type.MouseButtonPress, QPointF(60, 12))
    assert chosen_track(ready.work) == "t3"
    assert ready.work.looks.hit is None


def test_the_real_program_opens_the_demo_on_a_virtual_screen(tmp_path):
    """Started as a user starts it, under Xvfb: the window comes up and closes without a word of complaint."""
    if shutil.which("Xvfb") is None:
        pytest.skip("no Xvfb on this machine")
    number = 90 + os.getpid() % 900
    screen = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    script = (
        "import sys\n"
        "from PyQt6.QtCore import QTimer\n"
        "import supple_snare.desk.app as app\n"
        "class Looked(app.Window):\n"
        "    def look(self):\n"
        "        if self.work.view is None:\n"
        "            QTimer.singleShot(100, self.look)\n"
        "        else:\n"
        "            self.grab().save(sys.argv[1])\n"
        "            self.close()\n"
        "    def showEvent(self, event):\n"
        "        super().showEvent(event)\n"
        "        QTimer.singleShot(200, self.look)\n"
        "app.Window = Looked\n"
        "sys.exit(app.run_window([], demo=True))\n"
    )
    try:
        time.sleep(0.5)
        environment = {
            **os.environ,
            "DISPLAY": f":{number}",
            "QT_QPA_PLATFORM": "xcb",
            "QT_LOGGING_RULES": "qt.multimedia.symbolsresolver=false",
            "PYTHONPATH": str(Path(supple_snare.__file__).parents[1]),
        }
        shot = tmp_path / "shot.png"
        done = subprocess.run(
            [sys.executable, "-c", script, str(shot)],
            env=environment,
            capture_output=True,
            text=True,
            timeout=90,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        assert "Traceback" not in done.stderr
        assert shot.stat().st_size > 20_000
    finally:
        screen.terminate()
        screen.wait()


def test_a_double_click_ticks_a_step_off(ready):
    """And undo takes the tick back."""
    grid = ready.steps.buttons["grid"]
    QTest.mouseDClick(grid, Qt.MouseButton.LeftButton)
    assert "grid" in ready.work.session.checked
    assert grid.ticked
    ready.work.undo()
    assert "grid" not in ready.work.session.checked


def test_stopped_work_goes_on_when_asked(window, take):
    """The stop button ends the listening; F5 takes it up where it was left."""
    window.work.add_files(list(take.files), group_name="Drums")
    wait_until(lambda: bool(window.work.session.tracks))
    window._work_strip._cancel()
    wait_until(lambda: not window.work.jobs.jobs)
    assert window.work.view is None
    assert "F5" in window.message.text
    QTest.keyClick(window, Qt.Key.Key_F5)
    wait_until(lambda: window.work.view is not None)
    settle(window)
    assert len(window.work.view.strokes) > 20
