"""Draws one row of the page: waveforms, grid lines, pegs, marks. Only called with what a row needs."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF

from supple_snare.desk import theme
from supple_snare.desk.page_geometry import LEAN_CAP, PageLayout, lean_angle
from supple_snare.session.doubts import Doubt
from supple_snare.session.stages import GroupView
from supple_snare.sound.editlist import EditList
from supple_snare.sound.peaks import Extremes, Peaks
from supple_snare.timing.grid import is_on_count
from supple_snare.timing.hits import Kind
from supple_snare.timing.tighten import Kept
from supple_snare.timing.units import FloatArray

_COLUMN_PX = 1.0


@dataclass(frozen=True)
class PagePicture:
    """What is drawn on the page.

    Attributes
    ----------
    layout : PageLayout
    view : GroupView or None
        None while the group is being listened to.
    peaks : dict of str to Peaks
        By track key.
    edits : EditList
        Seams of the group, for the tightened waveform.
    tightened : bool
        Which version stands in front; the other one is ghosted.
    doubts : list of list of Doubt
        By stroke.
    show_moves : bool
        Whether the other version is ghosted behind.
    show_hits : bool
        Whether every hit is marked, bleed too; pegs step back then.
    selected : int or None
    range_s, loop_s : (float, float) or None
    """

    layout: PageLayout
    view: GroupView | None = None
    peaks: dict[str, Peaks] = field(default_factory=dict)
    edits: EditList = field(default_factory=EditList.identity)
    tightened: bool = True
    doubts: list[list[Doubt]] = field(default_factory=list)
    show_moves: bool = True
    show_hits: bool = False
    selected: int | None = None
    range_s: tuple[float, float] | None = None
    loop_s: tuple[float, float] | None = None


def paint_row(painter: QPainter, picture: PagePicture, row: int, top_px: float) -> None:
    """Draw one row whose upper edge lies at `top_px`."""
    layout = picture.layout
    painter.save()
    painter.translate(0.0, top_px)
    _paint_spans(painter, picture, row)
    painter.setClipRect(QRectF(layout.line_left_px, 0.0, layout.line_width_px, layout.row_px))
    if picture.view is not None:
        _paint_waves(painter, picture, row)
    _paint_grid(painter, layout, row)
    if picture.view is not None and len(picture.view.strokes):
        _paint_strokes(painter, picture, row)
    if picture.view is not None and picture.show_hits:
        _paint_hits(painter, picture, row)
    painter.setClipping(False)
    _paint_margins(painter, layout)
    _paint_numbers(painter, layout, row)
    painter.restore()


def base_px(layout: PageLayout) -> float:
    """Height of the line inside a row."""
    return layout.row_px * 0.54


def peg_px(layout: PageLayout) -> float:
    """Length of a peg."""
    return layout.row_px * 0.34


def _paint_spans(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Selection, holds and loop behind everything."""
    layout = picture.layout
    height = layout.row_px

    def span(start_s: float, end_s: float) -> QRectF | None:
        left, right = layout.x_in_row(row, [start_s, end_s])
        left = max(float(left), layout.line_left_px)
        right = min(float(right), layout.line_left_px + layout.line_width_px)
        return QRectF(left, 4.0, right - left, height - 6.0) if right > left else None

    if picture.range_s and (rect := span(*picture.range_s)):
        painter.fillRect(rect, theme.BRASS_PALE)
    if picture.view is not None:
        for hold in picture.view.group.holds:
            if rect := span(hold.start_s, hold.end_s):
                painter.fillRect(rect, QBrush(theme.RULE, Qt.BrushStyle.BDiagPattern))
                painter.setFont(theme.text_font(12))
                painter.setPen(theme.INK_SOFT)
                painter.drawText(rect.adjusted(3, 0, 60, 0), Qt.AlignmentFlag.AlignTop, "held")
    if picture.loop_s and (rect := span(*picture.loop_s)):
        painter.fillRect(QRectF(rect.left(), 1.0, rect.width(), 4.0), theme.BRASS)


