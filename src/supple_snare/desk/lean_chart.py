"""The lean chart: every stroke's offset along the take, played and tightened, with drift and the windows as bands."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF, QResizeEvent

from supple_snare.desk import theme
from supple_snare.desk.controls import button
from supple_snare.desk.grab import NEAR_PX, Grab
from supple_snare.desk.shapes import polygon
from supple_snare.desk.stamps import put
from supple_snare.desk.take_chart import TakeChart
from supple_snare.desk.workspace import Workspace
from supple_snare.session.stages import GroupView
from supple_snare.timing.tighten import Response
from supple_snare.timing.units import FloatArray

_BAND_STEP_PX = 4.0
_LEAST_SPAN_MS = 30.0


class LeanChart(TakeChart):
    """The bottom of the window. Bands are dragged at the handles on the right."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace, "Lean chart")
        self._layer: QPixmap | None = None
        self._played: tuple[tuple[object, ...], QPixmap] | None = None
        self._span: float | None = None
        self._dragged: str | None = None
        self._grab = Grab(QPointF())
        self.setToolTip("Offsets of all strokes. Drag the brass handles to set tolerance and reach; click to go there.")
        self.from_aim = button(
            "From the aim", "Show deviations from the aim in place of offsets from the grid", checkable=True
        )
        self.from_aim.setParent(self)
        self.from_aim.setGeometry(150, 0, 108, 28)
        self.from_aim.setStyleSheet("padding: 0 8px; min-height: 0;")
        self.from_aim.clicked.connect(lambda on: workspace.look(from_aim=on))
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self._stale)

    @property
    def _is_from_aim(self) -> bool:
        return self._workspace.looks.from_aim and self._workspace.looks.shows_moves

    def _values(self, view: GroupView) -> tuple[FloatArray, FloatArray]:
        """What is drawn of every stroke, as played and tightened, in ms; NaN for those without a place."""
        after = view.offsets.offset_ms + view.plan.move_ms
        if not self._is_from_aim:
            return view.offsets.offset_ms, after
        return view.plan.deviation_ms, after - view.plan.target_ms

    def _middles(self, view: GroupView) -> FloatArray:
        """Around what the windows of every stroke lie."""
        if self._is_from_aim:
            return np.zeros(len(view.offsets))
        return np.asarray(view.offsets.offset_ms - view.plan.deviation_ms)

    # ---- geometry

    def _span_ms(self) -> float:
        """Half height of the chart in ms."""
        if self._span is None:
            self._span = self._wanted_span_ms()
        return self._span

    def _wanted_span_ms(self) -> float:
        """What the strokes and the reach need."""
        view = self._workspace.view
        most = _LEAST_SPAN_MS
        if view is not None and view.offsets.placed.any():
            values = np.abs(self._values(view)[0])
            if np.isfinite(values).any():
                most = max(most, float(np.nanpercentile(values, 99.0)) * 1.15)
        response = self._response()
        if response is not None and response.has_reach:
            most = max(most, response.reach_ms * 1.12)
        return float(min(10.0 * math.ceil(most / 10.0), 150.0))

    def _y(self, offset_ms: FloatArray | float) -> FloatArray:
        """Heights of offsets, kept inside the chart."""
        plot = self._plot()
        share = np.clip(np.asarray(offset_ms) / self._span_ms(), -1.04, 1.04)
        return np.asarray(plot.center().y() - share * plot.height() / 2.0)

    def _response(self) -> Response | None:
        return self._workspace.response

    # ---- drawing

    def _stale(self) -> None:
        self._layer = None
        self.from_aim.setVisible(self._workspace.looks.shows_moves)
        self.from_aim.setChecked(self._workspace.looks.from_aim)
        self._span = None
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._stale()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._layer is None:
            self._layer = self._blank(theme.SHEET)
            painter = QPainter(self._layer)
            self._paint_chart(painter)
            painter.end()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._layer)
        if not self._workspace.session.is_empty:
            self._paint_bracket(painter)
        painter.end()

    def _paint_chart(self, painter: QPainter) -> None:
        view = self._workspace.view
        words = "late is up, early is down · ○ played"
        if self._workspace.looks.shows_moves:
            words = "late is up · ○ played ● tightened · bands: stays / moves / past the reach"
        words = words if self._is_from_aim else f"{words} · line: drift"
        self._paint_title(painter, "Lean over the take", words if view is not None else "")
        if view is None:
            return
        if self._workspace.looks.shows_moves:
            self._paint_bands(painter, view)
        painter.drawPixmap(0, 0, self._played_layer(view))
        if self._workspace.looks.shows_moves:
            self._paint_tightened(painter, view)

    def _played_layer(self, view: GroupView) -> QPixmap:
        """Axes, drift and what was played: kept while only the plan changes."""
        key: tuple[object, ...] = (
            view.offsets,
            self._span_ms(),
            self.size(),
            self._workspace.session.grid,
            self._workspace.selected,
        )
        if self._is_from_aim:
            key = (*key, view.plan)
        if self._played is None or self._played[0] != key:
            layer = self._blank(Qt.GlobalColor.transparent)
            painter = QPainter(layer)
            self._paint_axes(painter)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
            if not self._is_from_aim:
                self._paint_drift(painter, view)
            self._paint_played(painter, view)
            painter.end()
            self._played = (key, layer)
        return self._played[1]

    def _paint_bands(self, painter: QPainter, view: GroupView) -> None:
        """Tolerance and reach around each stroke's target, drawn as bands along the kept drift."""
        plot = self._plot()
        middles = self._middles(view)
        has_aim = np.isfinite(middles)
        at = self._x(view.strokes.time_s[has_aim])
        if not len(at):
            return
        if not view.group.has_pattern or self._is_from_aim:
            # Drift is slow: a point every few pixels draws it, however many strokes there are.
            x = np.arange(plot.left(), plot.right() + _BAND_STEP_PX, _BAND_STEP_PX)
            target = np.interp(x, at, middles[has_aim])
            nearest = np.clip(np.searchsorted(at, x), 0, len(at) - 1)
        else:  # every stroke has a window of its own, from halfway to the one before to halfway to the next
            edges = np.concatenate([[plot.left()], 0.5 * (at[1:] + at[:-1]), [plot.right()]])
            x = np.repeat(edges, 2)[1:-1]
            target = np.repeat(middles[has_aim], 2)
            nearest = np.repeat(np.arange(len(at)), 2)
        reach = np.minimum(view.plan.reach_ms[has_aim][nearest], 2.0 * self._span_ms())
        tolerance = view.plan.tolerance_ms[has_aim][nearest]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setClipRect(plot)
        for width, colour in ((reach, QColor("#F1E9D6")), (tolerance, QColor("#DDCFAA"))):
            upper, lower = self._y_free(target + width), self._y_free(target - width)
            painter.setBrush(colour)
            painter.drawPolygon(polygon(np.concatenate([x, x[::-1]]), np.concatenate([upper, lower[::-1]])))
        painter.setClipping(False)
        response = self._response()
        assert response is not None
        for name, value in (("tolerance", response.tolerance_ms), ("reach", response.reach_ms)):
            if value <= self._span_ms():
                painter.setPen(QPen(theme.SHEET, 1.5))
                painter.setBrush(theme.BRASS)
                handle = self._handle(name)
                painter.drawRoundedRect(QRectF(handle.x() - 6, handle.y() - 4, 12, 8), 3, 3)

    def _y_free(self, offset_ms: FloatArray) -> FloatArray:
        """Heights of offsets, beyond the edges too."""
        plot = self._plot()
        return np.asarray(plot.center().y() - offset_ms / self._span_ms() * plot.height() / 2.0)

    def _handle(self, name: str) -> QPointF:
        response = self._response()
        assert response is not None
        value = response.tolerance_ms if name == "tolerance" else response.reach_ms
        view = self._workspace.view
        last = 0.0
        if view is not None:
            middles = self._middles(view)
            last = float(middles[np.isfinite(middles)][-1]) if np.isfinite(middles).any() else 0.0
        return QPointF(self._plot().right() + 10.0, float(self._y_free(np.array(last + value))))

    def _paint_axes(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setFont(theme.text_font(12))
        span = self._span_ms()
        step = 10.0 if span <= 40 else 20.0 if span <= 80 else 50.0
        for value in np.arange(-math.floor(span / step) * step, span + 0.1, step):
            y = float(self._y(float(value)))
            text = theme.signed(float(value)) if value else "0 ms"
            # The outermost numbers would touch the heading and the bar axis.
            text = "" if abs(value) > 0.9 * span else text
            self._paint_line(painter, y, text, theme.RULE if value else theme.INK_SOFT)
        self._paint_bars(painter)

    def _paint_drift(self, painter: QPainter, view: GroupView) -> None:
        placed = view.offsets.placed
        if np.count_nonzero(placed) < 2:
            return
        painter.setPen(QPen(theme.BRASS, 2))
        x, y = self._x(view.strokes.time_s[placed]), self._y(view.offsets.drift_ms[placed])
        painter.drawPolyline(polygon(x, y))

    def _paint_played(self, painter: QPainter, view: GroupView) -> None:
        values = self._values(view)[0]
        placed = np.flatnonzero(np.isfinite(values))
        x = self._x(view.strokes.time_s[placed])
        played = values[placed]
        beyond = np.abs(played) > self._span_ms()
        y = self._y(played)
        for at_x, at_y, offset_ms in zip(x[beyond].tolist(), y[beyond].tolist(), played[beyond].tolist(), strict=True):
            at, up = QPointF(at_x, at_y), -1.0 if offset_ms > 0 else 1.0  # an arrow at the edge
            painter.setPen(QPen(theme.lean_colour(offset_ms), 1.3))
            painter.drawPolyline(QPolygonF([at + QPointF(-3, -4 * up), at, at + QPointF(3, -4 * up)]))
        for colour, mine in theme.by_lean(played):
            put(painter, x[mine & ~beyond], y[mine & ~beyond], colour, 2.8, ring=True)
        selected = self._workspace.selected
        if selected is not None and selected in placed:
            painter.setPen(QPen(theme.BRASS, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            index = int(np.searchsorted(placed, selected))
            painter.drawEllipse(QPointF(float(x[index]), float(y[index])), 7.0, 7.0)

    def _paint_tightened(self, painter: QPainter, view: GroupView) -> None:
        values = self._values(view)[1]
        placed = np.isfinite(values)
        x = self._x(view.strokes.time_s[placed])
        tightened = values[placed]
        y = self._y(tightened)
        for colour, mine in theme.by_lean(tightened):
            put(painter, x[mine], y[mine], colour, 2.3)

    # ---- gestures

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._workspace.view is None:
            return
        self._dragged = self._handle_at(event.position())
        if self._dragged:
            self._grab = Grab(event.position(), self._handle(self._dragged))
            self._workspace.begin_gesture()
            return
        time_s = self._time_at(event.position().x())
        strokes = self._workspace.view.strokes.time_s
        if len(strokes):
            nearest = float(strokes[np.argmin(np.abs(strokes - time_s))])
            self._workspace.look(selected_s=nearest)
            self.placed.emit(nearest)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._dragged is None:
            near = self._handle_at(event.position()) is not None
            self.setCursor(Qt.CursorShape.SizeVerCursor if near else Qt.CursorShape.ArrowCursor)
            return
        response = self._response()
        to = self._grab.drag(event.position())
        if response is None or to is None:
            return
        plot = self._plot()
        value = (plot.center().y() - to.y()) / plot.height() * 2.0 * self._span_ms()
        value = round(max(value, 0.0) * 2.0) / 2.0
        changed = with_window(response, self._dragged, value)
        self._workspace.set_response(f"Change the {self._dragged}", changed)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._dragged:
            self._dragged = None
            self._workspace.end_gesture()

    def _handle_at(self, point: QPointF) -> str | None:
        response = self._response()
        if response is None or not self._workspace.looks.shows_moves:
            return None
        for name in ("tolerance", "reach"):
            value = response.tolerance_ms if name == "tolerance" else response.reach_ms
            if value <= self._span_ms():
                handle = self._handle(name)
                if abs(point.x() - handle.x()) <= 12 and abs(point.y() - handle.y()) <= NEAR_PX:
                    return name
        return None


def with_window(response: Response, name: str, value_ms: float) -> Response:
    """A response with another tolerance or reach; the two never cross."""
    if name == "tolerance":
        return replace(response, tolerance_ms=min(value_ms, response.reach_ms))
    return replace(response, reach_ms=max(value_ms, response.tolerance_ms, 1.0))
