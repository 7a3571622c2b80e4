"""Search among all that can be done in the window: type some of its words, see its key, run it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import QEvent, QObject, QSize, Qt
from PyQt6.QtGui import QAction, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLabel, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from supple_snare.desk.controls import soft

_WIDTH, _HEIGHT = 520, 380
_ROW_PX = 30


class CommandSearch(QDialog):
    """A field and the list of what fits it; Return runs the chosen one, once the dialog is closed.

    Parameters
    ----------
    parent : QWidget
    actions : mapping of str to sequence of QAction
        By the name of their menu.
    """

    def __init__(self, parent: QWidget, actions: Mapping[str, Sequence[QAction]]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Search commands")
        self.resize(_WIDTH, _HEIGHT)
        self._actions = [(menu, action) for menu, those in actions.items() for action in those]
        self.chosen: QAction | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What is to be done? For example: slot, loop, save")
        self.field.setAccessibleName("Words of the command")
        self.field.textChanged.connect(self._fill)
        self.field.installEventFilter(self)
        column.addWidget(self.field)
        self.list = QListWidget()
        self.list.setAccessibleName("Commands that fit")
        self.list.itemActivated.connect(self._choose)
        column.addWidget(self.list, 1)
        column.addWidget(soft("Return runs it · ↑ ↓ choose · Esc closes"))
        self._fill("")

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """The arrow keys choose in the list while words are typed, and Return runs what is chosen."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and watched is self.field:
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                by = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._choose(self.list.currentItem())
                return True
        return super().eventFilter(watched, event)

    def _fill(self, words: str) -> None:
        """List what has all of the words; first what begins with them."""
        wanted = words.lower().split()
        fitting = [
            (not action.text().lower().startswith(words.lower().strip()), menu, action)
            for menu, action in self._actions
            if all(word in f"{action.text()} {menu}".lower() for word in wanted)
        ]
        self.list.clear()
        for _, menu, action in sorted(fitting, key=lambda each: each[0]):
            item = QListWidgetItem(self.list)
            item.setData(Qt.ItemDataRole.UserRole, action)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{action.text()}, {menu}")
            item.setSizeHint(QSize(0, _ROW_PX))
            self.list.setItemWidget(item, _row(menu, action))
        self.list.setCurrentRow(0)

    def _choose(self, item: QListWidgetItem | None) -> None:
        action = None if item is None else item.data(Qt.ItemDataRole.UserRole)
        if isinstance(action, QAction) and action.isEnabled():
            self.chosen = action
            self.accept()


def _row(menu: str, action: QAction) -> QWidget:
    """What is done, where it stands, and its key."""
    row = QWidget()
    line = QHBoxLayout(row)
    line.setContentsMargins(8, 0, 8, 0)
    text = QLabel(action.text())
    text.setEnabled(action.isEnabled())
    line.addWidget(text)
    line.addWidget(soft(menu))
    line.addStretch(1)
    line.addWidget(QLabel(action.shortcut().toString(QKeySequence.SequenceFormat.NativeText)))
    return row


def search_commands(parent: QWidget, actions: Mapping[str, Sequence[QAction]]) -> None:
    """Ask for a command and run it."""
    search = CommandSearch(parent, actions)
    search.exec()
    if search.chosen is not None:
        search.chosen.trigger()
