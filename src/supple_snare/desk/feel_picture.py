"""Feels as columns: one for each slot of the cycle, with every stroke a dot, its middle, its spread, its accent.

Shapes tell what colours do: the first feel has dots and solid bars, the second one diamonds and dashed lines, what is
unsure is hollow.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from supple_snare.desk import theme
from supple_snare.desk.shapes import polygon
from supple_snare.desk.stamps import put
from supple_snare.session.feels import FeelSeen
from supple_snare.timing.groove import UNSURE_COUNT, Groove, likeness, look_up
from supple_snare.timing.units import FloatArray

_LEAST_SPAN_MS = 15.0
_ACCENT_SPAN_DB = 9.0
_MOST_SPREAD = 0.36
SECOND = QColor("#3F5E2B")
"""The second feel's ink: told apart from teal, plum and brass by its darkness as well."""


@dataclass(frozen=True)
class FeelLayout:
    """Where things stand in a picture of a feel.

    Attributes
    ----------
    left, top, width, height : float
        The plot of offsets, in pixels.
    accents_px : float
        Height of the strip of accents below it.
    cycle_beats, span_ms : float
    slot_px : float
        Width of a column.
    """

    left: float
    top: float
    width: float
    height: float
    accents_px: float
    cycle_beats: float
    span_ms: float
    slot_px: float

    @classmethod
    def fit(
        cls, box: QRectF, first: FeelSeen, second: FeelSeen | None, *, accents_px: float = 40.0, least_ms: float = 0.0
    ) -> FeelLayout:
        """A layout for feels inside a box; the first sets the cycle."""
        groove = first.groove
        values = [np.abs(groove.feel_ms)]
        if len(first.offset_ms):
            values.append(np.abs(dots_from_grid(first)))
        if second is not None:
            values.append(np.abs(beside(groove, second.groove)[1]))
        most = max((float(np.percentile(each, 97.0)) for each in values if len(each)), default=0.0)
        span = max(_LEAST_SPAN_MS, least_ms, 5.0 * float(np.ceil(1.15 * most / 5.0)))
        gaps = np.diff(np.append(groove.position_beats, groove.cycle_beats))
        step = float(np.clip(np.min(gaps), groove.cycle_beats / 128.0, groove.cycle_beats))
        left, right, top, bottom = 46.0, 12.0, 8.0, 22.0
        width = max(box.width() - left - right, 10.0)
        height = max(box.height() - top - bottom - accents_px, 10.0)
        return cls(box.left() + left, box.top() + top, width, height, accents_px, groove.cycle_beats, span,
                   step / groove.cycle_beats * width)  # fmt: skip

    def x(self, place_beats: FloatArray | float) -> FloatArray:
        """Middles of columns."""
        return np.asarray(self.left + 0.5 * self.slot_px + np.asarray(place_beats) / self.cycle_beats * self.width)

    def y(self, offset_ms: FloatArray | float) -> FloatArray:
        """Heights of offsets, kept inside the plot."""
        share = np.clip(np.asarray(offset_ms) / self.span_ms, -1.0, 1.0)
        return np.asarray(self.top + self.height / 2.0 - share * self.height / 2.0)

    def offset_at(self, y: float) -> float:
        """The offset at a height."""
        return (self.top + self.height / 2.0 - y) / (self.height / 2.0) * self.span_ms

    def slot_at(self, x: float, groove: Groove) -> int | None:
        """Index of the slot whose column is under a point."""
        away = np.abs(self.x(groove.position_beats) - x)
        nearest = int(np.argmin(away))
        return nearest if away[nearest] <= max(0.6 * self.slot_px, 8.0) else None


def dots_from_grid(seen: FeelSeen) -> FloatArray:
    """How far the strokes behind a feel lie from the grid it was measured on, swing and all."""
    groove = seen.groove
    swing = groove.ruling.swung(seen.place_beats, max(groove.cycle_beats, groove.ruling.pair_beats)) - seen.place_beats
    return np.asarray(seen.offset_ms - swing * 60_000.0 / groove.tempo_bpm)


def beside(first: Groove, second: Groove) -> tuple[FloatArray, FloatArray, FloatArray]:
    """A second feel laid over the cycle of a first one.

    Returns
    -------
    place_beats, offset_ms, index : float arrays
        Its slots in that cycle, how far they lie from the grid of the first, at its tempo, and which slots they are.
    """
    turns = np.arange(max(1, int(np.ceil(first.cycle_beats / second.cycle_beats - 1e-9))))
    place = (turns[:, None] * second.cycle_beats + second.position_beats).ravel()
    index = np.tile(np.arange(len(second.slots)), len(turns))
    inside = place < first.cycle_beats - 1e-9
    place, index = place[inside], index[inside]
    swing = first.ruling.swung(place, max(first.cycle_beats, first.ruling.pair_beats)) - place
    offset_ms = (second.offset_beats[index] - swing) * 60_000.0 / first.tempo_bpm
    return place, offset_ms, index.astype(np.float64)


