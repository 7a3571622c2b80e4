"""Draws one row of the page: what lies under the strokes, waveforms and grid lines, and what lies over them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF

from supple_snare.desk import theme
from supple_snare.desk.page_geometry import PageLayout
from supple_snare.desk.page_picture import PagePicture
from supple_snare.desk.shapes import polygon
from supple_snare.desk.stamps import put
from supple_snare.desk.stretch_tools import change_in_words, stretched_parts
from supple_snare.session.section_edits import Span
from supple_snare.session.stages import GroupView
from supple_snare.sound.editlist import EditList
from supple_snare.sound.peaks import Peaks
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits, Kind, Origin
from supple_snare.timing.units import FloatArray

_COLUMN_PX = 1.5
_LANE_EDGE_PX = 5.0
_WEDGE_PX, _WEDGE_FULL = 12.0, 0.33
"""Height of a wedge that stands for a part stretched by that share or more."""

_RATIO_PX = 54.0
"""A stretched part so wide says in figures how much longer it gets."""

_SEAMS_PX = 90.0
"""Seams are marked where a bar is at least so wide."""


def paint_under(painter: QPainter, picture: PagePicture, row: int, top_px: float) -> None:
    """Draw what lies under the strokes of one row: it does not change while a control turns."""
    layout = picture.layout
    painter.save()
    painter.translate(0.0, top_px)
    _paint_spans(painter, picture, row)
    painter.setClipRect(QRectF(layout.line_left_px, 0.0, layout.line_width_px, layout.row_px))
    if picture.notes is not None:
        _paint_notes(painter, picture, row)
    elif picture.view is not None:
        _paint_waves(painter, picture, row)
    _paint_grid(painter, picture, row)
    if picture.show_moves and picture.tightened:
        _paint_seams(painter, picture, row)
    if picture.show_moves:
        _paint_anchors(painter, picture, row)
    if picture.view is not None and picture.show_hits:
        _paint_hits(painter, picture, row, of_chosen=False)
    painter.setClipping(False)
    _paint_numbers(painter, layout, row)
    painter.restore()


def paint_over(painter: QPainter, picture: PagePicture, row: int, top_px: float) -> None:
    """Draw what lies over the strokes of one row."""
    layout = picture.layout
    painter.save()
    painter.translate(0.0, top_px)
    painter.setClipRect(QRectF(layout.line_left_px, 0.0, layout.line_width_px, layout.row_px))
    if picture.view is not None and picture.show_hits:
        _paint_hits(painter, picture, row, of_chosen=True)
    _paint_margins(painter, layout)
    painter.restore()


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
        group = picture.view.group
        for ranges, pattern, word in (
            (group.holds, Qt.BrushStyle.BDiagPattern, "held"),
            (group.evens, Qt.BrushStyle.VerPattern, "evened out"),
            (group.pieces, Qt.BrushStyle.HorPattern, "one piece"),
        ):
            for each in ranges:
                if rect := span(each.start_s, each.end_s):
                    _paint_range(painter, rect, pattern, word)
        for slide in group.slides:
            if rect := span(slide.start_s, slide.end_s):
                _paint_range(painter, rect, Qt.BrushStyle.Dense6Pattern, f"{theme.signed(slide.move_ms)} ms")
    for part in picture.sections:
        _paint_section(painter, picture, row, part)
    if picture.loop_s and (rect := span(*picture.loop_s)):
        painter.fillRect(QRectF(rect.left(), 1.0, rect.width(), 4.0), theme.BRASS)


def _paint_range(painter: QPainter, rect: QRectF, pattern: Qt.BrushStyle, word: str) -> None:
    """A range in which something was decided by hand."""
    painter.fillRect(rect, QBrush(theme.RULE, pattern))
    painter.setFont(theme.text_font(12))
    painter.setPen(theme.INK_SOFT)
    painter.drawText(rect.adjusted(3, 0, 60, 0), Qt.AlignmentFlag.AlignTop, word)


def _paint_section(painter: QPainter, picture: PagePicture, row: int, part: Span) -> None:
    """A dashed line where a section starts; its name on a slip there and at the head of each further row."""
    layout = picture.layout
    row_start_s, row_end_s = (float(layout.grid.bar_time_s(layout.row_bar(number))) for number in (row, row + 1))
    start_s = part.section.start_s
    if start_s >= row_end_s - 1e-6 or part.end_s <= row_start_s + 1e-6:
        return
    begins_here = start_s > row_start_s - 1e-6
    x = float(layout.x_in_row(row, max(start_s, row_start_s)))
    if begins_here and start_s > 0.0:
        painter.setPen(QPen(theme.BRASS, 2, Qt.PenStyle.DashLine))
        painter.drawLine(QLineF(x, 2.0, x, layout.row_px - 2.0))
    painter.setFont(theme.text_font(12))
    left = x + 4.0
    if start_s > row_start_s + 1e-6:  # inside a row the number of the bar stands right of its line
        label = _bar_label(layout.grid, round(float(layout.grid.bar_at(start_s))))
        left += painter.fontMetrics().horizontalAdvance(label) + 5.0
    room = float(layout.x_in_row(row, min(part.end_s, row_end_s))) - left - 8.0
    text = painter.fontMetrics().elidedText(part.section.name, Qt.TextElideMode.ElideRight, int(max(room, 0.0)))
    if not text:
        return
    slip = QRectF(left, 1.0, painter.fontMetrics().horizontalAdvance(text) + 8.0, 15.0)
    painter.fillRect(slip, theme.BRASS_PALE)
    painter.setPen(theme.BRASS_TEXT)
    painter.drawText(slip, Qt.AlignmentFlag.AlignCenter, text)


def _paint_margins(painter: QPainter, layout: PageLayout) -> None:
    """Veil over what belongs to the neighbouring rows."""
    veil = QColor(theme.SHEET)
    veil.setAlpha(150)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)  # a smooth edge costs ten times as much
    width = layout.margin_bars * layout.px_per_bar
    right = layout.line_left_px + layout.line_width_px
    painter.fillRect(QRectF(layout.line_left_px, 0.0, width, layout.row_px), veil)
    painter.fillRect(QRectF(right - width, 0.0, width, layout.row_px), veil)


def _paint_numbers(painter: QPainter, layout: PageLayout, row: int) -> None:
    painter.setPen(theme.INK)
    first = int(np.floor(max(layout.row_bar(row), float(layout.grid.bar_at(0.0))) + 1e-9))
    left, right = layout.take_px(row)
    painter.setFont(theme.text_font(14, bold=True))
    if layout.bars_a_row >= 1 or layout.row_bar(row) % 1.0 == 0:
        box = QRectF(0.0, 0.0, layout.line_left_px - 6.0, 20.0)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, _bar_text(first))
    painter.setPen(theme.INK_SOFT)
    painter.setFont(theme.text_font(12))
    meter = _new_meter(layout.grid, first)
    if meter:
        box = QRectF(0.0, 20.0, layout.line_left_px - 6.0, 16.0)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, meter)
    for bar in range(first + 1, int(np.ceil(layout.row_bar(row + 1) - 1e-9))):
        x = float(layout.x_in_row(row, layout.grid.bar_time_s(bar)))
        if left <= x <= right:
            painter.drawText(QPointF(x + 3.0, 12.0), _bar_label(layout.grid, bar))


def _new_meter(grid: Grid, bar: int) -> str:
    """The meter that a bar changes to, if it does."""
    return next((str(change.meter) for change in grid.meter_changes if change.bar == bar), "")


def _bar_label(grid: Grid, bar: int) -> str:
    """What stands right of a bar's line: its number, and its meter where that is new."""
    meter = _new_meter(grid, bar)
    return f"{_bar_text(bar)} · {meter}" if meter else _bar_text(bar)


