"""Paper and ink: the colours, type and style sheet of the window, in one place."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

from supple_snare.timing.measure import ON_TIME_MS
from supple_snare.timing.units import FloatArray

PAPER = QColor("#F4EEE2")
SHEET = QColor("#FBF8F1")
RULE = QColor("#D9D0BC")
RULE_STRONG = QColor("#A99668")
INK = QColor("#2A2A32")
INK_SOFT = QColor("#5C574B")
INK_FAINT = QColor("#857E6F")
BRASS = QColor("#8A6514")
BRASS_TEXT = QColor("#7D5C10")
BRASS_PALE = QColor("#EFE3C4")
WARNING = QColor("#8C2F1B")
EARLY = QColor("#0B6F7C")
LATE = QColor("#9A2A6C")
WAVE_UP = QColor("#D8CFB9")
WAVE_DOWN = QColor("#CDD3DA")
DESK = QColor("#2A2A32")
DESK_TEXT = QColor("#F4EEE2")
DESK_SOFT = QColor("#B9B3A6")
DESK_RULE = QColor("#3A3A44")
DESK_ALARM = QColor("#F08A6A")

_FAMILY = "Lato"


def lean_colour(offset_ms: float) -> QColor:
    """Teal for early, plum for late, ink for on time."""
    if abs(offset_ms) <= ON_TIME_MS:
        return INK
    return EARLY if offset_ms < 0 else LATE


def by_lean(offset_ms: FloatArray) -> list[tuple[QColor, NDArray[np.bool_]]]:
    """Each colour of offsets, and which of them have it."""
    early, late = offset_ms < -ON_TIME_MS, offset_ms > ON_TIME_MS
    return [(INK, ~early & ~late), (EARLY, early), (LATE, late)]


def counted(count: int, thing: str) -> str:
    """So many things, in words.

    >>> counted(1, "hit"), counted(2, "hit")
    ('1 hit', '2 hits')
    """
    return f"{count} {thing}{'' if count == 1 else 's'}"


def listed(names: Sequence[str]) -> str:
    """Names in words.

    >>> listed(["Kick"]), listed(["Kick", "Snare", "Hat"])
    ('Kick', 'Kick, Snare and Hat')
    """
    return " and ".join(filter(None, (", ".join(names[:-1]), *names[-1:])))


def signed(value: float, digits: int = 0) -> str:
    """A number with its sign, the minus a real one.

    >>> signed(-3.14159, 1)
    '−3.1'
    """
    return f"{value:+.{digits}f}".replace("-", "−")


def text_font(size_px: int = 13, *, bold: bool = False) -> QFont:
    """The text face at a size in pixels."""
    font = QFont(_FAMILY)
    font.setPixelSize(size_px)
    font.setBold(bold)
    return font


def apply_theme(app: QApplication) -> None:
    """Load the typeface and dress the application."""
    for file in sorted((Path(__file__).parent / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))
    app.setStyle("Fusion")
    app.setFont(text_font())
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, PAPER),
        (QPalette.ColorRole.Base, SHEET),
        (QPalette.ColorRole.AlternateBase, PAPER),
        (QPalette.ColorRole.Button, SHEET),
        (QPalette.ColorRole.WindowText, INK),
        (QPalette.ColorRole.Text, INK),
        (QPalette.ColorRole.ButtonText, INK),
        (QPalette.ColorRole.Highlight, BRASS),
        (QPalette.ColorRole.HighlightedText, SHEET),
        (QPalette.ColorRole.PlaceholderText, INK_SOFT),
        (QPalette.ColorRole.ToolTipBase, SHEET),
        (QPalette.ColorRole.ToolTipText, INK),
    ):
        palette.setColor(role, colour)
    app.setPalette(palette)
    app.setStyleSheet(_STYLE)


_DOWN_ARROW = (Path(__file__).parent / "icons" / "down.svg").as_posix()

_STYLE = f"""
QWidget {{ font-family: {_FAMILY}; font-size: 13px; color: {INK.name()}; }}
QToolTip {{ background: {SHEET.name()}; color: {INK.name()}; border: 1px solid {RULE_STRONG.name()}; padding: 4px; }}
QMainWindow, QDialog {{ background: {PAPER.name()}; }}
#sheet {{ background: {SHEET.name()}; border: 1px solid {RULE.name()}; border-radius: 6px; }}
QLabel#title {{ font-size: 17px; font-weight: bold; }}
QLabel#key {{ color: {BRASS_TEXT.name()}; font-weight: bold; }}
QLabel#soft, QLabel#warning {{ font-size: 12px; color: {INK_SOFT.name()}; }}
QLabel#warning {{ color: {WARNING.name()}; }}
QLabel#head {{ font-weight: bold; }}
QPushButton, QToolButton#plain {{
    background: {SHEET.name()}; border: 1px solid {RULE_STRONG.name()}; border-radius: 5px;
    padding: 4px 11px; min-height: 20px;
}}
QPushButton:hover, QToolButton#plain:hover {{ background: {BRASS_PALE.name()}; }}
QPushButton:pressed, QPushButton:checked {{ background: {BRASS.name()}; color: {SHEET.name()}; }}
QPushButton:disabled, QToolButton#plain:disabled {{
    color: #8F897A; border-color: {RULE.name()}; background: {PAPER.name()};
}}
QPushButton#primary {{
    background: {BRASS.name()}; color: {SHEET.name()}; border-color: {BRASS.name()}; font-weight: bold;
}}
QPushButton#primary:hover {{ background: {BRASS_TEXT.name()}; }}
QPushButton#primary:disabled {{
    background: {RULE.name()}; border-color: {RULE.name()}; color: {INK_SOFT.name()};
}}
QPushButton:focus, QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus, QLineEdit:focus {{
    border: 2px solid {BRASS.name()};
}}
QSpinBox, QDoubleSpinBox, QComboBox, QLineEdit {{
    background: white; border: 1px solid {RULE_STRONG.name()}; border-radius: 4px; padding: 2px 5px; min-height: 22px;
}}
QSpinBox, QDoubleSpinBox, QLineEdit {{ selection-background-color: {BRASS.name()}; selection-color: white; }}
QComboBox::drop-down {{ border: none; width: 24px; }}
QComboBox::down-arrow {{ image: url({_DOWN_ARROW}); width: 12px; height: 8px; }}
QComboBox QAbstractItemView {{ background: white; selection-background-color: {BRASS_PALE.name()};
    selection-color: {INK.name()}; }}