def paint_feel(
    painter: QPainter,
    layout: FeelLayout,
    first: FeelSeen,
    second: FeelSeen | None,
    *,
    bar_beats: float,
    beat_beats: float,
) -> None:
    """Draw one feel, or two over one another."""
    _paint_axes(painter, layout, bar_beats, beat_beats)
    groove = first.groove
    if len(first.offset_ms):
        _paint_dots(painter, layout, first)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    _paint_accents(painter, layout, groove.position_beats, groove.accent_db, second is not None)
    _paint_middles(painter, layout, groove)
    if second is not None:
        _paint_second(painter, layout, groove, second.groove)


def _paint_axes(painter: QPainter, layout: FeelLayout, bar_beats: float, beat_beats: float) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setFont(theme.text_font(12))
    step = 5.0 if layout.span_ms <= 20 else 10.0 if layout.span_ms <= 45 else 20.0 if layout.span_ms <= 90 else 50.0
    right = layout.left + layout.width
    for value in np.arange(-np.floor(layout.span_ms / step) * step, layout.span_ms + 0.1, step).tolist():
        y = float(layout.y(value))
        painter.setPen(QPen(theme.RULE_STRONG if value == 0 else theme.RULE, 1))
        painter.drawLine(QLineF(layout.left, y, right, y))
        painter.setPen(theme.INK_SOFT)
        if abs(value) <= 0.93 * layout.span_ms:
            text = theme.signed(value) if value else "0 ms"
            painter.drawText(QRectF(0, y - 8, layout.left - 6, 16), Qt.AlignmentFlag.AlignRight, text)
    foot = layout.top + layout.height + layout.accents_px
    beats = np.arange(0.0, layout.cycle_beats - 1e-9, beat_beats)
    for beat in beats.tolist():
        inside = beat % bar_beats
        starts_bar = inside < 1e-6
        x = float(layout.x(beat)) - 0.5 * layout.slot_px
        painter.setPen(QPen(theme.RULE_STRONG if starts_bar else theme.RULE, 2 if starts_bar else 1))
        painter.drawLine(QLineF(x, layout.top, x, foot))
        painter.setPen(theme.INK if starts_bar else theme.INK_SOFT)
        painter.setFont(theme.text_font(12, bold=starts_bar))
        count = round(inside / beat_beats) + 1
        several = layout.cycle_beats > bar_beats + 1e-6
        text = f"{round((beat - inside) / bar_beats) + 1}.{count}" if several else str(count)
        painter.drawText(QPointF(float(layout.x(beat)) - 4.0, foot + 15.0), text)


def _paint_dots(painter: QPainter, layout: FeelLayout, seen: FeelSeen) -> None:
    offset_ms = dots_from_grid(seen)
    # A little to the left or right by its number, so that dots do not hide one another.
    aside = ((np.arange(len(offset_ms)) * 0.618) % 1.0 - 0.5) * min(0.62 * layout.slot_px, 30.0)
    x, y = layout.x(seen.place_beats) + aside, layout.y(offset_ms)
    for ink, mine in theme.by_lean(offset_ms):
        colour = QColor(ink)
        colour.setAlpha(150)
        put(painter, x[mine], y[mine], colour, 2.2)


def _paint_middles(painter: QPainter, layout: FeelLayout, groove: Groove) -> None:
    """A bar for each slot's middle, a bracket for its spread; hollow where it is unsure."""
    reach = min(_MOST_SPREAD * layout.slot_px, 16.0)
    columns = zip(layout.x(groove.position_beats).tolist(), groove.feel_ms, groove.spread_ms, groove.count, strict=True)
    for x, feel_ms, spread_ms, count in columns:
        y = float(layout.y(feel_ms))
        unsure = count <= UNSURE_COUNT
        if spread_ms > 0.0:
            painter.setPen(QPen(theme.INK_FAINT if unsure else theme.INK, 1.3))
            low, high = float(layout.y(feel_ms - spread_ms)), float(layout.y(feel_ms + spread_ms))
            painter.drawLine(QLineF(x, low, x, high))
            for end in (low, high):
                painter.drawLine(QLineF(x - 0.5 * reach, end, x + 0.5 * reach, end))
        painter.setPen(QPen(theme.BRASS_TEXT, 1.5))
        painter.setBrush(theme.SHEET if unsure else theme.BRASS_TEXT)
        painter.drawRect(QRectF(x - reach, y - 2.0, 2.0 * reach, 4.0))


