"""The bar that says what happened."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QWidget

from supple_snare.desk.message_bar import MessageBar
from tests.desk.conftest import settle, wait_until


def test_nothing_moves_when_a_message_comes(window):
    """It lies over the foot of the chart, with room for all its words, and goes along with the window."""
    settle(window)
    before = [part.geometry() for part in (window.page, window.cast, window.transport)]
    window.message.say("One sentence of many. " * 30, True, [("Do it", "At once", lambda: None)])
    wait_until(window.message.isVisible, 2.0)
    assert [part.geometry() for part in (window.page, window.cast, window.transport)] == before
    for width in (1280, 1600):
        window.resize(width, 800)
        settle(window)
        bar, foot = window.message.geometry(), window.transport.mapTo(window, QPoint(0, 0)).y()
        assert foot - 30 < bar.bottom() < foot
        assert window.cast.geometry().right() < bar.left() < bar.right() < window.width()
        assert window.message._words.height() >= window.message._words.heightForWidth(window.message._words.width())


@pytest.mark.parametrize(("problem", "acts"), [(False, []), (True, []), (False, [("Do it", "At once", lambda: None)])])
def test_a_note_goes_by_itself_and_what_wants_a_person_stays(qapp, problem, acts):
    """Problems and questions wait to be closed, also when they follow a note."""
    over = QWidget()
    bar = MessageBar(over)
    bar._read.setInterval(30)
    bar.say("Read this.", False)
    bar.say("And this.", problem, acts)
    assert [push.text() for push in bar.acts] == [name for name, _, _ in acts]
    stays = problem or bool(acts)
    assert bar._read.isActive() is not stays
    if not stays:
        wait_until(bar.isHidden, 2.0)
    assert bar.isHidden() is not stays
