"""A hand that clicks trembles, and seldom meets the middle of a handle."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QAbstractSpinBox, QApplication, QComboBox, QSlider

from supple_snare.desk.response_curve import ResponseCurve
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, mark_of, point_of

TREMBLE = QPointF(2, 1)


def trembling_click(widget, at):
    """Pressed at one place, let go at another one beside it."""
    drag(widget, at, at + TREMBLE, steps=2)


def test_a_click_on_a_grid_line_places_the_playhead_on_it(ready):
    """It moves no line, in whatever step of undo."""
    ready.work.look(step="grid")
    before, placed = ready.work.session, []
    ready.page.placed.connect(placed.append)
    bar_s = float(before.grid.bar_time_s(3))
    trembling_click(ready.page, point_of(ready, bar_s) + QPointF(4, 0))
    assert placed == [pytest.approx(bar_s)]
    assert ready.work.session == before


def test_a_click_on_a_hit_or_on_handles_changes_nothing(ready):
    """Hits on the page and in the loupe, handles of the curve and of the chart."""
    ready.work.look(step="hits", loupe=True)
    settle(ready)
    before = ready.work.session
    key = ready.work.view.leads[0]
    time_s = float(ready.work.view.hits[key].time_s[2])
    trembling_click(ready.page, mark_of(ready, key, time_s))
    assert ready.work.looks.hit == (key, pytest.approx(time_s))
    wait_until(lambda: ready.loupe.is_loaded)
    lane = dict(ready.loupe._lanes())[key]
    trembling_click(ready.loupe, QPointF(float(ready.loupe._x(time_s)) + 4.0, lane.top() + 6.0))
    ready.work.look(step="tighten")
    curve = ready.cards["tighten"].findChild(ResponseCurve)
    for handle in curve.handle_points().values():
        trembling_click(curve, handle + QPointF(4, 4))
    trembling_click(ready.chart, ready.chart._handle("reach") + QPointF(4, 4))
    assert ready.work.session == before


def test_a_handle_taken_beside_its_middle_goes_as_far_as_the_hand(ready):
    """Not to the pointer: it would jump at the first move."""
    ready.work.look(step="tighten")
    curve = ready.cards["tighten"].findChild(ResponseCurve)
    before = curve.handle_points()["tolerance"]
    drag(curve, before + QPointF(5, 0), before + QPointF(25, 0))
    by = curve.handle_points()["tolerance"] - before
    assert by.x() == pytest.approx(20.0, abs=0.6 * curve._plot().width() / 120.0)


def turn_wheel(widget, steps):
    """The wheel over the middle of a control; whether the control took it, else it goes on to what lies under it."""
    middle = QPointF(widget.rect().center())
    event = QWheelEvent(
        middle, QPointF(widget.mapToGlobal(middle.toPoint())), QPoint(), QPoint(0, 120 * steps),
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)
    return event.isAccepted()


def test_the_wheel_turns_a_card_over_and_only_a_chosen_control(ready):
    """A strength that comes to lie under the pointer stays; the card scrolls."""
    ready.work.look(step="tighten")
    settle(ready)
    card, before = ready.cards["tighten"], ready.work.session
    controls = [*card.findChildren(QSlider), *card.findChildren(QAbstractSpinBox), *card.findChildren(QComboBox)]
    for control in controls:
        control.clearFocus()
        assert not turn_wheel(control, -1)
    assert ready.work.session == before
    ready.activateWindow()
    card.strength._slider.setFocus()
    assert turn_wheel(card.strength._slider, -1)
    assert ready.work.group.response.strength < before.groups[0].response.strength
