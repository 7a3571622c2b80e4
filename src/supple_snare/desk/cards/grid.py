"""Grid: tempo found, typed, tapped or followed; bar 1 and meters; the slots."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QToolButton,
)

from supple_snare.desk.cards.base import Card
from supple_snare.desk.cards.slots import SlotsBox
from supple_snare.desk.controls import NumberSlider, WholeBox, button, head, number, soft, words
from supple_snare.errors import SnareError
from supple_snare.exchange.midi import read_grid
from supple_snare.session import grid_edits as edits
from supple_snare.session.document import Session
from supple_snare.session.finding import tempos_of
from supple_snare.session.report import summarise
from supple_snare.session.stages import GroupView
from supple_snare.timing.course import TEMPO_RANGE_BPM
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter
from supple_snare.timing.tempo import TempoFinding

_METERS = ("4/4", "3/4", "2/4", "6/8", "5/4", "7/8", "9/8", "12/8")
_TAP_GAP_S = 2.5
_SURE = 0.5
"""Tempos less sure than this are not taken unasked."""

_HOW_TO_FIND = "Find the tempo from the hits, tap it (T), or type it."
_FACTORS = (("½", 0.5), ("⅔", 2 / 3), ("1½", 1.5), ("2×", 2.0))


class GridCard(Card):
    """Found from the hits, typed, tapped, or dragged on the page."""

    title = "Grid"

    def build(self) -> None:
        self._taps: list[float] = []
        self._tapped_along = False
        self._readings: list[TempoFinding] = []
        self._is_sought = False
        self._reading = 0
        self.heard_s: Callable[[], float | None] = lambda: None
        """Where the sound is while it plays, None while it does not; the window tells."""
        self.column.setSpacing(6)
        rows = QGridLayout()
        rows.setHorizontalSpacing(6)
        rows.setVerticalSpacing(5)
        rows.setColumnStretch(1, 1)
        self._tempo = number(*TEMPO_RANGE_BPM, "Quarter notes a minute", unit=" bpm", digits=3)
        self._tempo.valueChanged.connect(self._type_tempo)
        find = QToolButton()
        find.setText("Find ▾")
        find.setObjectName("plain")
        find.setFixedHeight(28)
        find.setStyleSheet("padding: 2px 9px; min-height: 0;")
        find.setToolTip("Find the tempo from what was played, or read it from a MIDI file")
        find.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(find)
        menu.addAction("From the leads", self.find_tempo)
        menu.addAction("From all tracks", lambda: self.find_tempo(of_all=True))
        menu.addAction("From a MIDI file …", self._choose_midi)
        find.setMenu(menu)
        self._add(rows, "Tempo", self._tempo, find)
        self.column.addLayout(rows)
        self.column.addLayout(self._readings_row())
        self._found_words = words(_HOW_TO_FIND)
        self.column.addWidget(self._found_words)
        self.work.opened.connect(self._forget_readings)
        self.work.stages_changed.connect(self._find_at_first)
        self._build_follow()
        self._build_bars()
        self.slots = SlotsBox(self.work)
        self.column.addWidget(self.slots)
        self._evidence = words()
        self.column.addWidget(self._evidence)
        self.column.addStretch(1)

    def _readings_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)
        for sign, factor in _FACTORS:
            push = button(sign, f"Count the same music {sign} as fast")
            push.setAccessibleName(push.toolTip())
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, f=factor: self._do("Count in other beats", edits.scale_tempo, f))
            row.addWidget(push)
        self._next = button("Next reading", "The next likeliest tempo that was found (] and [)")
        self._next.setStyleSheet("padding: 4px 6px;")
        self._next.setEnabled(False)
        self._next.clicked.connect(lambda: self.step_reading(1))
        row.addWidget(self._next, 1)
        return row

    def _build_follow(self) -> None:
        self._follow = QCheckBox("Follow the band")
        self._follow.setToolTip("The grid goes along with the beats as played instead of one tempo")
        self._follow.clicked.connect(self._set_following)
        self.column.addWidget(self._follow)
        self._stiffness = NumberSlider("Stiffness", 0, 100, unit=" %", hint="every beat … one tempo", digits=0)
        self._stiffness.setToolTip("0 % follows every beat as played, 100 % keeps one tempo for each section")
        self._stiffness.changed.connect(self._set_stiffness)
        self._stiffness.pressed.connect(self.work.begin_gesture)
        self._stiffness.released.connect(self.work.end_gesture)
        self.column.addWidget(self._stiffness)

    def _build_bars(self) -> None:
        self.column.addWidget(head("Bars"))
        rows = QGridLayout()
        rows.setHorizontalSpacing(6)
        rows.setVerticalSpacing(5)
        rows.setColumnStretch(1, 1)
        self._first = number(-600.0, 36_000.0, "Where bar 1 begins in the recordings", unit=" s", digits=4)
        self._first.setSingleStep(0.001)
        self._first.valueChanged.connect(lambda value: self._do("Set the first beat", edits.place_first_beat, value))
        here = button("here", "The selected stroke becomes beat 1 of bar 1")
        here.clicked.connect(self._first_beat_here)
        self._add(rows, "Bar 1 at", self._first, here)
        by_beat = QHBoxLayout()
        by_beat.setSpacing(4)
        for sign, way in (("‹ a beat earlier", -1), ("a beat later ›", 1)):
            push = button(sign, "Count bar 1 from another beat; no line moves")
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, w=way: self._count_from(w))
            by_beat.addWidget(push)
        rows.addLayout(by_beat, rows.rowCount(), 0, 1, 3)
        self._meter = QComboBox()
        self._meter.addItems(_METERS)
        self._meter.setEditable(True)
        self._meter.setFixedHeight(28)
        self._meter.setToolTip("Meter, such as 4/4")
        self._meter.textActivated.connect(self._set_meter)
        if (line := self._meter.lineEdit()) is not None:
            line.editingFinished.connect(lambda: self._set_meter(self._meter.currentText()))
        self._from = QToolButton()
        self._from.setObjectName("plain")
        self._from.setFixedHeight(28)
        self._from.setStyleSheet("padding: 2px 9px; min-height: 0;")
        self._from.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._from.setText("changes ▾")
        self._from.setToolTip("Change the meter from the selected bar on, or take changes back")
        self._from_menu = QMenu(self._from)
        self._from_menu.aboutToShow.connect(self._fill_changes)
        self._from.setMenu(self._from_menu)
        self._add(rows, "Meter", self._meter, self._from)
        self._pick_up = WholeBox(0, 31, "Counts before bar 1; 0 for a whole bar 0")
        self._pick_up.valueChanged.connect(lambda counts: self._do("Set the pick-up", edits.set_pick_up, counts))
        self._add(rows, "Pick-up", self._pick_up, soft("counts"))
        self._beats = number(0.25, 4096.0, "Quarter notes between the ends of the selected range", digits=2)
        self._beats.setValue(4.0)
        span = button("set tempo", "Drag over the page from one hit to another, say how many beats that is")
        span.clicked.connect(self._span)
        self._add(rows, "Range is", self._beats, span)
        self.column.addLayout(rows)

    def _add(self, rows: QGridLayout, name: str, box: object, beside: object) -> None:
        row = rows.rowCount()
        rows.addWidget(soft(name), row, 0)
        rows.addWidget(box, row, 1)  # type: ignore[call-overload]
        rows.addWidget(beside, row, 2)  # type: ignore[call-overload]

    # ---- what is shown

    def refresh(self) -> None:
        grid = self.work.session.grid
        played = grid.played
        mean = grid.tempo_bpm if played is None else _mean_tempo(played.time_s, played.step)
        for box, value in ((self._tempo, mean), (self._first, float(grid.bar_time_s(1)))):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self._tempo.setToolTip("Quarter notes a minute" if played is None else "Mean tempo; typing makes it steady")
        self._follow.setChecked(played is not None)
        self._stiffness.setVisible(played is not None)
        if played is not None:
            self._stiffness.set_value(100.0 * played.stiffness)
        self._meter.setEditText(str(grid.meter))
        self._pick_up.blockSignals(True)
        self._pick_up.setValue(edits.pick_up_counts(grid))
        self._pick_up.blockSignals(False)
        self.slots.refresh()
        if self._readings:
            self._say_reading()
        view = self.work.view
        if view is None or not view.offsets.placed.any():
            self._evidence.setText("")
            return
        summary = summarise(view)
        close = int(np.count_nonzero(view.offsets.close_call))
        loose = int(np.count_nonzero(~view.offsets.placed & ~view.strokes.rides))
        by_hand = int(np.count_nonzero(view.offsets.fixed))
        self._evidence.setText(
            f"On this grid strokes lie {summary.mean_ms:+.1f} ms from their slots on average, spread "
            f"{summary.spread_ms:.1f} ms; {close} are close calls, {loose} found no slot"
            f"{f', {by_hand} given by hand' if by_hand else ''}.".replace("-", "−")
        )

    # ---- the tempo

    def _forget_readings(self) -> None:
        """Another session was opened."""
        self._is_sought = not self.work.session.is_empty
        self._readings = []
        self._next.setEnabled(False)
        self._found_words.setText(_HOW_TO_FIND)

    def _find_at_first(self) -> None:
        """The first recordings of a new session are heard: unless somebody has set a grid, they tell the tempo."""
        view = self.work.view
        if self._is_sought or view is None or view.part is not None:
            return
        self._is_sought = True
        if self._is_unset:
            self._find_in(view, self._take_first)

    @property
    def _is_unset(self) -> bool:
        """Whether nobody has set a grid yet."""
        return self.work.session.take_grid == Grid()

    def _take_first(self) -> None:
        """Take the likeliest reading if it is at all sure, and say so."""
        if not self._readings or not self._is_unset:
            return
        told = _in_words(self._readings[0])
        if self._readings[0].confidence >= _SURE:
            self._take_reading()
            self.work.tell(f"Tempo found: {told}. Grid has the other readings, Ctrl+Z goes without it.")
        else:
            self.work.tell(f"No clear tempo was found; the likeliest is {told}. Set it in Grid.")

    def find_tempo(self, *, of_all: bool = False) -> None:
        """Find the tempo on the worker and take the likeliest reading."""
        view = self.work.view
        if view is None:
            self.work.tell("The recordings are still being listened to.")
            return

        def take() -> None:
            if self._readings:
                self._take_reading()
            else:
                self.work.tell("Too few strokes to tell a tempo: tap it, type it, or lower a level limit in Hits.")

        self._find_in(view, take, of_all=of_all)

    def _find_in(self, view: GroupView, take: Callable[[], None], *, of_all: bool = False) -> None:
        def done(readings: list[TempoFinding]) -> None:
            self._readings, self._reading = readings, 0
            self._next.setEnabled(len(readings) > 1)
            take()

        self.work.jobs.submit(
            "Finding the tempo", lambda _progress: tempos_of(view, of_all=of_all), done, self.work.tell_error
        )

    def step_reading(self, steps: int) -> None:
        """The next or previous reading of those found."""
        if self._readings:
            self._reading = (self._reading + steps) % len(self._readings)
            self._take_reading()
        else:
            self.work.tell("Find the tempo first.")

    def _take_reading(self) -> None:
        self._do("Take a tempo found", edits.take_reading, self._readings[self._reading].grid)
        self._say_reading()

    def _say_reading(self) -> None:
        """The reading taken, and whether the tempo is still the one it gave."""
        reading = self._readings[self._reading]
        kept = self.work.session.grid.tempo_bpm == reading.grid.tempo_bpm
        self._found_words.setText(
            f"{'' if kept else 'Changed since found: '}{_in_words(reading)} (reading {self._reading + 1} of "
            f"{len(self._readings)}; [ and ] step)."
        )

    def _choose_midi(self) -> None:
        kinds = "MIDI files (*.mid *.midi *.smf)"
        path, _ = QFileDialog.getOpenFileName(self, "A MIDI file with the tempo", str(self.work.nearby), kinds)
        if path:
            self.take_midi(Path(path))

    def take_midi(self, path: Path) -> None:
        """Take tempos and meters from a MIDI file."""
        try:
            grid = read_grid(path)
        except SnareError as error:
            self.work.tell_problem(str(error))
            return
        self._do("Read the tempo from MIDI", edits.take_reading, grid)

    def _type_tempo(self, tempo: float) -> None:
        self._do("Set the tempo", edits.one_tempo, tempo)

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
            self._found_words.setText(f"{4 - len(self._taps)} more taps …")
            return
        tempo, beat_s = tapped_beats(np.array(self._taps))
        first_beat_s = float(self.work.session.grid.bar_time_s(1))
        if along:
            period = 60.0 / tempo
            first_beat_s = beat_s + round((first_beat_s - beat_s) / period) * period
        self._do("Tap the tempo", edits.one_tempo, tempo, first_beat_s)
        self._found_words.setText(f"Tapped {tempo:.1f} bpm{' along with the sound' if along else ''}.")

    def _set_following(self, on: bool) -> None:
        session, view = self.work.session, self.work.view
        if not on:
            played = session.take_grid.played
            assert played is not None
            self._do("One tempo", edits.one_tempo, _mean_tempo(played.time_s, played.step))
        elif view is None:
            self.work.tell("The recordings are still being listened to.")
            self.refresh()
        else:
            self._do("Follow the band", lambda now: edits.follow_beats(now, edits.beats_of_strokes(now, view)))

    def _set_stiffness(self, percent: float) -> None:
        played = self.work.session.take_grid.played
        if played is not None:
            self._do("Set the stiffness", edits.follow_beats, replace(played, stiffness=percent / 100.0))

    # ---- bars

    def _set_meter(self, text: str) -> None:
        try:
            meter = Meter.parse(text)
        except SnareError as error:
            self.work.tell_problem(str(error))
            self.refresh()
            return
        if meter != self.work.session.take_grid.meter:
            self._do("Set the meter", edits.set_meter, meter)

    def _fill_changes(self) -> None:
        menu, grid = self._from_menu, self.work.session.take_grid
        menu.clear()
        looks = self.work.looks
        moment = looks.range_s[0] if looks.range_s else looks.selected_s
        if moment is None:
            nothing = menu.addAction("Select a stroke or a range first")
            assert nothing is not None
            nothing.setEnabled(False)
        else:
            bar = int(np.floor(float(grid.bar_at(moment)) + 0.02))
            for name in _METERS:
                menu.addAction(f"From bar {bar} on: {name}", lambda n=name: self._change_meter(n, bar))
            menu.addAction(f"From bar {bar} on: another meter …", lambda: self._ask_meter(bar))
        if grid.meter_changes:
            menu.addSeparator()
        for change in grid.meter_changes:
            menu.addAction(
                f"Take back {change.meter} from bar {change.bar}",
                lambda b=change.bar: self._do("Take a meter back", edits.remove_meter_change, b),
            )

    def _ask_meter(self, bar: int) -> None:
        name, given = QInputDialog.getText(self, "Change the meter", f"Meter from bar {bar} on, such as 11/16:")
        if given:
            self._change_meter(name, bar)

    def _change_meter(self, name: str, bar: int) -> None:
        self._do("Change the meter", lambda session: edits.set_meter(session, Meter.parse(name), from_bar=bar))

    def _first_beat_here(self) -> None:
        if self.work.looks.selected_s is None:
            self.work.tell("Select a stroke on the page first.")
            return
        self._do("Set the first beat", edits.place_first_beat, self.work.looks.selected_s)

    def _count_from(self, way: int) -> None:
        step = self.work.session.take_grid.meter.felt_beats
        self._do("Count from another beat", edits.count_from, way * step)

    def _span(self) -> None:
        view, span = self.work.view, self.work.looks.range_s
        if span is None or view is None or not len(view.strokes):
            self.work.tell("Drag over the page from one hit to another first.")
            return
        times = view.strokes.time_s
        start_s, end_s = (float(times[np.argmin(np.abs(times - end))]) for end in span)
        self._do("Tempo from two hits", lambda now: edits.span_beats(now, start_s, end_s, self._beats.value()))

    def _do(self, label: str, edit: Callable[..., Session], *values: object) -> None:
        """An edit of the session; says so if it makes no sense."""
        try:
            self.work.do(label, edit(self.work.session, *values))
        except SnareError as error:
            self.work.tell_problem(str(error))
            self.refresh()


def _in_words(reading: TempoFinding) -> str:
    """What a reading says, and how sure it is."""
    unsure = ", where bar 1 lies less so" if reading.is_bar_unsure else ""
    return f"{reading.in_words}; {100.0 * reading.confidence:.0f} % sure{unsure}"


def _mean_tempo(time_s: tuple[float, ...], step: float) -> float:
    low, high = TEMPO_RANGE_BPM
    return min(max(60.0 * step * (len(time_s) - 1) / (time_s[-1] - time_s[0]), low), high)


def tapped_beats(taps_s: np.ndarray[tuple[int], np.dtype[np.float64]]) -> tuple[float, float]:
    """Tempo of evenly meant taps, to a tenth, and the moment meant by the first, by least squares.

    >>> tapped_beats(np.array([1.0, 1.5, 2.0, 2.5]))
    (120.0, 1.0)
    """
    period, first = np.polyfit(np.arange(len(taps_s)), taps_s, 1)
    low, high = TEMPO_RANGE_BPM
    tempo = float(np.clip(round(60.0 / max(float(period), 1e-3), 1), low, high))
    return tempo, round(float(first), 4)
