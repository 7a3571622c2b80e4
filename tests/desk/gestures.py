"""What a hand does with the mouse."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QWidget

from supple_snare.desk.page_painter import hit_lanes
from supple_snare.desk.window import Window


def mouse(widget: QWidget, kind: QEvent.Type, at: QPointF, held: bool = True, shift: bool = False) -> None:
    """One mouse event."""
    button = Qt.MouseButton.LeftButton
    modifiers = Qt.KeyboardModifier.ShiftModifier if shift else Qt.KeyboardModifier.NoModifier
    which = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else button
    held_buttons = button if held else Qt.MouseButton.NoButton
    widget_event = QMouseEvent(kind, at, QPointF(widget.mapToGlobal(at.toPoint())), which, held_buttons, modifiers)
    getattr(
        widget,
        {
            QEvent.Type.MouseButtonPress: "mousePressEvent",
            QEvent.Type.MouseMove: "mouseMoveEvent",
            QEvent.Type.MouseButtonRelease: "mouseReleaseEvent",
            QEvent.Type.MouseButtonDblClick: "mouseDoubleClickEvent",
        }[kind],
    )(widget_event)


def drag(widget: QWidget, start: QPointF, end: QPointF, steps: int = 6, shift: bool = False) -> None:
    """Press, pull, let go."""
    mouse(widget, QEvent.Type.MouseButtonPress, start, shift=shift)
    for step in range(1, steps + 1):
        mouse(widget, QEvent.Type.MouseMove, start + (end - start) * (step / steps))
    mouse(widget, QEvent.Type.MouseButtonRelease, end)


def point_of(window, time_s: float) -> QPointF:
    """Where a moment stands on the page, on its row's line."""
    layout = window.page.page_layout
    row, x = layout.place_of(time_s)
    return QPointF(x, row * layout.row_px + layout.base_px - window.page.verticalScrollBar().value())


def mark_of(window: Window, key: str, time_s: float) -> QPointF:
    """Where the mark of a hit stands on the page."""
    view = window.work.view
    assert view is not None
    lanes = dict(hit_lanes(window.page.page_layout, view, window.work.looks.track or None))
    line = point_of(window, time_s)
    return QPointF(line.x(), line.y() - window.page.page_layout.base_px + lanes[key])


def pick(box, data) -> None:
    """Choose an entry of a list as a person does."""
    index = next(row for row in range(box.count()) if box.itemData(row) == data)
    box.setCurrentIndex(index)
    box.activated.emit(index)
