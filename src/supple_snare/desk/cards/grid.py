"""Grid: tempo, first beat, meter, subdivision and swing."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QFormLayout

from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import NumberSlider, button, words
from supple_snare.desk.workspace import with_grid
from supple_snare.errors import UsageError
from supple_snare.session.report import summarise
from supple_snare.timing.course import TEMPO_RANGE_BPM
from supple_snare.timing.meter import Meter
from supple_snare.timing.ruling import SWING_RANGE, Ruling

_METERS = ("4/4", "3/4", "2/4", "6/8", "5/4", "7/8", "9/8", "12/8")
_SUBDIVISIONS = ("1/4", "1/8", "1/8T", "1/16", "1/16T", "1/32")
_TAP_GAP_S = 2.5


class GridCard(Card):
    """Typed, tapped, or dragged on the page."""

    title = "Grid"

    def build(self) -> None:
        self._taps: list[float] = []
        self._tapped_along = False
        self.heard_s: Callable[[], float | None] = lambda: None
        """Where the sound is while it plays, None while it does not; the window tells."""
        form = QFormLayout()
        form.setVerticalSpacing(8)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self._tempo = QDoubleSpinBox()
        self._tempo.setRange(*TEMPO_RANGE_BPM)
        self._tempo.setDecimals(3)
        self._tempo.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self._tempo.setSuffix(" bpm")
        self._tempo.setToolTip("Quarter notes a minute")
        self._tempo.setKeyboardTracking(False)
        self._tempo.valueChanged.connect(lambda value: self._change("Set the tempo", tempo_bpm=value))
        form.addRow("Tempo", self._tempo)
        self._first = QDoubleSpinBox()
        self._first.setRange(-600.0, 36_000.0)
        self._first.setDecimals(4)
        self._first.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self._first.setSingleStep(0.001)
        self._first.setSuffix(" s")
        self._first.setToolTip("Where bar 1 begins in the recordings")
        self._first.setKeyboardTracking(False)
        self._first.valueChanged.connect(lambda value: self._change("Set the first beat", first_beat_s=value))
        form.addRow("First beat", self._first)
        self._meter = QComboBox()
        self._meter.addItems(_METERS)
        self._meter.setEditable(True)
        self._meter.setToolTip("Meter, such as 4/4")
        self._meter.textActivated.connect(self._set_meter)
        if (line := self._meter.lineEdit()) is not None:
            line.editingFinished.connect(lambda: self._set_meter(self._meter.currentText()))
        form.addRow("Meter", self._meter)
        self._subdivision = QComboBox()
        self._subdivision.addItems(_SUBDIVISIONS)
        self._subdivision.setToolTip("The finest slots that strokes are laid to; T is a triplet")
        self._subdivision.textActivated.connect(self._set_subdivision)
        form.addRow("Slots", self._subdivision)
        self.column.addLayout(form)
        self._swing = NumberSlider("Swing", 50, 75, unit=" %", hint="second slot of each pair", digits=1, step=0.5)
        self._swing.changed.connect(self._set_swing)
        self._swing.pressed.connect(self.work.begin_gesture)
        self._swing.released.connect(self.work.end_gesture)
        self.column.addWidget(self._swing)
        tap = button(
            "Tap the tempo", "Click or press T on every quarter note; while playing, the first beat follows too"
        )
        tap.pressed.connect(self.tap)
        self.column.addWidget(tap)
        self._tap_words = words("Tap four times or more.")
        self.column.addWidget(self._tap_words)
        here = button("First beat at the selected stroke", "The selected stroke becomes beat 1 of bar 1")
        here.clicked.connect(self._first_beat_here)
        self.column.addWidget(here)
        self.column.addWidget(
            words(
                "On the page: drag the line of bar 1 onto a hit to place the first beat; drag any later bar line onto "
                "its hit to set the tempo. Lines jump to hits that are near."
            )
        )
        self._evidence = words()
        self.column.addWidget(self._evidence)
        self.column.addStretch(1)

    def refresh(self) -> None:
        grid = self.work.session.grid
        for box, value in ((self._tempo, grid.tempo_bpm), (self._first, grid.first_beat_s)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self._meter.setEditText(str(grid.meter))
        self._subdivision.setCurrentText(str(grid.ruling))
        self._swing.set_value(100.0 * grid.ruling.swing)
        view = self.work.view
        if view is None or not view.offsets.placed.any():
            self._evidence.setText("")
            return
        summary = summarise(view)
        close = int(np.count_nonzero(view.offsets.close_call))
        loose = int(np.count_nonzero(~view.offsets.placed))
        self._evidence.setText(
            f"On this grid the strokes lie {summary.mean_ms:+.1f} ms from their slots on average and spread "
            f"{summary.spread_ms:.1f} ms; {close} lie almost between two slots, {loose} found none.".replace("-", "−")
        )

    def tap(self) -> None:
        """One tap. The tempo is the straight line through the last taps; along with the sound, so is the first beat."""
        heard_s = self.heard_s()
        along = heard_s is not None
        now = time.monotonic() if heard_s is None else heard_s
        if self._taps and (along != self._tapped_along or not 0.0 < now - self._taps[-1] <= _TAP_GAP_S):
            self._taps = []
        self._tapped_along = along
        self._taps = [*self._taps, now][-16:]
        if len(self._taps) < 4:
            self._tap_words.setText(f"{4 - len(self._taps)} more …")
            return
        tempo, beat_s = tapped_beats(np.array(self._taps))
        grid = self.work.session.grid
        if along:
            period = 60.0 / tempo
            first_beat_s = beat_s + round((grid.first_beat_s - beat_s) / period) * period
            self._change("Tap the tempo", tempo_bpm=tempo, first_beat_s=first_beat_s)
        else:
            self._change("Tap the tempo", tempo_bpm=tempo)
        self._tap_words.setText(f"Tapped {tempo:.1f} bpm{' along with the sound' if along else ''}.")

    def _change(self, label: str, **changes: object) -> None:
        try:
            grid = replace(self.work.session.grid, **changes)  # type: ignore[arg-type]
        except UsageError as error:
            self.work.tell_problem(str(error))
            self.refresh()
            return
        self.work.do(label, with_grid(self.work.session, grid))

    def _set_meter(self, text: str) -> None:
        try:
            meter = Meter.parse(text)
        except UsageError as error:
            self.work.tell_problem(str(error))
            self.refresh()
            return
        if meter != self.work.session.grid.meter:
            self._change("Set the meter", meter=meter)

    def _set_subdivision(self, text: str) -> None:
        self._change("Set the slots", ruling=Ruling.parse(text, swing=self.work.session.grid.ruling.swing))

    def _set_swing(self, percent: float) -> None:
        low, high = SWING_RANGE
        ruling = replace(self.work.session.grid.ruling, swing=min(max(percent / 100.0, low), high))
        self._change("Set the swing", ruling=ruling)

    def _first_beat_here(self) -> None:
        if self.work.looks.selected_s is None:
            self.work.tell("Select a stroke on the page first.")
            return
        self._change("Set the first beat", first_beat_s=self.work.looks.selected_s)


def tapped_beats(taps_s: np.ndarray[tuple[int], np.dtype[np.float64]]) -> tuple[float, float]:
    """Tempo of evenly meant taps, to a tenth, and the moment meant by the first, by least squares.

    >>> tapped_beats(np.array([1.0, 1.5, 2.0, 2.5]))
    (120.0, 1.0)
    """
    period, first = np.polyfit(np.arange(len(taps_s)), taps_s, 1)
    low, high = TEMPO_RANGE_BPM
    tempo = float(np.clip(round(60.0 / max(float(period), 1e-3), 1), low, high))
    return tempo, round(float(first), 4)
