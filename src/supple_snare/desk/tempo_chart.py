"""The tempo chart: the course of the tempo over the take, which is bent by hand."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QToolTip

from supple_snare.desk import theme
from supple_snare.desk.grab import TREMBLE_PX
from supple_snare.desk.shapes import polygon
from supple_snare.desk.stamps import put
from supple_snare.desk.take_chart import TakeChart
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.grid_edits import bend_tempo, raw_course_tempo
from supple_snare.session.section_edits import section_spans
from supple_snare.timing.course import TEMPO_RANGE_BPM
from supple_snare.timing.units import FloatArray

_LEAST_SPAN_BPM = 4.0


class TempoChart(TakeChart):
    """A line for the grid's tempo, rings for that of each beat as played, diamonds for pins."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace, "Tempo chart")
        self._pressed: QPointF | None = None
        self._bar: int | None = None
        self._range_at_grab: tuple[float, float] | None = None
        self.setToolTip("Drag the curve up or down to bend the tempo of a bar; double-click a bent bar to let it go.")
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self.update)

    # ---- geometry

    def _tempos(self) -> tuple[float, float]:
        """Lowest and highest tempo shown; it stands still while the curve is dragged."""
        if self._range_at_grab is not None:
            return self._range_at_grab
        session = self._workspace.session
        tempo = session.grid.tempo_at(np.linspace(0.0, max(session.length_s, 1.0), 400))
        low, high = float(tempo.min()), float(tempo.max())
        if session.grid.played is not None:
            played = raw_course_tempo(session.grid.played)[1]
            low = min(low, float(np.percentile(played, 2)))
            high = max(high, float(np.percentile(played, 98)))
        room = max(0.15 * (high - low), 0.5 * _LEAST_SPAN_BPM)
        return low - room, high + room

    def _y(self, tempo_bpm: FloatArray | float) -> FloatArray:
        plot = self._plot()
        low, high = self._tempos()
        return np.asarray(plot.bottom() - (np.clip(tempo_bpm, low, high) - low) / (high - low) * plot.height())

    def _tempo_under(self, y: float) -> float:
        plot = self._plot()
        low, high = self._tempos()
        slowest, fastest = TEMPO_RANGE_BPM
        return float(np.clip(low + (plot.bottom() - y) / plot.height() * (high - low), slowest, fastest))

    # ---- drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        session = self._workspace.session
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        played = session.grid.played
        words = (
            "○ each beat as played · line: the grid · ◆ pinned · drag the line to bend a bar"
            if played is not None
            else "steady between pins (◆)"
            if session.grid.pins
            else "one tempo · Follow the band lets it go along with the beats as played"
        )
        self._paint_title(painter, "Tempo over the take", "" if session.is_empty else words)
        if not session.is_empty:
            self._paint_axes(painter)
            if played is not None:
                self._paint_played(painter)
            self._paint_course(painter)
            self._paint_bracket(painter)
        painter.end()

    def _paint_axes(self, painter: QPainter) -> None:
        plot = self._plot()
        low, high = self._tempos()
        step = next(each for each in (1, 2, 5, 10, 20, 50, 100) if (high - low) / each <= 6 or each == 100)
        for tempo in range(int(np.ceil(low / step)) * step, int(high) + 1, step):
            self._paint_line(painter, float(self._y(tempo)), str(tempo), theme.RULE)
        self._paint_bars(painter)
        for span in section_spans(self._workspace.session)[1:]:
            x = float(self._x(span.section.start_s))
            painter.setPen(QPen(theme.BRASS, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _paint_played(self, painter: QPainter) -> None:
        played = self._workspace.session.grid.played
        assert played is not None
        middle_s, tempo = raw_course_tempo(played)
        put(painter, self._x(middle_s), self._y(tempo), theme.INK_FAINT, 2.4, ring=True)

    def _paint_course(self, painter: QPainter) -> None:
        session = self._workspace.session
        grid, plot = session.grid, self._plot()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if grid.played is not None:
            for bend in grid.played.bends:
                left, right = self._x(grid.course.time_at([bend.from_beat, bend.to_beat]))
                painter.fillRect(QRectF(left, plot.top(), right - left, plot.height()), theme.BRASS_PALE)
        time_s = np.linspace(0.0, session.length_s, max(int(plot.width() / 2), 2))
        tempo = grid.tempo_at(time_s)
        painter.setPen(QPen(theme.BRASS, 2.2))
        painter.drawPolyline(polygon(self._x(time_s), self._y(tempo)))
        painter.setPen(QPen(theme.SHEET, 1))
        painter.setBrush(theme.BRASS_TEXT)
        for pin in grid.pins:
            x, y = float(self._x(pin.time_s)), float(self._y(grid.tempo_at(pin.time_s)))
            painter.drawPolygon(QPolygonF([QPointF(x - 5, y), QPointF(x, y - 6), QPointF(x + 5, y), QPointF(x, y + 6)]))

    # ---- gestures

    def _bar_at(self, x: float) -> int:
        return int(np.floor(float(self._workspace.session.grid.bar_at(self._time_at(x)))))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._workspace.session.is_empty:
            return
        self._pressed = event.position()
        self._bar = self._bar_at(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._workspace.session.is_empty:
            return
        work, point = self._workspace, event.position()
        if self._pressed is None:
            time_s = self._time_at(point.x())
            tempo = float(work.session.grid.tempo_at(time_s))
            QToolTip.showText(event.globalPosition().toPoint(), f"bar {self._bar_at(point.x())}: {tempo:.2f} bpm", self)
            return
        if self._range_at_grab is None:
            if abs(point.y() - self._pressed.y()) <= TREMBLE_PX:
                return
            if work.session.grid.played is None:
                work.tell("A steady tempo has no curve to bend: tick Follow the band first.")
                self._pressed = None
                return
            self._range_at_grab = self._tempos()
            work.begin_gesture()
        assert self._bar is not None
        try:
            work.do("Bend the tempo", bend_tempo(work.session, self._bar, round(self._tempo_under(point.y()), 2)))
        except SnareError as error:
            work.tell_problem(str(error))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._range_at_grab is not None:
            self._range_at_grab = None
            self._workspace.end_gesture()
            self.update()
        elif event is not None and self._pressed is not None:
            self.placed.emit(self._time_at(event.position().x()))
        self._pressed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._workspace.session.grid.played is not None:
            work = self._workspace
            work.do("Unbend the tempo", bend_tempo(work.session, self._bar_at(event.position().x()), None))
