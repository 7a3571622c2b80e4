"""What all cards share."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

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
        for signal in (
            workspace.session_changed,
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

    def _refresh_if_shown(self) -> None:
        if self.isVisible():
            self.refresh()
