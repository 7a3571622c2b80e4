"""The response curve: deviation from the aim as played against what is kept of it, with three handles."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.grab import Grab
from supple_snare.desk.lean_chart import with_window
from supple_snare.desk.shapes import draw_lines
from supple_snare.desk.workspace import Workspace
from supple_snare.timing.tighten import Response

_LEFT, _RIGHT, _TOP, _BOTTOM = 50.0, 10.0, 8.0, 38.0
_SPAN_MS = 60.0
_HANDLES = ("tolerance", "strength", "reach")


class ResponseCurve(QWidget):
    """Part of the Tighten card. The dots of the curve show how many strokes lie where."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._dragged: str | None = None
        self._grab = Grab(QPointF())
        self.setFixedHeight(206)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Response curve")
        workspace.stages_changed.connect(self.update)

    def _response(self) -> Response | None:
        return self._workspace.response

    def _plot(self) -> QRectF:
        return QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM)

    def _point(self, played_ms: float, kept_ms: float) -> QPointF:
        plot = self._plot()
        x = plot.center().x() + played_ms / _SPAN_MS * plot.width() / 2.0
        y = plot.center().y() - kept_ms / _SPAN_MS * plot.height() / 2.0
        return QPointF(x, y)

    def handle_points(self) -> dict[str, QPointF]:
        """Where the handles stand: at the two edges, and half-way between them."""
        response = self._response()
        if response is None:
            return {}
        reach = min(response.reach_ms, _SPAN_MS)
        middle = 0.5 * (response.tolerance_ms + reach)

        def on_curve(deviation_ms: float) -> QPointF:
            return self._point(deviation_ms, float(response.kept_deviation_ms(np.array([deviation_ms]))[0]))

        points = {"tolerance": on_curve(response.tolerance_ms), "strength": on_curve(middle)}
        if response.has_reach:
            points["reach"] = on_curve(min(response.reach_ms, _SPAN_MS))
        return points

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        plot = self._plot()
        painter.fillRect(plot, theme.SHEET)
        painter.setFont(theme.text_font(12))
        for value in (-60, -40, -20, 0, 20, 40, 60):
            at = self._point(value, value)
            painter.setPen(QPen(theme.INK_SOFT if value == 0 else theme.RULE, 1))
            painter.drawLine(QPointF(at.x(), plot.top()), QPointF(at.x(), plot.bottom()))
            painter.drawLine(QPointF(plot.left(), at.y()), QPointF(plot.right(), at.y()))
            painter.setPen(theme.INK_SOFT)
            text = theme.signed(value) if value else "0"
            if abs(value) != 60:
                box = QRectF(at.x() - 20, plot.bottom() + 2, 40, 16)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
                box = QRectF(0, at.y() - 8, _LEFT - 5, 16)
                painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        below = QRectF(plot.left(), plot.bottom() + 18, plot.width(), 18)
        painter.drawText(below, Qt.AlignmentFlag.AlignCenter, "deviation as played, ms")
        painter.save()
        painter.translate(9, plot.center().y())
        painter.rotate(-90)
        painter.drawText(QRectF(-70, -9, 140, 16), Qt.AlignmentFlag.AlignCenter, "deviation kept, ms")
        painter.restore()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        response = self._response()
        if response is not None:
            self._paint_strokes(painter)
            self._paint_curve(painter, response)
        painter.end()

    def _paint_strokes(self, painter: QPainter) -> None:
        """Every stroke as a tick on the lower edge: how many each part of the curve takes."""
        view = self._workspace.view
        if view is None:
            return
        plot = self._plot()
        deviation = view.plan.deviation_ms
        shown = deviation[np.isfinite(deviation) & (np.abs(deviation) <= _SPAN_MS)]
        # A tick every other pixel is all that can be seen of a long take.
        columns, first = np.unique(np.rint(shown / _SPAN_MS * plot.width() / 4.0), return_index=True)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        x, foot = round(plot.center().x()) + 2.0 * columns, np.full(len(columns), plot.bottom())
        for colour, mine in theme.by_lean(shown[first]):
            painter.setPen(QPen(colour, 1))
            draw_lines(painter, x[mine], foot[mine] - 7.0, x[mine], foot[mine] - 1.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)

    def _paint_curve(self, painter: QPainter, response: Response) -> None:
        plot = self._plot()
        painter.setClipRect(plot)
        painter.setPen(QPen(theme.RULE_STRONG, 1, Qt.PenStyle.DashLine))
        painter.drawLine(self._point(-_SPAN_MS, -_SPAN_MS), self._point(_SPAN_MS, _SPAN_MS))
        reach = min(response.reach_ms, 2 * _SPAN_MS)
        tolerance = response.tolerance_ms
        # The curve jumps at the reach: what lies past it stays where it is.
        knots = np.array(
            [-2 * _SPAN_MS, -reach - 1e-6, -reach, -tolerance, tolerance, reach, reach + 1e-6, 2 * _SPAN_MS]
        )
        kept = response.kept_deviation_ms(knots)
        points = [self._point(x, y) for x, y in zip(knots.tolist(), kept.tolist(), strict=True)]
        painter.setPen(QPen(theme.INK, 2))
        painter.drawPolyline(QPolygonF(points))
        painter.setClipping(False)
        for point in self.handle_points().values():
            painter.setPen(QPen(theme.SHEET, 2))
            painter.setBrush(theme.BRASS)
            painter.drawEllipse(point, 6.5, 6.5)

    def _near(self, point: QPointF) -> str | None:
        for name, at in self.handle_points().items():
            if (point - at).manhattanLength() <= 13:
                return name
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._dragged = self._near(event.position())
            if self._dragged:
                self._grab = Grab(event.position(), self.handle_points()[self._dragged])
                self._workspace.begin_gesture()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._dragged is None:
            name = self._near(event.position())
            self.setCursor(Qt.CursorShape.SizeAllCursor if name else Qt.CursorShape.ArrowCursor)
            self.setToolTip({"strength": "Drag up or down: strength", None: ""}.get(name, f"Drag sideways: {name}"))
            return
        response = self._response()
        to = self._grab.drag(event.position())
        if response is None or to is None:
            return
        plot = self._plot()
        if self._dragged == "strength":
            reach = min(response.reach_ms, _SPAN_MS)
            middle = 0.5 * (response.tolerance_ms + reach)
            kept = (plot.center().y() - to.y()) / plot.height() * 2.0 * _SPAN_MS
            over = max(middle - response.tolerance_ms, 0.5)
            left = float(np.clip((kept - response.tolerance_ms) / over, 0.0, 1.0))
            strength = 1.0 - left ** (1.0 / response.times)
            changed = replace(response, strength=round(strength, 2))
        else:
            value = (to.x() - plot.center().x()) / plot.width() * 2.0 * _SPAN_MS
            changed = with_window(response, self._dragged, round(2.0 * max(value, 0.0)) / 2.0)
        work = self._workspace
        work.set_response(f"Change the {self._dragged}", changed)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._dragged:
            self._dragged = None
            self._workspace.end_gesture()
