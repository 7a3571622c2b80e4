"""The level chart: every hit of one track by time and level over the take; the level limits are dragged on it."""

from __future__ import annotations

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QToolTip

from supple_snare.desk import theme
from supple_snare.desk.grab import TREMBLE_PX
from supple_snare.desk.hit_tools import alike_to_chosen_s, choose_hit, chosen_hit, chosen_track, doubtful_s
from supple_snare.desk.in_words import describe_hit
from supple_snare.desk.shapes import draw_lines
from supple_snare.desk.stamps import put
from supple_snare.desk.take_chart import TakeChart
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import HitRules
from supple_snare.session.edits import set_rules
from supple_snare.session.section_edits import Span, section_spans
from supple_snare.timing.hits import Kind
from supple_snare.timing.units import FloatArray

_LOW_DB, _HIGH_DB = -66.0, 4.0
_GRAB_PX = 7.0
_NEAR_PX = 9.0


class LevelChart(TakeChart):
    """Dots were played, rings are bleed, slanted strokes are grace notes and the inside of rolls."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace, "Level chart")
        self._dragged: Span | None = None
        self._dragging = False
        self._pressed_at: QPointF | None = None
        self._layer: tuple[tuple[object, ...], QPixmap] | None = None
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self.update)

    # ---- geometry

    def _y(self, level_db: FloatArray | float) -> FloatArray:
        plot = self._plot()
        share = (np.clip(level_db, _LOW_DB, _HIGH_DB) - _LOW_DB) / (_HIGH_DB - _LOW_DB)
        return np.asarray(plot.bottom() - share * plot.height())

    def _level_at(self, y: float) -> float:
        plot = self._plot()
        level = _LOW_DB + (plot.bottom() - y) / plot.height() * (_HIGH_DB - _LOW_DB)
        return float(np.clip(round(2.0 * level) / 2.0, _LOW_DB, 0.0))

    def _spans(self) -> list[Span | None]:
        """Sections, or None for the take as one."""
        return list(section_spans(self._workspace.session)) or [None]

    def _rules(self, span: Span | None) -> HitRules:
        key = chosen_track(self._workspace)
        assert key is not None
        track = self._workspace.session.track(key)
        return track.rules if span is None else track.rules_in(span.section.key)

    def _edges(self, span: Span | None) -> tuple[float, float]:
        plot = self._plot()
        if span is None:
            return plot.left(), plot.right()
        return float(self._x(span.section.start_s)), float(self._x(span.end_s))

    # ---- drawing

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._layer = None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        work, key = self._workspace, chosen_track(self._workspace)
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        ready = key is not None and work.view is not None
        words = "● played · ○ bleed · ⁄ grace or in a roll · ◎ doubtful · □ like the chosen one · drag: level limit"
        title = f"Levels of {work.session.track(key).name}" if key else "Levels"
        self._paint_title(painter, title, words if ready else "")
        self._paint_axes(painter)
        if key is not None and work.view is not None:
            painter.drawPixmap(0, 0, self._dots(key))
            self._paint_limits(painter)
            self._paint_chosen(painter, key)
            self._paint_bracket(painter)
        painter.end()

    def _paint_axes(self, painter: QPainter) -> None:
        plot = self._plot()
        for level in (-60, -40, -20, 0):
            self._paint_line(painter, float(self._y(level)), theme.signed(level) if level else "0 dB", theme.RULE)
        self._paint_bars(painter)
        for span in section_spans(self._workspace.session)[1:]:
            x = float(self._x(span.section.start_s))
            painter.setPen(QPen(theme.BRASS, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _dots(self, key: str) -> QPixmap:
        """All hits of the track: kept while they stay the same."""
        view = self._workspace.view
        assert view is not None
        hits, session = view.hits[key], self._workspace.session
        depends = (hits, self._workspace.looks.rejudged, self.size(), session.grid, session.length_s)
        if self._layer is None or self._layer[0] != depends:
            layer = self._blank(Qt.GlobalColor.transparent)
            painter = QPainter(layer)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            x, y = self._x(hits.time_s), self._y(hits.level_db)
            bleed, played = hits.kind == Kind.BLEED, hits.kind == Kind.PLAYED
            put(painter, x[bleed], y[bleed], theme.INK_FAINT, 2.6, ring=True)
            put(painter, x[played], y[played], theme.INK, 2.8)
            painter.setPen(QPen(theme.INK, 1.4))
            rest = ~bleed & ~played
            draw_lines(painter, x[rest] - 3.0, y[rest] + 3.0, x[rest] + 3.0, y[rest] - 3.0)
            doubtful = np.isin(hits.time_s, doubtful_s(self._workspace, key))
            put(painter, x[doubtful], y[doubtful], theme.BRASS, 5.0, ring=True)
            painter.end()
            self._layer = (depends, layer)
        return self._layer[1]

    def _paint_limits(self, painter: QPainter) -> None:
        """What rules in each section: its name, and the line of its limit."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.text_font(12))
        for span in self._spans():
            left, right = self._edges(span)
            limit_db = self._rules(span).level_limit_db
            rule = "automatic" if limit_db is None else f"{theme.signed(limit_db, 1)} dB"
            self._paint_slip(painter, f"{span.section.name} · {rule}" if span else f"Limit {rule}", left, right)
            if limit_db is not None:
                y = float(self._y(limit_db))
                painter.setPen(QPen(theme.BRASS, 2))
                painter.drawLine(QPointF(left, y), QPointF(right, y))
                painter.setPen(QPen(theme.SHEET, 1.5))
                painter.setBrush(theme.BRASS)
                painter.drawRoundedRect(QRectF(right - 14, y - 4, 12, 8), 3, 3)

    def _paint_slip(self, painter: QPainter, words: str, left: float, right: float) -> None:
        metrics = painter.fontMetrics()
        text = metrics.elidedText(words, Qt.TextElideMode.ElideRight, max(int(right - left - 12), 0))
        slip = QRectF(left + 3, self._plot().bottom() - 16, metrics.horizontalAdvance(text) + 6, 15)
        painter.fillRect(slip, theme.BRASS_PALE)
        painter.setPen(theme.BRASS_TEXT)
        painter.drawText(slip, Qt.AlignmentFlag.AlignCenter, text)

    def _paint_chosen(self, painter: QPainter, key: str) -> None:
        view, chosen = self._workspace.view, chosen_hit(self._workspace)
        if view is None or chosen is None or chosen[0] != key:
            return
        hits, index = view.hits[key], chosen[1]
        like = np.isin(hits.time_s, alike_to_chosen_s(self._workspace))
        put(
            painter,
            self._x(hits.time_s[like]),
            self._y(hits.level_db[like]),
            theme.BRASS_TEXT,
            4.5,
            square=True,
            ring=True,
        )
        painter.setPen(QPen(theme.BRASS, 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(float(self._x(hits.time_s[index])), float(self._y(hits.level_db[index]))), 7, 7)

    # ---- gestures

    def _span_at(self, x: float) -> Span | None:
        return next((span for span in self._spans() if span is not None and x <= self._edges(span)[1]), None)

    def _on_limit(self, point: QPointF) -> bool:
        limit_db = self._rules(self._span_at(point.x())).level_limit_db
        return limit_db is not None and abs(float(self._y(limit_db)) - point.y()) <= _GRAB_PX

    def _hit_at(self, point: QPointF) -> int | None:
        view, key = self._workspace.view, chosen_track(self._workspace)
        if view is None or key is None or not len(view.hits[key]):
            return None
        hits = view.hits[key]
        distance = np.hypot(self._x(hits.time_s) - point.x(), self._y(hits.level_db) - point.y())
        nearest = int(np.argmin(distance))
        return nearest if distance[nearest] <= _NEAR_PX else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        work, key = self._workspace, chosen_track(self._workspace)
        if event is None or key is None or work.view is None:
            return
        point = event.position()
        index = self._hit_at(point)
        if index is not None and not self._on_limit(point):
            time_s = float(work.view.hits[key].time_s[index])
            choose_hit(work, key, time_s)
            self.placed.emit(time_s)
        elif not self._plot().adjusted(0, -4, 0, 4).contains(point):
            self.placed.emit(self._time_at(point.x()))
            return
        self._pressed_at, self._dragged = point, self._span_at(point.x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        work, key = self._workspace, chosen_track(self._workspace)
        if event is None or key is None or work.view is None:
            return
        point = event.position()
        if self._pressed_at is not None and not self._dragging and abs(point.y() - self._pressed_at.y()) > TREMBLE_PX:
            self._dragging = True
            work.begin_gesture(of_hits=True)
        if self._dragging:
            set_limit(work, key, self._dragged.section.key if self._dragged else None, self._level_at(point.y()))
            return
        index = self._hit_at(point)
        if index is not None:
            QToolTip.showText(event.globalPosition().toPoint(), describe_hit(work, key, index), self)
        else:
            QToolTip.hideText()
        over = self._on_limit(point)
        self.setCursor(Qt.CursorShape.SizeVerCursor if over else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._pressed_at = None
        if self._dragging:
            self._dragging = False
            self._workspace.end_gesture()


def set_limit(work: Workspace, key: str, section: str | None, level_db: float | None) -> None:
    """Give a track a level limit over the take or in one section, or leave it to the program."""
    word = "Automatic limit" if level_db is None else "Level limit"
    change_rules(work, key, section, word, level_limit_db=level_db)


def change_rules(work: Workspace, key: str, section: str | None, label: str, **changes: object) -> None:
    """Change one of the rules of a track, over the take or in one section."""
    track = work.session.track(key)
    rules = track.rules if section is None else track.rules_in(section)
    changed = msgspec.structs.replace(rules, **changes)
    work.do(f"{label} of {track.name}", set_rules(work.session, key, changed, section=section))
