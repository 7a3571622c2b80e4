"""What the charts below the page share: the take by bars, and a bracket around what the page shows."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.workspace import Workspace
from supple_snare.timing.units import FloatArray

LEFT_PX, RIGHT_PX, TOP_PX, BOTTOM_PX = 46, 22, 28, 20


class TakeChart(QWidget):
    """A chart over the whole take."""

    placed = pyqtSignal(float)
    """A moment was chosen."""

    def __init__(self, workspace: Workspace, name: str) -> None:
        super().__init__()
        self._workspace = workspace
        self._bars = (1.0, 1.0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(172)
        self.setMouseTracking(True)
        self.setAccessibleName(name)

    def set_visible_bars(self, bars: tuple[float, float]) -> None:
        """Bracket what the page shows."""
        if bars != self._bars:
            self._bars = bars
            self.update()

    def _plot(self) -> QRectF:
        return QRectF(LEFT_PX, TOP_PX, self.width() - LEFT_PX - RIGHT_PX, self.height() - TOP_PX - BOTTOM_PX)

    def _bar_range(self) -> tuple[float, float]:
        session = self._workspace.session
        first = min(1.0, float(session.grid.bar_at(0.0)))
        return first, max(first + 1.0, float(session.grid.bar_at(session.length_s)))

    def _x(self, time_s: FloatArray | float) -> FloatArray:
        first, last = self._bar_range()
        bars = self._workspace.session.grid.bar_at(time_s)
        plot = self._plot()
        return np.asarray(plot.left() + (bars - first) / (last - first) * plot.width())

    def _time_at(self, x: float) -> float:
        first, last = self._bar_range()
        plot = self._plot()
        bar = first + (x - plot.left()) / plot.width() * (last - first)
        return float(self._workspace.session.grid.bar_time_s(bar))

    def _blank(self, colour: QColor | Qt.GlobalColor) -> QPixmap:
        ratio = self.devicePixelRatioF()
        blank = QPixmap(self.size() * ratio)
        blank.setDevicePixelRatio(ratio)
        blank.fill(colour)
        return blank

    def _paint_title(self, painter: QPainter, title: str, words: str) -> None:
        painter.setFont(theme.text_font(13, bold=True))
        painter.setPen(theme.INK)
        painter.drawText(QPointF(12, 18), title)
        left = 24 + painter.fontMetrics().horizontalAdvance(title)
        painter.setFont(theme.text_font(12))
        painter.setPen(theme.INK_SOFT)
        box = QRectF(left, 4, self.width() - left - 12, 20)
        text = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_line(self, painter: QPainter, y: float, text: str, colour: QColor) -> None:
        """A level line with its number."""
        plot = self._plot()
        painter.setPen(QPen(colour, 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        painter.setPen(theme.INK_SOFT)
        painter.drawText(QRectF(0, y - 8, LEFT_PX - 6, 16), Qt.AlignmentFlag.AlignRight, text)

    def _paint_bars(self, painter: QPainter) -> None:
        """The numbers of the bars."""
        plot = self._plot()
        first, last = self._bar_range()
        every = next(step for step in (1, 2, 4, 8, 16, 32, 64) if (last - first) / step <= 24 or step == 64)
        for bar in range(math.ceil(first), int(last) + 1):
            if (bar - 1) % every == 0:
                x = float(self._x(float(self._workspace.session.grid.bar_time_s(bar))))
                painter.setPen(QPen(theme.RULE, 1))
                painter.drawLine(QPointF(x, plot.bottom()), QPointF(x, plot.bottom() + 4))
                painter.setPen(theme.INK_SOFT)
                painter.drawText(QRectF(x - 20, plot.bottom() + 3, 40, 16), Qt.AlignmentFlag.AlignCenter, str(bar))

    def _paint_bracket(self, painter: QPainter) -> None:
        plot = self._plot()
        grid = self._workspace.session.grid
        left, right = (float(self._x(float(grid.bar_time_s(bar)))) for bar in self._bars)
        left, right = max(left, plot.left()), min(right, plot.right())
        y = plot.bottom() + 1
        painter.setPen(QPen(theme.BRASS, 2))
        corners = [QPointF(left, y - 5), QPointF(left, y), QPointF(right, y), QPointF(right, y - 5)]
        painter.drawPolyline(QPolygonF(corners))
