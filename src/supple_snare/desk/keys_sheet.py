"""All keys at a glance, by what they are for, and what the marks on the page mean."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from supple_snare.desk.controls import button, head, words

HAND = {
    "Listen": [("S M Return ← →", "on a track of the cast (Tab): solo, mute, lead, level")],
    "View": [
        ("← → ↑ ↓", "next or previous stroke; a row up or down"),
        ("Ctrl+wheel", "fewer or more bars a row"),
    ],
    "Strokes": [("drag", "a peg's head in Tighten and Proof moves its stroke")],
    "Take": [("double-click", "lets a pinned line go")],
}
"""What has no action of its own: gestures, and keys of single views."""

MARKS = """Each peg is one stroke, standing at its slot. It leans left for early, right for late, 15 degrees \
for 10 ms; a square head leans farther than can be drawn. Pegs of the first lead stand above the line, all others \
below. A flag above a stroke is a doubt; a square foot is a held stroke, a round brass one was moved by hand; \
a bar under it a slot given by hand; the little ticks are the other leads' hits."""

_COLUMNS = (("Listen", "View"), ("Hits", "Strokes"), ("Session", "Edit", "Take", "Sections", "Help"))


class KeysSheet(QDialog):
    """A window that shows them; made from the actions themselves, so that it cannot say anything else."""

    def __init__(self, parent: QWidget, actions: Mapping[str, Sequence[QAction]]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys and legend")
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 14)
        column.setSpacing(12)
        across = QHBoxLayout()
        across.setSpacing(28)
        for chapters in _COLUMNS:
            across.addWidget(_stack(chapters, actions), 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(across)
        column.addWidget(words(MARKS))
        close = button("Close", "Back to the page (Esc)", primary=True)
        close.clicked.connect(self.accept)
        column.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)


def _stack(chapters: Sequence[str], actions: Mapping[str, Sequence[QAction]]) -> QWidget:
    """One column of chapters."""
    stack = QWidget()
    grid = QGridLayout(stack)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(10)
    grid.setVerticalSpacing(2)
    grid.setColumnStretch(1, 1)
    for chapter in chapters:
        if grid.rowCount() > 1:
            grid.setRowMinimumHeight(grid.rowCount(), 8)
        grid.addWidget(head(chapter), grid.rowCount(), 0, 1, 2)
        deeds = [(_keys(action), action.text()) for action in actions.get(chapter, ()) if action.shortcuts()]
        for keys, text in (*deeds, *HAND.get(chapter, ())):
            key = QLabel(keys)
            key.setObjectName("key")
            row = grid.rowCount()
            grid.addWidget(key, row, 0)
            grid.addWidget(QLabel(text), row, 1)
    return stack


def _keys(action: QAction) -> str:
    text = action.shortcuts()[0].toString(QKeySequence.SequenceFormat.NativeText)
    for name, sign in (("Left", "←"), ("Right", "→")):
        text = text.replace(name, sign)
    return text
