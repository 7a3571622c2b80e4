"""Small round and square marks, drawn once and then stamped: an ellipse drawn anew costs thirty times as much.

A stamp is copied pixel by pixel, which is fast. So that marks lie where they belong all the same, there is one stamp
for each quarter of a pixel.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap

from supple_snare.timing.units import FloatArray

_PARTS = 4


@lru_cache(maxsize=2048)
def _stamp(colour: int, radius: float, ring: bool, square: bool, ratio: float, part: tuple[int, int]) -> QPixmap:
    """A mark whose middle lies some quarters of a pixel to the right of the stamp's and below it."""
    half = _half_px(radius, ratio)
    stamp = QPixmap(2 * half + 1, 2 * half + 1)
    stamp.fill(Qt.GlobalColor.transparent)
    painter = QPainter(stamp)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(half + part[0] / _PARTS, half + part[1] / _PARTS)
    painter.scale(ratio, ratio)
    ink = QColor.fromRgba(colour)
    painter.setPen(QPen(ink, 1.4) if ring else Qt.PenStyle.NoPen)
    painter.setBrush(Qt.BrushStyle.NoBrush if ring else ink)
    box = QRectF(-radius, -radius, 2.0 * radius, 2.0 * radius)
    if square:
        painter.drawRect(box)
    else:
        painter.drawEllipse(box)
    painter.end()
    stamp.setDevicePixelRatio(ratio)
    return stamp


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
    whole, part = np.divmod(np.rint(places * _PARTS).astype(np.int64), _PARTS)
    corners = ((whole - _half_px(radius, ratio)) / ratio).tolist()
    shifts = (part @ (_PARTS, 1)).tolist()
    stamps = {shift: _stamp(colour.rgba(), radius, ring, square, ratio, divmod(shift, _PARTS)) for shift in set(shifts)}
    painter.save()
    painter.resetTransform()
    for (left, top), shift in zip(corners, shifts, strict=True):
        painter.drawPixmap(QPointF(left, top), stamps[shift])
    painter.restore()
