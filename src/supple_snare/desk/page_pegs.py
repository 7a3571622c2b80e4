"""Draws the strokes of the page: pegs at their slots that lean by their offset, and what was decided about them.

All rows that are seen are drawn at once: there are few pegs in each, and every call of a painter costs.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from supple_snare.desk import theme
from supple_snare.desk.page_geometry import LEAN_CAP, PageLayout, lean_angle
from supple_snare.desk.page_picture import PagePicture
from supple_snare.desk.shapes import draw_lines
from supple_snare.desk.stamps import put
from supple_snare.session.stages import GroupView
from supple_snare.timing.tighten import Kept
from supple_snare.timing.units import FloatArray, IntArray


def peg_lengths(view: GroupView, which: IntArray, layout: PageLayout, rising: str | None = None) -> FloatArray:
    """Lengths of pegs standing upright: negative for those of the track above the line; louder ones are longer."""
    strokes = view.strokes
    loudness = np.clip(1.0 + (strokes.level_db[which] + 6.0) / 60.0, 0.6, 1.0)
    above = view.columns.index(rising) if rising in view.columns else 0
    return np.where(strokes.lead[which] == above, -1.0, 1.0) * loudness * layout.peg_px


def peg_heads(
    x: FloatArray, y: FloatArray | float, upright: FloatArray, offset_ms: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Places of pegs' heads by those of their feet, their lengths with a sign when upright, and their offsets."""
    angle = lean_angle(offset_ms)
    return x + np.sin(angle) * np.abs(upright), np.asarray(y + np.cos(angle) * upright)


def paint_strokes(painter: QPainter, picture: PagePicture, rows: range, top_px: float) -> None:
    """Draw the strokes of some rows, over what lies under them; strokes without a slot as a cross at their own time."""
    view, layout = picture.view, picture.layout
    if view is None or not len(view.strokes):
        return
    offsets, plan = view.offsets, view.plan
    where = np.where(offsets.placed, offsets.grid_s, view.strokes.time_s)
    shown, row, x = layout.places(rows, where)
    y = np.asarray(row * layout.row_px - top_px + layout.base_px, dtype=np.float64)
    painter.save()
    painter.setClipRect(QRectF(layout.line_left_px, 0.0, layout.line_width_px, layout.height_px))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    painter.setPen(QPen(theme.BRASS, 2))
    painter.setBrush(theme.BRASS_PALE)
    for at in _points(x, y, shown == picture.selected):
        painter.drawEllipse(at, 9.0, 9.0)
    is_peg = offsets.placed[shown]
    painter.setPen(QPen(theme.INK_SOFT, 2))
    cross_x, cross_y = x[~is_peg], y[~is_peg]
    draw_lines(painter, cross_x - 4.0, cross_y - 4.0, cross_x + 4.0, cross_y + 4.0)
    draw_lines(painter, cross_x - 4.0, cross_y + 4.0, cross_x + 4.0, cross_y - 4.0)
    _paint_lead_ticks(painter, picture, shown[is_peg], row[is_peg], y[is_peg])
    _paint_placed(painter, picture, shown[is_peg], x[is_peg], y[is_peg])
    if picture.show_moves and view.pairs is not None:
        painter.setPen(QPen(theme.INK_SOFT, 1.4))
        painter.setBrush(theme.SHEET)
        for at in _points(x, y, view.pairs.partner[shown] < 0):
            painter.drawEllipse(at + QPointF(0, 10), 3.2, 3.2)
    marked = offsets.fixed[shown] | np.isin(plan.kept[shown], (Kept.HELD, Kept.GIVEN))
    if picture.doubts:
        marked |= np.array([bool(picture.doubts[index]) for index in shown.tolist()], dtype=bool)
    for at, index in zip(_points(x, y, marked), shown[marked].tolist(), strict=True):
        _paint_marks(painter, picture, index, at)
    painter.restore()


def _points(x: FloatArray, y: FloatArray, which: NDArray[np.bool_]) -> list[QPointF]:
    return list(map(QPointF, x[which].tolist(), y[which].tolist()))


