"""The window: steps above, cast on the left, page and lean chart in the middle, card on the right, transport below."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QEvent, QSettings, Qt, QUrl
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from supple_snare.desk import answers, hit_tools, stroke_tools
from supple_snare.desk.cards.base import Card
from supple_snare.desk.cards.feel import FeelCard
from supple_snare.desk.cards.gather import GatherCard
from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.cards.handover import HandOverCard
from supple_snare.desk.cards.hits import HitsCard
from supple_snare.desk.cards.proof import ProofCard
from supple_snare.desk.cards.tighten import TightenCard
from supple_snare.desk.cast import Cast
from supple_snare.desk.command_search import search_commands
from supple_snare.desk.controls import button, sheet, soft
from supple_snare.desk.doors import Doors
from supple_snare.desk.faults import Faults
from supple_snare.desk.feel_chart import FeelChart
from supple_snare.desk.groove_library import show_library
from supple_snare.desk.hand import Hand
from supple_snare.desk.hear_around import How, chosen_moment, end_hearing, hear_chosen
from supple_snare.desk.keys_sheet import KeysSheet
from supple_snare.desk.lean_chart import LeanChart
from supple_snare.desk.legend import legend_of
from supple_snare.desk.level_chart import LevelChart
from supple_snare.desk.loupe import Loupe
from supple_snare.desk.measure_sheet import MeasureSheet
from supple_snare.desk.menus import Menu, Menus
from supple_snare.desk.message_bar import MessageBar
from supple_snare.desk.page import Page
from supple_snare.desk.player import Player
from supple_snare.desk.programmes import Programmes
from supple_snare.desk.recent import fill_recent, remember_session
from supple_snare.desk.rejudged import RejudgedNotice
from supple_snare.desk.section_menu import SectionButton, draw_selection, split_here
from supple_snare.desk.snapshot_menu import exchange, fill_snapshots, lay_behind, with_newest
from supple_snare.desk.step_list import show_steps
from supple_snare.desk.steps import StepsBar
from supple_snare.desk.stretch_tools import next_way, toggle_anchor
from supple_snare.desk.tempo_chart import TempoChart
from supple_snare.desk.transport import Transport
from supple_snare.desk.troubles import Troubles
from supple_snare.desk.work_strip import WorkStrip
from supple_snare.desk.workspace import STEPS, Workspace

_FRAME_PX = 40
"""Height that a window manager's frame may add."""

_CARDS: dict[str, type[Card]] = {
    "gather": GatherCard,
    "grid": GridCard,
    "hits": HitsCard,
    "feel": FeelCard,
    "tighten": TightenCard,
    "proof": ProofCard,
    "hand over": HandOverCard,
}


