"""The menu bar and the search among its commands."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from supple_snare.desk.command_search import CommandSearch


def texts(search: CommandSearch) -> list[str]:
    """What is listed."""
    items = [search.list.item(row) for row in range(search.list.count())]
    return [item.data(Qt.ItemDataRole.AccessibleTextRole) for item in items]


def actions_of(window):
    """All actions of the bar, by menu."""
    return {action.text().replace("&", ""): action.menu().actions() for action in window.menuBar().actions()}


def test_every_key_of_the_window_stands_in_the_bar(window):
    """In the menus that desktops have, and those of this job between them."""
    menus = actions_of(window)
    assert list(menus) == ["Session", "Edit", "View", "Take", "Hits", "Strokes", "Sections", "Listen", "Help"]
    in_bar = {action for actions in menus.values() for action in actions}
    assert {action for action in window.actions() if action.shortcuts()} <= in_bar


def test_a_command_is_found_by_its_words_and_run_by_return(ready):
    """In any order, with the name of its menu among them."""
    search = CommandSearch(ready, ready._menus.actions)
    search.open()
    everything = search.list.count()
    QTest.keyClicks(search.field, "later strokes")
    assert texts(search) == ["One slot later, Strokes"]
    QTest.keyClicks(search.field, " nonsense")
    assert search.list.count() == 0
    QTest.keyClick(search.field, Qt.Key.Key_Return)
    assert search.chosen is None
    search.field.clear()
    assert search.list.count() == everything
    QTest.keyClicks(search.field, "bars a row")
    QTest.keyClick(search.field, Qt.Key.Key_Down)
    QTest.keyClick(search.field, Qt.Key.Key_Return)
    assert search.chosen.text() == "More bars a row"
    before = ready.page.bars_a_row
    search.chosen.trigger()
    assert ready.page.bars_a_row > before


def test_what_cannot_be_done_now_is_not_run(window):
    """It is listed, pale."""
    search = CommandSearch(window, window._menus.actions)
    search.open()
    QTest.keyClicks(search.field, "redo")
    QTest.keyClick(search.field, Qt.Key.Key_Return)
    assert search.chosen is None
