"""A line that says when other slots fit plainly better than those in force, and takes them over when it is told to."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from supple_snare.desk.controls import button, words
from supple_snare.desk.slot_weighing import Advice
from supple_snare.desk.workspace import Workspace
from supple_snare.session.grid_edits import set_ruling

TAKE_SLOTS = "Take the slots suggested"


class SlotAdvice(QWidget):
    """Shown only while there is something to say; one section after the other."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        self._advice: Advice | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self._words = words(name="warning")
        column.addWidget(self._words)
        self.take = button("", "Lay the strokes to these slots; as any step, it can be undone")
        self.take.clicked.connect(self._take)
        column.addWidget(self.take)
        self.hide()
        workspace.slots.changed.connect(self._show)
        workspace.session_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        advice = self._work.slots.advice()
        self._advice = advice[0] if advice else None
        self.setVisible(self._advice is not None)
        if self._advice is not None:
            self._words.setText(self._advice.told)
            self.take.setText(f"Take {self._advice.ruling.in_words}")

    def _take(self) -> None:
        if self._advice is not None:
            self._work.do(TAKE_SLOTS, set_ruling(self._work.session, self._advice.section, self._advice.ruling))
