"""Many points, lines or marks handed to Qt at once, straight from arrays.

Made one by one in Python, points cost a hundred times as much, lines three times and marks six times, which is more
than the painting itself. Qt's own arrays of them are plain doubles in a row, and are filled here as such.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF
from PyQt6.QtGui import QPainter, QPixmap, QPolygonF

from supple_snare.timing.units import FloatArray


def polygon(x: FloatArray, y: FloatArray) -> QPolygonF:
    """Corners at places given by columns.

    Parameters
    ----------
    x, y : float array, shape (n,)

    Returns
    -------
    QPolygonF
        For closed shapes, and for open lines and points as well.
    """
    corners = QPolygonF()
    if len(x):
        corners.fill(QPointF(), len(x))
        data = corners.data()
        assert data is not None
        data.setsize(len(x) * 2 * 8)
        _fill(data, np.column_stack([x, y]))
    return corners


def draw_lines(painter: QPainter, x: FloatArray, y: FloatArray, to_x: FloatArray, to_y: FloatArray) -> None:
    """Draw lines between places given by columns.

    Parameters
    ----------
    painter : QPainter
    x, y, to_x, to_y : float array, shape (n,)
    """
    if len(x):
        painter.drawLines(_array(QLineF, np.column_stack([x, y, to_x, to_y])))


def draw_cells(painter: QPainter, cells: QPixmap, which: FloatArray, x: FloatArray, y: FloatArray) -> None:
    """Copy square cells of a picture in which they stand side by side.

    Parameters
    ----------
    painter : QPainter
    cells : QPixmap
        Its height is the side of a cell.
    which : float array, shape (n,)
        Numbers of the cells to copy, from the left.
    x, y : float array, shape (n,)
        Upper left corners of the copies.
    """
    if not len(x):
        return
    side = cells.height()
    nothing, one, sides = np.zeros(len(x)), np.ones(len(x)), np.full(len(x), float(side))
    # Middle, corner in the picture, size, scales, turn, and how opaque.
    columns = [x + 0.5 * side, y + 0.5 * side, which * side, nothing, sides, sides, one, one, nothing, one]
    painter.drawPixmapFragments(_array(QPainter.PixmapFragment, np.column_stack(columns)), cells)


def _array(kind: type, rows: FloatArray) -> Any:
    """As many of a Qt type made of doubles as there are rows."""
    made: Any = sip.array(kind, len(rows))  # type: ignore[call-arg]  # its stubs know no arguments
    _fill(sip.voidptr(made, rows.size * 8), rows)
    return made


def _fill(memory: sip.voidptr, rows: FloatArray) -> None:
    np.frombuffer(memory, dtype=np.float64)[:] = rows.ravel()  # type: ignore[call-overload]
