"""Listening in the real window: what is heard of which step, as one, slowly, around a stroke, out of which output."""

from __future__ import annotations

import time

import numpy as np
import pytest
from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtTest import QTest

from supple_snare.desk import outputs
from supple_snare.desk.outputs import SimulatedOutput, open_output
from supple_snare.session.listening import Heard
from tests.desk.conftest import settle, wait_until


def gains(window) -> list[float]:
    """How loud each track is heard now."""
    return [track.gain for track in window._programmes.now().tracks]


def press(window, key, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    """A key anywhere in the window."""
    QTest.keyClick(window, key, modifier)


def test_each_step_remembers_what_was_heard_and_so_does_the_folder(ready, tmp_path):
    """Solo in Hits is no solo in Tighten; opened again, all of it is as it was left, and none of it is undone."""
    work = ready.work
    assert work.save_as(tmp_path / "session")
    work.look(step="hits")
    row = ready.cast.rows["t1"]
    row.setFocus()
    QTest.keyClick(row, Qt.Key.Key_S)
    QTest.keyClick(row, Qt.Key.Key_Left)
    assert gains(ready)[1:] == [0.0, 0.0]
    work.look(step="tighten")
    assert min(gains(ready)) > 0.0
    work.listen(mono="all", beats_before=4, click_db=-20.0)
    work.look(step="hits", looping=True, loop_bars=(2, 3), clicking=True)
    left = work.looks.left()
    assert work.history.undo_label != "Solo"
    assert work.save()
    ready.doors.begin()
    assert work.looks.heard == Heard()
    ready.doors.open_session(tmp_path / "session")
    settle(ready)
    assert work.looks.left() == left
    assert work.looks.listening.level_db("t1") == -1.0
    assert gains(ready)[1:] == [0.0, 0.0]
    assert ready._programmes.now().mono


def test_two_tracks_are_heard_as_one(ready):
    """Alone, both sides alike, however they are panned; the key turns it off and on again."""
    work, player = ready.work, ready.player
    work.listen(pans={"t1": -1.0})
    panel = ready.transport.panel
    panel.open_above(ready.transport.listening)
    panel.mono.setCurrentIndex(panel.mono.findData("two"))
    panel.mono.activated.emit(panel.mono.currentIndex())
    panel.two[1].setCurrentIndex(panel.two[1].findData("t3"))
    panel.two[1].activated.emit(2)
    assert work.looks.listening.two == ("t1", "t3")
    panel.close()
    ready.activateWindow()
    assert [gain > 0.0 for gain in gains(ready)] == [True, False, True]
    assert "two as one" in ready.transport._listening_words.text()
    player.play()
    wait_until(lambda: np.abs(player.output.sound()).max(initial=0.0) > 0.01)
    sound = player.output.sound()
    assert np.array_equal(sound[:, 0], sound[:, 1])
    assert player.level_db > -60.0
    player.stop()
    press(ready, Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    assert not work.looks.listening.mono
    assert min(gains(ready)) > 0.0
    press(ready, Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    assert work.looks.listening.mono == "two"


@pytest.mark.parametrize("step", ["hits", "grid", "tighten"])
def test_any_stroke_is_heard_at_a_key(ready, step):
    """From so many beats before; going on to the next takes the loop along; the key again ends it."""
    work = ready.work
    work.look(step=step)
    work.listen(beats_before=1)
    press(ready, Qt.Key.Key_2)
    assert not ready.player.is_playing  # nothing is chosen yet
    press(ready, Qt.Key.Key_N)
    press(ready, Qt.Key.Key_1)
    assert ready.player.is_playing
    first = ready._programmes.now()
    assert not first.tightened
    length_s = (first.loop[1] - first.loop[0]) / 48_000
    chosen_s = work.looks.around_s
    assert length_s == pytest.approx(min(1.0, chosen_s / (60 / 110)) * 60 / 110 + 2 * 60 / 110, abs=0.01)
    press(ready, Qt.Key.Key_N)
    assert work.looks.around_s > chosen_s
    assert ready._programmes.now().loop != first.loop
    press(ready, Qt.Key.Key_1)
    assert not ready.player.is_playing
    assert ready._programmes.now().loop is None


def test_strokes_are_tapped_where_they_are_taken_to_begin(ready):
    """With everything else silent, the taps stand at the strokes of the version that is heard."""
    work = ready.work
    work.look(step="tighten")
    press(ready, Qt.Key.Key_V)
    for key in ("t1", "t2", "t3"):
        work.turn_heard("muted", key)
    (taps,) = ready._programmes.now().taps
    strokes, plan = work.view.strokes, work.view.plan
    sound = np.zeros((round(work.session.length_s * 48_000), 2), dtype=np.float32)
    for version, moved_ms in ((taps.played, 0.0), (taps.tightened, plan.move_ms)):
        sound[:] = 0.0
        version.add_to(sound, 0, 48_000)
        for time_s in strokes.time_s + np.asarray(moved_ms) / 1000.0:
            at = round(float(time_s) * 48_000)
            assert np.abs(sound[at : at + 200]).max() > 0.05
            assert np.abs(sound[at - 40 : at - 2]).max() < 0.05


def test_half_speed_is_heard_and_told(ready):
    """The place goes on at half the pace; the words say so; the key ends it."""
    press(ready, Qt.Key.Key_S)
    assert "half speed" in ready.transport._listening_words.text()
    ready.player.play()
    received = ready.player.output.received
    wait_until(lambda: len(received) > 30)
    ready.player.stop()
    blocks = list(received)
    passed = blocks[20].position - blocks[0].position
    assert passed == sum(len(block.sound) for block in blocks[:20]) // 2
    press(ready, Qt.Key.Key_S)
    assert not ready._programmes.now().half_speed


def test_the_output_is_changed_while_it_plays_and_remembered(ready, monkeypatch):
    """The place goes on; the choice is kept; a device that is lost ends playing with a word, and the place stays."""
    player, panel = ready.player, ready.transport.panel
    player.seek(1.0)
    began = time.monotonic()
    player.play()
    wait_until(lambda: player.position_s > 1.1)
    before, place = player.output, player.position_s
    panel.refresh()
    panel.output.setCurrentIndex(panel.output.findData(outputs.SIMULATED))
    panel.output.activated.emit(panel.output.currentIndex())
    assert place <= player.position_s <= 1.0 + time.monotonic() - began + 0.125
    place = player.position_s  # it went on playing while the outputs were looked up
    assert player.output is not before
    assert player.is_playing
    wait_until(lambda: player.position_s > place + 0.1)
    assert player.output.received[0].position == pytest.approx(place * 48_000, abs=6_000)
    assert QSettings().value("sound/output") == outputs.SIMULATED

    class Removed(SimulatedOutput):
        """A device that is pulled out."""

        def is_lost(self) -> bool:
            """Now."""
            return True

    player.use_output(Removed())
    wait_until(lambda: not player.is_playing)
    assert "went away" in ready.message.text
    assert player.position_s > place
    assert not isinstance(player.output, Removed)


def test_an_output_that_is_gone_gives_the_usual_one(qapp):
    """A device remembered from another day is not asked for."""
    assert open_output("a device of yesterday").key == open_output().key
