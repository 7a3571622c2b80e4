"""What is handed to Qt from arrays is what one by one would have been: places, lines, marks, at any scale of pixels."""

import numpy as np
import pytest
from PyQt6 import sip
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPixmap

from supple_snare.desk import shapes, stamps

X, Y = np.array([10.25, 40.0, 70.6]), np.array([20.0, 30.5, 12.3])


def blank(ratio=1.0):
    image = QImage(round(100 * ratio), round(50 * ratio), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.fill(Qt.GlobalColor.white)
    return image


def dark(image):
    """Grey values of a picture, white as 0, in its own pixels."""
    grey = image.convertToFormat(QImage.Format.Format_Grayscale8)
    data = grey.constBits()
    data.setsize(grey.sizeInBytes())
    return 255.0 - np.frombuffer(data, np.uint8).reshape(grey.height(), -1)[:, : grey.width()]


def test_a_polygon_has_the_corners_given(qtbot):
    """In order; nothing of nothing."""
    corners = shapes.polygon(X, Y)
    assert [(corner.x(), corner.y()) for corner in map(corners.at, range(3))] == list(zip(X, Y, strict=True))
    assert shapes.polygon(X[:0], Y[:0]).isEmpty()


def test_lines_go_from_place_to_place(qtbot):
    """As drawn one by one."""
    at_once, singly = blank(), blank()
    painter = QPainter(at_once)
    shapes.draw_lines(painter, X, Y, X + 9.0, Y + 3.0)
    shapes.draw_lines(painter, X[:0], Y[:0], X[:0], Y[:0])
    painter.end()
    painter = QPainter(singly)
    for x, y in zip(X, Y, strict=True):
        painter.drawLine(QPointF(x, y), QPointF(x + 9.0, y + 3.0))
    painter.end()
    assert at_once == singly
    assert at_once != blank()


def test_a_cell_is_told_as_qt_tells_it(qtbot):
    """Qt's own maker of fragments puts the same doubles in the same order; the right cells land on their corners."""
    made = QPainter.PixmapFragment.create(QPointF(1.0, 2.0), QRectF(3.0, 4.0, 5.0, 6.0), 7.0, 8.0, 9.0, 0.5)
    told = np.frombuffer(sip.voidptr(sip.unwrapinstance(made), 80), np.float64)
    assert told.tolist() == [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 0.5]
    cells = QPixmap(10, 5)
    cells.fill(QColor("#ff0000"))
    painter = QPainter(cells)
    painter.fillRect(5, 0, 5, 5, QColor("#0000ff"))
    painter.end()
    image = blank()
    painter = QPainter(image)
    shapes.draw_cells(painter, cells, np.array([1.0, 0.0]), np.array([20.0, 40.0]), np.array([10.0, 30.0]))
    painter.end()
    assert [image.pixelColor(x, y).name() for x, y in ((20, 10), (24, 14), (40, 30), (44, 34))] == [
        "#0000ff",
        "#0000ff",
        "#ff0000",
        "#ff0000",
    ]
    assert image.pixelColor(19, 10) == image.pixelColor(25, 14) == image.pixelColor(40, 35) == Qt.GlobalColor.white


@pytest.mark.parametrize("ratio", [1.0, 1.5, 2.0])
@pytest.mark.parametrize("square", [False, True])
def test_a_stamp_lies_where_it_is_put(qtbot, ratio, square):
    """Its middle within an eighth of a pixel, whatever the screen's scale and wherever the painter was moved."""
    for x, y in zip(X, Y, strict=True):
        image = blank(ratio)
        painter = QPainter(image)
        painter.translate(5.0, 7.5)
        stamps.put(painter, np.array([x - 5.0]), y - 7.5, QColor("black"), 3.0, square=square)
        painter.end()
        ink = dark(image)
        rows, columns = np.indices(ink.shape) + 0.5
        assert float((ink * columns).sum() / ink.sum()) / ratio == pytest.approx(x, abs=0.15)
        assert float((ink * rows).sum() / ink.sum()) / ratio == pytest.approx(y, abs=0.15)
        area = (36.0 if square else 9.0 * np.pi) * ratio**2
        assert ink.sum() / 255.0 == pytest.approx(area, rel=0.05)