def _paint_margins(painter: QPainter, layout: PageLayout) -> None:
    """Veil over what belongs to the neighbouring rows."""
    veil = QColor(theme.SHEET)
    veil.setAlpha(150)
    width = layout.margin_bars * layout.px_per_bar
    right = layout.line_left_px + layout.line_width_px
    painter.fillRect(QRectF(layout.line_left_px, 0.0, width, layout.row_px), veil)
    painter.fillRect(QRectF(right - width, 0.0, width, layout.row_px), veil)


def _paint_numbers(painter: QPainter, layout: PageLayout, row: int) -> None:
    painter.setPen(theme.INK)
    first = int(np.floor(layout.row_bar(row) + 1e-9))
    painter.setFont(theme.text_font(14, bold=True))
    if layout.bars_a_row >= 1 or layout.row_bar(row) % 1.0 == 0:
        box = QRectF(0.0, 0.0, layout.line_left_px - 6.0, 20.0)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, _bar_text(first))
    painter.setPen(theme.INK_SOFT)
    painter.setFont(theme.text_font(12))
    for bar in range(first + 1, int(np.ceil(layout.row_bar(row + 1) - 1e-9))):
        x = float(layout.x_in_row(row, layout.grid.bar_time_s(bar)))
        painter.drawText(QPointF(x + 3.0, 12.0), _bar_text(bar))


def _bar_text(bar: int) -> str:
    return str(bar).replace("-", "−")


def _paint_grid(painter: QPainter, layout: PageLayout, row: int) -> None:
    """Line of the row, and grid lines: bars whole, counts long, slots as ticks."""
    grid, height, base = layout.grid, layout.row_px, base_px(layout)
    start_s, end_s = layout.row_span_s(row)
    slots = grid.slots(start_s, end_s)
    x = layout.x_in_row(row, slots.time_s)
    inside = (x >= layout.line_left_px - 0.5) & (x <= layout.line_left_px + layout.line_width_px + 0.5)
    bars = slots.slot == 0
    counts = is_on_count(slots.beat, grid.meter) & ~bars
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    dense = layout.px_per_bar / grid.slots_per_bar < 3.0
    for which, reach, pen in (
        (~bars & ~counts, 4.0, QPen(theme.RULE_STRONG, 1)),
        (counts, height * 0.30, QPen(theme.RULE, 1)),
        (bars, height * 0.5 - 4.0, QPen(theme.RULE_STRONG, 2)),
    ):
        if reach == 4.0 and dense:
            continue
        painter.setPen(pen)
        for px in np.rint(x[which & inside]).tolist():
            painter.drawLine(QLineF(px, base - reach, px, base + reach))
    painter.setPen(QPen(theme.INK_SOFT, 1))
    painter.drawLine(QLineF(layout.line_left_px, base, layout.line_left_px + layout.line_width_px, base))


def _paint_waves(painter: QPainter, picture: PagePicture, row: int) -> None:
    """The first lead rises from the line, the others hang below; without leads, the first track rises."""
    view, layout = picture.view, picture.layout
    assert view is not None
    start_s, end_s = layout.row_span_s(row)
    columns = max(2, int(layout.line_width_px / _COLUMN_PX))
    leads = view.leads or tuple(track.key for track in view.tracks[:1])
    room_up, room_down = base_px(layout) - 8.0, layout.row_px - base_px(layout) - 6.0
    front = picture.edits if picture.tightened else EditList.identity()
    back = EditList.identity() if picture.tightened else picture.edits

    def shape(keys: tuple[str, ...], edits: EditList) -> FloatArray:
        total = np.zeros(columns)
        for key in keys:
            if key in picture.peaks:
                total = np.maximum(total, _loudness(picture.peaks[key], edits, start_s, end_s, columns))
        return total

    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    for keys, direction, room, colour in (
        (leads[:1], -1.0, room_up, theme.WAVE_UP),
        (leads[1:], 1.0, room_down, theme.WAVE_DOWN),
    ):
        if not keys:
            continue
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawPolygon(_outline(shape(keys, front) * direction * room, layout))
        if not picture.edits.is_identity:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.RULE_STRONG if direction < 0 else QColor("#9AA6B2"), 1, Qt.PenStyle.DotLine))
            painter.drawPolyline(_outline(shape(keys, back) * direction * room, layout))


