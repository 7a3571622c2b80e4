"""What the window works on: the session with its history, the stages that follow, and what is looked at.

Views read from here and listen to its signals; they change the session only through `do` or a gesture. All of it lives
on the interface thread; long work goes through the job runner and comes back as finished values.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from supple_snare.desk.jobs import Job, JobRunner
from supple_snare.errors import SnareError
from supple_snare.exchange.midi import MIDI_SUFFIXES, read_notes
from supple_snare.session import edits
from supple_snare.session.document import Group, Part, Session
from supple_snare.session.doubts import Doubt, stroke_doubts
from supple_snare.session.history import History
from supple_snare.session.stages import GroupView, Stages, cut_group, part_of
from supple_snare.session.storage import load_session, save_session
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.cut import Cut
from supple_snare.sound.ear import Ear
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording
from supple_snare.timing.tighten import Plan

STEPS = ("gather", "grid", "hits", "feel", "tighten", "proof", "hand over")

_SETTLE_MS = 250
"""Seams are looked for when the controls have been quiet for so long."""

_SAVE_MS = 800


@dataclass(frozen=True)
class Looks:
    """What is looked at; not part of the session, and not undone.

    Attributes
    ----------
    step : str
    group : str
        Key of the group on the page, "" if there is none.
    track : str
        Key of the track whose hits are mended, "" for the first lead.
    tightened : bool
        Which version is shown and heard.
    selected_s : float or None
        Time of the selected stroke.
    hit : (str, float) or None
        Track and time of the chosen hit.
    hearing : bool
        Whether a chosen hit is heard at once, in a short loop.
    around_s : float or None
        Moment (as played) around which a short loop plays; it goes before the loop of bars.
    loupe : bool
        Whether the loupe is open.
    measuring : bool
        Whether measurements stand in place of the page.
    range_s : (float, float) or None
        Selected stretch of time as played.
    loop_bars : (int, int) or None
        First and last bar of the loop.
    looping : bool
    clicking : bool
    click_db : float
    """

    step: str = "gather"
    group: str = ""
    track: str = ""
    tightened: bool = True
    selected_s: float | None = None
    hit: tuple[str, float] | None = None
    hearing: bool = False
    around_s: float | None = None
    loupe: bool = False
    measuring: bool = False
    range_s: tuple[float, float] | None = None
    loop_bars: tuple[int, int] | None = None
    looping: bool = False
    clicking: bool = False
    click_db: float = -12.0

    @property
    def shows_moves(self) -> bool:
        """Whether this step is about what becomes of the strokes, so that both versions are shown."""
        return self.step in ("tighten", "proof", "hand over")


class Workspace(QObject):
    """The one place that holds the state of the window."""

    session_changed = pyqtSignal()
    looks_changed = pyqtSignal()
    stages_changed = pyqtSignal()
    cuts_changed = pyqtSignal()
    saved_changed = pyqtSignal()
    hit_wanted = pyqtSignal(int, bool)
    """The next (1) or previous (−1) hit is wanted; a doubtful one if true."""

    went = pyqtSignal(float)
    """A moment (as shown) is to be gone to."""

    told = pyqtSignal(str, bool)
    """A message for the person, and whether it is about something that went wrong."""

    def __init__(self) -> None:
        super().__init__()
        self.jobs = JobRunner()
        self.stages = Stages()
        self.history = History(Session())
        self.looks = Looks()
        self.folder: Path | None = None
        self._saved: Session | None = self.history.present
        self._gesture: str | None = None
        self._cuts: dict[str, tuple[Plan, Cut]] = {}
        self._doubts: dict[str, tuple[GroupView, Cut | None, list[list[Doubt]]]] = {}
        self._cut_job: Job | None = None
        self._views: dict[str, tuple[Session, GroupView | None]] = {}
        self._analysing: set[Ear] = set()
        self._settled = self._delay(_SETTLE_MS, self._find_seams)
        self._save_soon = self._delay(_SAVE_MS, self.save)

    def _delay(self, milliseconds: int, act: Callable[[], None]) -> QTimer:
        """A timer that acts once when nothing has restarted it for a while."""
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.setInterval(milliseconds)
        timer.timeout.connect(act)
        return timer

    # ---- the session

    @property
    def session(self) -> Session:
        """The present session."""
        return self.history.present

    @property
    def is_saved(self) -> bool:
        """Whether the present session is on disk."""
        return self._saved == self.session

    def do(self, label: str, session: Session) -> None:
        """One step that can be undone. Inside a gesture, all steps of the same name are one."""
        if session == self.session:
            return
        if self._gesture == label:
            self.history = self.history.amend(session)
        else:
            self.history = self.history.step(label, session)
            self._gesture = label if self._gesture == "" else None
        self._session_replaced()

    def begin_gesture(self) -> None:
        """Until `end_gesture`, what is done under one name is one step, as while a handle is dragged."""
        self._gesture = ""

    def end_gesture(self) -> None:
        """The handle was let go."""
        self._gesture = None

    def undo(self) -> None:
        """Take the last step back."""
        self._gesture = None
        self.history = self.history.undo()
        self._session_replaced()

    def redo(self) -> None:
        """Bring an undone step again."""
        self._gesture = None
        self.history = self.history.redo()
        self._session_replaced()

    def open(self, session: Session, folder: Path | None) -> None:
        """Work on another session."""
        self._save_now_if_needed()
        self.history = History(session)
        self.folder = folder
        self._saved = session if folder is not None or not session.tracks else None
        self._cuts.clear()
        group = session.groups[0].key if session.groups else ""
        self.looks = Looks(group=group, step=self.looks.step, loupe=self.looks.loupe)
        self._session_replaced()
        self.looks_changed.emit()

    def open_folder(self, path: Path) -> bool:
        """Open a saved session; says so if it cannot be opened."""
        try:
            session = load_session(path)
        except SnareError as error:
            self.tell_problem(str(error))
            return False
        self.open(session, path if path.is_dir() else path.parent)
        return True

    def save(self) -> None:
        """Save to the session's folder, if it has one."""
        if self.folder is None or self.is_saved:
            return
        session = self.session
        try:
            save_session(session, self.folder)
        except SnareError as error:
            self.tell_problem(str(error))
            return
        self._saved = session
        self.saved_changed.emit()

    def save_as(self, folder: Path) -> bool:
        """Save to a folder and go on there."""
        try:
            save_session(self.session, folder)
        except SnareError as error:
            self.tell_problem(str(error))
            return False
        self.folder = folder
        self._saved = self.session
        self.saved_changed.emit()
        return True

    def close(self) -> None:
        """Stop all work."""
        self._settled.stop()
        self._save_now_if_needed()
        self.jobs.shut_down()

    def tell(self, text: str) -> None:
        """A word to the person."""
        self.told.emit(text, False)

    def tell_problem(self, text: str) -> None:
        """Something went wrong."""
        self.told.emit(text, True)

    # ---- what is looked at

    def look(self, **changes: object) -> None:
        """Change what is looked at."""
        looks = replace(self.looks, **changes)  # type: ignore[arg-type]
        if looks != self.looks:
            regroup = looks.group != self.looks.group
            self.looks = looks
            self.looks_changed.emit()
            if regroup:
                self.stages_changed.emit()

    @property
    def group(self) -> Group | None:
        """The group on the page."""
        return next((group for group in self.session.groups if group.key == self.looks.group), None)

    @property
    def view(self) -> GroupView | None:
        """Everything that follows from the session for the group on the page; None until it is analysed."""
        return self.view_of(self.group)

    def view_of(self, group: Group | None) -> GroupView | None:
        """The same for any group."""
        if group is None:
            return None
        known = self._views.get(group.key)
        if known is None or known[0] is not self.session:
            ready = self.stages.is_ready(self.session, group)
            known = (self.session, self.stages.view(self.session, group) if ready else None)
            self._views[group.key] = known
        return known[1]

    @property
    def selected(self) -> int | None:
        """Index of the selected stroke on the page."""
        view = self.view
        if view is None or self.looks.selected_s is None or not len(view.strokes):
            return None
        index = int(np.argmin(np.abs(view.strokes.time_s - self.looks.selected_s)))
        return index if abs(view.strokes.time_s[index] - self.looks.selected_s) < 0.02 else None

    # ---- work

    def add_files(self, paths: Sequence[Path], *, group_name: str | None = None) -> None:
        """Add recordings and MIDI parts; files that cannot be used are named, the others are taken."""
        recordings, problems = [], []
        session = self.session
        for path in paths:
            try:
                if path.suffix.lower() in MIDI_SUFFIXES:
                    read_notes(path)
                    session = edits.add_part(session, Part(edits.readable_name(path), path.resolve()))
                else:
                    recordings.append(read_recording(path.resolve()))
            except SnareError as error:
                problems.append(str(error))
        try:
            session = edits.add_recordings(session, recordings, group_name=group_name)
        except SnareError as error:
            problems.append(str(error))
        count = len(session.tracks) - len(self.session.tracks) + len(session.parts) - len(self.session.parts)
        if count:
            self.do(f"Add {count} file{'s' if count > 1 else ''}", session)
        if problems:
            self.tell_problem("\n".join(problems))

    def cut_of(self, group: Group) -> Cut | None:
        """The seams of a group, if they are known for its present plan."""
        known = self._cuts.get(group.key)
        view = self.view_of(group)
        return known[1] if known and view is not None and known[0] is view.plan else None

    def doubts_of(self, group: Group) -> list[list[Doubt]]:
        """The doubts of every stroke of a group; none while it is not analysed."""
        view, cut = self.view_of(group), self.cut_of(group)
        if view is None:
            return []
        known = self._doubts.get(group.key)
        if known is None or known[0] is not view or known[1] is not cut:
            known = (view, cut, stroke_doubts(view, cut))
            self._doubts[group.key] = known
        return known[2]

    def edits_of(self, group: Group) -> EditList:
        """The newest known edit list of a group: while seams are looked for, the one before."""
        known = self._cuts.get(group.key)
        return known[1].edits if known else EditList.identity()

    def when_cut(self, act: Callable[[], None]) -> None:
        """Run something once all seams are found."""
        self._settled.stop()
        self._find_seams(then=act)

    def resume(self) -> None:
        """Go on with work that was stopped."""
        self._analyse_missing()
        self._settled.start()

    def _session_replaced(self) -> None:
        if self.group is None:
            group = self.session.groups[0].key if self.session.groups else ""
            self.look(group=group)
        self._analyse_missing()
        self.session_changed.emit()
        self.stages_changed.emit()
        self.saved_changed.emit()
        self._settled.start()
        if self.folder is not None:
            self._save_soon.start()

    def _analyse_missing(self) -> None:
        for track, ear in self.stages.missing(self.session, self.session.tracks):
            if ear not in self._analysing:
                self._analysing.add(ear)
                job = self.jobs.submit(
                    f"Listening to {track.name}",
                    partial(analyse, ear),
                    partial(self._analysed, ear),
                    partial(self._analysis_failed, ear),
                )
                job.cancelled.connect(partial(self._analysing.discard, ear))

    def _analysed(self, ear: Ear, analysis: Analysis) -> None:
        self._analysing.discard(ear)
        self.stages.learn(ear, analysis)
        self._views.clear()
        if analysis.is_silent:
            names = " and ".join(recording.path.name for recording in ear.recordings)
            self.tell(f"{names} is silent.")
        self.stages_changed.emit()
        self._settled.start()

    def _analysis_failed(self, ear: Ear, error: Exception) -> None:
        self._analysing.discard(ear)
        self.tell_problem(str(error))

    def _find_seams(self, then: Callable[[], None] | None = None) -> None:
        """Look for the seams of every group whose plan changed."""
        if self._cut_job is not None:
            self._cut_job.cancel()
        session = self.session
        wanted = []
        for group in session.groups:
            view = self.view_of(group)
            known = self._cuts.get(group.key)
            if view is not None and (known is None or known[0] is not view.plan):
                wanted.append(view)
        if not wanted:
            if then is not None:
                then()
            return

        def work(progress: Callable[[float], None]) -> list[tuple[GroupView, Cut]]:
            return [
                (view, cut_group(session, view, part_of(progress, number, len(wanted))))
                for number, view in enumerate(wanted)
            ]

        def done(found: list[tuple[GroupView, Cut]]) -> None:
            self._cuts |= {view.group.key: (view.plan, cut) for view, cut in found}
            self.cuts_changed.emit()
            if then is not None:
                then()

        self._cut_job = self.jobs.submit("Finding seams", work, done, lambda error: self.tell_problem(str(error)))

    def _save_now_if_needed(self) -> None:
        if self._save_soon.isActive():
            self._save_soon.stop()
            self.save()


def with_name(session: Session, name: str) -> Session:
    """The session under another name."""
    return msgspec.structs.replace(session, name=name)