def _paint_accents(
    painter: QPainter, layout: FeelLayout, place: FloatArray, accent_db: FloatArray, narrow: bool
) -> None:
    """Bars up for louder, down for softer than usual."""
    middle = layout.top + layout.height + layout.accents_px / 2.0
    room = layout.accents_px / 2.0 - 3.0
    painter.setPen(QPen(theme.RULE, 1))
    painter.drawLine(QLineF(layout.left, middle, layout.left + layout.width, middle))
    painter.setPen(theme.INK_SOFT)
    painter.setFont(theme.text_font(12))
    painter.drawText(QRectF(0, middle - 8, layout.left - 6, 16), Qt.AlignmentFlag.AlignRight, "accent")
    width = min(0.5 * layout.slot_px, 14.0)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.INK_FAINT)
    for x, db in zip(layout.x(place).tolist(), accent_db.tolist(), strict=True):
        height = float(np.clip(db / _ACCENT_SPAN_DB, -1.0, 1.0)) * room
        left = x - (width if narrow else 0.5 * width)
        painter.drawRect(QRectF(left, middle - max(height, 0.0), width, max(abs(height), 1.0)))


def _paint_second(painter: QPainter, layout: FeelLayout, first: Groove, second: Groove) -> None:
    """Diamonds joined by a dashed line, accents as empty bars, and the difference above each column with room."""
    place, offset_ms, index = beside(first, second)
    order = np.argsort(place)
    x, y = layout.x(place[order]), layout.y(offset_ms[order])
    painter.setPen(QPen(SECOND, 1.2, Qt.PenStyle.DashLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolyline(polygon(x, y))
    painter.setPen(QPen(SECOND, 1.6))
    painter.setBrush(theme.SHEET)
    for point in map(QPointF, x.tolist(), y.tolist()):
        corners = [point + QPointF(*by) for by in ((-5.0, 0.0), (0.0, -5.0), (5.0, 0.0), (0.0, 5.0))]
        painter.drawPolygon(QPolygonF(corners))
    middle = layout.top + layout.height + layout.accents_px / 2.0
    room, width = layout.accents_px / 2.0 - 3.0, min(0.4 * layout.slot_px, 12.0)
    accents = second.accent_db[index[order].astype(np.int64)]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for at, db in zip(x.tolist(), accents.tolist(), strict=True):
        height = float(np.clip(db / _ACCENT_SPAN_DB, -1.0, 1.0)) * room
        painter.drawRect(QRectF(at + 1.0, middle - max(height, 0.0), width, max(abs(height), 1.0)))
    if layout.slot_px < 22.0:
        return
    painter.setFont(theme.text_font(12))
    painter.setPen(SECOND)
    difference = likeness(first, second)[0]
    for at, by in zip(layout.x(first.position_beats).tolist(), difference.tolist(), strict=True):
        if np.isfinite(by):
            box = QRectF(at - 20.0, layout.top - 7.0, 40.0, 15.0)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, theme.signed(by) if abs(by) >= 0.5 else "0")


def describe_slot(first: Groove, second: Groove | None, index: int, *, bar_beats: float, beat_beats: float) -> str:
    """A slot in exact numbers."""
    slot = first.slots[index]
    bar, inside = divmod(slot.position_beats + 1e-9, bar_beats)
    where = f"beat {inside / beat_beats + 1:.3g}"
    if first.cycle_beats > bar_beats + 1e-6:
        where = f"bar {int(bar) + 1}, {where}"
    feel = float(first.feel_ms[index])
    words = [
        f"{where}: {theme.signed(feel, 1)} ms from the grid",
        f"spread {slot.spread_ms:.1f} ms",
        f"accent {theme.signed(slot.accent_db, 1)} dB",
        f"{theme.counted(slot.count, 'stroke')}{' (unsure)' if slot.count <= UNSURE_COUNT else ''}",
    ]
    if first.swing_beats[index]:
        words.insert(1, f"{theme.signed(slot.offset_ms, 1)} ms from the straight slot")
    if second is not None:
        found = look_up(second, np.array([slot.position_beats % second.cycle_beats]))
        by = float(likeness(first, second)[0][index])
        words.append(
            f"{second.name}: {theme.signed(by, 1)} ms beside it" if found.known[0] else f"not in {second.name}"
        )
    return " · ".join(words)
