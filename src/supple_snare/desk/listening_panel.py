"""How it is listened to: the panel above the right end of the transport, and the level that is heard."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRectF, QSettings, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtMultimedia import QMediaDevices
from PyQt6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QVBoxLayout, QWidget

from supple_snare.desk import theme
from supple_snare.desk.controls import NumberSlider, choice, fill_choice, head, words
from supple_snare.desk.outputs import open_output, output_choices
from supple_snare.desk.player import Player
from supple_snare.desk.workspace import Workspace
from supple_snare.timing.units import SILENCE_DB

_SETTING = "sound/output"
_METER_LOW_DB = -48.0
_CLIPS_DB = -0.05
_MOST_BEATS = 4


class ListeningPanel(QFrame):
    """Opens above the transport and closes with a click anywhere else."""

    def __init__(self, workspace: Workspace, player: Player, parent: QWidget | None) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self._work = workspace
        self._player = player
        self._devices = QMediaDevices(self)
        self._devices.audioOutputsChanged.connect(self.refresh)
        self.setObjectName("sheet")
        self.setAccessibleName("Listening")
        self.setFixedWidth(348)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(6)
        column.addWidget(head("Sound goes to"))
        self.output = choice("What the sound comes out of", self._choose_output)
        column.addWidget(self.output)
        self._output_words = words()
        column.addWidget(self._output_words)
        self._build_click(column)
        self._build_mono(column)
        self._build_loop(column)
        workspace.looks_changed.connect(self._refresh_if_shown)
        workspace.session_changed.connect(self._refresh_if_shown)
        player.output_changed.connect(self.refresh)
        kept = QSettings().value(_SETTING)
        if kept and player.output.key != kept:
            player.use_output(open_output(str(kept)))
        self.refresh()

    # ---- building

    def _build_click(self, column: QVBoxLayout) -> None:
        work = self._work
        column.addSpacing(4)
        column.addWidget(head("Click"))
        self.click_db = NumberSlider("Level", -40, 0, unit=" dB", hint="Level of the click (C turns it on and off)")
        self.click_db.changed.connect(lambda value: work.listen(click_db=value))
        self.click_pan = NumberSlider("Left, right", -100, 100, step=10, hint="Where the click is heard")
        self.click_pan.changed.connect(lambda value: work.listen(click_pan=value / 100.0))
        column.addWidget(self.click_db)
        column.addWidget(self.click_pan)
        self.click_slots = self._tick("The slots between the counts, too", "Softer and lower")
        self.click_slots.clicked.connect(lambda on: work.listen(click_slots=on))
        column.addWidget(self.click_slots)
        self.taps = self._tick("Tap the strokes", "A short sound where the program takes each attack to begin (V)")
        self.taps.clicked.connect(lambda on: work.look(tapping_strokes=on))
        column.addWidget(self.taps)

    def _build_mono(self, column: QVBoxLayout) -> None:
        work = self._work
        column.addSpacing(4)
        column.addWidget(head("Mono check"))
        self.mono = choice("Doubles sound tighter than they are when they are spread; as one they do not (Shift+M)")
        self.mono.activated.connect(lambda _row: self._choose_mono(self.mono.currentData()))
        column.addWidget(self.mono)
        self._two_row = QWidget()
        row = QHBoxLayout(self._two_row)
        row.setContentsMargins(0, 0, 0, 0)
        self.two = (choice("One of the two tracks"), choice("The other one"))
        for box in self.two:
            box.activated.connect(lambda _row: work.listen(two=tuple(each.currentData() for each in self.two)))
            row.addWidget(box, 1)
        column.addWidget(self._two_row)

    def _build_loop(self, column: QVBoxLayout) -> None:
        work = self._work
        column.addSpacing(4)
        column.addWidget(head("Playing"))
        self.half = self._tick("Half speed, at the same pitch", "To hear closely (S)")
        self.half.clicked.connect(lambda on: work.look(half_speed=on))
        self.turn = self._tick("Loops in turn: as played, then tightened", "Each time round in the other version")
        self.turn.clicked.connect(lambda on: work.look(in_turn=on))
        self.follow = self._tick("The page follows the sound", "Else it stays where it is (F)")
        self.follow.clicked.connect(lambda on: work.listen(following=on))
        for box in (self.half, self.turn, self.follow):
            column.addWidget(box)
        self.beats = NumberSlider(
            "Beats before", 1, _MOST_BEATS, hint="How early a loop around a stroke begins (1, 2 and 3 play it)"
        )
        self.beats.changed.connect(lambda value: work.listen(beats_before=int(value)))
        column.addWidget(self.beats)

    @staticmethod
    def _tick(text: str, hint: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(hint)
        return box

    # ---- showing

    def open_above(self, anchor: QWidget) -> None:
        """Show it with its lower right corner at the upper right one of a widget."""
        self.refresh()
        self.adjustSize()
        corner = anchor.mapToGlobal(QPoint(anchor.width() - self.width(), -self.height() - 6))
        self.move(corner)
        self.show()

    def refresh(self) -> None:
        """Show how it is listened to now."""
        looks, player = self._work.looks, self._player
        listening = looks.listening
        choices: list[tuple[str, object]] = [(each.name, each.key) for each in output_choices()]
        fill_choice(self.output, choices, str(QSettings().value(_SETTING) or ""))
        if self.output.currentData() not in ("", player.output.key):
            fill_choice(self.output, choices, player.output.key)
        says = "There is no sound device: a stand-in keeps the time, and nothing is heard."
        if not player.output.is_simulated:
            says = f"Now: {player.output.name}."
        elif len(choices) > 1:
            says = "The stand-in keeps the time; nothing is heard."
        self._output_words.setText(says)
        self.click_db.set_value(listening.click_db)
        self.click_pan.set_value(100.0 * listening.click_pan)
        for box, on in (
            (self.click_slots, listening.click_slots),
            (self.taps, looks.tapping_strokes),
            (self.half, looks.half_speed),
            (self.turn, looks.in_turn),
            (self.follow, listening.following),
        ):
            box.setChecked(on)
        fill_choice(self.mono, [("Off", ""), ("Everything as one", "all"), ("Two tracks alone, as one", "two")],
                    listening.mono)  # fmt: skip
        tracks: list[tuple[str, object]] = [(each.name, each.key) for each in self._work.session.members]
        for place, track_box in enumerate(self.two):
            fill_choice(track_box, tracks, listening.two[place])
        self._two_row.setVisible(listening.mono == "two")
        self.beats.set_value(float(listening.beats_before))
        if self.isVisible():
            self.adjustSize()

    def _refresh_if_shown(self) -> None:
        if self.isVisible():
            self.refresh()

    # ---- acting

    def toggle_mono(self) -> None:
        """Mono check on or off; on again as it was last."""
        listening = self._work.looks.listening
        was_of_two = all(self._is_there(key) for key in listening.two)
        self._choose_mono("" if listening.mono else "two" if was_of_two else "all")

    def _choose_mono(self, mono: str) -> None:
        session, two = self._work.session, self._work.looks.listening.two
        if mono == "two" and not all(self._is_there(key) for key in two):
            group = self._work.group
            keys = [*(group.tracks if group is not None else ()), *(track.key for track in session.tracks)]
            ones = list(dict.fromkeys(keys))
            if len(ones) < 2:
                self._work.tell("There are no two tracks to be heard as one.")
                self.refresh()
                return
            two = (ones[0], ones[1])
        self._work.listen(mono=mono, two=two)

    def _is_there(self, key: str) -> bool:
        return any(each.key == key for each in self._work.session.members)

    def _choose_output(self) -> None:
        key = str(self.output.currentData())
        QSettings().setValue(_SETTING, key)
        self._player.use_output(open_output(key))


def listening_words(workspace: Workspace) -> str:
    """What differs from plain listening, in a few words, since it is easily forgotten."""
    looks = workspace.looks
    said = ["half speed"] if looks.half_speed else []
    said += {"": [], "all": ["mono"], "two": ["two as one"]}[looks.listening.mono]
    said += ["in turn"] if looks.in_turn else []
    said += ["strokes tapped"] if looks.tapping_strokes else []
    return " · ".join(said)


class LevelMeter(QWidget):
    """The largest sample of what is heard now; it stays red while the sound is too loud for the device."""

    def __init__(self, player: Player) -> None:
        super().__init__()
        self._player = player
        self._shown = (SILENCE_DB, 0)
        self.setFixedSize(58, 26)
        self.setAccessibleName("Level that is heard")
        player.position_changed.connect(self._move)
        player.playing_changed.connect(self._move)

    def _move(self, _change: object) -> None:
        shown = (self._player.level_db, self._player.times_run_out)
        if shown != self._shown:
            self._shown = shown
            out = shown[1]
            told = f" The sound had {theme.counted(out, 'gap')}: the machine was too busy." if out else ""
            self.setToolTip(f"Level that is heard.{told}")
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        level_db, out = self._shown
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        bar = QRectF(0, 10 if not out else 4, self.width(), 6)
        painter.setBrush(theme.DESK_RULE)
        painter.drawRoundedRect(bar, 2, 2)
        share = min(max((level_db - _METER_LOW_DB) / -_METER_LOW_DB, 0.0), 1.0)
        painter.setBrush(theme.DESK_ALARM if level_db > _CLIPS_DB else theme.BRASS_PALE)
        painter.drawRoundedRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), 2, 2)
        if out:
            painter.setPen(theme.DESK_ALARM)
            painter.setFont(theme.text_font(11))
            below = QRectF(0, 11, self.width(), 15)
            painter.drawText(below, Qt.AlignmentFlag.AlignCenter, theme.counted(out, "gap"))
        painter.end()
