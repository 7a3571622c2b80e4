"""Moving about the take: zoom, strokes, versions, loop, click, doubts; asserting on what is shown and heard."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage, QPainter, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QListWidget

from supple_snare.desk.cards.handover import HandOverCard
from supple_snare.desk.page_painter import paint_under
from supple_snare.desk.theme import WAVE_UP
from supple_snare.session.edits import change_group
from supple_snare.session.grid_edits import with_grid
from supple_snare.timing.grid import Grid, Pin
from supple_snare.timing.tighten import Response
from tests.desk.conftest import settle


def wheel(window, steps: int) -> None:
    """Ctrl and the wheel over the page."""
    canvas = window.page.viewport()
    middle = QPointF(canvas.rect().center())
    event = QWheelEvent(
        middle,
        QPointF(canvas.mapToGlobal(middle.toPoint())),
        QPoint(),
        QPoint(0, 120 * steps),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.ControlModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    window.page.wheelEvent(event)


def test_zoom_keeps_the_top_row_and_ends_at_both_ends(ready):
    """The bar at the top stays at the top; half a bar and sixteen bars a row are the limits."""
    page = ready.page
    for _ in range(2):
        wheel(ready, 1)
    assert page.bars_a_row == 1.0
    page.verticalScrollBar().setValue(3 * int(page.page_layout.row_px))
    first = page.visible_bars()[0]
    wheel(ready, -1)
    assert page.visible_bars()[0] <= first < page.visible_bars()[1]
    for _ in range(12):
        wheel(ready, -1)
    assert page.bars_a_row == 16.0
    for _ in range(12):
        QTest.keyClick(ready, Qt.Key.Key_Plus, Qt.KeyboardModifier.ControlModifier)
    assert page.bars_a_row == 0.5
    assert "0.5 bar" in ready._zoom_words.text()


def test_stepping_through_strokes_shows_and_places_each(ready):
    """N goes on, P goes back; the stroke is selected, in sight, and the sound is placed on it."""
    strokes = ready.work.view.strokes.time_s
    ready.page.zoom(2)
    for _ in range(20):
        QTest.keyClick(ready, Qt.Key.Key_N)
    index = ready.work.selected
    assert index is not None and index >= 18
    assert ready.player.position_s == pytest.approx(strokes[index], abs=1e-4)
    layout, top = ready.page.page_layout, ready.page.verticalScrollBar().value()
    assert layout.row_of(strokes[index]) in layout.rows_between(top, top + ready.page.viewport().height())
    QTest.keyClick(ready, Qt.Key.Key_P)
    assert ready.work.selected == index - 1


def test_the_version_switch_changes_page_and_programme(ready):
    """A shows and plays the other version; pegs in front are those of the version that is heard."""
    ready.work.look(step="tighten")
    settle(ready)
    assert ready.page.picture().tightened
    QTest.keyClick(ready, Qt.Key.Key_A)
    assert not ready.page.picture().tightened
    assert not ready.player._programme.tightened
    QTest.keyClick(ready, Qt.Key.Key_A)
    assert ready.player._programme.tightened


def test_turning_a_control_leaves_what_lies_under_the_strokes(ready):
    """The waveform and the grid are drawn once, however the strength is turned."""
    work = ready.work
    work.look(step="tighten")
    settle(ready)
    ready.page._paint_layer()
    under = ready.page._under
    work.do("Turn", change_group(work.session, work.group.key, response=Response(strength=0.31)))
    ready.page._paint_layer()
    assert ready.page._under is under
    work.look(tightened=False)
    ready.page._paint_layer()
    assert ready.page._under is not under


def test_sound_stands_under_its_strokes_where_the_tempo_changes(ready):
    """A row that begins twice as fast as it goes on: what is heard first still rises where its stroke stands."""
    first_s = float(ready.work.view.strokes.time_s[0])
    grid = Grid(55.0, first_s - 1.0, pins=(Pin(2.0, first_s),))
    ready.work.do("Another tempo", with_grid(ready.work.session, grid))
    settle(ready)
    picture = replace(ready.page.picture(), show_moves=False)
    assert picture.grid.tempo_at(0.1) == pytest.approx(120.0)
    assert picture.grid.tempo_at(first_s + 1.0) == pytest.approx(55.0)
    image = QImage(1000, 100, QImage.Format.Format_RGB32)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    paint_under(painter, picture, 0, 0.0)
    painter.end()
    high = round(picture.layout.base_px) - 12
    loud = [x for x in range(image.width()) if image.pixelColor(x, high) == WAVE_UP]
    assert loud[0] == pytest.approx(picture.layout.x_in_row(0, first_s), abs=4.0)


def test_loop_and_click_reach_the_player(ready):
    """The bars of the loop and the grid of the click are those of the session."""
    work, player = ready.work, ready.player
    grid = work.session.grid
    work.look(range_s=(float(grid.bar_time_s(2.1)), float(grid.bar_time_s(3.4))))
    QTest.keyClick(ready, Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier)
    rate = work.session.rate_hz
    expected = tuple(round(float(grid.bar_time_s(bar)) * rate) for bar in (2, 4))
    assert player._programme.loop == expected
    QTest.keyClick(ready, Qt.Key.Key_L)
    assert player._programme.loop is None
    QTest.keyClick(ready, Qt.Key.Key_C)
    assert player._programme.click is not None
    assert player._programme.click.grid == grid


def test_a_doubt_is_selected_from_its_list(ready):
    """With a short reach far strokes are doubts; choosing one in Proof selects its stroke on the page."""
    work = ready.work
    short = Response(strength=1.0, tolerance_ms=0.0, reach_ms=6.0)
    work.do("Short reach", change_group(work.session, work.group.key, response=short))
    work.look(step="proof")
    settle(ready)
    far = np.flatnonzero(np.abs(work.view.plan.deviation_ms) > 6.0)
    doubts = ready.cards["proof"].findChild(QListWidget)
    assert doubts.count() >= len(far) > 0
    doubts.setCurrentRow(0)
    assert work.selected in far
    states = {step: ready.steps.buttons[step].state for step in ("proof", "tighten")}
    assert str(doubts.count()) in states["proof"]


def test_the_hand_over_says_what_it_will_write(ready):
    """How many files, how many strokes move, how many doubts nobody has heard."""
    work = ready.work
    work.look(step="hand over")
    settle(ready)
    card = ready.cards["hand over"]
    assert isinstance(card, HandOverCard)
    moving = int(np.count_nonzero(np.abs(work.view.plan.move_ms) > 1e-6))
    assert f"{len(work.group.tracks)} files, {moving} of {len(work.view.strokes)} strokes move" in card._facts.text()
    work.do("Leave it", change_group(work.session, work.group.key, response=Response(strength=0.0)))
    settle(ready)
    assert "no stroke moves" in card._facts.text()