def _loudness(peaks: Peaks, edits: EditList, start_s: float, end_s: float, columns: int) -> FloatArray:
    """Height of each column, 0 to 1: loud and soft strokes both to be seen."""
    start, end = start_s * peaks.rate_hz, end_s * peaks.rate_hz
    if edits.is_identity:
        extremes: Extremes = peaks.between(start, end, columns)
    else:
        edges = start + (end - start) / columns * np.arange(columns + 1)
        pieces = edits.piece_at(np.rint(edges[:-1]))
        extremes = np.zeros((columns, 2), dtype=np.float32)
        for piece in np.unique(pieces):
            mine = np.flatnonzero(pieces == piece)
            shift = float(edits.shift[piece])
            extremes[mine] = peaks.between(edges[mine[0]] - shift, edges[mine[-1] + 1] - shift, len(mine))
    amplitude = np.max(np.abs(extremes), axis=1).astype(np.float64)
    loudest = max(float(np.abs(peaks.levels[-1]).max()), 1e-6)
    return (amplitude / loudest) ** 0.6


def _outline(heights: FloatArray, layout: PageLayout) -> QPolygonF:
    base = base_px(layout)
    x = layout.line_left_px + np.arange(len(heights)) * (layout.line_width_px / len(heights))
    points = [QPointF(px, base + py) for px, py in zip(x.tolist(), heights.tolist(), strict=True)]
    return QPolygonF([QPointF(x[0], base), *points, QPointF(float(x[-1]), base)])