class Window(QMainWindow):
    """The main window."""

    def __init__(self, workspace: Workspace | None = None, player: Player | None = None) -> None:
        super().__init__()
        self.work = workspace or Workspace()
        self.player = player or Player()
        self._programmes = Programmes(self.work)
        self._remembered: Path | None = None
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self._build()
        self.hand = Hand(self.work, self.page, self.player)
        self._build_actions()
        self.page.setFocus()
        work, player = self.work, self.player
        self.page.placed.connect(self.player.seek)
        self.chart.placed.connect(self._go_to)
        self.levels.placed.connect(self._go_to)
        self.tempo.placed.connect(self._go_to)
        self.feel.placed.connect(self._go_to)
        work.went.connect(self._go_to)
        work.hit_wanted.connect(self.hand.step_hit)
        work.hear_wanted.connect(self._hear_around)
        self.page.scrolled.connect(self._bracket)
        self.page.bars_a_row_changed.connect(self._bracket)
        player.position_changed.connect(self._show_position)
        player.failed.connect(work.tell_problem)
        player.failed.connect(lambda _text: work.hearing.look_over())
        player.playing_changed.connect(lambda is_playing: work.hearing.look_over() if is_playing else None)
        work.told.connect(self.message.say)
        work.looks_changed.connect(self._hear_chosen)
        for signal in (work.stages_changed, work.looks_changed, work.cuts_changed):
            signal.connect(self._update_programme)
        for signal in (work.session_changed, work.saved_changed, work.looks_changed):
            signal.connect(self._show_state)
        work.stages_changed.connect(self._bracket)
        work.session_changed.connect(self._hear_at_once)
        self._show_state()
        self._bracket()
        self._restore()

    # ---- building

    def _build(self) -> None:
        work = self.work
        self.steps = StepsBar(work)
        self.steps.chosen.connect(lambda step: work.look(step=step))
        self.cast = Cast(work)
        self.page = Page(work)
        self.chart = LeanChart(work)
        self.levels = LevelChart(work)
        self.tempo = TempoChart(work)
        self.feel = FeelChart(work)
        self.loupe = Loupe(work)
        self.measures = MeasureSheet(work)
        self.transport = Transport(work, self.player)
        self.cards: dict[str, Card] = {}
        self._stack = QStackedWidget()
        for step, kind in _CARDS.items():
            self.cards[step] = kind(work)
            area = QScrollArea()
            area.setWidgetResizable(True)
            area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            area.setWidget(self.cards[step])
            self._stack.addWidget(area)
        grid = self.cards["grid"]
        assert isinstance(grid, GridCard)
        grid.heard_s = lambda: self.player.position_s if self.player.is_playing else None
        card_sheet, card_column = sheet(margins=1)
        card_column.addWidget(self._stack)
        card_sheet.setFixedWidth(306)
        body = QHBoxLayout()
        body.setContentsMargins(0, 8, 10, 8)
        body.setSpacing(8)
        body.addWidget(self.cast)
        body.addLayout(self._middle(), 1)
        body.addWidget(card_sheet)
        root = QWidget()
        column = QVBoxLayout(root)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._top())
        column.addLayout(body, 1)
        column.addWidget(self.transport)
        self.setCentralWidget(root)
        self.message = MessageBar(self._chart_sheet)
        self.doors = Doors(work, self, self.message)
        self._troubles = Troubles(work, self, self.message)
        self._rejudged = RejudgedNotice(work, self.message)

    def _middle(self) -> QVBoxLayout:
        """Page, loupe and chart, one above the other."""
        page_sheet, page_column = sheet(margins=4)
        page_column.addWidget(self._page_head())
        self._sheets = QStackedWidget()
        self._sheets.addWidget(self.page)
        self._sheets.addWidget(self.measures)
        page_column.addWidget(self._sheets, 1)
        self._chart_sheet, chart_column = sheet(margins=2)
        self._charts = QStackedWidget()
        self._charts.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._charts.addWidget(self.chart)
        self._charts.addWidget(self.levels)
        self._charts.addWidget(self.tempo)
        self._charts.addWidget(self.feel)
        chart_column.addWidget(self._charts)
        self._loupe_sheet, loupe_column = sheet(margins=2)
        loupe_column.addWidget(self.loupe)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        middle.addWidget(page_sheet, 1)
        middle.addWidget(self._loupe_sheet)
        middle.addWidget(self._chart_sheet)
        return middle

    def _top(self) -> QWidget:
        top = QFrame()
        row = QHBoxLayout(top)
        row.setContentsMargins(12, 0, 10, 0)
        row.setSpacing(4)
        self._name = QLabel()
        self._name.setObjectName("head")
        self._state = soft()
        names = QVBoxLayout()
        names.setContentsMargins(0, 8, 0, 6)
        names.setSpacing(1)
        names.addWidget(self._name)
        names.addWidget(self._state)
        label = QWidget()
        label.setLayout(names)
        label.setFixedWidth(118)
        row.addWidget(label)
        self._undo_button, self._redo_button = QToolButton(), QToolButton()
        for push, sign in ((self._undo_button, "↶"), (self._redo_button, "↷")):
            push.setObjectName("plain")
            push.setText(sign)
            push.setFixedSize(30, 30)
            push.setStyleSheet("padding: 0; font-size: 17px;")
            row.addWidget(push)
        row.addWidget(self.steps, 1)
        return top

    def _page_head(self) -> QWidget:
        head = QWidget()
        row = QHBoxLayout(head)
        row.setContentsMargins(8, 0, 6, 0)
        head.setFixedHeight(32)
        self._legend = soft()
        row.addWidget(self._legend)
        self._work_strip = WorkStrip(self.work.jobs)
        self._work_strip.stopped.connect(self._say_stopped)
        self._work_strip.appeared.connect(self._legend.setHidden)
        row.addWidget(self._work_strip)
        row.addStretch(1)
        self.sections = SectionButton(self.work)
        row.addWidget(self.sections)
        self._loupe_button = button("Loupe", "The chosen attack in every track, down to samples (O)", checkable=True)
        self._loupe_button.setFixedHeight(28)
        self._loupe_button.setStyleSheet("padding: 2px 9px;")
        self._loupe_button.clicked.connect(lambda on: self.work.look(loupe=on))
        row.addWidget(self._loupe_button)
        self._measure_button = button("Measure", "Offsets in figures, in place of the page (M)", checkable=True)
        self._measure_button.setFixedHeight(28)
        self._measure_button.setStyleSheet("padding: 2px 9px;")
        self._measure_button.clicked.connect(lambda on: self.work.look(measuring=on))
        row.addWidget(self._measure_button)
        row.addSpacing(6)
        self._zoom_words = soft()
        row.addWidget(self._zoom_words)
        for text, hint, steps in (("−", "More bars a row (Ctrl+−)", -1), ("+", "Fewer bars a row (Ctrl++)", 1)):
            push = button(text, hint)
            push.setAccessibleName(hint)
            push.setFixedSize(30, 28)
            push.setStyleSheet("padding: 0;")
            push.clicked.connect(lambda _on, s=steps: self.page.zoom(s))
            row.addWidget(push)
        return head

    def _build_actions(self) -> None:
        """The menu bar; what stands in no menu has a widget of its own."""
        work, menus = self.work, Menus(self)
        self._menus = menus
        menu = menus.menu("&Session")
        menu.act("New session", self.doors.begin, "Ctrl+N")
        menu.act("Open a session …", self.doors.choose, "Ctrl+O")
        menu.listing("Recent sessions", lambda inner: fill_recent(inner, self.doors.open_session))
        menu.act("Open the demo afresh", self.doors.open_demo)
        menu.part()
        menu.act("Add recordings …", self._add_files, "Ctrl+I")
        menu.part()
        menu.act("Save", self.doors.save, "Ctrl+S")
        menu.act("Save in another folder …", self.doors.save_as, "Ctrl+Shift+S")
        menu.part()
        menu.act("Quit", self.close, "Ctrl+Q")
        menu = menus.menu("&Edit")
        self._undo = menu.act("Undo", work.undo, "Ctrl+Z")
        self._redo = menu.act("Redo", work.redo, "Ctrl+Shift+Z", "Ctrl+Y")
        menu.act("What was done …", lambda: show_steps(work, self), "Ctrl+H")
        self._undo_button.clicked.connect(work.undo)
        self._redo_button.clicked.connect(work.redo)
        menu.part()
        menu.listing("Snapshots", lambda inner: fill_snapshots(inner, work, self))
        menu.act("Exchange with the newest snapshot", lambda: with_newest(work, exchange), "W")
        menu.act("Lay the newest snapshot behind", lambda: with_newest(work, lay_behind), "Shift+W")
        self._build_view_menu(menus.menu("&View"))
        self._build_take_menu(menus.menu("&Take"))
        self._build_hits_menu(menus.menu("&Hits"))
        self._build_strokes_menu(menus.menu("St&rokes"))
        menu = menus.menu("Se&ctions")
        menu.act("Make the range a section …", lambda: draw_selection(work, self), "Ctrl+K")
        menu.act("Split a section at the playhead", lambda: split_here(work, self.player.position_s), "K")
        self._build_listen_menu(menus.menu("&Listen"))
        menu = menus.menu("Hel&p")
        menu.act("Search commands …", lambda: search_commands(self, menus.actions), "F3")
        menu.act("Keys and legend", self._show_keys, "F1")
        menu.act("The menu bar", menus.open_first, "F10")

    def _build_view_menu(self, menu: Menu) -> None:
        """What is seen: the steps, the page, and what takes its place."""
        work, page = self.work, self.page
        for number, step in enumerate(STEPS, 1):
            menu.act(step.capitalize(), lambda _on=False, s=step: work.look(step=s), f"Ctrl+{number}")
        menu.part()
        menu.act("Measurements", lambda: work.look(measuring=not work.looks.measuring), "M")
        menu.act("Loupe", lambda: work.look(loupe=not work.looks.loupe), "O")
        menu.part()
        menu.act("Fewer bars a row", lambda: page.zoom(1), "Ctrl++", "Ctrl+=")
        menu.act("More bars a row", lambda: page.zoom(-1), "Ctrl+-")
        menu.act("To the start", lambda: self._go_to(0.0), "Home")
        menu.act("The page follows", lambda: work.listen(following=not work.looks.listening.following), "F")
        menu.act("Close the message", self.message.hide, "Escape")

    def _build_take_menu(self, menu: Menu) -> None:
        """The tempo, the feel, and the work on the take as a whole."""
        work = self.work
        menu.act("Tap the tempo, in Grid", self._tap, "T")
        menu.act("Next tempo found, in Grid", lambda: self._step_reading(1), "]")
        menu.act("Previous tempo found, in Grid", lambda: self._step_reading(-1), "[")
        menu.part()
        menu.act("Tap the feel, in Feel", lambda: self._tap_feel("first"), "Y")
        menu.act("Tap the other feel, in Feel", lambda: self._tap_feel("second"), "Shift+Y")
        menu.act("Groove library …", lambda: show_library(work, self), "B")
        menu.part()
        menu.act("Tick this step off", lambda: self.steps.tick(work.looks.step), "Ctrl+T")
        menu.act("Go on with stopped work", work.resume, "F5")

    def _build_hits_menu(self, menu: Menu) -> None:
        """What is done to hits by hand."""
        hand = self.hand
        menu.act("Next stroke or hit", lambda: hand.step(1), "N")
        menu.act("Previous stroke or hit", lambda: hand.step(-1), "P")
        menu.act("Next doubt", lambda: hand.step_doubt(1), "D")
        menu.act("Previous doubt", lambda: hand.step_doubt(-1), "Shift+D")
        menu.part()
        menu.act("Remove hits", lambda: hand.mend(hit_tools.remove_hits), "Delete", "Backspace")
        menu.act("Count bleed as played, or answer a doubt with fine", hand.take, "Return", "Enter")
        menu.act("Remove the hit and all that sound alike", lambda: hand.mend(hit_tools.remove_alike), "Shift+Delete")
        menu.act(
            "Count the bleed and all that sounds alike", lambda: hand.mend(hit_tools.promote_alike), "Shift+Return"
        )
        menu.act("Restore hits as found", lambda: hand.mend(hit_tools.restore_hits), "R")
        menu.part()
        menu.act("Hit or stroke 1 ms later", lambda: hand.nudge(1.0), "Alt+Right")
        menu.act("Hit or stroke 1 ms earlier", lambda: hand.nudge(-1.0), "Alt+Left")
        menu.act("Hit or stroke 1 sample later", lambda: hand.nudge(samples=1), "Alt+Shift+Right")
        menu.act("Hit or stroke 1 sample earlier", lambda: hand.nudge(samples=-1), "Alt+Shift+Left")

    def _build_strokes_menu(self, menu: Menu) -> None:
        """What is done to strokes by hand."""
        work, hand = self.work, self.hand
        menu.act("Hold the selection", hand.hold, "H")
        menu.act("Release the selection", lambda: stroke_tools.release_selection(work), "Shift+H")
        menu.act("Even out the range", lambda: stroke_tools.even_selection(work), "E")
        menu.act("Join the range to one piece", lambda: stroke_tools.join_selection(work), "J")
        menu.act("Tighten only the range", lambda: stroke_tools.tighten_only(work), "Ctrl+J")
        menu.act("Drop all edits of the selection", lambda: stroke_tools.drop_selection(work), "X")
        menu.part()
        menu.act("One slot later", lambda: stroke_tools.move_slots(work, 1), "Shift+Right")
        menu.act("One slot earlier", lambda: stroke_tools.move_slots(work, -1), "Shift+Left")
        menu.act("Lock strokes to their slots", lambda: stroke_tools.lock_slots(work), "G")
        menu.act("Free the slots of strokes", lambda: stroke_tools.release_slots(work), "Shift+G")
        menu.part()
        menu.act("Set or remove an anchor at the playhead", lambda: toggle_anchor(work, self.player.position_s), "Q")
        menu.act("Fill the gap before the stroke the next way", lambda: next_way(work), "Shift+Q")
        menu.part()
        menu.act("Take the other slot", lambda: hand.prove(answers.other_slot), "U")
        menu.act("Move less", lambda: hand.prove(answers.move_less), "I")
        menu.act("Bring in what lies past the reach", lambda: hand.prove(answers.bring_in), "Shift+I")

    def _build_listen_menu(self, menu: Menu) -> None:
        """What is heard, and how."""
        work = self.work
        menu.act("Play or stop", self.transport.toggle_play, "Space")
        menu.act("As played, or tightened", lambda: work.look(tightened=not work.looks.tightened), "A")
        menu.part()
        ways: tuple[tuple[str, str, How], ...] = (
            ("Hear the stroke as played", "1", "played"),
            ("Hear the stroke tightened", "2", "tightened"),
            ("Hear the stroke both ways in turn", "3", "turn"),
        )
        for text, key, how in ways:
            menu.act(text, partial(hear_chosen, work, how), key)
        menu.part()
        menu.act("Loop", self.transport.loop.toggle, "L")
        menu.act("Loop the selection", self._loop_selection, "Shift+L")
        menu.act("Half speed", lambda: work.look(half_speed=not work.looks.half_speed), "S")
        menu.act("Click", lambda: work.look(clicking=not work.looks.clicking), "C")
        menu.act("Tap the strokes", lambda: work.look(tapping_strokes=not work.looks.tapping_strokes), "V")
        menu.act("Mono check", self.transport.panel.toggle_mono, "Shift+M")
        menu.act("How it is listened to …", self.transport.listening.click, "Ctrl+L")

    # ---- session

    def _add_files(self) -> None:
        self.work.look(step="gather")
        card = self.cards["gather"]
        assert isinstance(card, GatherCard)
        card.choose_files()

    def event(self, event: QEvent | None) -> bool:
        """Return belongs to the field in which something is typed, before it is a key of the window."""
        if event is not None and event.type() == QEvent.Type.ShortcutOverride and _ends_typing(event):
            event.accept()
            return True
        if event is not None and event.type() == QEvent.Type.WindowActivate:
            self.work.hearing.look_over()  # files may have been changed while another program was in front
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and _ends_typing(event):
            self.page.setFocus()  # what was typed holds; the next key is the window's again
            return
        super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is None:
            return
        paths = [_path_of(url) for url in data.urls() if url.isLocalFile()]
        if any(path.is_dir() for path in paths):
            if self.doors.may_leave():
                self.doors.open_paths(paths)
            return
        card = self.cards["gather"]
        assert isinstance(card, GatherCard)
        self.work.add_files(paths, group_name=card.target_group())

    # ---- sound

    def _update_programme(self) -> None:
        """Tell the player what is to be heard."""
        self.player.set_programme(self._programmes.now())

    def _hear_at_once(self) -> None:
        """What plays follows a control while it is still being turned: seams are looked for where it plays."""
        looks = self.work.looks
        if self.player.is_playing and (looks.tightened or looks.in_turn):
            self.work.seams.find_nearby(*self.player.ahead_s)

    def _tap_feel(self, which: str) -> None:
        self.work.look(tapping="" if self.work.looks.tapping == which else which)

    def _show_position(self, time_s: float) -> None:
        self.page.set_playhead(time_s, playing=self.player.is_playing)
        self.sections.place_s = time_s

    def _go_to(self, time_s: float) -> None:
        self.player.seek(time_s)
        self.page.show_time(time_s)

    def _loop_selection(self) -> None:
        span = self.work.looks.range_s
        if span is None:
            self.work.tell("Drag over a range on the page first.")
            return
        first, last = (int(float(self.work.session.grid.bar_at(time)) // 1) for time in span)
        self.work.look(loop_bars=(first, last), looping=True)

    # ---- the rest

    def _hear_around(self, time_s: float | None) -> None:
        """Play the loop that is around a moment now from its start; None stops."""
        programme = self._programmes.now()
        if time_s is None or programme.loop is None:
            self.player.stop()
            return
        self.player.seek(programme.loop[0] / programme.rate_hz)
        self.player.play()

    def _hear_chosen(self) -> None:
        """Play around the chosen hit over and over while that is wanted, and only then."""
        looks = self.work.looks
        if looks.around_beats:  # a loop around a stroke goes with the selection, and ends with it
            chosen_s = chosen_moment(self.work)
            if chosen_s is None:
                end_hearing(self.work)
            elif chosen_s != looks.around_s:
                self.work.look(around_s=chosen_s)
                self._hear_around(chosen_s)
            return
        wanted = looks.hit[1] if looks.hearing and looks.hit is not None and looks.step == "hits" else None
        if wanted == looks.around_s:
            return
        self.work.look(around_s=wanted)
        if wanted is not None:
            self._hear_around(wanted)

    def _tap(self) -> None:
        card = self.cards["grid"]
        assert isinstance(card, GridCard)
        if self.work.looks.step == "grid":
            card.tap()

    def _step_reading(self, steps: int) -> None:
        card = self.cards["grid"]
        assert isinstance(card, GridCard)
        if self.work.looks.step == "grid":
            card.step_reading(steps)

    def _bracket(self) -> None:
        for chart in (self.chart, self.levels, self.tempo):
            chart.set_visible_bars(self.page.visible_bars())
        bars = self.page.bars_a_row
        self._zoom_words.setText(f"{bars:g} bar{'s' if bars != 1 else ''} a row")

    def _show_state(self) -> None:
        work = self.work
        if work.folder is not None and work.folder != self._remembered:
            self._remembered = work.folder
            remember_session(work.folder.resolve())
        self._name.setText(self.fontMetrics().elidedText(work.session.name, Qt.TextElideMode.ElideRight, 114))
        self._state.setText(_saved_words(work))
        self.setWindowTitle(f"{work.session.name} — Supple Snare")
        for action, push, word, label in (
            (self._undo, self._undo_button, "Undo", work.history.undo_label),
            (self._redo, self._redo_button, "Redo", work.history.redo_label),
        ):
            action.setEnabled(label is not None)
            action.setText(f"{word}: {label}" if label else word)
            push.setEnabled(label is not None)
            push.setToolTip(f"{word}: {label}" if label else f"Nothing to {word.lower()}")
            push.setAccessibleName(push.toolTip())
        self._stack.setCurrentIndex(STEPS.index(work.looks.step))
        chart = {"hits": self.levels, "grid": self.tempo, "feel": self.feel}.get(work.looks.step, self.chart)
        self._charts.setCurrentWidget(chart)
        self._charts.setFixedHeight(chart.maximumHeight())  # a stack is else as high as the highest of its sheets
        self._loupe_sheet.setVisible(work.looks.loupe)
        self._loupe_button.setChecked(work.looks.loupe)
        self._sheets.setCurrentWidget(self.measures if work.looks.measuring else self.page)
        self._measure_button.setChecked(work.looks.measuring)
        self._legend.setText(legend_of(work))

    def _say_stopped(self) -> None:
        self.work.stop_work()
        self.work.tell("Stopped. F5 goes on with what is missing.")

    def watch(self, faults: Faults) -> None:
        """Tell of what nobody expected, once the work is on disk."""

        def tell(sentence: str) -> None:
            saved = self.work.saving.flush()
            kept = "Your work is saved, and you can go on." if saved else "Save your work in another folder."
            copy = ("Copy the details", "For a report: what happened and where", lambda: _copy(faults.newest))
            self.message.say(f"{sentence} {kept}", True, [copy])

        faults.happened.connect(tell)
        self.work.faulted.connect(faults.take)

    def leave_at_once(self) -> None:
        """Close without a question; what has no folder stays in the shelter."""
        self.work.saving.keep_place()
        self.doors.asks = False
        self.close()

    def _show_keys(self) -> None:
        KeysSheet(self, self._menus.actions).exec()

    def show_first(self) -> None:
        """Show it where it was left; at first, over the whole of a screen that has no room for more."""
        screen = self.screen()
        room = screen.availableSize() if screen is not None else self.size()
        is_small = room.height() < self.height() + _FRAME_PX or room.width() < self.width()
        if is_small and QSettings().value("window/geometry") is None:
            self.showMaximized()
        else:
            self.show()

    def _restore(self) -> None:
        settings = QSettings()
        geometry = settings.value("window/geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
        self.work.look(loupe=settings.value("page/loupe") in (True, "true"))
        bars = settings.value("page/bars_a_row")
        if bars is not None:
            self.page.bars_a_row = min((0.5, 1.0, 2.0, 4.0, 8.0, 16.0), key=lambda b: abs(b - float(bars)))

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if event is not None and not self.doors.may_leave():
            event.ignore()
            return
        settings = QSettings()
        settings.setValue("window/geometry", self.saveGeometry())
        settings.setValue("page/bars_a_row", self.page.bars_a_row)
        settings.setValue("page/loupe", self.work.looks.loupe)
        self.loupe.close_down()
        self.player.close()
        self.work.close()
        super().closeEvent(event)


def _ends_typing(event: QEvent) -> bool:
    field = isinstance(QApplication.focusWidget(), (QLineEdit, QAbstractSpinBox))
    return field and isinstance(event, QKeyEvent) and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)


def _path_of(url: QUrl) -> Path:
    """The path of a local file, also one whose name is no UTF-8, of which `toLocalFile` makes another."""
    encoded = url.path(QUrl.ComponentFormattingOption.FullyEncoded).encode()
    return Path(os.fsdecode(QByteArray.fromPercentEncoding(encoded).data()))


def _copy(text: str) -> None:
    """Put a text where it can be pasted from."""
    clipboard = QApplication.clipboard()
    if clipboard is not None:
        clipboard.setText(text)


def _saved_words(work: Workspace) -> str:
    """Whether the session is on disk, in a few words."""
    if work.saving.problem:
        return "cannot be saved!"
    if work.reads_from is not None:
        return "changes kept apart" if work.is_unsaved else "open for reading"
    if work.folder is None:
        if work.saving.is_slow:
            return "keeping aside …"
        return "empty" if work.session.is_empty else "not saved yet" if work.is_unsaved else "as it came"
    return "saved" if work.is_saved else "saving …"
