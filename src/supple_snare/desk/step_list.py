"""Everything done in this sitting and before, in words: a list to go to and fro in."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from supple_snare.desk import theme
from supple_snare.desk.controls import soft
from supple_snare.desk.workspace import Workspace


class StepList(QDialog):
    """Stays open beside the window; the arrow keys or a click go to any moment of the work."""

    def __init__(self, workspace: Workspace, parent: QWidget | None) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self._work = workspace
        self._shown: object = None
        self.setWindowTitle("What was done")
        self.resize(300, 420)
        self.list = QListWidget()
        self.list.setAccessibleName("What was done, the first above")
        self.list.currentRowChanged.connect(self._go)
        column = QVBoxLayout(self)
        column.addWidget(soft("Choose a moment to go there. Nothing after it is lost until something else is done."))
        column.addWidget(self.list, 1)
        workspace.session_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the steps as they are now; those that were taken back are pale and set in."""
        labels, _sessions, at = self._work.history.row()
        self.list.blockSignals(True)
        if labels != self._shown:
            self._shown = labels
            self.list.clear()
            for label in ("As it was opened", *labels[1:]):
                self.list.addItem(QListWidgetItem(label))
        for row in range(self.list.count()):
            item = self.list.item(row)
            assert item is not None
            item.setText(item.text().removeprefix("↷ "))
            if row > at:
                item.setText(f"↷ {item.text()}")
            item.setForeground(QColor(theme.INK_SOFT if row > at else theme.INK))
        self.list.setCurrentRow(at)
        self.list.blockSignals(False)

    def _go(self, row: int) -> None:
        self._work.go_to_step(row)


def show_steps(work: Workspace, parent: QWidget) -> StepList:
    """Open the list; it is its own and goes with the window."""
    steps = StepList(work, parent)
    steps.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    steps.show()
    return steps