def _paint_placed(painter: QPainter, picture: PagePicture, pegs: IntArray, x: FloatArray, y: FloatArray) -> None:
    """The pegs, before them what stands behind: the other version, and what they aim at."""
    view = picture.view
    assert view is not None
    played = view.offsets.offset_ms[pegs]
    kept = played + view.plan.move_ms[pegs]
    upright = peg_lengths(view, pegs, picture.layout, picture.hit_track)
    front, back = (kept, played) if picture.tightened else (played, kept)
    if picture.behind_ms is not None:
        back = played + picture.behind_ms[pegs]
    if picture.show_moves:
        moved = np.abs(front - back) > 0.05  # not so for what a snapshot does not have
        _paint_pegs(painter, x[moved], y[moved], upright[moved], back[moved], ghost=True)
        if view.group.has_pattern:
            _paint_targets(painter, x, y, upright, view.plan.target_ms[pegs])
    _paint_pegs(painter, x, y, upright, front, ghost=picture.show_hits)


def _paint_targets(painter: QPainter, x: FloatArray, y: FloatArray, upright: FloatArray, target_ms: FloatArray) -> None:
    """What each stroke aims at: a fine line from its slot with a diamond at its head, where a peg's would be."""
    has_target = np.isfinite(target_ms)
    head_x, head_y = peg_heads(x, y, 1.12 * upright, np.nan_to_num(target_ms))
    painter.setPen(QPen(theme.INK_FAINT, 1))
    painter.setBrush(theme.SHEET)
    draw_lines(painter, x[has_target], y[has_target], head_x[has_target], head_y[has_target])
    painter.setPen(QPen(theme.INK_SOFT, 1.2))
    diamond = [QPointF(-4.0, 0.0), QPointF(0.0, -4.0), QPointF(4.0, 0.0), QPointF(0.0, 4.0)]
    for head in _points(head_x, head_y, has_target):
        painter.drawPolygon(QPolygonF([head + corner for corner in diamond]))


def _paint_pegs(
    painter: QPainter, x: FloatArray, y: FloatArray, upright: FloatArray, offset_ms: FloatArray, *, ghost: bool
) -> None:
    """Pegs whose length, with its sign, is `upright` when they stand upright."""
    head_x, head_y = peg_heads(x, y, upright, offset_ms)
    capped = np.abs(lean_angle(offset_ms)) >= LEAN_CAP - 1e-9
    radius = 2.4 if ghost else 4.2
    for ink, mine in theme.by_lean(offset_ms):
        colour = QColor(ink)
        if ghost:
            colour.setAlpha(110)
        painter.setPen(QPen(colour, 1.4 if ghost else 2.4))
        draw_lines(painter, x[mine], y[mine], head_x[mine], head_y[mine])
        # A square head leans farther than can be drawn.
        for square, which in ((False, mine & ~capped), (True, mine & capped)):
            put(painter, head_x[which], head_y[which], colour, radius, ring=ghost, square=square)


def _paint_lead_ticks(painter: QPainter, picture: PagePicture, pegs: IntArray, row: IntArray, y: FloatArray) -> None:
    """Where the other leads' hits lie inside their strokes."""
    view, layout = picture.view, picture.layout
    assert view is not None
    if layout.px_per_bar <= 60.0:
        return
    times = view.strokes.lead_times_s[pegs]
    peg, lead = np.nonzero(np.isfinite(times) & (times != view.strokes.time_s[pegs][:, None]))
    x = layout.x_in_row(row[peg], times[peg, lead])
    painter.setPen(QPen(theme.INK_SOFT, 1))
    draw_lines(painter, x, y[peg] + 2.0, x, y[peg] + 8.0)


def _paint_marks(painter: QPainter, picture: PagePicture, index: int, at: QPointF) -> None:
    """A held stroke has a square foot, one moved by hand a round one, one given its slot a bar, a doubt a flag."""
    assert picture.view is not None
    if picture.view.offsets.fixed[index]:
        painter.setPen(QPen(theme.BRASS_TEXT, 2.5))
        painter.drawLine(at + QPointF(-6, 7), at + QPointF(6, 7))
    if picture.view.plan.kept[index] == Kept.HELD:
        painter.setPen(QPen(theme.INK, 1.5))
        painter.setBrush(theme.SHEET)
        painter.drawRect(QRectF(-4.0, -4.0, 8.0, 8.0).translated(at))
    if picture.view.plan.kept[index] == Kept.GIVEN:
        painter.setPen(QPen(theme.SHEET, 1))
        painter.setBrush(theme.BRASS)
        painter.drawEllipse(at, 4.5, 4.5)
    if picture.doubts and picture.doubts[index]:
        flag = at + QPointF(0, 15.0 - picture.layout.base_px)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BRASS)
        painter.drawPolygon(QPolygonF([flag, flag + QPointF(-5, -9), flag + QPointF(5, -9)]))
