"""Small round and square marks, drawn once and then stamped: an ellipse drawn anew costs ten times as much."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap

_SCALE = 2
"""Stamps are drawn finer than the screen, so that they stay round at any fraction of a pixel."""


@lru_cache(maxsize=64)
def _stamp(colour: int, radius: float, ring: bool, square: bool) -> QPixmap:
    side = int(2 * radius + 6)
    stamp = QPixmap(side * _SCALE, side * _SCALE)
    stamp.setDevicePixelRatio(_SCALE)
    stamp.fill(Qt.GlobalColor.transparent)
    painter = QPainter(stamp)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = QColor.fromRgba(colour)
    painter.setPen(QPen(ink, 1.4) if ring else Qt.PenStyle.NoPen)
    painter.setBrush(Qt.BrushStyle.NoBrush if ring else ink)
    box = QRectF(side / 2 - radius, side / 2 - radius, 2 * radius, 2 * radius)
    if square:
        painter.drawRect(box)
    else:
        painter.drawEllipse(box)
    painter.end()
    return stamp


def put(
    painter: QPainter,
    places: Iterable[QPointF],
    colour: QColor,
    radius: float,
    *,
    ring: bool = False,
    square: bool = False,
) -> None:
    """Stamp a mark at every place: a dot, or a ring, or a square."""
    stamp = _stamp(colour.rgba(), radius, ring, square)
    half = stamp.width() / _SCALE / 2.0
    for place in places:
        painter.drawPixmap(QPointF(place.x() - half, place.y() - half), stamp)
