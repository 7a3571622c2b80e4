"""The loupe: one attack in every track of its group, from 300 ms down to single samples.

It reads a short stretch of each recording on a thread of its own, so that it never waits for longer work.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.grab import NEAR_PX, Grab
from supple_snare.desk.hit_tools import (
    add_hit,
    choose_hit,
    chosen_track,
    land_hit,
    move_hit,
)
from supple_snare.desk.in_words import describe_hit, describe_leads
from supple_snare.desk.jobs import JobRunner
from supple_snare.desk.seam_tools import SeamSeen, drag_fade, drag_seam, leave_seen, seams_between
from supple_snare.desk.shapes import draw_lines, polygon
from supple_snare.desk.stretch_tools import StretchSeen, change_in_words, stretched_parts
from supple_snare.desk.workspace import Workspace
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import AnyArray, BlockReader, Recording
from supple_snare.timing.hits import Kind

SPANS_MS = (2.0, 5.0, 10.0, 20.0, 40.0, 80.0, 150.0, 300.0, 600.0)
_READ_S = 0.62
_LEFT, _RIGHT, _TOP, _BOTTOM = 128, 10, 24, 20
_LABEL_PX, _FADE_PX, _RATIO_PX = 34, 92, 120
_LANDS_PX = 2.0
"""A landing nearer to its start than this is not drawn apart from it."""

_WIDE_PX = 10.0
"""Where a seam's fade is at least so wide, its beginning can be dragged by itself."""

_LEAST_LANE_PX = 22.0
_LEAST_SHARE = 0.03
_DOTS_PX = 5.0
"""Samples farther apart than this on the screen are shown one by one."""


@dataclass(frozen=True)
class _Stretch:
    """What was read: for each track its sound as played and tightened, from one sample on."""

    first: int
    played: dict[str, AnyArray]
    tightened: dict[str, AnyArray]


@dataclass(frozen=True)
class _Pull:
    """A mark under the mouse: the start of a hit, or the point where it lands."""

    key: str
    hit_s: float
    from_s: float
    to_s: float
    lands: bool


@dataclass(frozen=True)
class _SeamPull:
    """A seam under the mouse, or only the beginning of its fade, and how far it has been dragged."""

    seam: SeamSeen
    of_fade: bool
    by_s: float = 0.0

    @property
    def shown(self) -> SeamSeen:
        """Where it would be now."""
        seam = self.seam
        start_s, end_s = seam.start_s + self.by_s, seam.end_s + (0.0 if self.of_fade else self.by_s)
        return replace(seam, start_s=min(start_s, end_s), end_s=end_s)


