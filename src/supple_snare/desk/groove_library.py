"""The groove library: a window of its own with all templates, to look at, change, load, save and tighten to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QIcon, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QPixmap, QShortcut
from PyQt6.QtWidgets import (
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QSizePolicy,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from supple_snare.desk import theme
from supple_snare.desk.controls import WholeBox, button, head, number, sheet, soft, words
from supple_snare.desk.feel_picture import FeelLayout, describe_slot, paint_feel
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.exchange.groove_files import JSON_SUFFIX, write_groove
from supple_snare.session.feels import FeelSeen
from supple_snare.session.library import Kept, unused_name
from supple_snare.timing.aim import AimAt
from supple_snare.timing.groove import Groove

_ICON = QSize(108, 38)
_FILES = "Grooves (*.groove.json *.mid *.midi *.smf);;All files (*)"


class GrooveColumns(QWidget):
    """One template as columns; a column is dragged up and down."""

    dragged = pyqtSignal(object)
    """A changed template; told while the pointer moves."""

    let_go = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._groove: Groove | None = None
        self._slot: int | None = None
        self._held: FeelLayout | None = None
        self.can_change = False
        self.setMouseTracking(True)
        self.setMinimumHeight(240)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Slots of the groove")

    def show_groove(self, groove: Groove | None, *, can_change: bool) -> None:
        """Show another template."""
        self._groove, self.can_change = groove, can_change
        self.update()

    def _layout(self) -> FeelLayout:
        assert self._groove is not None
        seen = FeelSeen.of_template(self._groove)
        return self._held or FeelLayout.fit(QRectF(self.rect()), seen, None, accents_px=56.0, least_ms=25.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        if self._groove is not None:
            bar_beats, beat_beats = _bars_of(self._groove)
            seen = FeelSeen.of_template(self._groove)
            paint_feel(painter, self._layout(), seen, None, bar_beats=bar_beats, beat_beats=beat_beats)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._groove is None or not self.can_change:
            return
        layout = self._layout()
        self._slot = layout.slot_at(event.position().x(), self._groove)
        self._held = layout  # the scale stands still while a column is dragged
        self._drag(event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._groove is None:
            return
        if self._slot is not None:
            self._drag(event.position())
            return
        index = self._layout().slot_at(event.position().x(), self._groove)
        self.setCursor(
            Qt.CursorShape.SizeVerCursor if index is not None and self.can_change else Qt.CursorShape.ArrowCursor
        )
        if index is not None:
            bar_beats, beat_beats = _bars_of(self._groove)
            text = describe_slot(self._groove, None, index, bar_beats=bar_beats, beat_beats=beat_beats)
            QToolTip.showText(event.globalPosition().toPoint(), text, self)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._slot is not None:
            self._slot = self._held = None
            self.let_go.emit()
            self.update()

    def _drag(self, point: QPointF) -> None:
        if self._slot is None or self._groove is None:
            return
        feel_ms = round(self._layout().offset_at(point.y()) * 2.0) / 2.0
        swing_ms = float(self._groove.offset_ms[self._slot] - self._groove.feel_ms[self._slot])
        self.dragged.emit(self._groove.with_slot(self._slot, feel_ms + swing_ms))


class GrooveLibrary(QDialog):
    """All templates on the left, the chosen one on the right. Changes are kept at once and can be undone."""

    def __init__(self, workspace: Workspace, parent: QWidget | None) -> None:
        super().__init__(parent)
        self._work = workspace
        self._kept: Kept | None = None
        self._shown: list[Kept] = []
        self._before: list[tuple[Path, Groove]] = []
        self._drag_from: Groove | None = None
        self.setWindowTitle("Groove library")
        self.setModal(False)
        self.resize(900, 560)
        self._list = QListWidget()
        self._list.setIconSize(_ICON)
        self._list.setWordWrap(True)
        self._list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._list.setAccessibleName("Grooves")
        self._list.currentRowChanged.connect(self._choose)
        left = QVBoxLayout()
        left.addWidget(self._list, 1)
        row = QHBoxLayout()
        load = button("Load …", "Take a groove from a JSON or a MIDI file into the library")
        load.clicked.connect(self._load)
        self._delete = button("Delete", "Take the groove out of the library")
        self._delete.clicked.connect(self._remove)
        self._copy = button("Copy", "A copy of the groove to change")
        self._copy.clicked.connect(self._duplicate)
        for push in (load, self._copy, self._delete):
            row.addWidget(push)
        left.addLayout(row)
        whole = QHBoxLayout(self)
        side = QWidget()
        side.setLayout(left)
        left.setContentsMargins(0, 0, 0, 0)
        side.setFixedWidth(300)
        whole.addWidget(side)
        whole.addWidget(self._build_right(), 1)
        QShortcut(QKeySequence.StandardKey.Undo, self, self.undo)
        workspace.library_changed.connect(self.refresh)
        self.refresh()

    def _build_right(self) -> QWidget:
        frame, column = sheet()
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the groove")
        self.name.setToolTip("Name of the groove")
        self.name.editingFinished.connect(self._rename)
        column.addWidget(self.name)
        self._facts = words()
        column.addWidget(self._facts)
        self.columns = GrooveColumns()
        self.columns.dragged.connect(self._dragged)
        self.columns.let_go.connect(self._dragged_to_the_end)
        column.addWidget(self.columns, 1)
        self._hint = soft()
        column.addWidget(self._hint)
        column.addWidget(self._build_tools())
        row = QHBoxLayout()
        self._use = button("Tighten to it", "Make it the aim of the group on the page", primary=True)
        self._use.clicked.connect(self.use)
        self._save = button("Save as …", "Write it to a file: JSON, or MIDI for any sequencer")
        self._save.clicked.connect(self._save_as)
        self._undo = button("Undo", "Take the last change back (Ctrl+Z)")
        self._undo.clicked.connect(self.undo)
        close = button("Close", "Close the library (Esc)")
        close.clicked.connect(self.close)
        row.addWidget(self._use)
        row.addWidget(self._save)
        row.addStretch(1)
        row.addWidget(self._undo)
        row.addWidget(close)
        column.addLayout(row)
        return frame

    def _build_tools(self) -> QWidget:
        grid = QGridLayout()
        grid.setSpacing(6)
        self.share = number(-200, 400, "Share to scale by", unit=" %")
        self.share.setValue(50)
        self.share.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.least = WholeBox(2, 99, "Strokes a slot must have behind it to stay")
        self._tools = QWidget()
        self._tools.setLayout(grid)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.addWidget(head("Change"), 0, 0)
        grid.addWidget(
            self._tool("Centre", "Shift all slots alike, so that a song is not shifted as a whole", self.centre), 0, 1
        )
        grid.addWidget(self._tool("Scale to", "Everything so much of what it is", self.scale), 0, 2)
        grid.addWidget(self.share, 0, 3)
        grid.addWidget(self._tool("Thin", "Drop slots with fewer strokes behind them", self.thin), 0, 4)
        grid.addWidget(self.least, 0, 5)
        self._accents = button("Accents from ▾", "The offsets of this groove with the accents of another")
        self._accents.clicked.connect(self._offer_accents)
        grid.addWidget(self._accents, 0, 6)
        return self._tools

    def _tool(self, name: str, hint: str, act: Callable[[], object]) -> QWidget:
        push = button(name, hint)
        push.clicked.connect(lambda _on: act())
        return push

    # ---- what is shown

    def refresh(self) -> None:
        """Show the library as it is on disk, the chosen one still chosen."""
        chosen = self._kept.path if self._kept else None
        self._shown = self._work.library.all()
        self._list.blockSignals(True)
        self._list.clear()
        for kept in self._shown:
            self._list.addItem(_item(kept))
        self._list.blockSignals(False)
        row = next((number for number, kept in enumerate(self._shown) if kept.path == chosen), 0)
        self._list.setCurrentRow(row if self._shown else -1)
        self._choose(row if self._shown else -1)

    def choose(self, path: Path) -> None:
        """Choose a template."""
        self._list.setCurrentRow([kept.path for kept in self._shown].index(path))

    @property
    def groove(self) -> Groove | None:
        """The chosen template."""
        return self._kept.groove if self._kept else None

    def _choose(self, row: int) -> None:
        self._kept = self._shown[row] if 0 <= row < len(self._shown) else None
        groove, own = self.groove, self._kept is not None and self._kept.own
        self.columns.show_groove(groove, can_change=own)
        self.name.setText(groove.name if groove else "")
        self.name.setReadOnly(not own)
        for part in (self._use, self._save, self._copy):
            part.setEnabled(groove is not None)
        self._tools.setEnabled(groove is not None and own)
        self._delete.setEnabled(own)
        self._undo.setEnabled(bool(self._before))
        self._use.setEnabled(groove is not None and self._work.group is not None)
        if groove is None:
            self._facts.setText(
                self._kept.problem
                if self._kept
                else "The library is empty. Keep a feel in the Feel step, or load a file."
            )
            self._hint.setText("")
            return
        self._facts.setText(_facts(groove))
        self._hint.setText(
            "Drag a column up or down to change it; hollow ones are unsure."
            if own
            else "It comes with the program: copy it to change it."
        )

    # ---- changes

    def _change(self, groove: Groove, *, before: Groove | None = None) -> None:
        """Keep a changed template, and what it was before."""
        kept = self._kept
        if kept is None or kept.groove is None:
            return
        if self._try(lambda: self._work.library.change(kept.path, groove)):
            self._before.append((kept.path, before or kept.groove))
            self._work.library_changed.emit()

    def undo(self) -> None:
        """Take the last change back."""
        if self._before:
            path, groove = self._before.pop()
            if self._try(lambda: self._work.library.change(path, groove)):
                self._work.library_changed.emit()
                self.choose(path)

    def _dragged(self, groove: Groove) -> None:
        if self._kept is not None and self._kept.groove is not None:
            self._drag_from = self._drag_from or self._kept.groove
            self._kept = replace(self._kept, groove=groove)
            self.columns.show_groove(groove, can_change=True)
            self._facts.setText(_facts(groove))

    def _dragged_to_the_end(self) -> None:
        before, self._drag_from = self._drag_from, None
        if before is not None and self.groove is not None:
            self._change(self.groove, before=before)

    def _rename(self) -> None:
        name = self.name.text().strip()
        if self.groove is not None and name and name != self.groove.name and not self.name.isReadOnly():
            self._change(replace(self.groove, name=name))

    def centre(self) -> None:
        """Let it shift nothing as a whole."""
        if self.groove is not None:
            self._change(self.groove.centred())

    def scale(self) -> None:
        """Make it wider or narrower."""
        if self.groove is not None:
            self._attempt(lambda groove: groove.scaled(self.share.value() / 100.0))

    def thin(self) -> None:
        """Drop what was seldom heard."""
        self._attempt(lambda groove: groove.thinned(self.least.value()))

    def take_accents(self, other: Groove) -> None:
        """Join the offsets of this one with the accents of another."""
        self._attempt(lambda groove: groove.with_accents_of(other))

    def _attempt(self, change: Callable[[Groove], Groove]) -> None:
        if self.groove is None:
            return
        try:
            changed = change(self.groove)
        except SnareError as error:
            self._hint.setText(str(error))
            return
        self._change(changed)

    def _offer_accents(self) -> None:
        menu = QMenu(self)
        for kept in self._shown:
            if kept.groove is not None and (self._kept is None or kept.path != self._kept.path):
                menu.addAction(kept.groove.name, lambda other=kept.groove: self.take_accents(other))
        menu.exec(self._accents.mapToGlobal(self._accents.rect().bottomLeft()))

    def _duplicate(self) -> None:
        groove = self.groove
        if groove is None:
            return
        names = [kept.groove.name for kept in self._shown if kept.groove is not None]
        name, given = QInputDialog.getText(
            self, "Copy the groove", "Name of the copy:", text=unused_name(groove.name, names)
        )
        if given and name.strip():
            self.keep(replace(groove, name=name.strip()))

    def keep(self, groove: Groove) -> None:
        """Keep a template and choose it."""
        found: list[Path] = []
        if self._try(lambda: found.append(self._work.library.keep(groove))):
            self._work.library_changed.emit()
            self.choose(found[0])

    def _remove(self) -> None:
        kept = self._kept
        if kept is None:
            return
        if self._try(lambda: self._work.library.remove(kept.path)):
            if kept.groove is not None:
                self._before.append((kept.path, kept.groove))
            self._kept = None
            self._work.library_changed.emit()

    def _load(self) -> None:
        files, _ = QFileDialog.getOpenFileNames(self, "Load grooves", str(self._work.nearby), _FILES)
        self.load([Path(file) for file in files])

    def load(self, paths: list[Path]) -> None:
        """Take files into the library; those that hold no groove are told."""
        found: list[Path] = []
        for path in paths:
            self._try(partial(self._take, path, found))
        if found:
            self._work.library_changed.emit()
            self.choose(found[-1])

    def _take(self, path: Path, found: list[Path]) -> None:
        found.append(self._work.library.load(path))

    def _save_as(self) -> None:
        groove = self.groove
        if groove is None:
            return
        kinds = "Groove template (*.groove.json);;MIDI file (*.mid)"
        file = str(self._work.nearby / f"{groove.name}{JSON_SUFFIX}")
        name, kind = QFileDialog.getSaveFileName(self, "Save the groove", file, kinds)
        if name:
            path = Path(name)
            if "mid" in kind and path.suffix.lower() != ".mid":
                path = path.with_name(path.name.removesuffix(JSON_SUFFIX) + ".mid")
            agreed = [path] if path == Path(name) else []  # the dialog asked about the name that it gave
            self._try(lambda: write_groove(path, groove, guard=self._work.guard(agreed)))

    def use(self) -> None:
        """Make it what the group on the page is tightened to."""
        group, groove = self._work.group, self.groove
        if group is not None and groove is not None:
            self._work.set_aim(f"Tighten to “{groove.name}”", replace(self._work.aim, at=AimAt.GROOVE, groove=groove))
            self._work.look(step="tighten")

    def _try(self, act: Callable[[], object]) -> bool:
        try:
            act()
        except SnareError as error:
            self._hint.setText(str(error))
            self._work.tell_problem(str(error))
            return False
        return True

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._work.library_changed.disconnect(self.refresh)
        super().closeEvent(event)


def show_library(work: Workspace, parent: QWidget) -> GrooveLibrary:
    """Open the library, or bring it to the front."""
    window = parent.window()
    assert window is not None
    for open_one in window.findChildren(GrooveLibrary):
        if open_one.isVisible():
            open_one.raise_()
            open_one.activateWindow()
            return open_one
    library = GrooveLibrary(work, window)
    library.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    library.show()
    return library


def _item(kept: Kept) -> QListWidgetItem:
    """A row of the list: a small picture, the name, and what it is."""
    if kept.groove is None:
        item = QListWidgetItem(f"{kept.path.name}\ncannot be read")
        item.setToolTip(kept.problem)
        return item
    groove = kept.groove
    own = "" if kept.own else " · built in"
    icon = QIcon(groove_icon(groove))
    icon.addPixmap(groove_icon(groove), QIcon.Mode.Selected)
    item = QListWidgetItem(icon, f"{groove.name}\n{groove.tempo_bpm:.4g} bpm · {groove.cycle_beats:g} beats{own}")
    item.setToolTip(groove.source or str(kept.path))
    return item


def groove_icon(groove: Groove) -> QPixmap:
    """A template as a small picture: a bar up for each late slot, down for each early one."""
    picture = QPixmap(_ICON * 2)
    picture.setDevicePixelRatio(2.0)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    middle, room = _ICON.height() / 2.0, _ICON.height() / 2.0 - 3.0
    painter.setPen(theme.RULE_STRONG)
    painter.drawLine(QPointF(0, middle), QPointF(_ICON.width(), middle))
    most = max(float(abs(groove.feel_ms).max()), 10.0)
    width = max(2.0, min(7.0, 0.6 * _ICON.width() / max(len(groove.slots), 1)))
    painter.setPen(Qt.PenStyle.NoPen)
    for place, ms in zip(groove.position_beats.tolist(), groove.feel_ms.tolist(), strict=True):
        x = place / groove.cycle_beats * (_ICON.width() - width)
        height = ms / most * room
        painter.setBrush(theme.lean_colour(ms))
        painter.drawRect(QRectF(x, middle - max(height, 0.0), width, max(abs(height), 1.5)))
    painter.end()
    return picture


def _facts(groove: Groove) -> str:
    swing = f", swing {100 * groove.ruling.swing:.0f} %" if groove.ruling.swing != 0.5 else ""
    mean = groove.mean_ms
    shift = "shifts nothing as a whole" if abs(mean) < 0.05 else f"shifts the whole by {theme.signed(mean, 1)} ms"
    source = f"\nFrom {groove.source}." if groove.source else ""
    count = len(groove.slots)
    return (
        f"{groove.cycle_beats:g} beats at {groove.tempo_bpm:.4g} bpm, {theme.counted(count, 'slot')} of "
        f"{groove.ruling}{swing}; {shift}.{source}"
    )


def _bars_of(groove: Groove) -> tuple[float, float]:
    """Length of its bars and counts in quarter notes, as far as its cycle tells: bars of four, three or two."""
    for bar_beats in (4.0, 3.0, 2.0):
        if abs(groove.cycle_beats / bar_beats % 1.0) < 1e-6:
            return bar_beats, 1.0
    return groove.cycle_beats, 1.0 if groove.cycle_beats >= 1.0 else groove.cycle_beats
