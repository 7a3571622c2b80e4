"""The transport along the bottom: play, place, version, click, loop, output."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QWidget

from supple_snare.desk import theme
from supple_snare.desk.controls import WholeBox
from supple_snare.desk.listening_panel import LevelMeter, ListeningPanel, listening_words
from supple_snare.desk.player import Player
from supple_snare.desk.workspace import Workspace

_STYLE = f"""
#transport {{ background: {theme.DESK.name()}; }}
#transport > QLabel {{ color: {theme.DESK_TEXT.name()}; }}
#transport > QLabel#place {{ font-size: 16px; font-weight: bold; }}
#transport > QLabel#quiet {{ color: {theme.DESK_SOFT.name()}; font-size: 12px; }}
#transport > QSpinBox {{
    background: {theme.DESK_RULE.name()}; color: {theme.DESK_TEXT.name()}; border: 1px solid #6C6A66; min-height: 22px;
}}
#transport > QPushButton {{
    background: {theme.DESK_RULE.name()}; color: {theme.DESK_TEXT.name()}; border: 1px solid #6C6A66; padding: 3px 9px;
}}
#transport > QPushButton:hover, #transport > QPushButton:focus {{ border-color: {theme.BRASS_PALE.name()}; }}
"""


class PlayButton(QAbstractButton):
    """Triangle or square."""

    def __init__(self) -> None:
        super().__init__()
        self.playing = False
        self.setFixedSize(40, 36)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setToolTip("Play or stop (Space)")
        self.setAccessibleName("Play")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BRASS_PALE if self.underMouse() else theme.DESK_TEXT)
        if self.playing:
            painter.drawRect(QRectF(12, 10, 16, 16))
        else:
            painter.drawPolygon(QPolygonF([QPointF(13, 8), QPointF(13, 28), QPointF(30, 18)]))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.BRASS_PALE, 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.end()


class VersionSwitch(QWidget):
    """As played / Tightened."""

    switched = pyqtSignal(bool)
    _WORDS = ("As played", "Tightened")

    def __init__(self) -> None:
        super().__init__()
        self.tightened = True
        self.heard: bool | None = None
        """Which of them sounds now, if a loop plays both in turn."""
        self.setFixedSize(230, 32)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setToolTip("Which version is shown and heard (A)")
        self.setAccessibleName("As played or tightened")

    def sizeHint(self) -> QSize:
        return QSize(230, 32)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        half = self.width() / 2
        painter.setPen(QPen(theme.BRASS_PALE if self.hasFocus() else theme.DESK_SOFT, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 6, 6)
        on = QRectF(half if self.tightened else 0, 0, half, self.height())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BRASS_PALE)
        painter.drawRoundedRect(on.adjusted(3, 3, -3, -3), 4, 4)
        for index, word in enumerate(self._WORDS):
            mine = self.tightened == bool(index)
            painter.setPen(theme.INK if mine else theme.DESK_TEXT)
            painter.setFont(theme.text_font(14, bold=mine))
            painter.drawText(QRectF(index * half, 0, half, self.height()), Qt.AlignmentFlag.AlignCenter, word)
            if self.heard == bool(index):
                painter.setBrush(painter.pen().color())
                left, middle = index * half + 9, self.height() / 2
                corners = [(left, middle - 4), (left, middle + 4), (left + 7, middle)]
                painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in corners]))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self.switched.emit(event.position().x() > self.width() / 2)


class Toggle(QAbstractButton):
    """A word that is on or off."""

    def __init__(self, text: str, hint: str) -> None:
        super().__init__()
        self.setText(text)
        self.setCheckable(True)
        self.setToolTip(hint)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self.text()) + 40, 32)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.BRASS_PALE if self.hasFocus() or self.underMouse() else theme.DESK_SOFT, 1.4))
        painter.setBrush(theme.BRASS_PALE if self.isChecked() else Qt.BrushStyle.NoBrush)
        box = QRectF(6, 9, 14, 14)
        painter.drawRoundedRect(box, 3, 3)
        if self.isChecked():
            painter.setPen(QPen(theme.INK, 2))
            painter.drawPolyline(QPolygonF([QPointF(9, 16), QPointF(12, 20), QPointF(18, 12)]))
        painter.setPen(theme.DESK_TEXT)
        painter.setFont(theme.text_font(13))
        painter.drawText(QRectF(27, 0, self.width() - 27, 32), Qt.AlignmentFlag.AlignVCenter, self.text())
        painter.end()


class Transport(QWidget):
    """The bar along the bottom."""

    def __init__(self, workspace: Workspace, player: Player) -> None:
        super().__init__()
        self._workspace = workspace
        self._player = player
        self.setObjectName("transport")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setStyleSheet(_STYLE)
        self.setFixedHeight(48)
        self.play = PlayButton()
        self.play.clicked.connect(self.toggle_play)
        self._place = QLabel()
        self._place.setObjectName("place")
        self._place.setFixedWidth(150)
        self._clock = QLabel()
        self._clock.setFixedWidth(78)
        self.version = VersionSwitch()
        self.version.switched.connect(lambda tightened: workspace.look(tightened=tightened))
        self.click = Toggle("Click", "Hear a click on the counts (C)")
        self.click.toggled.connect(lambda on: workspace.look(clicking=on))
        self.loop = Toggle("Loop bars", "Play these bars again and again (L)")
        self.loop.toggled.connect(self._loop_toggled)
        self._first = self._bar_box("First bar of the loop")
        self._last = self._bar_box("Last bar of the loop")
        self.panel = ListeningPanel(workspace, player, self)
        self._listening_words = QLabel()
        self._listening_words.setObjectName("quiet")
        self._listening_words.setToolTip("How it is listened to now")
        self.meter = LevelMeter(player)
        self.listening = QPushButton("Listening ▴")
        self.listening.setToolTip("Output, click, mono check, half speed, loops (Ctrl+L)")
        self.listening.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.listening.clicked.connect(lambda: self.panel.open_above(self.listening))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 0, 12, 0)
        layout.setSpacing(8)
        for widget in (self.play, self._place, self._clock):
            layout.addWidget(widget)
        layout.addStretch(1)
        layout.addWidget(self.version)
        layout.addStretch(1)
        to = QLabel("to")
        for part in (self.click, self.loop, self._first, to, self._last):
            layout.addWidget(part)
        layout.addSpacing(4)
        layout.addWidget(self._listening_words)
        layout.addWidget(self.meter)
        layout.addWidget(self.listening)
        workspace.looks_changed.connect(self.refresh)
        workspace.session_changed.connect(self.refresh)
        player.position_changed.connect(self.show_place)
        player.playing_changed.connect(self._show_playing)
        self.refresh()

    def _bar_box(self, hint: str) -> WholeBox:
        box = WholeBox(-99, 9999, hint)
        box.setFixedWidth(48)
        box.valueChanged.connect(self._loop_edited)
        return box

    def refresh(self) -> None:
        """Show what is looked at and heard."""
        looks = self._workspace.looks
        self.version.tightened = looks.tightened
        self.version.update()
        boxes = (self._first, self._last, self.click, self.loop)
        for box in boxes:
            box.blockSignals(True)
        self.click.setChecked(looks.clicking)
        self.loop.setChecked(looks.looping)
        first, last = looks.loop_bars or (1, 4)
        self._first.setValue(first)
        self._last.setValue(last)
        for box in boxes:
            box.blockSignals(False)
        self._listening_words.setText(listening_words(self._workspace))
        self.show_place(self._player.position_s)

    def toggle_play(self) -> None:
        """Play or stop."""
        if self._player.is_playing:
            self._player.stop()
        else:
            self._player.play()

    def show_place(self, time_s: float) -> None:
        """Bar, beat and time, and which version sounds of a loop that plays both."""
        heard = self._player.heard_tightened if self._player.is_playing and self._workspace.looks.in_turn else None
        if heard != self.version.heard:
            self.version.heard = heard
            self.version.update()
        grid = self._workspace.session.grid
        bar = float(grid.bar_at(time_s)) + 1e-6
        whole = int(bar // 1)
        beat = int((bar - whole) * grid.bars.meter_of(whole).count) + 1
        self._place.setText(f"bar {whole} · beat {beat}".replace("-", "−"))
        minutes, seconds = divmod(max(time_s, 0.0), 60.0)
        self._clock.setText(f"{int(minutes)}:{seconds:06.3f}")

    def _show_playing(self, playing: bool) -> None:
        self.play.playing = playing
        self.play.setAccessibleName("Stop" if playing else "Play")
        self.play.update()

    def _loop_toggled(self, on: bool) -> None:
        bars = (self._first.value(), max(self._first.value(), self._last.value()))
        self._workspace.look(looping=on, loop_bars=bars if on or self._workspace.looks.loop_bars else None)

    def _loop_edited(self) -> None:
        first, last = self._first.value(), self._last.value()
        if self.sender() is self._first:
            last = max(first, last)
        else:
            first = min(first, last)
        self._workspace.look(loop_bars=(first, last))
