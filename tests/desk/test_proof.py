"""Tighten by hand and Proof, in the real window."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QInputDialog, QMenu

from supple_snare.desk import answers, snapshot_menu, stroke_tools
from supple_snare.desk.cards.proof import ProofCard
from supple_snare.desk.cards.tighten import TightenCard
from supple_snare.desk.hear_around import hear_chosen
from supple_snare.desk.page_geometry import lean_angle
from supple_snare.desk.page_pegs import peg_lengths
from supple_snare.desk.seam_tools import drag_seam, seam_of, seams_between
from supple_snare.session.edits import change_group, set_response
from supple_snare.session.section_edits import split_section
from supple_snare.timing.tighten import Kept, Response
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, pick


@pytest.fixture
def tight(ready):
    """The window in Tighten with a reach that leaves some strokes doubtful."""
    work = ready.work
    work.do("Reach", change_group(work.session, work.group.key, response=Response(strength=0.8, reach_ms=12.0)))
    work.look(step="tighten")
    settle(ready)
    return ready


def head_of(window, stroke):
    """Where the head of a peg is, and its foot."""
    view, layout = window.work.view, window.page.page_layout
    row, x = layout.place_of(float(view.offsets.grid_s[stroke]))
    foot = QPointF(x, row * layout.row_px + layout.base_px - window.page.verticalScrollBar().value())
    length = float(peg_lengths(view, np.array([stroke]), layout)[0])
    angle = float(lean_angle(view.offsets.offset_ms[stroke] + view.plan.move_ms[stroke]))
    return QPointF(foot.x() + np.sin(angle) * abs(length), foot.y() + np.cos(angle) * length), foot, length


def test_a_peg_is_dragged_to_lean_as_wished(tight):
    """One step of undo; the stroke is moved by hand from then on, whatever the strength."""
    window, stroke = tight, 4
    head, foot, length = head_of(window, stroke)
    angle = float(lean_angle(9.0))
    to = QPointF(foot.x() + np.sin(angle) * abs(length), foot.y() + np.cos(angle) * length)
    drag(window.page, head, to)
    view = window.work.view
    assert view.offsets.offset_ms[stroke] + view.plan.move_ms[stroke] == pytest.approx(9.0, abs=0.6)
    assert view.plan.kept[stroke] == Kept.GIVEN
    window.work.undo()
    assert not window.work.group.moves_given
    window.grab()


def test_strokes_are_nudged_evened_out_and_left_as_found(tight):
    """By 1 ms and by 1 sample, one or a range as a block; all of it dropped at once."""
    window, work = tight, tight.work
    before = work.view.plan.move_ms.copy()
    work.look(selected_s=float(work.view.strokes.time_s[3]))
    window.hand.nudge(1.0)
    window.hand.nudge(samples=-1)
    assert work.view.plan.move_ms[3] == pytest.approx(before[3] + 1.0 - 1000 / 48_000, abs=1e-6)
    times = work.view.strokes.time_s
    work.look(range_s=(float(times[5]) - 0.01, float(times[8]) + 0.01), selected_s=None)
    window.hand.nudge(-1.0)
    assert work.view.plan.move_ms[5:9] == pytest.approx(before[5:9] - 1.0)
    stroke_tools.even_selection(work)
    assert len(work.group.evens) == 1
    stroke_tools.drop_selection(work)
    assert work.group.evens == ()
    assert len(work.group.moves_given) == 1


def test_a_section_gets_settings_of_its_own(tight):
    """The curve, the sliders and the bands speak of the chosen scope."""
    window, work = tight, tight.work
    work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(5))))
    settle(window)
    card = window.cards["tighten"]
    assert isinstance(card, TightenCard)
    key = work.session.sections[1].key
    card.scope.setCurrentIndex(2)
    card.scope.activated.emit(2)
    assert work.scope == key
    card.strength.changed.emit(card.strength.value())
    card.strength.set_value(20.0)
    card.strength.changed.emit(20.0)
    assert work.group.settings_in(key).response.strength == pytest.approx(0.2)
    assert work.group.response.strength == 0.8
    window.grab()
    card.follow.click()
    assert work.group.section_settings == ()
    card.treat_lead(work.view.columns[0], "free_leads")
    card.softest.setValue(-20.0)
    card.join.changed.emit(2.0)
    group = work.group
    assert (group.free_leads, group.softest_db, group.join_ms) == ((work.view.columns[0],), -20.0, 2.0)
    card.treat_lead(work.view.columns[0], "held_leads")
    assert (work.group.free_leads, work.group.held_leads) == ((), (work.view.columns[0],))
    led = work.view.strokes.lead == 0
    assert not work.view.plan.move_ms[led].any()
    card.treat_lead(work.view.columns[0], None)
    assert work.group.held_leads == ()


def test_doubts_are_heard_answered_and_get_fewer(tight):
    """D goes to the worst, Return says fine and goes on, H holds, U takes the other slot; a finished list says so."""
    window, work = tight, tight.work
    work.look(step="proof")
    settle(window)
    card = window.cards["proof"]
    assert isinstance(card, ProofCard)
    asked = work.seams.questions_of(work.group)
    assert len(asked) >= 3
    assert card.list.count() == len(asked)
    assert not any(push.isEnabled() for push in card._answers.values())  # nothing is selected yet
    room = card.list.sizeHintForColumn(0)
    card.list.setFixedHeight(90)
    wait_until(lambda: card.list.verticalScrollBar().isVisible())
    assert card.list.sizeHintForColumn(0) == room  # else lines would wrap anew under a height found before
    for row, question in enumerate(asked):
        head, *told, fate = card.list.item(row).text().split("\n")
        assert "bar" in head and "ms" in fate
        assert [words.split(":")[0] for words in told][: len(question.reasons)] == [r.word for r in question.reasons]
        assert card.list.sizeHintForRow(row) >= 14 * (2 + len(told))
    window.hand.step_doubt(1)
    assert work.selected == asked[0].stroke
    assert card._answers[answers.fine].isEnabled() and not card._answers[answers.ask].isEnabled()
    window.hand.take()
    left = [question for question in work.seams.questions_of(work.group) if not question.answered]
    assert len(left) == len(asked) - 1
    assert work.selected == asked[1].stroke
    window.hand.hold()
    assert len([q for q in work.seams.questions_of(work.group) if not q.answered]) == len(asked) - 2
    while any(not question.answered for question in work.seams.questions_of(work.group)):
        window.hand.step_doubt(1)
        window.hand.take()
    settle(window)
    assert "done" in card._count.text()
    assert window.steps.buttons["proof"].state == "all heard"
    pick(card.filter, "answered")
    assert card.list.count() == len(asked) - 1
    card.list.setCurrentRow(0)
    assert card._answers[answers.ask].isEnabled() and not card._answers[answers.fine].isEnabled()
    answers.ask(work)
    assert any(not question.answered for question in work.seams.questions_of(work.group))


def test_a_stroke_past_the_reach_is_brought_in(tight):
    """It moves as strokes within reach do; answers that would change nothing are not offered."""
    window, work = tight, tight.work
    work.look(step="proof")
    work.do("Reach", set_response(work.session, work.group.key, Response(0.5, tolerance_ms=2.0, reach_ms=10.0)))
    settle(window)
    card, plan = window.cards["proof"], work.view.plan
    past = np.flatnonzero(plan.kept == Kept.REACH)
    stroke = int(past[0])
    work.look(selected_s=float(work.view.strokes.time_s[stroke]))
    settle(window)
    assert card._answers[answers.bring_in].isEnabled() and not card._answers[answers.move_less].isEnabled()
    answers.bring_in(work)
    settle(window)
    deviation = plan.deviation_ms[stroke]
    expected = -0.5 * (deviation - np.copysign(2.0, deviation))
    assert work.view.plan.move_ms[stroke] == pytest.approx(expected, abs=1e-6)
    assert stroke not in [question.stroke for question in work.seams.questions_of(work.group) if not question.answered]
    work.look(selected_s=float(work.view.strokes.time_s[stroke]))
    settle(window)
    assert not card._answers[answers.bring_in].isEnabled()


def test_a_doubt_is_heard_in_turn(tight):
    """A bar around it over and over, once as played and once tightened; the key again stops."""
    window, work = tight, tight.work
    work.look(step="proof")
    settle(window)
    window.hand.step_doubt(1)
    hear_chosen(work, "turn")
    assert window.player.is_playing
    programme = window._programmes.now()
    assert programme.in_turn
    length = (programme.loop[1] - programme.loop[0]) / 48_000
    assert length == pytest.approx(4 * 60 / 110, abs=0.01)
    received = window.player.output.received
    wait_until(lambda: len({block.programme.tightened for block in list(received)}) == 2, 12.0)
    hear_chosen(work, "turn")
    assert not window.player.is_playing
    assert work.looks.around_s is None
    assert work.looks.tightened


def test_what_plays_follows_a_control_that_is_still_turned(tight):
    """Long before the hand rests: in the loop that plays; elsewhere strokes go where they went until it does."""
    window, work = tight, tight.work
    work.look(loop_bars=(2, 3), looping=True)
    edges_s = [float(work.session.grid.bar_time_s(bar)) for bar in (2, 4)]
    stroke_s = work.view.strokes.start_s
    start = np.rint(stroke_s * 48_000).astype(int)
    inside = (stroke_s > edges_s[0] + 0.05) & (stroke_s < edges_s[1] - 0.05)
    outside = (stroke_s < edges_s[0] - 0.05) | (stroke_s > edges_s[1] + 0.05)

    def heard():
        return window.player._programme.lead_edits.result_of(start) - start

    before = heard()
    work._settled.setInterval(60_000)  # the hand never rests
    for strength in (0.9, 0.1):
        work.set_response("Turn", replace(work.response, strength=strength))
    assert np.array_equal(heard(), before)  # nobody listens
    window.player.play()
    for strength in (0.8, 0.5, 0.2):
        work.set_response("Turn", replace(work.response, strength=strength))
    assert work.jobs.jobs and not window._work_strip._told()  # it is over too soon to be told
    moved = np.rint(work.view.plan.move_ms * 48.0).astype(int)
    assert np.count_nonzero((moved != before)[inside]) >= 4
    assert (moved != before)[outside].any()
    wait_until(lambda: np.array_equal(heard()[inside], moved[inside]))
    assert np.array_equal(heard()[outside], before[outside])
    assert work.seams.cut_of(work.group) is None
    work._settled.start(0)
    wait_until(lambda: np.array_equal(heard(), moved))
    assert work.seams.cut_of(work.group) is not None


def test_a_seam_is_dragged_in_the_loupe_and_left_to_the_program_again(tight):
    """It moves by as much as it is dragged, in the sound at once; the list of all seams leads to it."""
    window, work = tight, tight.work
    work.look(step="proof", loupe=True)
    settle(window)
    card = window.cards["proof"]
    assert isinstance(card, ProofCard)
    cut = work.seams.cut_of(work.group)
    seams = answers.seam_strokes(cut)
    pick(card.filter, "seams")
    assert card.list.count() == len(seams) == np.count_nonzero(np.diff(cut.move, prepend=0))
    for key in (Qt.Key.Key_D, Qt.Key.Key_D, Qt.Key.Key_Return, Qt.Key.Key_D, Qt.Key.Key_D):
        QTest.keyClick(window, key)  # seams nobody asked about are gone through, too
    assert (work.selected, card.list.currentRow()) == (seams[4], 4)
    wait_until(lambda: window.loupe.is_loaded)
    loupe = window.loupe
    loupe.zoom(-2)
    before = work.view.strokes.time_s[seams[4]]
    seen = min(loupe._seams_seen(), key=lambda each: abs(each.end_s - before - cut.move[seams[4]] / 48_000))
    middle = 0.5 * float(loupe._x(seen.start_s) + loupe._x(seen.end_s))
    by_px = float(loupe._x(0.0) - loupe._x(0.002))
    drag(loupe, QPointF(middle, 60.0), QPointF(middle + by_px, 60.0))
    assert len(work.group.seams_given) == 1
    settle(window)
    ends = work.seams.edits_of(work.group).at / 48_000
    assert np.min(np.abs(ends - (seen.end_s - 0.002))) < 0.0002
    window.grab()
    middle += by_px
    QTest.mouseDClick(loupe, Qt.MouseButton.LeftButton, pos=QPointF(middle, 60.0).toPoint())
    settle(window)
    assert not work.group.seams_given
    assert np.min(np.abs(work.seams.edits_of(work.group).at / 48_000 - seen.end_s)) < 1e-4


def test_one_seam_has_a_fade_of_its_own(tight):
    """Dragged by its beginning in the loupe or typed; what was not touched stays; no other seam changes."""
    window, work = tight, tight.work
    work.look(step="proof", loupe=True)
    settle(window)
    card, loupe = window.cards["proof"], window.loupe
    assert isinstance(card, ProofCard)
    before = work.seams.cut_of(work.group)
    stroke = next(each for each in answers.seam_strokes(before)[5:] if seam_of(work, each).fade_ms > 4.9)
    work.look(selected_s=float(work.view.strokes.time_s[stroke]))
    wait_until(lambda: loupe.is_loaded)
    seam = seam_of(work, stroke)
    while loupe.span_ms > 40.0:
        loupe.zoom(1)
    loupe._centre_s = seam.end_s
    start, ahead = QPointF(float(loupe._x(seam.start_s)), 60.0), card._ahead.value()
    drag(loupe, start, start + QPointF(float(loupe._x(0.002) - loupe._x(0.0)), 0.0))
    settle(window)
    assert seam_of(work, stroke).fade_ms == pytest.approx(3.0, abs=0.15)
    assert seam_of(work, stroke).end_s == pytest.approx(seam.end_s, abs=1e-9)
    assert (card._ahead.value(), card._own_seam.isEnabled()) == (ahead, True)
    card._fade.setValue(1.5)
    settle(window)
    after = work.seams.cut_of(work.group)
    changed = np.flatnonzero(after.edits.fade != before.edits.fade)
    assert (before.edits.at[changed] / 48_000).tolist() == [seam.end_s]
    assert after.edits.fade[changed].tolist() == [72]
    assert np.array_equal(after.edits.at, before.edits.at)
    for _ in range(2):  # the second one before anybody knows what came of the first
        assert card._ahead.isEnabled()
        card._ahead.setValue(card._ahead.value() - 0.5)
    settle(window)
    assert seam_of(work, stroke).end_s == pytest.approx(seam.end_s + 0.001, abs=0.0001)
    assert "put by hand" in card._seam_head.text()
    card._ahead.setValue(450.0)
    settle(window)
    assert "no room" in card._seam_head.text()
    card._own_seam.click()
    settle(window)
    assert not work.group.seams_given
    assert np.array_equal(work.seams.cut_of(work.group).edits.fade, before.edits.fade)


def test_strokes_are_joined_and_sound_between_them_slid(tight):
    """Strokes move as one; in a range without any the sound slides, and its cuts are dragged in the loupe."""
    window, work = tight, tight.work
    times = work.view.strokes.time_s
    work.look(range_s=(float(times[4]) - 0.01, float(times[7]) + 0.01))
    QTest.keyClick(window, Qt.Key.Key_J)
    assert len(set(work.view.plan.move_ms[4:8].tolist())) == 1
    start_s = float(times[8]) + 0.12
    work.look(range_s=(start_s, start_s + 0.06), selected_s=None)
    for _ in range(3):
        window.hand.nudge(1.0)
    assert [slide.move_ms for slide in work.group.slides] == [3.0]
    settle(window)
    window.grab()
    edits, before_ms = work.seams.edits_of(work.group), float(work.seams.cut_of(work.group).move[8]) / 48.0
    place = edits.source_of(round((start_s + 0.03 + (before_ms + 3.0) / 1000.0) * 48_000))
    assert place == pytest.approx((start_s + 0.03) * 48_000, abs=2)
    work.look(step="proof", loupe=True, selected_s=float(times[8]))
    wait_until(lambda: window.loupe.is_loaded)
    at_s = start_s + (before_ms + 3.0) / 1000.0
    cut_there = min(seams_between(work, at_s - 0.1, at_s + 0.1), key=lambda each: abs(each.end_s - at_s))
    drag_seam(work, cut_there, 0.004)
    (slide,) = work.group.slides
    assert (slide.start_s, slide.move_ms) == (pytest.approx(start_s + 0.004, abs=0.0002), 3.0)
    work.undo()
    work.look(step="tighten", range_s=(start_s, start_s + 0.06))
    QTest.keyClick(window, Qt.Key.Key_X)
    assert work.group.slides == ()
    QTest.keyClick(window, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    assert not work.view.plan.move_ms.any()


def test_a_snapshot_is_laid_behind_the_page(tight, monkeypatch):
    """Its moves stand behind in place of as played, whatever has been changed since; the key takes it away again."""
    window, work = tight, tight.work
    QTest.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    assert "no snapshot" in window.message.text
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("Tight", True))
    snapshot_menu.ask_name(work, window)
    before = work.view.plan.move_ms.copy()
    work.set_response("Less", Response(strength=0.1))
    QTest.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    assert window.page.picture().behind_ms == pytest.approx(before)
    assert "“Tight”" in window._legend.text()
    with_it = window.page.grab().toImage()
    QTest.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    assert window.page.picture().behind_ms is None
    assert window.page.grab().toImage() != with_it
    menu = QMenu(window)
    snapshot_menu.fill_snapshots(menu, work, window)
    assert [action.text() for action in menu.actions()] == ["Keep the present as a snapshot …", "Tight"]


def test_lengths_of_seams_are_set_or_as_the_sound_asks(tight):
    """Shorter fades at once, and back."""
    window, work = tight, tight.work
    card = window.cards["tighten"]
    assert isinstance(card, TightenCard)
    usual = work.seams.cut_of(work.group).edits.fade.max()
    card.fade.setValue(2.0)
    settle(window)
    assert work.seams.cut_of(work.group).edits.fade.max() <= round(0.002 * 48_000)
    card.by_material.click()
    settle(window)
    assert work.seams.cut_of(work.group).edits.fade.max() == usual