class Loupe(QWidget):
    """All tracks around one moment; starts and landings of hits are dragged to the sample."""

    closed = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._jobs = JobRunner()
        self._span = SPANS_MS.index(80.0)
        self._wanted: tuple[object, ...] | None = None
        self._stretch: _Stretch | None = None
        self._centre_s: float | None = None
        self._pull: _Pull | None = None
        self._seam_pull: _SeamPull | None = None
        self._grab = Grab(QPointF())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(232)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Loupe")
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self._follow)
        workspace.cuts_changed.connect(self._follow)

    def close_down(self) -> None:
        """Stop reading for good."""
        self._jobs.shut_down()

    @property
    def span_ms(self) -> float:
        """How much is seen."""
        return SPANS_MS[self._span]

    @property
    def centre_s(self) -> float | None:
        """The moment in the middle."""
        return self._centre_s

    @property
    def is_loaded(self) -> bool:
        """Whether what is wanted is there to be drawn."""
        return self._stretch is not None and not self._jobs.jobs

    def zoom(self, steps: int) -> None:
        """See less (positive) or more."""
        self._span = int(np.clip(self._span - steps, 0, len(SPANS_MS) - 1))
        self.update()

    # ---- what it shows

    def showEvent(self, event: object) -> None:
        self._follow()

    def _follow(self) -> None:
        """Read around the chosen hit or stroke, if that is not what is there already."""
        work = self._workspace
        looks, view = work.looks, work.view
        if not self.isVisible() or view is None or self._pull is not None or self._seam_pull is not None:
            return
        if view.part is not None:
            self._centre_s = None
            self.update()
            return
        moment = looks.hit[1] if looks.hit is not None else looks.selected_s
        if moment is None:
            self._centre_s = None
            self.update()
            return
        self._centre_s = moment
        edits = work.seams.edits_of(view.group)
        wanted = (moment, tuple((track.key, track.recording) for track in view.tracks), edits)
        if wanted != self._wanted:
            self._wanted = wanted
            self._jobs.cancel_all()
            recordings = {track.key: track.recording for track in view.tracks}
            first = round((moment - _READ_S / 2.0) * work.session.rate_hz)
            count = round(_READ_S * work.session.rate_hz)
            self._jobs.submit(
                "Reading",
                lambda _report: _read(recordings, edits, first, count),
                self._show,
                work.tell_error,
            )
        self.update()

    def _show(self, stretch: _Stretch) -> None:
        self._stretch = stretch
        self.update()

    # ---- geometry

    def _keys(self) -> list[str]:
        """Tracks in the order of their ranks, the others after them."""
        view = self._workspace.view
        if view is None or view.part is not None:
            return []
        return [*view.columns, *(track.key for track in view.tracks if track.key not in view.columns)]

    def _lanes(self) -> list[tuple[str, QRectF]]:
        keys = self._keys()
        height = self.height() - _TOP - _BOTTOM
        shown = keys[: max(1, int(height / _LEAST_LANE_PX))]
        lane = height / max(len(shown), 1)
        width = self.width() - _LEFT - _RIGHT
        return [(key, QRectF(_LEFT, _TOP + index * lane, width, lane)) for index, key in enumerate(shown)]

    def _x(self, time_s: np.ndarray | float) -> np.ndarray:
        centre = self._centre_s or 0.0
        width = self.width() - _LEFT - _RIGHT
        return _LEFT + width / 2.0 + (np.asarray(time_s) - centre) * 1000.0 / self.span_ms * width

    def _time_at(self, x: float) -> float:
        width = self.width() - _LEFT - _RIGHT
        return (self._centre_s or 0.0) + (x - _LEFT - width / 2.0) / width * self.span_ms / 1000.0

    # ---- drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHEET)
        painter.setPen(theme.INK)
        painter.setFont(theme.text_font(13, bold=True))
        painter.drawText(QPointF(12, 17), "Loupe")
        painter.setFont(theme.text_font(12))
        painter.setPen(theme.INK_SOFT)
        if self._centre_s is None:
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "A MIDI part has no sound to look into."
                if self._workspace.view is not None and self._workspace.view.part is not None
                else "Select a stroke or a hit to see its attack in every track.",
            )
            painter.end()
            return
        words = self._words()
        box = QRectF(70, 2, self.width() - 80, 20)
        text = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text)
        self._paint_axis(painter)
        for key, lane in self._lanes():
            self._paint_lane(painter, key, lane)
        self._paint_stroke(painter)
        self._paint_stretched(painter)
        self._paint_seams(painter)
        painter.end()

    def _words(self) -> str:
        work, view = self._workspace, self._workspace.view
        if view is None:
            return ""
        words = f"{self.span_ms:g} ms (wheel) · drag: a start, with Shift: its landing · double-click: one more"
        if self._workspace.looks.shows_moves:
            words = f"dark: as played, brass: tightened · {self.span_ms:g} ms (wheel)"
        if work.selected is not None:
            leads = describe_leads(work, work.selected)
            words = f"{leads} · {words}" if leads else words
        return words

    def _paint_axis(self, painter: QPainter) -> None:
        assert self._centre_s is not None
        step = next(step for step in (0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0) if self.span_ms / step <= 12)
        bottom = self.height() - _BOTTOM
        half = self.span_ms / 2.0
        for mark in np.arange(-np.floor(half / step), np.floor(half / step) + 0.5) * step:
            x = float(self._x(self._centre_s + mark / 1000.0))
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QLineF(x, _TOP, x, bottom))
            painter.setPen(theme.INK_SOFT)
            text = f"{theme.signed(float(mark), 1 if step < 1 else 0)}" if abs(mark) > 1e-9 else "0 ms"
            middle = min(x, self.width() - 0.5 * painter.fontMetrics().horizontalAdvance(text) - 4.0)
            painter.drawText(QRectF(middle - 30, bottom + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_lane(self, painter: QPainter, key: str, lane: QRectF) -> None:
        work, view = self._workspace, self._workspace.view
        assert view is not None
        chosen = key == chosen_track(work)
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawLine(lane.bottomLeft(), lane.bottomRight())
        painter.setFont(theme.text_font(12, bold=chosen))
        painter.setPen(theme.INK)
        rank = f"{view.columns.index(key) + 1}  " if key in view.columns else "    "
        name = painter.fontMetrics().elidedText(
            rank + work.session.track(key).name, Qt.TextElideMode.ElideRight, _LEFT - 20
        )
        painter.drawText(QRectF(12, lane.top(), _LEFT - 18, lane.height()), Qt.AlignmentFlag.AlignVCenter, name)
        painter.save()
        painter.setClipRect(lane)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        stretch = self._stretch
        if stretch is not None and key in stretch.played:
            sound = stretch.played[key]
            loudest = self._loudest_seen(sound, stretch.first)
            self._paint_wave(painter, sound / loudest, stretch.first, lane, ghost=False)
            if self._workspace.looks.shows_moves and key in stretch.tightened:
                self._paint_wave(painter, stretch.tightened[key] / loudest, stretch.first, lane, ghost=True)
        self._paint_hits(painter, key, lane)
        painter.restore()

    def _loudest_seen(self, sound: AnyArray, first: int) -> float:
        """What fills a lane: the loudest moment that is seen; noise is not blown up to the size of strokes."""
        rate = self._workspace.session.rate_hz
        half = 0.5 * self.span_ms / 1000.0
        low, high = (round(((self._centre_s or 0.0) + side * half) * rate) - first for side in (-1, 1))
        seen = np.abs(sound[max(low, 0) : max(high, 1)])
        return max(float(seen.max(initial=0.0)), _LEAST_SHARE * float(np.abs(sound).max()), 1e-6)

    def _paint_wave(self, painter: QPainter, sound: AnyArray, first: int, lane: QRectF, *, ghost: bool) -> None:
        rate = self._workspace.session.rate_hz
        low = int(np.clip(np.floor(self._time_at(lane.left()) * rate) - first, 0, len(sound)))
        high = int(np.clip(np.ceil(self._time_at(lane.right()) * rate) + 1 - first, 0, len(sound)))
        if high - low < 2:
            return
        x = self._x((np.arange(low, high) + first) / rate)
        y = lane.center().y() - sound[low:high] * (lane.height() / 2.0 - 2.0)
        painter.setPen(QPen(theme.BRASS, 1.2, Qt.PenStyle.DotLine) if ghost else QPen(theme.INK_SOFT, 1.2))
        per_column = (high - low) / lane.width()
        if per_column > 2.0:  # the loudest and quietest of what falls into one column
            columns = int(lane.width())
            edges = np.linspace(0, high - low - 1, columns + 1).astype(np.int64)[:-1]
            tops, bottoms = np.minimum.reduceat(y, edges), np.maximum.reduceat(y, edges)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            draw_lines(painter, x[edges], tops, x[edges], np.maximum(bottoms, tops + 1.0))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            return
        points = polygon(x, y)
        painter.drawPolyline(points)
        if not ghost and 1.0 / per_column > _DOTS_PX:
            painter.setPen(QPen(theme.INK, 3.5, cap=Qt.PenCapStyle.RoundCap))
            painter.drawPoints(points)

    def _paint_hits(self, painter: QPainter, key: str, lane: QRectF) -> None:
        """Played hits as whole lines, bleed dashed, what belongs to a stroke dotted; landings as a foot."""
        work, view = self._workspace, self._workspace.view
        assert view is not None
        hits = view.hits[key]
        near = np.flatnonzero(np.abs(hits.time_s - (self._centre_s or 0.0)) < self.span_ms / 1000.0)
        chosen = work.looks.hit
        for index in near.tolist():
            time_s = float(hits.time_s[index])
            landing_s = float(hits.landing_s[index])
            if (pull := self._pull) is not None and (pull.key, pull.hit_s) == (key, time_s):
                time_s, landing_s = (time_s, pull.to_s) if pull.lands else (pull.to_s, max(landing_s, pull.to_s))
            kind = Kind(int(hits.kind[index]))
            style = {
                Kind.PLAYED: Qt.PenStyle.SolidLine,
                Kind.BLEED: Qt.PenStyle.DashLine,
                Kind.GRACE: Qt.PenStyle.DotLine,
                Kind.ROLL: Qt.PenStyle.DotLine,
            }[kind]
            is_chosen = chosen is not None and chosen[0] == key and abs(chosen[1] - float(hits.time_s[index])) < 1e-6
            colour = theme.BRASS if is_chosen else theme.INK_SOFT if kind is Kind.BLEED else theme.INK
            x = float(self._x(time_s))
            painter.setPen(QPen(colour, 2.4 if is_chosen else 1.6, style))
            painter.drawLine(QLineF(x, lane.top() + 2, x, lane.bottom() - 2))
            self._paint_landing(painter, x, float(self._x(landing_s)), lane, colour)

    def _paint_landing(self, painter: QPainter, x: float, landing_x: float, lane: QRectF, colour: QColor) -> None:
        """A foot from the start to where it lands, and an upright to pull it by."""
        if landing_x - x <= _LANDS_PX:
            return
        bottom = lane.bottom() - 4
        painter.setPen(QPen(colour, 1.4))
        painter.drawLine(QLineF(x, bottom, landing_x, bottom))
        painter.setPen(QPen(colour, 2.4))
        painter.drawLine(QLineF(landing_x, bottom, landing_x, lane.center().y() + 2))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        top = QPointF(landing_x, lane.center().y() + 2)
        painter.drawPolygon(QPolygonF([top, top + QPointF(-6, 3), top + QPointF(0, 6)]))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_stroke(self, painter: QPainter) -> None:
        """The slot that the chosen stroke belongs to, through all lanes."""
        work, view = self._workspace, self._workspace.view
        index = work.selected
        if view is None or index is None or not np.isfinite(view.offsets.grid_s[index]):
            return
        x = float(self._x(view.offsets.grid_s[index]))
        if _LEFT <= x <= self.width() - _RIGHT:
            painter.setPen(QPen(theme.RULE_STRONG, 2))
            painter.drawLine(QLineF(x, _TOP - 4, x, self.height() - _BOTTOM))
            painter.setPen(theme.BRASS_TEXT)
            painter.setFont(theme.text_font(12))
            fits = x < self.width() - _RIGHT - _LABEL_PX
            side = QRectF(x + 4 if fits else x - 4 - _LABEL_PX, _TOP - 6, _LABEL_PX, 16)
            towards = Qt.AlignmentFlag.AlignLeft if fits else Qt.AlignmentFlag.AlignRight
            painter.drawText(side, towards, "slot")

    def _seams_seen(self) -> list[SeamSeen]:
        work, half = self._workspace, self.span_ms / 2000.0
        if not work.looks.shows_moves or self._centre_s is None:
            return []
        return seams_between(work, self._centre_s - half, self._centre_s + half)

    def _paint_seams(self, painter: QPainter) -> None:
        """Fades as bands through all lanes, where the tightened version has them."""
        band = QColor(theme.BRASS)
        band.setAlpha(60)
        pull = self._seam_pull
        for number, seen in enumerate(self._seams_seen()):
            is_pulled = pull is not None and pull.seam == seen
            seam = pull.shown if pull is not None and is_pulled else seen
            left, right = float(self._x(seam.start_s)), float(self._x(seam.end_s))
            left, right = max(left, _LEFT), min(right, self.width() - _RIGHT)
            if right <= left:
                continue
            painter.fillRect(QRectF(left, _TOP, max(right - left, 2.0), self.height() - _TOP - _BOTTOM), band)
            painter.setPen(QPen(theme.BRASS_TEXT, 1.4))
            painter.drawLine(QLineF(right, _TOP, right, self.height() - _BOTTOM))
            if number == 0 or is_pulled:
                painter.setFont(theme.text_font(12))
                words, width = (f"fade {seam.fade_ms:.1f} ms", _FADE_PX) if is_pulled else ("seam", _LABEL_PX)
                label = QRectF(left, self.height() - _BOTTOM - 16, width, 16)
                painter.fillRect(label, theme.SHEET)
                painter.drawText(label, Qt.AlignmentFlag.AlignCenter, words)

    def _stretched_seen(self) -> list[StretchSeen]:
        work, half = self._workspace, self.span_ms / 2000.0
        if not work.looks.shows_moves or self._centre_s is None or work.view is None:
            return []
        edits, rate_hz = work.seams.edits_of(work.view.group), work.session.rate_hz
        return stretched_parts(edits, rate_hz, self._centre_s - half, self._centre_s + half)

    def _paint_stretched(self, painter: QPainter) -> None:
        """Stretched parts, hatched through all lanes, with how much longer they get at their foot."""
        for part in self._stretched_seen():
            left = max(float(self._x(part.start_s)), _LEFT)
            right = min(float(self._x(part.end_s)), self.width() - _RIGHT)
            if right <= left:
                continue
            hatch = QColor(theme.BRASS)
            hatch.setAlpha(90)
            area = QRectF(left, _TOP, right - left, self.height() - _TOP - _BOTTOM)
            painter.fillRect(area, QBrush(hatch, Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(theme.BRASS_TEXT, 1.4))
            for x in (left, right):
                painter.drawLine(QLineF(x, _TOP, x, self.height() - _BOTTOM))
            painter.setFont(theme.text_font(12))
            label = QRectF(left + 4.0, self.height() - _BOTTOM - 18, _RATIO_PX, 16)
            painter.fillRect(label, theme.SHEET)
            painter.drawText(label, Qt.AlignmentFlag.AlignCenter, f"stretched {change_in_words(part.ratio)}")

    def _seam_at(self, point: QPointF) -> tuple[SeamSeen, bool] | None:
        """The seam whose band is under a point, and whether its left edge is: where its fade begins."""
        for seam in self._seams_seen():
            left, right = float(self._x(seam.start_s)), float(self._x(seam.end_s))
            if left - 3.0 <= point.x() <= right + 3.0:
                return seam, right - left >= _WIDE_PX and point.x() <= left + 3.0
        return None

    # ---- gestures

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.zoom(1 if event.angleDelta().y() > 0 else -1)
            event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Up:
            self.zoom(1)
        elif event is not None and event.key() == Qt.Key.Key_Down:
            self.zoom(-1)
        else:
            super().keyPressEvent(event)

    def _lane_at(self, point: QPointF) -> str | None:
        return next((key for key, lane in self._lanes() if lane.top() <= point.y() < lane.bottom()), None)

    def _mark_at(self, point: QPointF) -> tuple[str, int, bool] | None:
        """The hit whose mark is under a point, and whether that is its landing: those stand in a lane's lower half."""
        view, key = self._workspace.view, self._lane_at(point)
        if view is None or key is None or self._centre_s is None or not len(view.hits[key]):
            return None
        start_x, landing_x = self._x(view.hits[key].time_s), self._x(view.hits[key].landing_s)
        is_low = point.y() >= dict(self._lanes())[key].center().y()
        landing_x = np.where(is_low & (landing_x - start_x > _LANDS_PX), landing_x, np.inf)
        for mark_x, lands in ((landing_x, True), (start_x, False)):
            distance = np.abs(mark_x - point.x())
            nearest = int(np.argmin(distance))
            if distance[nearest] <= NEAR_PX:
                return key, nearest, lands
        return None

    def _take(self, at: QPointF, key: str, index: int, *, lands: bool) -> None:
        """Begin to pull the start of a hit, or where it lands."""
        view, centre = self._workspace.view, self._centre_s
        assert view is not None
        hits = view.hits[key]
        hit_s = float(hits.time_s[index])
        from_s = float(hits.landing_s[index]) if lands else hit_s
        self._pull = _Pull(key, hit_s, from_s, from_s, lands)
        self._grab = Grab(at, QPointF(float(self._x(from_s)), at.y()))
        choose_hit(self._workspace, key, hit_s)
        self._centre_s = centre

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        view = self._workspace.view
        if event is None or view is None:
            return
        mark = self._mark_at(event.position())
        seam = self._seam_at(event.position())
        if seam is not None:
            self._seam_pull = _SeamPull(*seam)
            self._grab = Grab(event.position())
        elif mark is not None:  # with Shift a landing comes out of its start
            with_shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._take(event.position(), mark[0], mark[1], lands=mark[2] or with_shift)
        elif (key := self._lane_at(event.position())) is not None:
            self._workspace.look(track=key)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        to = self._grab.drag(event.position())
        if self._seam_pull is not None and to is not None:
            by_s = self._time_at(to.x()) - self._time_at(self._grab.at.x())
            self._seam_pull = replace(self._seam_pull, by_s=by_s)
            self.update()
            return
        if (pull := self._pull) is not None and to is not None:
            rate = self._workspace.session.rate_hz
            to_s = round(self._time_at(to.x()) * rate) / rate
            self._pull = replace(pull, to_s=max(to_s, pull.hit_s) if pull.lands else to_s)
            self.update()
            return
        mark = self._mark_at(event.position())
        seam = self._seam_at(event.position())
        handled = mark is not None or seam is not None
        self.setCursor(Qt.CursorShape.SizeHorCursor if handled else Qt.CursorShape.ArrowCursor)
        words = ""
        if seam is not None:
            does = "drag this edge to make it shorter or longer" if seam[1] else "drag it elsewhere"
            words = f"A seam, {seam[0].fade_ms:.1f} ms long: {does}; a double click leaves it to the program again."
        if mark is not None:
            key, index, lands = mark
            words = describe_hit(self._workspace, key, index)
            words += "\nDrag: where it lands; a double click leaves that to the program again." if lands else ""
        self.setToolTip(words)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        pulled, self._seam_pull = self._seam_pull, None
        if pulled is not None:
            if pulled.by_s and pulled.of_fade:
                drag_fade(self._workspace, pulled.seam, pulled.seam.fade_ms - 1000.0 * pulled.by_s)
            elif pulled.by_s:
                drag_seam(self._workspace, pulled.seam, pulled.by_s)
            self.update()
            return
        pull, self._pull = self._pull, None
        if pull is not None and abs(pull.to_s - pull.from_s) > 1e-9:
            if pull.lands:
                land_hit(self._workspace, pull.to_s)
            else:
                move_hit(self._workspace, pull.key, pull.hit_s, pull.to_s)
        self._follow()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._centre_s is None or (key := self._lane_at(event.position())) is None:
            return
        if (seam := self._seam_at(event.position())) is not None:
            leave_seen(self._workspace, seam[0])
            return
        mark, view = self._mark_at(event.position()), self._workspace.view
        if mark is not None and mark[2] and view is not None:
            choose_hit(self._workspace, key, float(view.hits[key].time_s[mark[1]]))
            land_hit(self._workspace, None)
            return
        self._workspace.look(track=key)
        add_hit(self._workspace, self._time_at(event.position().x()), exact=True)


def _read(recordings: dict[str, Recording], edits: EditList, first: int, count: int) -> _Stretch:
    played, tightened = {}, {}
    for key, recording in recordings.items():
        with BlockReader(recording, "float32") as reader:
            played[key] = reader.read_mono(first, count)
            sound = edits.render(reader.read, first, count, recording=recording)
            tightened[key] = sound.mean(axis=1)
    return _Stretch(first, played, tightened)
