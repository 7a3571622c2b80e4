"""The bar that says what happened, and offers what can be done about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QWidget

from supple_snare.desk import theme
from supple_snare.desk.controls import button
from supple_snare.desk.delay import once_quiet

Act = tuple[str, str, Callable[[], None]]
"""Name, tooltip, deed."""

_NOTE_MS = 30_000
"""A note that asks for nothing has been read by then."""

_MARGIN = 8
_LOOK = "MessageBar {{ background: {0}; border: 1px solid {1}; border-radius: 6px; }} QLabel {{ color: {2}; }}"
_ALARMED = _LOOK.format("#F6DFD3", "#9C4A36", "#5E1D10")
_CALM = _LOOK.format(theme.BRASS_PALE.name(), theme.BRASS.name(), theme.INK.name())


class MessageBar(QFrame):
    """Hidden until there is something to say. Problems and questions stay until they are closed.

    It lies over the foot of another widget, so that nothing moves away under the mouse when it comes or goes.

    Parameters
    ----------
    over : QWidget
    """

    def __init__(self, over: QWidget) -> None:
        super().__init__(over.window())
        self._over = over
        over.installEventFilter(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 10, 6)
        self._words = QLabel()
        self._words.setWordWrap(True)
        self._words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self._words, 1)
        self._acts = QHBoxLayout()
        row.addLayout(self._acts)
        close = button("Close", "Close this message (Esc)")
        close.clicked.connect(self.hide)
        row.addWidget(close)
        self._read = once_quiet(self, _NOTE_MS, self.hide)
        self.hide()

    @property
    def text(self) -> str:
        """What was said last."""
        return self._words.text()

    @property
    def acts(self) -> list[QPushButton]:
        """The buttons for what can be done, as they were offered."""
        offered = [self._acts.itemAt(place) for place in range(self._acts.count())]
        return [push for item in offered if item is not None and isinstance(push := item.widget(), QPushButton)]

    def say(self, text: str, problem: bool, acts: Sequence[Act] = ()) -> None:
        """Show a message, with a button for each thing that can be done about it."""
        self.setStyleSheet(_ALARMED if problem else _CALM)
        self._words.setText(text)
        for push in self.acts:
            self._acts.removeWidget(push)
            push.deleteLater()
        for name, hint, deed in acts:
            push = button(name, hint)
            push.clicked.connect(lambda _on, act=deed: act())
            self._acts.addWidget(push)
        self._place()
        self.show()
        if problem or acts:
            self._read.stop()
        else:
            self._read.start()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() in (QEvent.Type.Resize, QEvent.Type.Move):
            self._place()
        return super().eventFilter(watched, event)

    def _place(self) -> None:
        """At the foot of what it lies over, as high as its words need."""
        width = self._over.width() - 2 * _MARGIN
        height = max(self.heightForWidth(width), self.minimumSizeHint().height())
        foot = self._over.mapTo(self.parentWidget(), QPoint(_MARGIN, self._over.height() - _MARGIN))
        self.setGeometry(foot.x(), foot.y() - height, width, height)
        self.raise_()
