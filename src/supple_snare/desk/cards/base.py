"""What all cards share."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtWidgets import (
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QScrollBar,
    QVBoxLayout,
    QWidget,
)

from supple_snare.desk.workspace import Workspace


class Card(QWidget):
    """The controls of one step; brought up to date whenever something it shows may have changed."""

    title = ""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.work = workspace
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 12, 14, 12)
        self.column.setSpacing(8)
        heading = QLabel(self.title)
        heading.setObjectName("title")
        self.column.addWidget(heading)
        self.build()
        self._leave_wheel()
        for signal in (
            workspace.stages_changed,
            workspace.looks_changed,
            workspace.cuts_changed,
            workspace.library_changed,
            workspace.slots.changed,
        ):
            signal.connect(self._refresh_if_shown)

    def build(self) -> None:
        """Make the controls."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show the present state."""
        raise NotImplementedError

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _leave_wheel(self) -> None:
        """A wheel that turns the card over turns no control that comes to lie under it, unless it was chosen."""
        kinds = (QAbstractSlider, QAbstractSpinBox, QComboBox)
        for control in (each for kind in kinds for each in self.findChildren(kind)):
            if not isinstance(control, QScrollBar):
                control.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
                control.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        is_wheel = event is not None and event.type() == QEvent.Type.Wheel
        if is_wheel and isinstance(watched, QWidget) and not watched.hasFocus():
            event.ignore()  # type: ignore[union-attr]
            return True
        return super().eventFilter(watched, event)

    def _refresh_if_shown(self) -> None:
        if self.isVisible():
            self.refresh()
