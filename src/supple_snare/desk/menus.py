"""The menu bar, and every action of the window by the menu it stands in."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMainWindow, QMenu


class Menus:
    """Fills the menu bar of a window; each of its actions can be done anywhere in the window.

    Parameters
    ----------
    window : QMainWindow
    """

    def __init__(self, window: QMainWindow) -> None:
        self._window = window
        bar = window.menuBar()
        assert bar is not None
        self._bar = bar
        self.actions: dict[str, list[QAction]] = {}
        """By the name of their menu, in the order of the bar."""

    def menu(self, name: str) -> Menu:
        """A new menu at the end of the bar."""
        menu = self._bar.addMenu(name)
        assert menu is not None
        return Menu(self._window, menu, self.actions.setdefault(name.replace("&", ""), []))

    def open_first(self) -> None:
        """Open the first menu, from where the arrow keys lead to the others."""
        self._bar.setActiveAction(self._bar.actions()[0])


class Menu:
    """One menu of the bar.

    Parameters
    ----------
    window : QMainWindow
    menu : QMenu
    actions : list of QAction
        Those of this menu; filled as they are added.
    """

    def __init__(self, window: QMainWindow, menu: QMenu, actions: list[QAction]) -> None:
        self._window, self._menu, self._actions = window, menu, actions

    def act(self, text: str, slot: Callable[..., object], *keys: str) -> QAction:
        """Something that can be done, by the menu or by any of some keys.

        Parameters
        ----------
        text : str
        slot : callable
        keys : str
            The first one stands beside it.
        """
        action = QAction(text, self._window)
        action.setShortcuts([QKeySequence(key) for key in keys])
        action.triggered.connect(slot)
        self._window.addAction(action)
        self._menu.addAction(action)
        self._actions.append(action)
        return action

    def part(self) -> None:
        """A line before what comes next."""
        self._menu.addSeparator()

    def listing(self, text: str, fill: Callable[[QMenu], object]) -> None:
        """A menu inside this one that is filled whenever it opens."""
        inner = self._menu.addMenu(text)
        assert inner is not None
        inner.aboutToShow.connect(lambda: fill(inner))
