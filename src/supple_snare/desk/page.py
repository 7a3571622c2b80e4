"""The page: the take laid out in rows, with a scrollbar, selection, and the gestures of each step."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRect, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QScrollBar, QSizePolicy, QToolTip, QWidget

from supple_snare.desk import theme
from supple_snare.desk.grab import Grab
from supple_snare.desk.hit_tools import (
    add_hit,
    choose_hit,
    chosen_track,
    move_hit,
    promote_hits,
)
from supple_snare.desk.in_words import describe_hit, describe_stroke
from supple_snare.desk.page_geometry import BARS_A_ROW, PageLayout, leaning_ms
from supple_snare.desk.page_painter import paint_over, paint_under
from supple_snare.desk.page_pegs import paint_strokes
from supple_snare.desk.page_picture import PagePicture
from supple_snare.desk.page_targets import Peg, Targets
from supple_snare.desk.stroke_tools import place_stroke
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import UsageError
from supple_snare.session.document import Group
from supple_snare.session.doubts import SLOT_DOUBTS, Doubt
from supple_snare.session.grid_edits import pin_line, place_first_beat, unpin_line, with_grid
from supple_snare.session.mending import snap_to_attack
from supple_snare.session.section_edits import section_spans
from supple_snare.sound.editlist import EditList
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Kind

_LEAST_ROW_PX = 84
_MOST_ROW_PX = 150
_ROWS_SEEN = 5
_PAINTING_S = 0.012
"""As long one repaint may take over waveforms; a row takes 5 to 15 ms, and two frames of a screen pass in 33."""


class Page(QAbstractScrollArea):
    """The centre of the window."""

    placed = pyqtSignal(float)
    """A moment (as shown) was chosen for the playhead."""

    bars_a_row_changed = pyqtSignal()
    scrolled = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._canvas, self._bar = _parts_of(self)
        self.bars_a_row = 4.0
        self._layer: QPixmap | None = None
        self._under: tuple[tuple[object, ...], QPixmap, set[int]] | None = None
        """What lies under the strokes, what it follows from, and which rows of it are painted."""
        self._playhead_s = 0.0
        self._grab: Grab | None = None
        self._grabbed_s = 0.0
        self._line_dragged: float | None = None
        self._grid_at_grab: Grid | None = None
        self._hit_dragged: tuple[str, int] | None = None
        self._hit_to: QPointF | None = None
        self._peg_dragged: Peg | None = None
        self.setFrameShape(self.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Page")
        self._canvas.setMouseTracking(True)
        self._bar.valueChanged.connect(self._stale)
        self._bar.valueChanged.connect(lambda _value: self.scrolled.emit())
        for signal in (workspace.stages_changed, workspace.cuts_changed):
            signal.connect(self._refresh)
        workspace.looks_changed.connect(self._refresh)

    # ---- what is drawn

    @property
    def page_layout(self) -> PageLayout:
        """The layout at the present size."""
        height = self._canvas.height()
        row_px = float(np.clip(height / _ROWS_SEEN, _LEAST_ROW_PX, _MOST_ROW_PX))
        session = self._workspace.session
        # While a grid line is dragged the waveform stands still and the lines move over it.
        grid = self._grid_at_grab or session.grid
        view = self._workspace.view
        struck = [hits.time_s[0] for hits in view.hits.values() if len(hits)] if view is not None else []
        quiet_s = float(min(struck, default=0.0))
        return PageLayout(grid, session.length_s, self.bars_a_row, float(self._canvas.width()), row_px, quiet_s)

    @property
    def _targets(self) -> Targets:
        """What lies under points of the canvas now."""
        return Targets(self._workspace, self.page_layout, self._bar.value())

    def picture(self) -> PagePicture:
        """Everything the page shows now."""
        work = self._workspace
        group, view = work.group, work.view
        if group is None or view is None:
            return PagePicture(self.page_layout, work.session.grid)
        peaks = {track.key: work.stages.peaks(track) for track in view.tracks}
        loop = work.looks.loop_bars if work.looks.looping else None
        grid = work.session.grid
        return PagePicture(
            layout=self.page_layout,
            grid=grid,
            view=view,
            peaks={key: found for key, found in peaks.items() if found is not None},
            edits=work.seams.edits_of(group) if work.looks.shows_moves else EditList.identity(),
            tightened=work.looks.tightened and work.looks.shows_moves,
            doubts=_doubts_shown(work, group),
            show_click=work.looks.clicking or work.looks.step == "grid",
            show_moves=work.looks.shows_moves,
            show_hits=work.looks.step == "hits",
            selected=work.selected,
            range_s=work.looks.range_s,
            loop_s=None if loop is None else (float(grid.bar_time_s(loop[0])), float(grid.bar_time_s(loop[1] + 1))),
            sections=tuple(section_spans(work.session)),
            hit_track=chosen_track(work) if work.looks.step == "hits" else None,
            hit=work.looks.hit,
            notes=work.notes_of(view),
            removed={track.key: track.removed_s for track in view.tracks},
            behind_ms=work.moves_behind() if work.looks.shows_moves else None,
        )

    def visible_bars(self) -> tuple[float, float]:
        """First and last bar that can be seen."""
        layout = self.page_layout
        top = self._bar.value()
        rows = layout.rows_between(top, top + self._canvas.height() - 1)
        return layout.row_bar(rows.start), layout.row_bar(rows.stop)

    def set_playhead(self, time_s: float, *, playing: bool) -> None:
        """Move the cursor; the page follows it while playing."""
        if time_s == self._playhead_s:
            return
        self._playhead_s = time_s
        if playing and self._workspace.looks.listening.following:
            self.show_time(time_s)
        self._canvas.update()

    def show_time(self, time_s: float) -> None:
        """Scroll so that a moment's row is seen whole."""
        layout = self.page_layout
        top = layout.row_of(time_s) * layout.row_px
        bar = self._bar
        if top < bar.value() or top + layout.row_px > bar.value() + self._canvas.height():
            bar.setValue(int(top - layout.row_px))

    def zoom(self, steps: int) -> None:
        """Fewer (positive) or more bars a row; the row at the top stays."""
        index = int(np.clip(BARS_A_ROW.index(self.bars_a_row) - steps, 0, len(BARS_A_ROW) - 1))
        if BARS_A_ROW[index] == self.bars_a_row:
            return
        bar = self.visible_bars()[0]
        self.bars_a_row = BARS_A_ROW[index]
        self._refresh()
        layout = self.page_layout
        self._bar.setValue(int(layout.row_of(float(layout.grid.bar_time_s(bar))) * layout.row_px))
        self.bars_a_row_changed.emit()

    def _refresh(self) -> None:
        layout = self.page_layout
        bar = self._bar
        bar.setRange(0, max(0, int(np.ceil(layout.height_px)) - self._canvas.height()))
        bar.setPageStep(self._canvas.height())
        bar.setSingleStep(int(layout.row_px / 2))
        self._stale()

    def _stale(self) -> None:
        self._layer = None
        self._canvas.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._refresh()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        viewport = self._canvas
        if self._layer is None:
            self._layer = self._paint_layer()
        painter = QPainter(viewport)
        painter.drawPixmap(0, 0, self._layer)
        self._paint_playhead(painter)
        if self._hit_to is not None:
            painter.setPen(QPen(theme.BRASS, 2))
            layout = self.page_layout
            top = (self._hit_to.y() + self._bar.value()) // layout.row_px * layout.row_px - self._bar.value()
            painter.drawLine(QPointF(self._hit_to.x(), top + 4), QPointF(self._hit_to.x(), top + layout.row_px - 4))
        painter.end()

    def _paint_layer(self) -> QPixmap:
        """The whole page: what lies under the strokes is kept as long as it stays the same."""
        if self._workspace.session.is_empty:
            layer = self._blank()
            painter = QPainter(layer)
            words = "Drop the recordings of one take here, or open them in Gather (Ctrl+I)."
            _paint_words(painter, self._canvas.rect(), words)
            painter.end()
            return layer
        picture = self.picture()
        top = self._bar.value()
        layout = picture.layout
        rows = layout.rows_between(top, top + self._canvas.height())
        layer = QPixmap(self._painted_under(picture, rows, top))
        painter = QPainter(layer)
        paint_strokes(painter, picture, rows, top)
        for row in rows:
            paint_over(painter, picture, row, row * layout.row_px - top)
        if picture.view is None:
            _paint_words(painter, self._canvas.rect(), "Listening to the recordings …")
        painter.end()
        return layer

    def _painted_under(self, picture: PagePicture, rows: Sequence[int], top: int) -> QPixmap:
        """What lies under the strokes, as many rows of it as a short time allows; the others follow at once.

        So a hand that plays, drags or types never waits for a whole page of waveforms.
        """
        key, layout = _under_key(picture, top), picture.layout
        if self._under is None or self._under[0] != key:
            self._under = (key, self._blank(), set())
        _, under, painted = self._under
        until = time.perf_counter() + _PAINTING_S
        painter = QPainter(under)
        for row in rows:
            if row in painted:
                continue
            if time.perf_counter() > until:
                QTimer.singleShot(0, self._stale)
                break
            y = row * layout.row_px - top
            if row:
                painter.setPen(QPen(theme.RULE, 1))
                painter.drawLine(QPointF(0, y), QPointF(self._canvas.width(), y))
            paint_under(painter, picture, row, y)
            painted.add(row)
        painter.end()
        return under

    def _blank(self) -> QPixmap:
        ratio = self._canvas.devicePixelRatioF()
        blank = QPixmap(self._canvas.size() * ratio)
        blank.setDevicePixelRatio(ratio)
        blank.fill(theme.SHEET)
        return blank

    def _paint_playhead(self, painter: QPainter) -> None:
        layout = self.page_layout
        row, x = layout.place_of(self._playhead_s)
        x = max(x, layout.line_left_px)  # silence before the first row is not on the page
        y = row * layout.row_px - self._bar.value()
        painter.setPen(QPen(theme.INK, 1))
        painter.drawLine(QPointF(x, y + 2), QPointF(x, y + layout.row_px - 2))
        painter.setBrush(theme.INK)
        painter.drawPolygon(QPolygonF([QPointF(x - 4, y + 2), QPointF(x + 4, y + 2), QPointF(x, y + 8)]))

    # ---- gestures

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            super().wheelEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton or self._workspace.session.is_empty:
            return
        point = event.position()
        handle = None
        self._grabbed_s = self._targets.time_at(point)
        self._hit_dragged = self._targets.hit_at(point)
        if self._hit_dragged is not None and self._workspace.view is not None:
            key, index = self._hit_dragged
            choose_hit(self._workspace, key, float(self._workspace.view.hits[key].time_s[index]))
        self._peg_dragged = self._targets.peg_at(point)
        if self._peg_dragged is not None:
            self._workspace.look(selected_s=self._peg_dragged.time_s, range_s=None)
            handle = self._peg_dragged.head
        line = self._targets.line_at(point) if self._workspace.looks.step == "grid" else None
        if line is not None:
            self._line_dragged, handle = line[0], QPointF(line[1], point.y())
        self._grab = Grab(point, handle)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._grab is None:
            self._hover(event)
            return
        was_drag = self._grab.is_drag
        to = self._grab.drag(event.position())
        if to is None:
            return
        with_shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if not was_drag and (self._line_dragged is not None or self._peg_dragged is not None):
            self._grid_at_grab = None if self._line_dragged is None else self._workspace.session.grid
            self._workspace.begin_gesture()
        if self._line_dragged is not None:
            self._drag_line(to, pinning=with_shift)
        elif self._peg_dragged is not None:
            self._drag_peg(self._peg_dragged, to, fine=with_shift)
        elif self._hit_dragged is not None:
            self._hit_to = to
            self._canvas.update()
        else:
            ends = sorted((self._grabbed_s, self._targets.time_at(to)))
            self._workspace.look(range_s=(ends[0], ends[1]))

    def _hover(self, event: QMouseEvent) -> None:
        """What can be handled, and the exact numbers of what lies under the pointer."""
        point = event.position()
        on_line = self._workspace.looks.step == "grid" and self._targets.line_at(point) is not None
        handled = on_line or self._targets.hit_at(point) is not None or self._targets.peg_at(point) is not None
        self._canvas.setCursor(Qt.CursorShape.SizeHorCursor if handled else Qt.CursorShape.ArrowCursor)
        self._explain(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._grab is None:
            return
        grab, self._grab = self._grab, None
        line, self._line_dragged = self._line_dragged, None
        peg, self._peg_dragged = self._peg_dragged, None
        hit, self._hit_dragged = self._hit_dragged, None
        to, self._hit_to = self._hit_to, None
        if not grab.is_drag:
            self._click(grab.at, line, peg, hit)
        elif hit is not None and to is not None:
            self._drop_hit(hit, to, exact=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif line is not None or peg is not None:
            self._grid_at_grab = None
            self._workspace.end_gesture()
            self._refresh()

    def _click(self, at: QPointF, line: float | None, peg: Peg | None, hit: tuple[str, int] | None) -> None:
        """What was pressed and let go: the playhead goes there, except where a hit was chosen."""
        if peg is not None:
            self.placed.emit(peg.time_s)
        elif line is not None:
            self.placed.emit(float(self._workspace.session.grid.course.time_at(line)))
        elif hit is None:
            stroke = self._targets.stroke_at(at)
            self._workspace.look(selected_s=stroke, hit=self._hit_of(stroke), range_s=None)
            self.placed.emit(self._grabbed_s)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._workspace.looks.step == "grid":
            line = self._targets.line_at(event.position())
            if line is not None:
                self._workspace.do("Unpin a grid line", unpin_line(self._workspace.session, line[0]))
        if event is not None and self._workspace.looks.step == "hits":
            exact = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            hit = self._targets.hit_at(event.position())
            work = self._workspace
            if hit is not None and work.view is not None and work.view.hits[hit[0]].kind[hit[1]] == Kind.BLEED:
                choose_hit(work, hit[0], float(work.view.hits[hit[0]].time_s[hit[1]]))
                promote_hits(work)
            else:
                add_hit(work, self._targets.time_at(event.position()), exact=exact)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        bar = self._bar
        match event.key():
            case Qt.Key.Key_Right:
                self.step_stroke(1)
            case Qt.Key.Key_Left:
                self.step_stroke(-1)
            case Qt.Key.Key_Down:
                bar.setValue(bar.value() + int(self.page_layout.row_px))
            case Qt.Key.Key_Up:
                bar.setValue(bar.value() - int(self.page_layout.row_px))
            case _:
                super().keyPressEvent(event)

    def step_stroke(self, steps: int) -> None:
        """Select the next or previous stroke and show it."""
        view = self._workspace.view
        if view is None or not len(view.strokes):
            return
        selected = self._workspace.selected
        if selected is None:
            after = int(np.searchsorted(view.strokes.time_s, self._playhead_s))
            index = after if steps > 0 else after - 1
        else:
            index = selected + steps
        index = int(np.clip(index, 0, len(view.strokes) - 1))
        time_s = float(view.strokes.time_s[index])
        self._workspace.look(selected_s=time_s, hit=self._hit_of(time_s))
        self.show_time(time_s)
        self.placed.emit(time_s)

    def _hit_of(self, stroke_s: float | None) -> tuple[str, float] | None:
        """The hit that times a stroke."""
        view = self._workspace.view
        if view is None or stroke_s is None or view.part is not None:
            return None
        index = int(np.argmin(np.abs(view.strokes.time_s - stroke_s)))
        return view.lead_of(index), float(view.strokes.start_s[index])

    def _drop_hit(self, dragged: tuple[str, int], to: QPointF | None, *, exact: bool) -> None:
        """A hit mark was let go: elsewhere, it is moved there, to the nearest attack unless told not to."""
        work = self._workspace
        if to is None or work.view is None:
            self._canvas.update()
            return
        key, index = dragged
        time_s = float(work.view.hits[key].time_s[index])
        to_s = self._targets.time_at(to)
        if not exact:
            to_s = snap_to_attack(work.view.verdicts[key], to_s)
        if to_s != time_s:
            move_hit(work, key, time_s, to_s)
        self._canvas.update()

    def _drag_peg(self, peg: Peg, to: QPointF, *, fine: bool) -> None:
        """Lean a peg so that its head meets a point."""
        view, selected = self._workspace.view, self._workspace.selected
        if view is None or selected is None:
            return
        by = to - peg.foot
        offset_ms = leaning_ms(float(np.arctan2(by.x(), max(abs(by.y()), 1.0))))
        step = 0.1 if fine else 0.5
        place_stroke(self._workspace, selected, round(offset_ms / step) * step)

    def _drag_line(self, point: QPointF, *, pinning: bool) -> None:
        """Bar 1's line moves the first beat; any other sets the tempo so that it meets the pointer, or is pinned there.

        Where beats are followed or lines are pinned already, every line is.
        """
        work = self._workspace
        assert self._line_dragged is not None
        time_s = self._targets.time_at(point)
        view = work.view
        if view is not None and len(view.strokes):
            nearest = float(view.strokes.time_s[np.argmin(np.abs(view.strokes.time_s - time_s))])
            if abs(nearest - time_s) * self.page_layout.px_per_bar / work.session.grid.bar_s < 8.0:
                time_s = nearest
        grid, beat = work.session.take_grid, self._line_dragged
        try:
            if pinning or grid.played is not None or grid.pins:
                changed = pin_line(work.session, beat, time_s)
            elif abs(beat) < 1e-6:
                changed = place_first_beat(work.session, time_s)
            else:
                tempo = 60.0 * beat / (time_s - grid.first_beat_s)
                changed = with_grid(work.session, replace(grid, tempo_bpm=tempo))
        except (UsageError, ZeroDivisionError):
            return
        work.do("Drag a grid line", changed)

    def _explain(self, event: QMouseEvent) -> None:
        """Exact numbers of the stroke under the pointer."""
        hit = self._targets.hit_at(event.position())
        if hit is not None:
            QToolTip.showText(event.globalPosition().toPoint(), describe_hit(self._workspace, *hit), self._canvas)
            return
        view, time_s = self._workspace.view, self._targets.stroke_at(event.position())
        layout = self.page_layout
        y = (event.position().y() + self._bar.value()) % layout.row_px
        if view is None or time_s is None or abs(y - layout.base_px) > layout.row_px * 0.4:
            QToolTip.hideText()
            return
        index = int(np.argmin(np.abs(view.strokes.time_s - time_s)))
        QToolTip.showText(event.globalPosition().toPoint(), describe_stroke(self._workspace, index), self._canvas)


def _doubts_shown(work: Workspace, group: Group) -> list[tuple[Doubt, ...]]:
    """All doubts where the moves are shown, in Grid those about slots."""
    if work.looks.shows_moves:
        return work.seams.doubts_of(group)
    if work.looks.step != "grid":
        return []
    return [tuple(doubt for doubt in doubts if doubt in SLOT_DOUBTS) for doubts in work.seams.doubts_of(group)]


def _under_key(picture: PagePicture, top_px: int) -> tuple[object, ...]:
    """Everything that what lies under the strokes depends on."""
    view = picture.view
    heard = None
    if view is not None:
        group = view.group
        by_hand = (group.holds, group.evens, group.pieces, group.slides)
        heard = (view.leads, *by_hand, *map(id, picture.peaks.values()))
    marked = None
    if view is not None and picture.show_hits:
        others = [key for key in (*view.columns, *view.hits) if key != picture.hit_track]
        marked = (picture.hit_track, *(view.hits[key] for key in others), *picture.removed.items())
    looks = (
        picture.tightened,
        picture.show_moves,
        picture.range_s,
        picture.loop_s,
        picture.sections,
        picture.show_click,
    )
    return (picture.layout, picture.grid, top_px, heard, picture.notes, marked, picture.edits, looks)


def _parts_of(area: QAbstractScrollArea) -> tuple[QWidget, QScrollBar]:
    """The canvas and the scrollbar of a scroll area, which Qt's types call optional and which always are there."""
    canvas, bar = area.viewport(), area.verticalScrollBar()
    assert canvas is not None and bar is not None
    return canvas, bar


def _paint_words(painter: QPainter, rect: QRect, words: str) -> None:
    painter.setFont(theme.text_font(15))
    box = painter.fontMetrics().boundingRect(rect, int(Qt.AlignmentFlag.AlignCenter), words)
    painter.fillRect(box.adjusted(-14, -8, 14, 8), theme.SHEET)
    painter.setPen(theme.INK_SOFT)
    painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, words)
