"""Small round and square marks, drawn once and then stamped: an ellipse drawn anew costs thirty times as much.

A stamp is copied pixel by pixel, which is fast. So that marks lie where they belong all the same, there is one stamp
for each quarter of a pixel, all in one picture.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap

from supple_snare.desk.shapes import draw_cells
from supple_snare.timing.units import FloatArray

_PARTS = 4


@lru_cache(maxsize=128)
def _stamps(colour: int, radius: float, ring: bool, square: bool, ratio: float) -> QPixmap:
    """A mark in the device's pixels, side by side with its middle each quarter of one farther to the right and down."""
    half = _half_px(radius, ratio)
    side = 2 * half + 1
    stamps = QPixmap(_PARTS * _PARTS * side, side)
    stamps.fill(Qt.GlobalColor.transparent)
    painter = QPainter(stamps)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = QColor.fromRgba(colour)
    painter.setPen(QPen(ink, 1.4) if ring else Qt.PenStyle.NoPen)
    painter.setBrush(Qt.BrushStyle.NoBrush if ring else ink)
    box = QRectF(-radius, -radius, 2.0 * radius, 2.0 * radius)
    for cell in range(_PARTS * _PARTS):
        painter.resetTransform()
        painter.translate(cell * side + half + cell // _PARTS / _PARTS, half + cell % _PARTS / _PARTS)
        painter.scale(ratio, ratio)
        if square:
            painter.drawRect(box)
        else:
            painter.drawEllipse(box)
    painter.end()
    return stamps


def _half_px(radius: float, ratio: float) -> int:
    """Pixels from the middle of a stamp to its edge."""
    return int(np.ceil((radius + 1.5) * ratio))


def put(
    painter: QPainter,
    x: FloatArray,
    y: FloatArray | float,
    colour: QColor,
    radius: float,
    *,
    ring: bool = False,
    square: bool = False,
) -> None:
    """Stamp a mark at every place: a dot, or a ring, or a square.

    Parameters
    ----------
    painter : QPainter
        It may be moved, not turned or scaled.
    x : float array, shape (n,)
    y : float array, shape (n,), or a number
        Middles of the marks.
    colour : QColor
    radius : float
    ring, square : bool
    """
    if not len(x):
        return
    device = painter.device()
    assert device is not None
    ratio, moved = device.devicePixelRatioF(), painter.worldTransform()
    places = np.column_stack(np.broadcast_arrays(x + moved.dx(), y + moved.dy())) * ratio
    whole, part = np.divmod(np.rint(places * _PARTS), _PARTS)
    corners = whole - _half_px(radius, ratio)
    painter.save()
    painter.resetTransform()
    painter.scale(1.0 / ratio, 1.0 / ratio)
    cells = _stamps(colour.rgba(), radius, ring, square, ratio)
    draw_cells(painter, cells, part @ (_PARTS, 1), corners[:, 0], corners[:, 1])
    painter.restore()
