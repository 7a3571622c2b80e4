"""Hits: the level limit of each lead, and hits added and removed by hand."""

from __future__ import annotations

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, head, words
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import Track
from supple_snare.session.edits import change_track, set_rules
from supple_snare.timing.hits import Hits, Kind

_LOW_DB, _HIGH_DB = -60.0, 0.0


class LevelChart(QWidget):
    """Every hit of one track by time and level; the line is the level limit and is dragged."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self.track: Track | None = None
        self.hits: Hits = Hits.none()
        self._dragging = False
        self.setFixedHeight(170)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setToolTip("Each hit by its level: dots were played, rings are bleed. Drag to set the level limit.")
        self.setAccessibleName("Level chart")

    def _plot(self) -> QRectF:
        return QRectF(36, 8, self.width() - 44, self.height() - 26)

    def _y(self, level_db: float) -> float:
        plot = self._plot()
        share = (float(np.clip(level_db, _LOW_DB, _HIGH_DB)) - _LOW_DB) / (_HIGH_DB - _LOW_DB)
        return plot.bottom() - share * plot.height()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        plot = self._plot()
        painter.fillRect(plot, theme.SHEET)
        painter.setFont(theme.text_font(12))
        for level in (-60, -40, -20, 0):
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(plot.left(), self._y(level)), QPointF(plot.right(), self._y(level)))
            painter.setPen(theme.INK_SOFT)
            box = QRectF(0, self._y(level) - 8, 31, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight, theme.signed(level) if level else "0 dB")
        painter.drawText(
            QRectF(plot.left(), plot.bottom() + 2, plot.width(), 16), Qt.AlignmentFlag.AlignRight, "time →"
        )
        if self.track is not None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_hits(painter, plot)
            self._paint_limit(painter, plot)
        painter.end()

    def _paint_hits(self, painter: QPainter, plot: QRectF) -> None:
        length = max(self._workspace.session.length_s, 1e-3)
        for time, level, kind in zip(self.hits.time_s, self.hits.level_db, self.hits.kind, strict=True):
            at = QPointF(plot.left() + time / length * plot.width(), self._y(float(level)))
            if kind == Kind.BLEED:
                painter.setPen(QPen(theme.INK_SOFT, 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(at, 2.4, 2.4)
            else:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.INK if kind == Kind.PLAYED else theme.BRASS)
                painter.drawEllipse(at, 2.6, 2.6)

    def _paint_limit(self, painter: QPainter, plot: QRectF) -> None:
        assert self.track is not None
        limit = self.track.rules.level_limit_db
        if limit is None:
            painter.setPen(theme.INK_SOFT)
            painter.drawText(plot.adjusted(4, 2, 0, 0), Qt.AlignmentFlag.AlignTop, "automatic: judged from all tracks")
            return
        y = self._y(limit)
        painter.setPen(QPen(theme.BRASS, 2))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        painter.setBrush(theme.BRASS)
        painter.drawEllipse(QPointF(plot.right(), y), 5, 5)
        painter.setPen(theme.BRASS_TEXT)
        text = f"limit {theme.signed(limit, 1)} dB"
        painter.drawText(QRectF(plot.left() + 4, y - 18, 160, 16), Qt.AlignmentFlag.AlignLeft, text)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.track is not None:
            self._dragging = True
            self._workspace.begin_gesture()
            self._set(event.position().y())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._dragging:
            self._set(event.position().y())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._dragging:
            self._dragging = False
            self._workspace.end_gesture()

    def _set(self, y: float) -> None:
        assert self.track is not None
        plot = self._plot()
        level = _LOW_DB + (plot.bottom() - y) / plot.height() * (_HIGH_DB - _LOW_DB)
        set_limit(self._workspace, self.track, float(np.clip(round(2 * level) / 2, _LOW_DB, _HIGH_DB)))


def set_limit(work: Workspace, track: Track, level_db: float | None) -> None:
    """Give a track a level limit, or leave it to the program."""
    word = "Automatic limit" if level_db is None else "Level limit"
    rules = msgspec.structs.replace(track.rules, level_limit_db=level_db)
    work.do(f"{word} of {track.name}", set_rules(work.session, track.key, rules))


class HitsCard(Card):
    """Which attacks count."""

    title = "Hits"

    def build(self) -> None:
        self.column.addWidget(head("Track"))
        self._track = QComboBox()
        self._track.setAccessibleName("Track")
        self._track.currentIndexChanged.connect(self._choose_track)
        self.column.addWidget(self._track)
        self.chart = LevelChart(self.work)
        self.column.addWidget(self.chart)
        self._auto = button("Automatic limit", "Leave it to the comparison of all tracks again")
        self._auto.clicked.connect(self._make_automatic)
        self.column.addWidget(self._auto)
        self._facts = words()
        self.column.addWidget(self._facts)
        self.column.addWidget(head("By hand"))
        self.column.addWidget(
            words(
                "Double-click on the page: add a hit to this track at the nearest attack, with Shift exactly there. "
                "Select a stroke and press Delete: remove its hit."
            )
        )
        row = QHBoxLayout()
        self._undo_added = button("Forget corrections", "Drop every hit added or removed by hand on this track")
        self._undo_added.clicked.connect(self._forget)
        row.addWidget(self._undo_added)
        self.column.addLayout(row)
        self.column.addStretch(1)

    def refresh(self) -> None:
        view = self.work.view
        if view is None:
            self._facts.setText("Listening to the recordings …")
            self.chart.track = None
            self.chart.update()
            return
        keys = [*view.leads, *(track.key for track in view.tracks if track.key not in view.leads)]
        if [self._track.itemData(i) for i in range(self._track.count())] != keys:
            chosen = self._track.currentData()
            self._track.blockSignals(True)
            self._track.clear()
            for key in keys:
                rank = f"lead {view.leads.index(key) + 1}" if key in view.leads else "no lead"
                self._track.addItem(f"{self.work.session.track(key).name} · {rank}", key)
            self._track.setCurrentIndex(keys.index(chosen) if chosen in keys else 0)
            self._track.blockSignals(False)
        key = self._track.currentData()
        if key is None:
            return
        track, hits = self.work.session.track(key), view.hits[key]
        self.chart.track, self.chart.hits = track, hits
        self.chart.update()
        self._auto.setEnabled(track.rules.level_limit_db is not None)
        self._undo_added.setEnabled(bool(track.added_s or track.removed_s))
        counts = {kind: int(np.count_nonzero(hits.kind == kind)) for kind in Kind}
        facts = f"{counts[Kind.PLAYED]} played, {counts[Kind.GRACE]} grace, {counts[Kind.ROLL]} inside rolls, "
        facts += f"{counts[Kind.BLEED]} bleed."
        if track.added_s or track.removed_s:
            facts += f" By hand: {len(track.added_s)} added, {len(track.removed_s)} removed."
        if not counts[Kind.PLAYED]:
            facts = "No clear attacks found: lower the level limit, or let another track lead."
        self._facts.setText(facts)

    def _choose_track(self) -> None:
        self.work.look(track=self._track.currentData() or "")
        self.refresh()

    def _make_automatic(self) -> None:
        if self.chart.track is not None:
            set_limit(self.work, self.chart.track, None)

    def _forget(self) -> None:
        track = self.chart.track
        if track is not None:
            changed = change_track(self.work.session, track.key, added_s=(), removed_s=())
            self.work.do(f"Forget corrections of {track.name}", changed)
