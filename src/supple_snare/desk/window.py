"""The window: steps above, cast on the left, page and lean chart in the middle, card on the right, transport below."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings, Qt
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PyQt6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from supple_snare.desk import hit_tools, stroke_tools
from supple_snare.desk.cards.base import Card
from supple_snare.desk.cards.gather import GatherCard
from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.cards.handover import HandOverCard
from supple_snare.desk.cards.hits import HitsCard
from supple_snare.desk.cards.summaries import FeelCard, ProofCard
from supple_snare.desk.cards.tighten import TightenCard, hold_selection, release_selection
from supple_snare.desk.cast import Cast
from supple_snare.desk.controls import button, sheet, soft
from supple_snare.desk.lean_chart import LeanChart
from supple_snare.desk.level_chart import LevelChart
from supple_snare.desk.loupe import Loupe
from supple_snare.desk.measure_sheet import MeasureSheet
from supple_snare.desk.page import Page
from supple_snare.desk.player import Player, Programme
from supple_snare.desk.section_menu import SectionButton, draw_selection, split_here
from supple_snare.desk.steps import StepsBar
from supple_snare.desk.tempo_chart import TempoChart
from supple_snare.desk.transport import Transport
from supple_snare.desk.work_strip import WorkStrip
from supple_snare.desk.workspace import STEPS, Workspace
from supple_snare.session.document import Session
from supple_snare.sound.editlist import EditList
from supple_snare.sound.mixing import Click, MixTrack
from supple_snare.timing.units import db_to_amplitude

_CARDS: dict[str, type[Card]] = {
    "gather": GatherCard,
    "grid": GridCard,
    "hits": HitsCard,
    "feel": FeelCard,
    "tighten": TightenCard,
    "proof": ProofCard,
    "hand over": HandOverCard,
}


_HEAR_BEFORE_S, _HEAR_AFTER_S = 0.25, 0.45
"""The short loop around a chosen hit."""


class Window(QMainWindow):
    """The main window."""

    def __init__(self, workspace: Workspace | None = None, player: Player | None = None) -> None:
        super().__init__()
        self.work = workspace or Workspace()
        self.player = player or Player()
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self._build()
        self._build_actions()
        work, player = self.work, self.player
        self.page.placed.connect(self.player.seek)
        self.chart.placed.connect(self._go_to)
        self.levels.placed.connect(self._go_to)
        self.tempo.placed.connect(self._go_to)
        work.went.connect(self._go_to)
        work.hit_wanted.connect(self._step_hit)
        self.page.scrolled.connect(self._bracket)
        self.page.bars_a_row_changed.connect(self._bracket)
        player.position_changed.connect(self._show_position)
        player.failed.connect(work.tell_problem)
        work.told.connect(self._show_message)
        work.looks_changed.connect(self._hear_chosen)
        for signal in (work.session_changed, work.stages_changed, work.looks_changed, work.cuts_changed):
            signal.connect(self._update_programme)
        for signal in (work.session_changed, work.saved_changed, work.looks_changed):
            signal.connect(self._show_state)
        work.stages_changed.connect(self._bracket)
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
        column.addWidget(self._message_bar())
        column.addLayout(body, 1)
        column.addWidget(self.transport)
        self.setCentralWidget(root)

    def _middle(self) -> QVBoxLayout:
        """Page, loupe and chart, one above the other."""
        page_sheet, page_column = sheet(margins=4)
        page_column.addWidget(self._page_head())
        self._sheets = QStackedWidget()
        self._sheets.addWidget(self.page)
        self._sheets.addWidget(self.measures)
        page_column.addWidget(self._sheets, 1)
        chart_sheet, chart_column = sheet(margins=2)
        self._charts = QStackedWidget()
        self._charts.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._charts.addWidget(self.chart)
        self._charts.addWidget(self.levels)
        self._charts.addWidget(self.tempo)
        chart_column.addWidget(self._charts)
        self._loupe_sheet, loupe_column = sheet(margins=2)
        loupe_column.addWidget(self.loupe)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        middle.addWidget(page_sheet, 1)
        middle.addWidget(self._loupe_sheet)
        middle.addWidget(chart_sheet)
        return middle

    def _top(self) -> QWidget:
        top = QFrame()
        row = QHBoxLayout(top)
        row.setContentsMargins(12, 0, 10, 0)
        row.setSpacing(4)
        self._menu_button = QToolButton()
        self._menu_button.setObjectName("plain")
        self._menu_button.setText("Session ▾")
        self._menu_button.setToolTip("New, open, save, edit, keys (F10)")
        self._menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
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
        row.addWidget(self._menu_button)
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

    def _message_bar(self) -> QWidget:
        self._message = QFrame()
        self._message.setStyleSheet("QFrame { background: #F6DFD3; } QLabel { color: #5E1D10; }")
        row = QHBoxLayout(self._message)
        row.setContentsMargins(14, 6, 10, 6)
        self._message_words = QLabel()
        self._message_words.setWordWrap(True)
        self._message_words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self._message_words, 1)
        close = button("Close", "Close this message (Esc)")
        close.clicked.connect(self._message.hide)
        row.addWidget(close)
        self._message.hide()
        return self._message

    def _build_actions(self) -> None:
        work = self.work
        menu = QMenu(self)
        self._menu_button.setMenu(menu)

        def act(text: str, slot: Callable[..., object], *keys: str) -> QAction:
            action = self._act(text, slot, *keys)
            menu.addAction(action)
            return action

        act("New session", self._new, "Ctrl+N")
        act("Open a session …", self._open, "Ctrl+O")
        act("Open the demo", self._open_demo)
        act("Save", self.save, "Ctrl+S")
        act("Save in another folder …", self._save_as, "Ctrl+Shift+S")
        menu.addSeparator()
        act("Add recordings …", self._add_files, "Ctrl+I")
        menu.addSeparator()
        self._undo = act("Undo", work.undo, "Ctrl+Z")
        self._redo = act("Redo", work.redo, "Ctrl+Shift+Z", "Ctrl+Y")
        self._undo_button.clicked.connect(work.undo)
        self._redo_button.clicked.connect(work.redo)
        act("Hold the selection", lambda: hold_selection(work), "H")
        act("Release the selection", lambda: release_selection(work), "Shift+H")
        act("Lock strokes to their slots", lambda: stroke_tools.lock_slots(work), "G")
        act("Free the slots of strokes", lambda: stroke_tools.release_slots(work), "Shift+G")
        act("Remove hits", lambda: self._mend(hit_tools.remove_hits), "Delete", "Backspace")
        act("Count bleed as played", lambda: self._mend(hit_tools.promote_hits), "Return", "Enter")
        act("Restore hits as found", lambda: self._mend(hit_tools.restore_hits), "R")
        act("Make the range a section …", lambda: draw_selection(work, self), "Ctrl+K")
        act("Split a section at the playhead", lambda: split_here(work, self.player.position_s), "K")
        act("Loop the selection", self._loop_selection, "Shift+L")
        act("Go on with stopped work", work.resume, "F5")
        act("Tick this step off", lambda: self.steps.tick(work.looks.step), "Ctrl+T")
        menu.addSeparator()
        act("Keys and legend", self._show_keys, "F1")
        act("Quit", self.close, "Ctrl+Q")
        self._build_keys()

    def _act(self, text: str, slot: Callable[..., object], *keys: str) -> QAction:
        """Something that can be done anywhere in the window."""
        action = QAction(text, self)
        action.setShortcuts([QKeySequence(key) for key in keys])
        action.triggered.connect(slot)
        self.addAction(action)
        return action

    def _build_keys(self) -> None:
        """What has a key and no place in the menu."""
        work, page = self.work, self.page
        self._act("Play or stop", self.transport.toggle_play, "Space")
        self._act("Other version", lambda: work.look(tightened=not work.looks.tightened), "A")
        self._act("Click", lambda: work.look(clicking=not work.looks.clicking), "C")
        self._act("Loop", self.transport.loop.toggle, "L")
        self._act("To the start", lambda: self._go_to(0.0), "Home")
        self._act("Next stroke or hit", lambda: self._step(1), "N")
        self._act("Previous stroke or hit", lambda: self._step(-1), "P")
        self._act("Next doubtful hit", lambda: self._step_hit(1, True), "D")
        self._act("Previous doubtful hit", lambda: self._step_hit(-1, True), "Shift+D")
        self._act("Measure", lambda: work.look(measuring=not work.looks.measuring), "M")
        self._act("Loupe", lambda: work.look(loupe=not work.looks.loupe), "O")
        for keys, by_ms in (("Alt+Right", 1.0), ("Alt+Left", -1.0), ("Alt+Shift+Right", 0.0), ("Alt+Shift+Left", -0.0)):
            self._act("Nudge the hit", partial(self._nudge, by_ms, -1 if "Left" in keys else 1), keys)
        self._act("Tap the tempo", self._tap, "T")
        self._act("Next tempo found", lambda: self._step_reading(1), "]")
        self._act("Previous tempo found", lambda: self._step_reading(-1), "[")
        self._act("Stroke one slot later", lambda: stroke_tools.move_slots(work, 1), "Shift+Right")
        self._act("Stroke one slot earlier", lambda: stroke_tools.move_slots(work, -1), "Shift+Left")
        self._act("Fewer bars a row", lambda: page.zoom(1), "Ctrl++", "Ctrl+=")
        self._act("More bars a row", lambda: page.zoom(-1), "Ctrl+-")
        self._act("Close the message", self._message.hide, "Escape")
        self._act("Menu", self._menu_button.showMenu, "F10")
        for number, step in enumerate(STEPS, 1):
            self._act(step, lambda _on=False, s=step: work.look(step=s), f"Ctrl+{number}")

    # ---- session

    def open_paths(self, paths: list[Path]) -> None:
        """A session folder, or recordings as a new session."""
        folders = [path for path in paths if path.is_dir() or path.name.endswith(".json")]
        if folders:
            self.work.open_folder(folders[0])
            return
        name = paths[0].resolve().parent.name if paths else "New session"
        self.work.open(Session(name=name), None)
        self.work.add_files(paths, group_name="Group 1")

    def _new(self) -> None:
        if self._may_leave():
            self.work.open(Session(), None)
            self.work.look(step="gather")

    def _open(self) -> None:
        if self._may_leave():
            folder = QFileDialog.getExistingDirectory(self, "Open a session folder")
            if folder:
                self.work.open_folder(Path(folder))

    def _open_demo(self) -> None:
        if self._may_leave():
            from supple_snare.demo.session import demo_session

            self.work.open(demo_session(), None)

    def save(self) -> bool:
        """Save; ask for a folder the first time."""
        if self.work.folder is None:
            return self._save_as()
        self.work.save()
        return self.work.is_saved

    def _save_as(self) -> bool:
        folder = QFileDialog.getExistingDirectory(self, "An empty folder for the session")
        if not folder:
            return False
        target = Path(folder)
        if any(target.iterdir()) and not (target / "session.json").exists():
            target = target / (self.work.session.name or "session")
        return self.work.save_as(target)

    def _may_leave(self) -> bool:
        """Whether the present session may be left: saved, unchanged, or given up."""
        work = self.work
        if work.folder is not None or not work.history.past:
            return True
        box = QMessageBox(
            QMessageBox.Icon.Question, "Keep this session?", "This session was never saved. Keep it?", parent=self
        )
        keep = box.addButton("Save it …", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Give it up", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay here", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is keep:
            return self.save()
        return box.clickedButton() is drop

    def _add_files(self) -> None:
        self.work.look(step="gather")
        card = self.cards["gather"]
        assert isinstance(card, GatherCard)
        card.choose_files()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is None:
            return
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        if any(path.is_dir() for path in paths):
            if self._may_leave():
                self.open_paths(paths)
            return
        card = self.cards["gather"]
        assert isinstance(card, GatherCard)
        self.work.add_files(paths, group_name=card.target_group())

    # ---- sound

    def _update_programme(self) -> None:
        """Tell the player what is to be heard."""
        work = self.work
        session, looks = work.session, work.looks
        soloed = any(track.soloed for track in session.tracks)
        tracks = []
        for group in session.groups:
            edits = work.edits_of(group)
            for track in session.tracks_of(group):
                heard = track.soloed if soloed else not track.muted
                tracks.append(MixTrack(track.recording, edits, db_to_amplitude(track.level_db) if heard else 0.0))
        rate, grid = session.rate_hz, session.grid
        loop = None
        if looks.looping and looks.loop_bars is not None:
            first, last = looks.loop_bars
            loop = (round(float(grid.bar_time_s(first)) * rate), round(float(grid.bar_time_s(last + 1)) * rate))
        if looks.around_s is not None:
            place = round(looks.around_s * rate)
            if looks.tightened and work.group is not None:
                place = int(work.edits_of(work.group).result_of(place))
            loop = (max(0, place - round(_HEAR_BEFORE_S * rate)), place + round(_HEAR_AFTER_S * rate))
        self.player.set_programme(
            Programme(
                tracks=tuple(tracks),
                rate_hz=rate,
                frames=max((track.recording.frames for track in session.tracks), default=0),
                click=Click(grid, looks.click_db) if looks.clicking else None,
                lead_edits=work.edits_of(work.group) if work.group else EditList.identity(),
                tightened=looks.tightened,
                loop=loop,
            )
        )

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

    def _mend(self, deed: Callable[[Workspace], None]) -> None:
        if self.work.looks.step == "hits":
            deed(self.work)
        elif self.work.selected is not None:
            self.work.tell("Hits are mended in the Hits step (Ctrl+3); H holds a stroke as played.")

    def _nudge(self, by_ms: float, direction: int) -> None:
        """By so many ms, or by one sample."""
        if self.work.looks.step == "hits":
            hit_tools.nudge_hit(self.work, by_ms / 1000.0 if by_ms else direction / self.work.session.rate_hz)

    def _step(self, steps: int) -> None:
        """To the next stroke, or in the Hits step to the next hit of the chosen track."""
        if self.work.looks.step == "hits":
            self._step_hit(steps, False)
        else:
            self.page.step_stroke(steps)

    def _step_hit(self, steps: int, doubtful: bool) -> None:
        time_s = hit_tools.step_hit(self.work, steps, doubtful=doubtful)
        if time_s is None:
            self.work.tell("There is no doubtful hit." if doubtful else "There are no hits on this track.")
            return
        self.page.show_time(time_s)
        if not self.work.looks.hearing:
            self.player.seek(time_s)

    def _hear_chosen(self) -> None:
        """Play around the chosen hit over and over while that is wanted, and only then."""
        looks = self.work.looks
        wanted = looks.hit[1] if looks.hearing and looks.hit is not None and looks.step == "hits" else None
        if wanted == looks.around_s:
            return
        self.work.look(around_s=wanted)
        if wanted is not None:
            self.player.seek(max(0.0, wanted - _HEAR_BEFORE_S))
            self.player.play()

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
        self._name.setText(self.fontMetrics().elidedText(work.session.name, Qt.TextElideMode.ElideRight, 114))
        if work.is_saved:
            state = "saved" if work.folder else "empty"
        else:
            state = "saving …" if work.folder else "not saved yet"
        self._state.setText(state)
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
        self._charts.setCurrentWidget({"hits": self.levels, "grid": self.tempo}.get(work.looks.step, self.chart))
        self._loupe_sheet.setVisible(work.looks.loupe)
        self._loupe_button.setChecked(work.looks.loupe)
        self._sheets.setCurrentWidget(self.measures if work.looks.measuring else self.page)
        self._measure_button.setChecked(work.looks.measuring)
        legend = "Pegs lean left: early, right: late; 10 ms = 15°."
        if work.looks.step == "hits":
            legend = "● played  • ghost note  ○ bleed  ⁄ grace  | in a roll  × removed  – by hand"
        elif work.looks.step == "grid":
            legend = "Drag bar 1 or a later line onto its hit; Shift pins it (◆)."
        if work.looks.measuring:
            legend = "Choose a row to go there; hover over the picture for numbers."
        self._legend.setText(legend)

    def _say_stopped(self) -> None:
        self.work.tell("Stopped. F5 goes on with what is missing.")

    def _show_message(self, text: str, problem: bool) -> None:
        self._message.setStyleSheet(
            "QFrame { background: #F6DFD3; } QLabel { color: #5E1D10; }"
            if problem
            else "QFrame { background: #EFE3C4; } QLabel { color: #2A2A32; }"
        )
        self._message_words.setText(text)
        self._message.show()

    def _show_keys(self) -> None:
        QMessageBox.information(self, "Keys and legend", _KEYS)

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
        if event is not None and not self._may_leave():
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


_KEYS = """Space — play or stop          A — as played / tightened
C — click          L — loop          Shift+L — loop the selection
N, P or → ← — next, previous stroke          ↑ ↓ — a row up, down
H — hold the selection as played          Shift+H — release it
O — loupe          M — measurements          K — split a section here          Ctrl+K — make the range a section
In Grid: T — tap          [, ] — previous, next tempo found          double-click a pinned line to let it go
Shift+← → — the stroke, or all in the range, one slot earlier or later          G, Shift+G — lock, free its slot
In Hits: N, P — next, previous hit          D, Shift+D — next, previous doubtful hit
Delete, Return, R — remove, count as played, restore as found: the chosen hit, or all in the range
Alt+← → — move the hit by 1 ms, with Shift by 1 sample
Ctrl+1 … Ctrl+7 — the steps          Ctrl+T — tick the step off
Ctrl++ / Ctrl+− or Ctrl+wheel — fewer, more bars a row
Ctrl+Z / Ctrl+Shift+Z — undo, redo          Ctrl+S — save

Each peg is one stroke, standing at its slot. It leans left for early, right for late, 15 degrees for 10 ms; \
a square head leans farther than can be drawn. Pegs of the first lead stand above the line, all others below. \
A flag above a stroke is a doubt; a square foot is a held stroke; \
a bar under it a slot given by hand; the little ticks are the other leads' hits."""
