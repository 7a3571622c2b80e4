"""The Grid step: tempos found, beats followed, lines pinned, slots suggested and given by hand."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtTest import QTest

from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.slot_advice import SlotAdvice
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import Session
from supple_snare.session.grid_edits import scale_tempo, set_ruling, with_grid
from supple_snare.session.section_edits import split_section
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.ruling import Ruling
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, mouse, point_of


@pytest.fixture
def grid(ready):
    """The window at its Grid step."""
    ready.work.look(step="grid")
    return ready


def card_of(window) -> GridCard:
    """The card of the step."""
    card = window.cards["grid"]
    assert isinstance(card, GridCard)
    return card


def offsets(work: Workspace):
    """What is measured now."""
    assert work.view is not None
    return work.view.offsets


class TestTempo:
    """Found, stepped through, counted otherwise, read from two hits."""

    def test_the_tempo_is_found_and_its_runners_up_are_a_key_away(self, grid, take):
        """From a grid that is far off to the band's own; ] takes the next reading, [ the first again."""
        grid.work.do("Far off", with_grid(grid.work.session, Grid(77.0, 0.1)))
        card_of(grid).find_tempo()
        settle(grid)
        found = grid.work.session.grid
        assert found.tempo_bpm == pytest.approx(take.tempo_bpm, abs=0.1)
        assert "steady" in card_of(grid)._found_words.text()
        QTest.keyClick(grid, Qt.Key.Key_BracketRight)
        assert grid.work.session.grid.tempo_bpm != pytest.approx(found.tempo_bpm, rel=0.05)
        QTest.keyClick(grid, Qt.Key.Key_BracketLeft)
        assert grid.work.session.grid == found
        card_of(grid)._do("Count", scale_tempo, 2.0)
        assert "Changed since found" in card_of(grid)._found_words.text()
        QTest.keyClick(grid, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        assert "Changed" not in card_of(grid)._found_words.text()
        grid.work.open(Session())
        assert not card_of(grid)._next.isEnabled()  # nothing was found in this one

    def test_the_first_recordings_tell_their_tempo_unless_somebody_did(self, window, take, heard):
        """It is one step, said in a sentence, and not sought again once it is taken back or a tempo was typed."""
        said = []
        window.work.told.connect(lambda text, _problem: said.append(text))
        for path in take.files:
            window.work.stages.learn(Ear.of(read_recording(path.resolve())), heard[path.name])
        window.work.add_files(list(take.files), group_name="Drums")
        settle(window)
        assert window.work.session.grid.tempo_bpm == pytest.approx(take.tempo_bpm, abs=0.1)
        assert [text for text in said if "Tempo found" in text]
        window.work.undo()
        settle(window)
        window.work.add_files([], group_name="")
        settle(window)
        assert window.work.session.grid == Grid()
        window.work.open(Session())
        window.work.add_files(list(take.files), group_name="Drums")
        window.work.do("Grid", with_grid(window.work.session, Grid(77.0, 0.5)))
        settle(window)
        assert window.work.session.grid.tempo_bpm == 77.0

    def test_the_same_music_is_counted_twice_as_fast(self, grid):
        """Lines stay where they are, and so does bar 1."""
        before = grid.work.session.grid
        card_of(grid)._do("Count", scale_tempo, 2.0)
        after = grid.work.session.grid
        assert after.tempo_bpm == pytest.approx(2.0 * before.tempo_bpm)
        assert after.bar_time_s([1, 3, 5]) == pytest.approx(before.bar_time_s([1, 2, 3]))

    def test_two_hits_and_the_beats_between_them_are_a_tempo(self, grid):
        """The range jumps to the strokes at its ends."""
        times = grid.work.view.strokes.time_s
        grid.work.look(range_s=(float(times[2]) + 0.004, float(times[10]) - 0.004))
        card = card_of(grid)
        card._beats.setValue(3.0)
        card._span()
        now = grid.work.session.grid
        assert now.tempo_bpm == pytest.approx(180.0 / (times[10] - times[2]))
        beat = now.course.beat_at(times[[2, 10]])
        assert beat == pytest.approx(np.round(beat), abs=1e-6)


class TestFollowing:
    """The grid goes along with the band."""

    def test_followed_beats_leave_less_drift_and_go_back_to_one_tempo(self, grid):
        """One tick each way, one undo each."""
        card = card_of(grid)
        before = float(np.nanstd(offsets(grid.work).drift_ms))
        card._set_following(True)
        assert grid.work.session.grid.played is not None
        assert float(np.nanstd(offsets(grid.work).drift_ms)) < before
        card._set_stiffness(100.0)
        tempo = grid.work.session.grid.tempo_at([2.0, 10.0])
        assert tempo[0] == pytest.approx(tempo[1], rel=1e-4)
        card._set_following(False)
        assert grid.work.session.grid.played is None
        for _ in range(3):
            grid.work.undo()
        assert grid.work.session.grid.tempo_bpm == 110.0

    def test_the_curve_is_bent_and_let_go(self, grid):
        """A bar pulled up is faster; a double click takes that back."""
        card_of(grid)._set_following(True)
        card_of(grid)._set_stiffness(30.0)
        chart = grid.tempo
        now = grid.work.session.grid
        middle = float(now.bar_time_s(3.5))
        at = QPointF(float(chart._x(middle)), float(chart._y(now.tempo_at(middle))))
        drag(chart, at, at - QPointF(0, 30))
        assert float(grid.work.session.grid.tempo_at(middle)) > float(now.tempo_at(middle)) + 0.5
        assert grid.work.history.undo_label == "Bend the tempo"
        mouse(chart, QEvent.Type.MouseButtonDblClick, QPointF(float(chart._x(middle)), 60))
        assert grid.work.session.grid.played.bends == ()

    def test_a_line_pulled_with_shift_is_pinned_and_later_lines_move_on(self, grid):
        """Bar 3 stands at the stroke; a second pull of another line leaves it there; a double click frees it."""
        work = grid.work
        before = work.session.grid
        target = float(work.view.strokes.time_s[np.argmin(np.abs(work.view.strokes.time_s - before.bar_time_s(3)))])
        start = point_of(grid, float(before.bar_time_s(3)))
        layout = grid.page.page_layout
        end = QPointF(float(layout.x_in_row(layout.row_of(target), target + 0.001)), start.y())
        mouse(grid.page, QEvent.Type.MouseButtonPress, start)
        mouse(grid.page, QEvent.Type.MouseMove, start + QPointF(9, 0), shift=True)
        mouse(grid.page, QEvent.Type.MouseMove, end, shift=True)
        mouse(grid.page, QEvent.Type.MouseButtonRelease, end, shift=True)
        pinned = work.session.grid
        assert float(pinned.bar_time_s(3)) == pytest.approx(target)
        assert float(pinned.bar_time_s(1)) == pytest.approx(float(before.bar_time_s(1)))
        line = point_of(grid, float(pinned.bar_time_s(5)))
        drag(grid.page, line, line + QPointF(14, 0))
        assert float(work.session.grid.bar_time_s(3)) == pytest.approx(target)
        assert float(work.session.grid.bar_time_s(5)) > float(pinned.bar_time_s(5))
        mouse(grid.page, QEvent.Type.MouseButtonDblClick, point_of(grid, target))
        assert [pin.beat for pin in work.session.grid.pins] == [16.0]


class TestBars:
    """Where bar 1 is, and meters that change."""

    def test_bar_one_is_counted_from_another_beat(self, grid):
        """No line moves; a slot given by hand stays where it was given."""
        work = grid.work
        work.look(selected_s=float(work.view.strokes.time_s[4]))
        QTest.keyClick(grid, Qt.Key.Key_G)
        where = offsets(work).grid_s[4]
        before = work.session.grid
        card_of(grid)._count_from(1)
        assert float(work.session.grid.bar_time_s(1)) == pytest.approx(float(before.bar_time_s(1.25)))
        assert offsets(work).grid_s[4] == pytest.approx(where)
        assert offsets(work).fixed[4]

    def test_a_pick_up_and_a_change_of_meter(self, grid):
        """Typed and chosen; taken back one by one."""
        card = card_of(grid)
        card._pick_up.setValue(2)
        card._change_meter("3/4", 4)
        now = grid.work.session.grid
        assert now.meter_changes == (MeterChange(0, Meter(2, 4)), MeterChange(1, Meter()), MeterChange(4, Meter(3, 4)))
        assert np.diff(now.bars.beat_of([0, 1, 2, 4, 5])) == pytest.approx([2, 4, 8, 3])
        card._pick_up.setValue(0)
        grid.work.look(range_s=(5.0, 6.0))
        card._fill_changes()
        names = [action.text() for action in card._from_menu.actions()]
        assert "Take back 3/4 from bar 4" in names


class TestSlots:
    """Rulings of sections, suggestions, and slots given by hand."""

    def test_a_suggestion_is_shown_and_applied_only_when_it_is_taken(self, grid):
        """Weighed on the worker for the section chosen; the other keeps its slots."""
        work = grid.work
        work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(4))))
        slots = card_of(grid).slots
        slots.choose_section("s2")
        before = work.session
        wait_until(lambda: bool(slots.candidates) and not work.jobs.jobs)
        assert work.session is before
        number = next(n for n, each in enumerate(slots.candidates) if str(each.ruling) != "1/16")
        slots.take(number)
        assert work.session.sections[1].ruling == slots.candidates[number].ruling
        assert work.session.sections[0].ruling is None
        assert work.session.grid.sections[0].ruling == work.session.take_grid.ruling

    def test_slots_that_do_not_fit_are_told_at_the_step_and_where_strokes_move(self, grid):
        """Until better ones are taken over, and again once that is undone; nothing is taken unasked."""
        work, steps, tighten = grid.work, grid.steps.buttons, grid.cards["tighten"]
        work.do("Triplets", set_ruling(work.session, None, Ruling.parse("1/4T")))
        wait_until(lambda: steps["grid"].warns)
        assert steps["grid"].state == "better: 1/8"
        work.look(step="tighten")
        line = tighten.findChild(SlotAdvice)
        assert line.isVisible()
        assert str(work.session.grid.ruling) == "1/4T"
        line.take.click()
        assert str(work.session.grid.ruling) == "1/8"
        assert not line.isVisible() and not steps["grid"].warns
        work.undo()
        wait_until(lambda: line.isVisible() and steps["grid"].warns)

    def test_strokes_move_to_the_next_slot_and_back_to_what_is_found(self, grid):
        """A stroke, then a run of them; locked strokes outlive a change of swing; Shift+G frees them."""
        work = grid.work
        before = offsets(work)
        work.look(selected_s=float(work.view.strokes.time_s[6]))
        QTest.keyClick(grid, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        after = offsets(work)
        assert after.place[6] == pytest.approx(before.place[6] + 0.25)
        assert np.flatnonzero(after.fixed).tolist() == [6]
        card_of(grid).slots._set_swing(60.0)
        assert offsets(work).place[6] == pytest.approx(before.place[6] + 0.25)
        work.look(range_s=(0.0, work.session.length_s))
        QTest.keyClick(grid, Qt.Key.Key_G, Qt.KeyboardModifier.ShiftModifier)
        assert not offsets(work).fixed.any()
        QTest.keyClick(grid, Qt.Key.Key_G)
        assert offsets(work).fixed[offsets(work).placed].all()


class TestMeasure:
    """Figures in place of the page."""

    def test_table_chart_and_page_show_one_selection(self, grid, tmp_path):
        """A row chosen is the stroke selected everywhere, and the other way round; a bar's row is a range."""
        work, sheet = grid.work, grid.measures
        QTest.keyClick(grid, Qt.Key.Key_M)
        assert sheet.isVisible()
        sheet.view.selectRow(5)
        assert work.selected == 5
        work.look(selected_s=float(work.view.strokes.time_s[9]))
        assert sheet.view.currentIndex().row() == 9
        sheet.choose("bars")
        sheet.view.selectRow(2)
        assert work.looks.range_s == pytest.approx(tuple(work.session.grid.bar_time_s([3, 4])))
        sheet.save_csv(tmp_path / "bars.csv")
        assert (tmp_path / "bars.csv").read_text().startswith("bar,strokes,mean ms")
        QTest.keyClick(grid, Qt.Key.Key_M)
        assert not sheet.isVisible()