def _paint_strokes(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Pegs at their slots, leaning by their offset; strokes without a slot as a short cross at their own time."""
    view, layout = picture.view, picture.layout
    assert view is not None
    start_s, end_s = layout.row_span_s(row)
    strokes, offsets, plan = view.strokes, view.offsets, view.plan
    where = np.where(offsets.placed, offsets.grid_s, strokes.time_s)
    shown = np.flatnonzero((where >= start_s) & (where <= end_s))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    base, length = base_px(layout), peg_px(layout)
    x_all = layout.x_in_row(row, where[shown])
    for x, index in zip(x_all.tolist(), shown.tolist(), strict=True):
        direction = -1.0 if strokes.lead[index] == 0 else 1.0
        played, kept_ms = float(offsets.offset_ms[index]), 0.0
        if not np.isfinite(played):
            painter.setPen(QPen(theme.INK_SOFT, 2))
            painter.drawLine(QLineF(x - 4, base - 4, x + 4, base + 4))
            painter.drawLine(QLineF(x - 4, base + 4, x + 4, base - 4))
            continue
        kept_ms = played + float(plan.move_ms[index])
        soft = float(np.clip(1.0 + (strokes.level_db[index] + 6.0) / 60.0, 0.6, 1.0))
        front, back = (kept_ms, played) if picture.tightened else (played, kept_ms)
        if picture.selected == index:
            painter.setPen(QPen(theme.BRASS, 2))
            painter.setBrush(theme.BRASS_PALE)
            painter.drawEllipse(QPointF(x, base), 9.0, 9.0)
        if picture.show_moves and abs(front - back) > 0.05:
            _paint_peg(painter, QLineF(x, base, x, base + direction * length * soft), back, ghost=True)
        _paint_peg(painter, QLineF(x, base, x, base + direction * length * soft), front, ghost=picture.show_hits)
        _paint_lead_ticks(painter, picture, row, index, base)
        _paint_marks(painter, picture, index, x, base)


def _paint_peg(painter: QPainter, upright: QLineF, offset_ms: float, *, ghost: bool) -> None:
    """A peg that would stand upright if the stroke were on time."""
    angle = float(lean_angle(offset_ms))
    length, foot = upright.dy(), upright.p1()
    head = QPointF(foot.x() + np.sin(angle) * abs(length), foot.y() + np.cos(angle) * length)
    colour = QColor(theme.lean_colour(offset_ms))
    if ghost:
        colour.setAlpha(110)
    painter.setPen(QPen(colour, 1.4 if ghost else 2.4))
    painter.drawLine(foot, head)
    capped = abs(angle) >= LEAN_CAP - 1e-9
    painter.setBrush(Qt.BrushStyle.NoBrush if ghost else colour)
    radius = 2.2 if ghost else 3.2
    if capped:  # a square head: it leans farther than can be drawn
        painter.drawRect(QRectF(head.x() - radius, head.y() - radius, 2 * radius, 2 * radius))
    else:
        painter.drawEllipse(head, radius, radius)


def _paint_lead_ticks(painter: QPainter, picture: PagePicture, row: int, index: int, base: float) -> None:
    """Where the other leads' hits lie inside the stroke."""
    view = picture.view
    assert view is not None
    times = view.strokes.lead_times_s[index]
    others = times[np.isfinite(times) & (times != view.strokes.time_s[index])]
    if picture.layout.px_per_bar > 60.0:
        painter.setPen(QPen(theme.INK_SOFT, 1))
        for x in picture.layout.x_in_row(row, others):
            painter.drawLine(QLineF(float(x), base + 2.0, float(x), base + 8.0))


def _paint_marks(painter: QPainter, picture: PagePicture, index: int, x: float, base: float) -> None:
    """A held stroke has a square foot, a doubtful one a flag at the top of its row."""
    assert picture.view is not None
    if picture.view.plan.kept[index] == Kept.HELD:
        painter.setPen(QPen(theme.INK, 1.5))
        painter.setBrush(theme.SHEET)
        painter.drawRect(QRectF(x - 4.0, base - 4.0, 8.0, 8.0))
    if picture.doubts and picture.doubts[index]:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BRASS)
        painter.drawPolygon(QPolygonF([QPointF(x, 15.0), QPointF(x - 5.0, 6.0), QPointF(x + 5.0, 6.0)]))


def _paint_hits(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Every hit of the leads where it was played: dots for played, rings for bleed, small marks for grace and roll."""
    view, layout = picture.view, picture.layout
    assert view is not None
    start_s, end_s = layout.row_span_s(row)
    base = base_px(layout)
    for rank, key in enumerate(view.leads):
        hits = view.hits[key]
        shown = np.flatnonzero((hits.time_s >= start_s) & (hits.time_s <= end_s))
        y = base - layout.row_px * 0.40 if rank == 0 else base + layout.row_px * 0.20 + 7.0 * rank
        x_all = layout.x_in_row(row, hits.time_s[shown])
        for x, kind in zip(x_all.tolist(), hits.kind[shown].tolist(), strict=True):
            _paint_hit(painter, QPointF(x, y), Kind(kind))


def _paint_hit(painter: QPainter, at: QPointF, kind: Kind) -> None:
    if kind == Kind.PLAYED:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.INK)
        painter.drawEllipse(at, 3.0, 3.0)
    elif kind == Kind.BLEED:
        painter.setPen(QPen(theme.INK_SOFT, 1))
        painter.setBrush(theme.SHEET)
        painter.drawEllipse(at, 2.6, 2.6)
    elif kind == Kind.GRACE:
        painter.setPen(QPen(theme.INK, 1.4))
        painter.drawLine(QLineF(at.x() - 3, at.y() + 3, at.x() + 3, at.y() - 3))
    else:
        painter.setPen(QPen(theme.INK, 1.4))
        painter.drawLine(QLineF(at.x(), at.y() - 3, at.x(), at.y() + 3))
