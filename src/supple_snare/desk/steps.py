"""The steps of the work along the top, each with its state in a few words."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QEnterEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.slot_weighing import Advice
from supple_snare.desk.workspace import STEPS, Workspace
from supple_snare.session.edits import tick_step


class StepButton(QAbstractButton):
    """One step: number, name, state; a tick when it is checked off."""

    tick_wanted = pyqtSignal()

    def __init__(self, number: int, name: str) -> None:
        super().__init__()
        self.setText(name)
        self._number = number
        self.state = ""
        self.ticked = False
        self.warns = False
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(120, 52)

    def nextCheckState(self) -> None:
        """A click checks nothing by itself: the step that is looked at is checked."""

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self.tick_wanted.emit()

    def enterEvent(self, event: QEnterEvent | None) -> None:
        self.update()
        super().enterEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.isChecked() or self.underMouse():
            painter.fillRect(self.rect(), theme.SHEET if self.isChecked() else theme.BRASS_PALE)
        if self.isChecked():
            painter.fillRect(QRectF(0, self.height() - 3, self.width(), 3), theme.BRASS)
        if self.hasFocus():
            painter.setPen(QPen(theme.BRASS, 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.setPen(theme.INK)
        painter.setFont(theme.text_font(14, bold=self.isChecked()))
        painter.drawText(QRectF(8, 7, 16, 20), Qt.AlignmentFlag.AlignLeft, str(self._number))
        painter.drawText(QRectF(24, 7, self.width() - 26, 20), Qt.AlignmentFlag.AlignLeft, self.text())
        if self.ticked:
            painter.setPen(QPen(theme.BRASS, 2))
            x = 24 + painter.fontMetrics().horizontalAdvance(self.text()) + 8
            painter.drawPolyline(QPolygonF([QPointF(x, 16), QPointF(x + 4, 20), QPointF(x + 11, 10)]))
        painter.setPen(theme.WARNING if self.warns else theme.INK_SOFT)
        painter.setFont(theme.text_font(12, bold=self.warns))
        text = painter.fontMetrics().elidedText(self.state, Qt.TextElideMode.ElideRight, self.width() - 28)
        painter.drawText(QRectF(24, 28, self.width() - 26, 18), Qt.AlignmentFlag.AlignLeft, text)
        painter.end()


class StepsBar(QWidget):
    """All steps. A click opens one; a double click ticks it off."""

    chosen = pyqtSignal(str)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        self.buttons: dict[str, StepButton] = {}
        for number, step in enumerate(STEPS, 1):
            push = StepButton(number, step.capitalize())
            push.setToolTip(f"{step.capitalize()} (Ctrl+{number}); a double click ticks it off (Ctrl+T)")
            push.clicked.connect(lambda _checked, s=step: self.chosen.emit(s))
            push.tick_wanted.connect(lambda s=step: self.tick(s))
            layout.addWidget(push)
            self.buttons[step] = push
        for signal in (
            workspace.stages_changed,
            workspace.looks_changed,
            workspace.cuts_changed,
            workspace.slots.changed,
        ):
            signal.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Bring every step's state up to date."""
        states = step_states(self._workspace)
        advised = bool(self._workspace.slots.advice())
        for step, push in self.buttons.items():
            push.setChecked(step == self._workspace.looks.step)
            told = (states[step], step in self._workspace.session.checked, advised and step == "grid")
            if (push.state, push.ticked, push.warns) != told:
                push.state, push.ticked, push.warns = told
                push.setAccessibleDescription(states[step])
                push.update()

    def tick(self, step: str) -> None:
        """Tick a step off, or take the tick back."""
        work = self._workspace
        done = step not in work.session.checked
        word = "Tick off" if done else "Untick"
        work.do(f"{word} {step.capitalize()}", tick_step(work.session, step, done=done))


def _few_words(advice: list[Advice]) -> str:
    """The slots that fit better, in as few words as a step has room for."""
    if len(advice) > 1:
        return "other slots"
    ruling = advice[0].ruling
    return f"swing {100.0 * ruling.swing:.0f} %" if ruling.swing > 0.5 else str(ruling)


def step_states(work: Workspace) -> dict[str, str]:
    """What each step has come to, in a few words."""
    session, view = work.session, work.view
    grid = session.grid
    states = dict.fromkeys(STEPS, "")
    count = len(session.tracks) + len(session.parts)
    gathered = f"{theme.counted(count, 'track')} · {theme.counted(len(session.groups), 'group')}"
    states["gather"] = gathered if count else "no recordings yet"
    slowest, fastest = grid.course.tempo_range_bpm
    tempo = f"{slowest:.4g}" if fastest - slowest < 1.0 else f"{slowest:.0f}–{fastest:.0f}"
    if grid.played is not None:
        tempo = "follows"
    meters = " …" if grid.meter_changes else ""
    states["grid"] = f"{tempo} · {grid.meter}{meters} · {grid.ruling}{' …' if session.ruled_apart else ''}"
    if advice := work.slots.advice():
        states["grid"] = f"better: {_few_words(advice)}"
    if view is None:
        states["hits"] = "listening …" if count else ""
        return states
    states["hits"] = f"{len(view.strokes)} strokes"
    placed = view.offsets.placed
    spread = float(np.std(view.offsets.offset_ms[placed])) if placed.any() else 0.0
    states["feel"] = f"spread {spread:.1f} ms"
    response = view.group.response
    more = {1: "", 2: ", twice"}.get(response.times, f", {response.times} times")
    more += " …" if view.group.section_settings else ""
    states["tighten"] = f"{response.strength:.0%} past {response.tolerance_ms:g} ms{more}".replace("%", " %")
    asked = work.seams.questions_of(view.group)
    left = sum(not question.answered for question in asked)
    states["proof"] = f"{theme.counted(left, 'doubt')} left" if left else "all heard" if asked else "no doubts"
    states["hand over"] = "ready" if len(view.strokes) else "nothing to move"
    return states
