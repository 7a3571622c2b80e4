"""The feel chart: what the playing repeats, as columns, and another feel laid over it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QToolTip, QVBoxLayout, QWidget

from supple_snare.desk import theme
from supple_snare.desk.controls import button, soft
from supple_snare.desk.feel_picture import FeelLayout, describe_slot, dots_from_grid, paint_feel
from supple_snare.desk.picture_files import save_picture
from supple_snare.desk.workspace import Workspace
from supple_snare.session.feels import FeelSeen

_HEIGHT_PX = 300
_NEAR_PX = 7.0


class FeelChart(QWidget):
    """Columns with a line of words above them."""

    placed = pyqtSignal(float)
    """A stroke was chosen, by its time."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(_HEIGHT_PX)
        self._words = soft()
        self._words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        save = button("Save the picture …", "Write this picture as PNG")
        save.setFixedHeight(28)
        save.clicked.connect(lambda: save_picture(self._workspace, self.picture, "feel.png"))
        row = QHBoxLayout()
        row.setContentsMargins(12, 2, 6, 0)
        row.addWidget(self._words, 1)
        row.addWidget(save)
        self.picture = FeelColumns(workspace)
        self.picture.placed.connect(self.placed)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addLayout(row)
        column.addWidget(self.picture, 1)
        for signal in (workspace.stages_changed, workspace.looks_changed,
                       workspace.library_changed):  # fmt: skip
            signal.connect(self._refresh_if_shown)

    def showEvent(self, event: object) -> None:
        self._refresh_if_shown()

    def _refresh_if_shown(self) -> None:
        if not self.isVisible():
            return
        first, second = self._workspace.feels()
        words = "late is up, early is down, drift left out"
        if first is not None:
            words = f"<b>{first.name}</b> · ● strokes ▬ middle ⌶ spread"
            if second is not None:
                words = f"● ▬ <b>{first.name}</b> · ◇ <b>{second.name}</b>, difference in ms above"
        self._words.setText(words)
        self.picture.show_feels(first, second)


class FeelColumns(QWidget):
    """The columns themselves: hover for numbers, click a dot to go to its stroke."""

    placed = pyqtSignal(float)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._first: FeelSeen | None = None
        self._second: FeelSeen | None = None
        self.setMouseTracking(True)
        self.setAccessibleName("Feel by slot of the cycle")

    def show_feels(self, first: FeelSeen | None, second: FeelSeen | None) -> None:
        """Draw other feels."""
        self._first, self._second = first, second
        self.update()

    def _layout(self) -> FeelLayout | None:
        if self._first is None:
            return None
        return FeelLayout.fit(QRectF(self.rect()).adjusted(0, 8, 0, 0), self._first, self._second)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        layout = self._layout()
        if layout is None or self._first is None:
            painter.setPen(theme.INK_SOFT)
            painter.setFont(theme.text_font(14))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self._workspace.why_no_feel)
        else:
            meter = self._workspace.session.grid.meter
            paint_feel(
                painter, layout, self._first, self._second, bar_beats=meter.bar_beats, beat_beats=meter.unit_beats
            )
            self._paint_selected(painter, layout)
        painter.end()

    def _paint_selected(self, painter: QPainter, layout: FeelLayout) -> None:
        """A ring around the selected stroke's dot."""
        selected, first = self._workspace.looks.selected_s, self._first
        if selected is None or first is None or not len(first.time_s):
            return
        nearest = int(np.argmin(np.abs(first.time_s - selected)))
        if abs(first.time_s[nearest] - selected) < 0.001:
            x, y = layout.x(first.place_beats), layout.y(dots_from_grid(first))
            painter.setPen(theme.BRASS)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(float(x[nearest]), float(y[nearest])), 6.0, 6.0)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        layout, first = self._layout(), self._first
        if event is None or layout is None or first is None or not len(first.time_s):
            return
        point = event.position()
        away_x = np.abs(layout.x(first.place_beats) - point.x())
        away = np.abs(layout.y(dots_from_grid(first)) - point.y()) + np.where(away_x <= 0.5 * layout.slot_px, 0.0, 1e6)
        nearest = int(np.argmin(away))
        if away[nearest] <= _NEAR_PX:
            time_s = float(first.time_s[nearest])
            self._workspace.look(selected_s=time_s)
            self.placed.emit(time_s)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        layout, first = self._layout(), self._first
        if event is None or layout is None or first is None:
            return
        index = layout.slot_at(event.position().x(), first.groove)
        if index is None:
            QToolTip.hideText()
            return
        meter = self._workspace.session.grid.meter
        words = describe_slot(
            first.groove, self._second.groove if self._second else None, index,
            bar_beats=meter.bar_beats, beat_beats=meter.unit_beats,
        )  # fmt: skip
        QToolTip.showText(event.globalPosition().toPoint(), words, self)
