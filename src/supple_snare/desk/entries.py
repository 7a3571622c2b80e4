"""Entries of a list that say several things: a bold first line, what matters below it, and the rest in soft ink."""

from __future__ import annotations

from typing import NamedTuple

from PyQt6.QtCore import QModelIndex, QRect, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter
from PyQt6.QtWidgets import QListWidget, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from supple_snare.desk import theme

_LEFT_PX, _ABOVE_PX = 9, 5
_MARK_PX, _APART_PX = 3, 2
_FLAGS = int(Qt.TextFlag.TextWordWrap) | int(Qt.AlignmentFlag.AlignLeft)


class _Line(NamedTuple):
    box: QRect
    text: str
    font: QFont
    colour: QColor


class EntryDelegate(QStyledItemDelegate):
    """Draws items whose text has one line for the head, any number that matter, and one for the rest."""

    def __init__(self, owner: QListWidget) -> None:
        super().__init__(owner)
        self._owner = owner

    def _width(self) -> int:
        """Room for a line: beside a scroll bar, whether there is one yet or not, or lines wrap anew when it comes."""
        bar = self._owner.verticalScrollBar()
        return self._owner.contentsRect().width() - (bar.sizeHint().width() if bar is not None else 0)

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(self._width(), _laid_out(index, self._width())[-1].box.bottom() + _ABOVE_PX)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        painter.save()
        area = option.rect
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, theme.BRASS_PALE)
            painter.fillRect(area.x(), area.y(), _MARK_PX, area.height(), theme.BRASS)
        painter.setPen(theme.RULE)
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        for line in _laid_out(index, self._width()):
            painter.setFont(line.font)
            painter.setPen(line.colour)
            painter.drawText(line.box.translated(area.topLeft()), _FLAGS, line.text)
        painter.restore()


def _laid_out(index: QModelIndex, width: int) -> list[_Line]:
    """The lines of an entry below one another, each as high as it wraps."""
    head, *matters, rest = str(index.data()).split("\n")
    told = [
        (head, theme.text_font(13, bold=True), theme.INK),
        *((text, theme.text_font(12), theme.INK) for text in matters),
        (rest, theme.text_font(12), theme.INK_SOFT),
    ]
    lines: list[_Line] = []
    top = _ABOVE_PX
    for text, font, colour in told:
        room = QRect(_LEFT_PX, top, max(width - 2 * _LEFT_PX, 1), 10_000)
        box = room.intersected(QFontMetrics(font).boundingRect(room, _FLAGS, text))
        lines.append(_Line(room.adjusted(0, 0, 0, box.height() - room.height()), text, font, colour))
        top += box.height() + _APART_PX
    return lines