QSlider {{ min-height: 28px; }}
QSlider::groove:horizontal {{ height: 4px; background: {RULE.name()}; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {BRASS.name()}; border-radius: 2px; }}
QSlider::handle:horizontal {{ background: {BRASS.name()}; border: 2px solid {SHEET.name()}; width: 14px; height: 14px;
    margin: -7px 0; border-radius: 9px; }}
QSlider::handle:horizontal:focus {{ border-color: {INK.name()}; }}
QScrollBar:vertical {{ background: {PAPER.name()}; width: 14px; }}
QScrollBar::handle:vertical {{
    background: {RULE_STRONG.name()}; border-radius: 4px; min-height: 30px; margin: 2px 3px;
}}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollArea > QWidget > QWidget {{ background: transparent; }}
QToolButton::menu-indicator {{ image: none; }}
QMenuBar {{ background: transparent; padding: 2px 8px 0 8px; }}
QMenuBar::item {{ padding: 4px 9px; border-radius: 4px; }}
QMenuBar::item:selected, QMenuBar::item:pressed {{ background: {BRASS_PALE.name()}; }}
QMenu {{ background: {SHEET.name()}; border: 1px solid {RULE_STRONG.name()}; padding: 4px; }}
QMenu::item {{ padding: 5px 22px; }}
QMenu::item:selected {{ background: {BRASS_PALE.name()}; }}
QMenu::item:disabled {{ color: #8F897A; }}
QMenu::separator {{ height: 1px; background: {RULE.name()}; margin: 4px 8px; }}
QProgressBar {{ border: 1px solid {RULE_STRONG.name()}; border-radius: 4px; background: white; text-align: center;
    min-height: 18px; }}
QProgressBar::chunk {{ background: {BRASS_PALE.name()}; }}
QListWidget {{ background: {SHEET.name()}; border: 1px solid {RULE.name()}; border-radius: 4px; }}
QListWidget::item {{ padding: 4px; }}
QListWidget::item:selected {{ background: {BRASS_PALE.name()}; color: {INK.name()}; }}
QCheckBox {{ min-height: 26px; }}
"""
