"""Small controls shared by the cards: a slider with its number, headings, words."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QValidator
from PyQt6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)


class WholeBox(QSpinBox):
    """A whole number typed, or turned with the wheel once it is chosen, with a real minus sign."""

    def __init__(self, low: int, high: int, hint: str, *, unit: str = "") -> None:
        super().__init__()
        self.setRange(low, high)
        self.setSuffix(unit)
        self.setToolTip(hint)
        self.setAccessibleName(hint)
        self.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.setKeyboardTracking(False)

    def textFromValue(self, value: int) -> str:
        return str(value).replace("-", "−")

    def valueFromText(self, text: str | None) -> int:
        return int((text or "0").removesuffix(self.suffix()).replace("−", "-").strip() or 0)

    def validate(self, text: str | None, position: int) -> tuple[QValidator.State, str, int]:
        typed = (text or "").removesuffix(self.suffix()).strip()
        if typed in ("", "-", "−"):
            return QValidator.State.Intermediate, text or "", position
        if not typed.replace("−", "-").removeprefix("-").isdigit():
            return QValidator.State.Invalid, text or "", position
        inside = self.minimum() <= self.valueFromText(text) <= self.maximum()
        return (QValidator.State.Acceptable if inside else QValidator.State.Intermediate), text or "", position


class NumberBox(QDoubleSpinBox):
    """A number typed, or turned with the wheel once it is chosen, with a real minus sign."""

    def __init__(self, low: float, high: float, *, unit: str = "", digits: int = 0, step: float = 1.0) -> None:
        super().__init__()
        self.setRange(low, high)
        self.setDecimals(digits)
        self.setSingleStep(step)
        self.setSuffix(unit)
        self.setKeyboardTracking(False)
        self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)

    def textFromValue(self, value: float) -> str:
        return super().textFromValue(value).replace("-", "−")

    def valueFromText(self, text: str | None) -> float:
        return super().valueFromText((text or "").replace("−", "-"))

    def validate(self, text: str | None, position: int) -> tuple[QValidator.State, str, int]:
        state, _text, position = super().validate((text or "").replace("−", "-"), position)
        return state, text or "", position


_LABEL_PX = 72


class NumberSlider(QWidget):
    """A named slider whose number can be typed as well."""

    changed = pyqtSignal(float)
    pressed = pyqtSignal()
    released = pyqtSignal()

    def __init__(
        self, name: str, low: float, high: float, *, step: float = 1.0, unit: str = "", digits: int = 0, hint: str = ""
    ) -> None:
        super().__init__()
        self._step = step
        self._slider = QSlider(Qt.Orientation.Horizontal)
        self._slider.setRange(round(low / step), round(high / step))
        self._slider.setAccessibleName(name)
        self._box = NumberBox(low, high, unit=unit, digits=digits, step=step)
        self._box.setFixedWidth(76)
        self._box.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._box.setAccessibleName(name)
        for part in (self._slider, self._box):
            part.setToolTip(hint)
        label = QLabel(name)
        label.setObjectName("head")
        label.setToolTip(hint)
        label.setMinimumWidth(_LABEL_PX)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(7)
        row.addWidget(label)
        row.addWidget(self._slider, 1)
        row.addWidget(self._box)
        self._slider.valueChanged.connect(self._on_slider)
        self._slider.sliderPressed.connect(self.pressed)
        self._slider.sliderReleased.connect(self.released)
        self._box.valueChanged.connect(self._on_box)

    def value(self) -> float:
        """The number."""
        return self._box.value()

    def set_value(self, value: float) -> None:
        """Show a number without telling anybody."""
        self._slider.blockSignals(True)
        self._box.blockSignals(True)
        self._slider.setValue(round(value / self._step))
        self._box.setValue(value)
        self._slider.blockSignals(False)
        self._box.blockSignals(False)

    def _on_slider(self, position: int) -> None:
        self._box.blockSignals(True)
        self._box.setValue(position * self._step)
        self._box.blockSignals(False)
        self.changed.emit(self._box.value())

    def _on_box(self, value: float) -> None:
        self._slider.blockSignals(True)
        self._slider.setValue(round(value / self._step))
        self._slider.blockSignals(False)
        self.changed.emit(value)


def soft(text: str = "") -> QLabel:
    """Secondary words."""
    label = QLabel(text)
    label.setObjectName("soft")
    label.setWordWrap(False)
    return label


def words(text: str = "", name: str = "soft") -> QLabel:
    """Words that wrap."""
    label = QLabel(text)
    label.setObjectName(name)
    label.setWordWrap(True)
    return label


def head(text: str) -> QLabel:
    """A heading inside a card."""
    label = QLabel(text)
    label.setObjectName("head")
    return label


def button(text: str, hint: str = "", *, primary: bool = False, checkable: bool = False) -> QPushButton:
    """A push button."""
    push = QPushButton(text)
    push.setToolTip(hint)
    push.setCheckable(checkable)
    push.setMinimumHeight(28)
    if primary:
        push.setObjectName("primary")
    return push


def sheet(*, margins: int = 12) -> tuple[QFrame, QVBoxLayout]:
    """A piece of paper with a column layout on it."""
    frame = QFrame()
    frame.setObjectName("sheet")
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(margins, margins, margins, margins)
    layout.setSpacing(7)
    return frame, layout


def choice(hint: str, act: Callable[[], None] | None = None) -> QComboBox:
    """A list of choices that acts when a person chooses."""
    box = QComboBox()
    box.setToolTip(hint)
    box.setAccessibleName(hint)
    box.setFixedHeight(28)
    box.setMinimumContentsLength(8)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    if act is not None:
        box.activated.connect(lambda _index: act())
    return box


def fill_choice(box: QComboBox, choices: Sequence[tuple[str, object]], chosen: object) -> None:
    """Show choices anew if there are others, and the chosen one; nothing is told."""
    box.blockSignals(True)
    if [(box.itemText(row), box.itemData(row)) for row in range(box.count())] != list(choices):
        box.clear()
        for name, data in choices:
            box.addItem(name, data)
    box.blockSignals(False)
    select_choice(box, chosen)


def select_choice(box: QComboBox, chosen: object) -> None:
    """Show the chosen one; nothing is told."""
    box.blockSignals(True)
    data = [box.itemData(row) for row in range(box.count())]
    box.setCurrentIndex(data.index(chosen) if chosen in data else 0)
    box.blockSignals(False)


def number(
    low: float, high: float, hint: str, *, unit: str = "", digits: int = 0, step: float = 1.0, lowest: str = ""
) -> QDoubleSpinBox:
    """A number that is typed, or turned with the wheel once it is chosen; at its lowest it may say a word instead."""
    box = NumberBox(low, high, unit=unit, digits=digits, step=step)
    box.setSpecialValueText(lowest)
    box.setToolTip(hint)
    box.setAccessibleName(hint)
    box.setFixedHeight(28)
    return box


def show_number(box: QDoubleSpinBox, value: float) -> None:
    """Show a number; nothing is told."""
    box.blockSignals(True)
    box.setValue(value)
    box.blockSignals(False)
