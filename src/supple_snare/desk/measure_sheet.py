"""Measurements in place of the page: a table of strokes, leads, slots, sections or bars, and its picture."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QSplitter,
    QTableView,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from supple_snare.desk import theme
from supple_snare.desk.controls import button, soft
from supple_snare.desk.picture_files import save_picture
from supple_snare.desk.stamps import put
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.exchange.tables import write_csv
from supple_snare.session.measures import KINDS, Cell, Table, measure_table
from supple_snare.session.stages import GroupView
from supple_snare.timing.units import FloatArray

_NAMES = {
    "strokes": "every stroke",
    "leads": "by lead",
    "slots": "by place in the bar",
    "sections": "by section",
    "bars": "by bar",
}
_MOST_COLUMNS = 48
_LEAST_SPAN_MS = 20.0


class _Model(QAbstractTableModel):
    """A table for Qt."""

    def __init__(self) -> None:
        super().__init__()
        self.table: Table | None = None

    def show(self, table: Table | None) -> None:
        """Show another table."""
        self.beginResetModel()
        self.table = table
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if self.table is None else len(self.table.rows)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if self.table is None else len(self.table.header)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if self.table is None or role != Qt.ItemDataRole.DisplayRole or orientation != Qt.Orientation.Horizontal:
            return None
        return self.table.header[section]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if self.table is None:
            return None
        value = self.table.rows[index.row()][index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return _text(value, self.table.header[index.column()])
        if role == Qt.ItemDataRole.TextAlignmentRole and not isinstance(value, str):
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None


def _text(value: Cell, header: str) -> str:
    if value is None:
        return "–"
    if isinstance(value, str) or not isinstance(value, float):
        return str(value).replace("-", "−") if isinstance(value, int) else str(value)
    if header in ("mean ms", "worst ms", "offset ms", "drift ms", "feel ms", "scatter ms", "pull ms"):
        return theme.signed(value, 1)
    digits = {"time s": 3, "spread ms": 1, "level dB": 1, "early %": 0, "late %": 0, "played bpm": 1}.get(header)
    return (f"{value:g}" if digits is None else f"{value:.{digits}f}").replace("-", "−")


class MeasurePicture(QWidget):
    """Every stroke of a row as a dot in its column, its mean as a bar, its spread as a bracket."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._table: Table | None = None
        self._kind = KINDS[0]
        self.setMinimumHeight(120)
        self.setMouseTracking(True)
        self.setAccessibleName("Picture of the measurements")

    def show_table(self, table: Table | None, kind: str) -> None:
        """Draw another table."""
        self._table, self._kind = table, kind
        self.update()

    def _plot(self) -> QRectF:
        return QRectF(44, 12, max(self.width() - 56, 10), max(self.height() - 40, 10))

    def _columns(self) -> tuple[FloatArray, FloatArray, list[str]]:
        """Column, offset of every placed stroke, and the names of the columns."""
        view, table = self._workspace.view, self._table
        if view is None or table is None:
            return np.zeros(0), np.zeros(0), []
        placed = view.offsets.placed
        if self._kind == "strokes":  # all together, then each lead
            offset_ms = view.offsets.offset_ms[placed]
            lead = view.strokes.lead[placed] + 1.0
            names = ["all", *(self._workspace.session.name_of(key) for key in view.columns)]
            return np.concatenate([np.zeros(len(lead)), lead]), np.tile(offset_ms, 2), names
        known = placed & (table.group >= 0)
        names = [_text(row[0], table.header[0]) for row in table.rows]
        return table.group[known].astype(np.float64), view.offsets.offset_ms[known], names

    def _span_ms(self, offset_ms: FloatArray) -> float:
        most = float(np.percentile(np.abs(offset_ms), 99.5)) if len(offset_ms) else 0.0
        return max(_LEAST_SPAN_MS, 10.0 * float(np.ceil(1.1 * most / 10.0)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        column, offset_ms, names = self._columns()
        if names:
            self._paint(painter, column, offset_ms, names)
        painter.end()

    def _paint(self, painter: QPainter, column: FloatArray, offset_ms: FloatArray, names: list[str]) -> None:
        plot, span = self._plot(), self._span_ms(offset_ms)
        width = plot.width() / len(names)

        def heights(values: FloatArray) -> FloatArray:
            return np.asarray(plot.center().y() - np.clip(values / span, -1.0, 1.0) * plot.height() / 2.0)

        def height(value: float) -> float:
            return float(heights(np.array(value)))

        painter.setFont(theme.text_font(12))
        step = 10.0 if span <= 40 else 20.0 if span <= 80 else 50.0
        for value in np.arange(-np.floor(span / step) * step, span + 0.1, step).tolist():
            painter.setPen(QPen(theme.RULE_STRONG if value == 0 else theme.RULE, 1))
            painter.drawLine(QPointF(plot.left(), height(value)), QPointF(plot.right(), height(value)))
            painter.setPen(theme.INK_SOFT)
            box = QRectF(0, height(value) - 8, 38, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight, theme.signed(value) if value else "0 ms")
        # A little to the left or right by its number, so that dots do not hide one another.
        aside = ((np.arange(len(column)) * 0.618) % 1.0 - 0.5) * min(0.5 * width, 60.0)
        x = plot.left() + (column + 0.5) * width + aside
        for colour, mine in theme.by_lean(offset_ms):
            put(painter, x[mine], heights(offset_ms[mine]), colour, 2.4)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        every = max(1, int(np.ceil(34.0 / width)))
        for number, name in enumerate(names):
            mine = offset_ms[column == number]
            middle = plot.left() + (number + 0.5) * width
            if len(mine) and len(names) <= _MOST_COLUMNS:
                reach = min(0.38 * width, 26.0)
                mean, spread = float(mine.mean()), float(mine.std())
                painter.setPen(QPen(theme.INK, 1.4))
                for edge in (height(mean - spread), height(mean + spread)):
                    painter.drawLine(QPointF(middle - 0.6 * reach, edge), QPointF(middle + 0.6 * reach, edge))
                painter.drawLine(QPointF(middle, height(mean - spread)), QPointF(middle, height(mean + spread)))
                painter.setPen(QPen(theme.BRASS_TEXT, 3))
                painter.drawLine(QPointF(middle - reach, height(mean)), QPointF(middle + reach, height(mean)))
            if number % every == 0:
                painter.setPen(theme.INK_SOFT)
                box = QRectF(middle - 0.5 * every * width, plot.bottom() + 6, every * width, 18)
                text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(box.width()))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Exact numbers of the column under the pointer."""
        table = self._table
        _column, _offset, names = self._columns()
        if event is None or table is None or not names:
            return
        plot = self._plot()
        number = int((event.position().x() - plot.left()) / plot.width() * len(names))
        if not 0 <= number < len(names) or self._kind == "strokes":
            QToolTip.hideText()
            return
        pairs = zip(table.header, table.rows[number], strict=True)
        words = " · ".join(f"{name} {_text(value, name)}".strip() for name, value in pairs if value not in ("", None))
        QToolTip.showText(event.globalPosition().toPoint(), words, self)


class MeasureSheet(QWidget):
    """Table above, picture below; a chosen row is what is selected everywhere."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        self._shown: tuple[GroupView, str] | None = None
        self._choosing = False
        self._kind = QComboBox()
        self._kind.setAccessibleName("What a row of the table is")
        self._kind.setToolTip("What a row of the table is")
        self._kind.setFixedHeight(28)
        for kind in KINDS:
            self._kind.addItem(_NAMES[kind], kind)
        self._kind.currentIndexChanged.connect(lambda _index: self.refresh())
        save = button("Save as CSV …", "Write this table to a file that spreadsheets read")
        save.clicked.connect(self._choose_csv)
        picture = button("Save the picture …", "Write the picture below as PNG")
        picture.clicked.connect(lambda: save_picture(self._work, self.picture, "offsets.png"))
        row = QHBoxLayout()
        row.setContentsMargins(8, 4, 8, 4)
        row.setSpacing(8)
        row.addWidget(soft("Offsets"))
        row.addWidget(self._kind)
        row.addStretch(1)
        row.addWidget(save)
        row.addWidget(picture)
        self._model = _Model()
        self.view = QTableView()
        self.view.setModel(self._model)
        self.view.setAccessibleName("Measurements")
        self.view.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.view.setSelectionMode(QTableView.SelectionMode.SingleSelection)
        self.view.setAlternatingRowColors(True)
        self.view.setShowGrid(False)
        numbers, titles = self.view.verticalHeader(), self.view.horizontalHeader()
        assert numbers is not None and titles is not None
        numbers.setVisible(False)
        numbers.setDefaultSectionSize(24)
        titles.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        chosen = self.view.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(self._row_chosen)
        self.picture = MeasurePicture(workspace)
        both = QSplitter(Qt.Orientation.Vertical)
        both.addWidget(self.view)
        both.addWidget(self.picture)
        both.setSizes([240, 200])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(both, 1)
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self._refresh_if_shown)

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _refresh_if_shown(self) -> None:
        if self.isVisible():
            self.refresh()

    def choose(self, kind: str) -> None:
        """Show another table."""
        self._kind.setCurrentIndex(KINDS.index(kind))

    @property
    def table(self) -> Table | None:
        """What is shown."""
        return self._model.table

    def refresh(self) -> None:
        """Show what is measured now, and what is selected."""
        view, kind = self._work.view, str(self._kind.currentData())
        shown = None if view is None else (view, kind)
        if shown != self._shown:
            self._shown = shown
            self._choosing = True
            self._model.show(None if view is None else measure_table(self._work.session, view, kind))
            self.picture.show_table(self._model.table, kind)
            self._choosing = False
        selected = self._work.selected
        if kind == "strokes" and selected is not None and selected < self._model.rowCount():
            self._choosing = True
            self.view.selectRow(selected)
            self._choosing = False

    def _row_chosen(self, now: QModelIndex) -> None:
        table, view = self._model.table, self._work.view
        if self._choosing or table is None or view is None or not now.isValid():
            return
        span = table.span_s[now.row()]
        if str(self._kind.currentData()) == "strokes":
            time_s = float(view.strokes.time_s[now.row()])
            self._work.look(selected_s=time_s, range_s=None)
            self._work.went.emit(time_s)
        elif span is not None:
            self._work.look(range_s=span, selected_s=None)
            self._work.went.emit(span[0])

    def _choose_csv(self) -> None:
        file = str(self._work.nearby / f"{self._work.session.name} {self._kind.currentText()}.csv")
        path, _ = QFileDialog.getSaveFileName(self, "Save the table", file, "CSV tables (*.csv)")
        if path:
            self.save_csv(Path(path))

    def save_csv(self, path: Path) -> None:
        """Write the table shown."""
        table = self._model.table
        if table is None:
            return
        try:
            write_csv(path, table.header, table.rows, guard=self._work.guard([path]))
        except SnareError as error:
            self._work.tell_problem(str(error))
            return
        self._work.tell(f"{len(table.rows)} rows written to {path}.")