def _bar_text(bar: int) -> str:
    return str(bar).replace("-", "−")


def _paint_grid(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Line of the row, and grid lines: bars whole, counts long, slots as ticks."""
    layout, grid = picture.layout, picture.grid
    height, base = layout.row_px, layout.base_px
    start_s, end_s = layout.row_span_s(row)
    slots = grid.slots(start_s, end_s)
    x = layout.x_in_row(row, slots.time_s)
    left, right = layout.take_px(row)
    inside = (x >= left - 0.5) & (x <= right + 0.5)
    bars = slots.slot == 0
    counts = slots.on_count & ~bars
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
    painter.drawLine(QLineF(left, base, right, base))
    if picture.show_click:
        for which, reach, width in ((bars, 9.0, 3), (counts, 6.0, 1)):
            painter.setPen(QPen(theme.INK, width))
            for px in np.rint(x[which & inside]).tolist():
                painter.drawLine(QLineF(px, height - 2.0 - reach, px, height - 2.0))
    painter.setPen(QPen(theme.SHEET, 1))
    painter.setBrush(theme.BRASS_TEXT)
    for pin in grid.pins:
        if start_s <= pin.time_s <= end_s:
            px = float(layout.x_in_row(row, pin.time_s))
            corners = [(px - 5.0, base), (px, base - 6.0), (px + 5.0, base), (px, base + 6.0)]
            painter.drawPolygon(QPolygonF([QPointF(*corner) for corner in corners]))


def _paint_waves(painter: QPainter, picture: PagePicture, row: int) -> None:
    """The track to mend, else the first lead, rises from the line, the other leads hang below; a lone one does both."""
    view, layout = picture.view, picture.layout
    assert view is not None
    columns = max(2, int(layout.line_width_px / _COLUMN_PX))
    # Not even in time: a row in which the tempo or the meter changes runs faster here than there.
    edges_s = layout.times_in_row(row, layout.line_left_px + np.linspace(0.0, layout.line_width_px, columns + 1))
    leads = view.leads or tuple(track.key for track in view.tracks[:1])
    above = picture.hit_track or leads[0]
    below = tuple(key for key in leads if key != above)
    room_up, room_down = layout.base_px - 8.0, layout.row_px - layout.base_px - 6.0
    front = picture.edits if picture.tightened else EditList.identity()
    back = EditList.identity() if picture.tightened else picture.edits

    def shape(keys: tuple[str, ...], edits: EditList) -> FloatArray:
        total = np.zeros(columns)
        for key in keys:
            if key in picture.peaks:
                total = np.maximum(total, _loudness(picture.peaks[key], edits, edges_s))
        return total

    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    for keys, direction, room, colour in (
        ((above,), -1.0, room_up, theme.WAVE_UP),
        (below or (above,), 1.0, room_down, theme.WAVE_DOWN if below else theme.WAVE_UP),
    ):
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawPolygon(_outline(shape(keys, front) * direction * room, layout))
        if picture.show_moves and not picture.edits.is_identity:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)  # a dotted curve costs ten times as much
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.RULE_STRONG if direction < 0 else QColor("#9AA6B2"), 1, Qt.PenStyle.DotLine))
            painter.drawPolyline(_outline(shape(keys, back) * direction * room, layout))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)


def _paint_seams(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Where seams fade, as short brass bars along the foot of the row."""
    layout, edits, view = picture.layout, picture.edits, picture.view
    if view is None or edits.is_identity or not picture.peaks or layout.px_per_bar < _SEAMS_PX:
        return
    rate = next(iter(picture.peaks.values())).rate_hz
    start_s, end_s = layout.row_span_s(row)
    shown = np.flatnonzero((edits.at > 0) & (edits.at >= start_s * rate) & (edits.at <= end_s * rate))
    right = layout.x_in_row(row, edits.at[shown] / rate)
    left = layout.x_in_row(row, (edits.at[shown] - edits.fade[shown]) / rate)
    for begin, end in zip(left.tolist(), right.tolist(), strict=True):
        painter.fillRect(QRectF(begin, layout.row_px - 5.0, max(end - begin, 2.0), 4.0), theme.BRASS)
    painter.setPen(QPen(theme.BRASS_TEXT, 1.2))
    painter.setBrush(theme.BRASS)
    painter.setFont(theme.text_font(12))
    for part in stretched_parts(edits, rate, start_s, end_s):
        begin, end = layout.x_in_row(row, [part.start_s, part.end_s]).tolist()
        painter.drawPolygon(_wedge(begin, end, layout.row_px - 3.0, part.ratio))
        if end - begin > _RATIO_PX:
            words = QRectF(begin + 2.0, layout.row_px - 22.0, _RATIO_PX - 4.0, 14.0)
            painter.fillRect(words, theme.SHEET)
            painter.drawText(words, Qt.AlignmentFlag.AlignLeft, change_in_words(part.ratio))


def _wedge(left: float, right: float, foot: float, ratio: float) -> QPolygonF:
    """A stretched part: a wedge that opens where it gets longer and closes where it gets shorter, higher the more."""
    height = 2.0 + (_WEDGE_PX - 2.0) * min(abs(ratio - 1.0) / _WEDGE_FULL, 1.0)
    low, high = (1.0, height) if ratio >= 1.0 else (height, 1.0)
    corners = [(left, foot), (left, foot - low), (right, foot - high), (right, foot)]
    return QPolygonF([QPointF(*corner) for corner in corners])


def _paint_anchors(painter: QPainter, picture: PagePicture, row: int) -> None:
    """Anchors, as stakes with a crossbar that stand at the foot of the row."""
    view, layout = picture.view, picture.layout
    if view is None:
        return
    start_s, end_s = layout.row_span_s(row)
    shown = [time_s for time_s in view.group.anchors_s if start_s <= time_s <= end_s]
    painter.setPen(QPen(theme.INK, 1.6))
    for x in layout.x_in_row(row, shown).tolist() if shown else []:
        painter.drawLine(QLineF(x, layout.row_px - 16.0, x, layout.row_px - 2.0))
        painter.drawLine(QLineF(x - 4.0, layout.row_px - 13.0, x + 4.0, layout.row_px - 13.0))


def _paint_notes(painter: QPainter, picture: PagePicture, row: int) -> None:
    """The notes of a part below the line, high ones nearer to it, strong ones darker; the other version pale behind."""
    assert picture.notes is not None
    notes, change = picture.notes
    layout = picture.layout
    if not len(notes):
        return
    top, bottom = layout.base_px + 8.0, layout.row_px - 8.0
    known, order = np.unique(notes.pitch, return_inverse=True)
    step = (bottom - top) / max(len(known), 6)
    y = top + (len(known) - 1 - order) * step
    tight = (change.time_s, change.end_s, change.velocity)
    played = (notes.time_s, notes.end_s, notes.velocity)
    front, back = (tight, played) if picture.tightened and picture.show_moves else (played, tight)
    start_s, end_s = layout.row_span_s(row)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    thick = max(min(step - 1.0, 7.0), 1.5)
    for (begin_s, until_s, velocity), is_front in ((back, False), (front, True)):
        if not is_front and not picture.show_moves:
            continue
        shown = np.flatnonzero((until_s >= start_s) & (begin_s <= end_s))
        left, right = layout.x_in_row(row, begin_s[shown]), layout.x_in_row(row, until_s[shown])
        columns = zip(left.tolist(), right.tolist(), y[shown].tolist(), velocity[shown].tolist(), strict=True)
        for begin, until, at, force in columns:
            box = QRectF(begin, at, max(until - begin, 2.0), thick)
            if is_front:
                colour = QColor(theme.INK_SOFT)
                colour.setAlphaF(0.25 + 0.6 * force / 127.0)
                painter.fillRect(box, colour)
            else:
                painter.fillRect(box, theme.BRASS_PALE)


def _loudness(peaks: Peaks, edits: EditList, edges_s: FloatArray) -> FloatArray:
    """Height of each column between two moments, 0 to 1: loud and soft strokes both to be seen."""
    edges = peaks.rate_hz * edges_s
    first = np.rint(edges[:-1])
    shift = 0 if edits.is_identity else first - edits.source_of(first)
    extremes = peaks.spans(edges[:-1] - shift, edges[1:] - shift)
    amplitude = np.max(np.abs(extremes), axis=1).astype(np.float64)
    loudest = max(float(np.abs(peaks.levels[-1]).max()), 1e-6)
    return (amplitude / loudest) ** 0.6


def _outline(heights: FloatArray, layout: PageLayout) -> QPolygonF:
    base = layout.base_px
    x = layout.line_left_px + np.arange(len(heights)) * (layout.line_width_px / len(heights))
    y = base + heights
    return polygon(np.concatenate([x[:1], x, x[-1:]]), np.concatenate([[base], y, [base]]))


def hit_lanes(layout: PageLayout, view: GroupView, chosen: str | None) -> list[tuple[str, float]]:
    """Tracks whose hits are marked, and the height of their marks in a row: the one to mend stands above the line."""
    above = chosen or next(iter(view.columns), None)
    below = [key for key in view.columns if key != above]
    base = layout.base_px
    first = base + layout.row_px * 0.16
    step = min(9.0, (layout.row_px - _LANE_EDGE_PX - first) / max(len(below), 1))
    lanes = [(key, first + step * (rank + 1)) for rank, key in enumerate(below)]
    return lanes if above is None else [(above, base - layout.peg_px), *lanes]


def is_marked(hits: Hits, *, chosen: bool) -> NDArray[np.bool_]:
    """Which hits have a mark: all of the track to mend, of the others only what was played."""
    return np.full(len(hits), chosen) | (hits.kind != Kind.BLEED)


def _paint_hits(painter: QPainter, picture: PagePicture, row: int, *, of_chosen: bool) -> None:
    """Hits where they were played: dots for played, rings for bleed, small marks for grace, rolls and removed.

    Those of the chosen track lie over the kept picture, since they change while its limits are dragged.
    """
    view, layout = picture.view, picture.layout
    assert view is not None
    start_s, end_s = layout.row_span_s(row)
    for key, y in hit_lanes(layout, view, picture.hit_track):
        if (key == picture.hit_track) != of_chosen:
            continue
        hits = view.hits[key]
        inside = (hits.time_s >= start_s) & (hits.time_s <= end_s)
        shown = np.flatnonzero(inside & is_marked(hits, chosen=of_chosen))
        if picture.hit is not None and picture.hit[0] == key:
            x = float(layout.x_in_row(row, picture.hit[1]))
            painter.setPen(QPen(theme.BRASS, 2))
            painter.setBrush(theme.BRASS_PALE)
            painter.drawEllipse(QPointF(x, y), 7.5, 7.5)
        ink = theme.INK if of_chosen else theme.INK_SOFT
        kind, ghost = hits.kind[shown], hits.ghost[shown]
        x_all = layout.x_in_row(row, hits.time_s[shown])

        played, bleed = kind == Kind.PLAYED, kind == Kind.BLEED
        put(painter, x_all[played & ~ghost], y, ink, 3.2)
        put(painter, x_all[played & ghost], y, ink, 2.0)
        put(painter, x_all[bleed], y, theme.INK_FAINT, 2.6, ring=True)
        painter.setPen(QPen(ink, 1.4))
        for x in x_all[kind == Kind.GRACE].tolist():
            painter.drawLine(QLineF(x - 3, y + 3, x + 3, y - 3))
        for x in x_all[kind == Kind.ROLL].tolist():
            painter.drawLine(QLineF(x, y - 3, x, y + 3))
        painter.setPen(QPen(theme.BRASS, 1.6))
        for x in x_all[hits.origin[shown] != Origin.FOUND].tolist():
            painter.drawLine(QLineF(x - 4, y + 6, x + 4, y + 6))
        gone = np.array(picture.removed.get(key, ()))
        painter.setPen(QPen(theme.INK_SOFT, 1.4))
        for x in layout.x_in_row(row, gone[(gone >= start_s) & (gone <= end_s)]).tolist():
            painter.drawLine(QLineF(x - 3, y - 3, x + 3, y + 3))
            painter.drawLine(QLineF(x - 3, y + 3, x + 3, y - 3))
