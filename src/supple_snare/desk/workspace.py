"""What the window works on: the session with its history, the stages that follow, and what is looked at.

Views read from here and listen to its signals; they change the session only through `do` or a gesture. All of it lives
on the interface thread; long work goes through the job runner and comes back as finished values.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from msgspec import structs
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from supple_snare.demo import GROOVES
from supple_snare.desk import theme
from supple_snare.desk.delay import once_quiet
from supple_snare.desk.hearing import Hearing
from supple_snare.desk.jobs import JobRunner
from supple_snare.desk.looks import Looks
from supple_snare.desk.saving import Saving
from supple_snare.desk.seams import Seams
from supple_snare.desk.slot_weighing import SlotWeighing
from supple_snare.disk.mapped import release_memory
from supple_snare.disk.outputs import WriteGuard
from supple_snare.errors import RecordingChangedError, SessionError, SnareError
from supple_snare.session import edits
from supple_snare.session.document import Group, Session
from supple_snare.session.feels import FeelOf, FeelSeen, see_feel
from supple_snare.session.folder import Opened, SessionFolder, open_history
from supple_snare.session.gathering import FilesRead, gather, read_files
from supple_snare.session.history import History
from supple_snare.session.library import Library, user_folder
from supple_snare.session.listening import Desk, Listening, Which
from supple_snare.session.locks import Holder
from supple_snare.session.open_sessions import files_in_use, paths_of, unsaved_folder
from supple_snare.session.recordings import Now, Trouble, accepted, relocated, with_fingerprints
from supple_snare.session.shelter import Left, Shelter
from supple_snare.session.snapshots import take_snapshot
from supple_snare.session.stages import (
    GroupView,
    Stages,
    Unmeasured,
    change_of_part,
    moves_in,
)
from supple_snare.session.storage import FILE_NAME
from supple_snare.sound.fingerprint import Fingerprint
from supple_snare.sound.stretch.ways import Method
from supple_snare.timing.aim import Aim
from supple_snare.timing.groove import Groove
from supple_snare.timing.notes import NoteChange, Notes
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.tighten import Response
from supple_snare.timing.units import FloatArray

STEPS = ("gather", "grid", "hits", "feel", "tighten", "proof", "hand over")

_SETTLE_MS = 250
"""Seams are looked for when the controls have been quiet for so long."""

_REST_MS = 80
"""Strokes are laid to their slots when a hand that changes hits has been quiet for so long."""

_TIDY_MS = 20_000
"""How often memory is given back to the system."""

_MOST_WORKERS = 3
"""More would leave nothing for the sound and the screen."""


class Workspace(QObject):
    """The one place that holds the state of the window."""

    opened = pyqtSignal()
    """Another session takes the place of the one before."""

    session_changed = pyqtSignal()
    """For those who show the session alone: what is worked out of it follows with `stages_changed`."""

    stages_changed = pyqtSignal()
    """What is worked out is other than it was: after each change of the session, or when a file has been heard."""

    looks_changed = pyqtSignal()
    cuts_changed = pyqtSignal()
    saved_changed = pyqtSignal()
    library_changed = pyqtSignal()
    """The groove library holds something else."""

    hit_wanted = pyqtSignal(int, bool)
    """The next (1) or previous (−1) hit is wanted; a doubtful one if true."""

    hear_wanted = pyqtSignal(object)
    """A loop around a moment (as played) is to be heard; None ends it."""

    went = pyqtSignal(float)
    """A moment (as shown) is to be gone to."""

    troubled = pyqtSignal()
    """Files of the session are missing or were changed, or no longer."""

    faulted = pyqtSignal(object)
    """Something nobody expected went wrong: an exception."""

    told = pyqtSignal(str, bool)
    """A message for the person, and whether it is about something that went wrong."""

    def __init__(self) -> None:
        super().__init__()
        self.jobs = JobRunner(workers=min(_MOST_WORKERS, os.cpu_count() or 1))
        self.stages = Stages()
        self.hearing = Hearing(self.jobs, self.stages)
        self.hearing.heard.connect(self._heard)
        self.hearing.checked.connect(self._checked)
        self.hearing.troubled.connect(self._troubled)
        self.hearing.told.connect(self.told)
        self.hearing.failed.connect(self.tell_error)
        self.slots = SlotWeighing(self.jobs, lambda: self.session, lambda: self.view)
        self.slots.failed.connect(self.tell_error)
        self.stages_changed.connect(self.slots.note)
        self.history = History(Session())
        self.looks = Looks()
        self.saving = Saving(Shelter(unsaved_folder()))
        self.saving.changed.connect(self.saved_changed)
        self.saving.told.connect(self.told)
        self._unchanged: Session | None = self.history.present
        self.reads_from: Path | None = None
        self._looked_nearby = False
        self._gesture: str | None = None
        self._opened_count = 0
        self._measuring: set[tuple[Hashable, ...]] = set()
        self._after_measuring: list[Callable[[], None]] = []
        self.seams = Seams(self.jobs, self.hearing.cache, lambda: self.session, self.view_of)
        self.seams.changed.connect(self.cuts_changed)
        self.seams.failed.connect(self.tell_error)
        self._views: dict[str, tuple[Session, GroupView | None]] = {}
        self.library = Library(user_folder(), GROOVES)
        self.why_no_feel = ""
        self._grooves: list[tuple[Path, Groove]] | None = None
        self._notes: tuple[tuple[GroupView, Session], tuple[Notes, NoteChange]] | None = None
        self._behind: tuple[tuple[object, ...], FloatArray | None] | None = None
        self._feels: tuple[tuple[object, ...], tuple[FeelSeen | None, FeelSeen | None]] | None = None
        self.library_changed.connect(self._forget_grooves)
        self._settled = once_quiet(self, _SETTLE_MS, self._find_seams)
        self._is_of_hits = False
        self._resting = once_quiet(self, _REST_MS, self._catch_up)
        self._tidying = QTimer(self)
        self._tidying.setInterval(_TIDY_MS)
        self._tidying.timeout.connect(lambda: self.jobs.submit("", _tidy, _ignore, _ignore))
        self._tidying.start()

    # ---- the session

    @property
    def session(self) -> Session:
        """The present session."""
        return self.history.present

    @property
    def folder(self) -> Path | None:
        """The session's folder; None while it has none."""
        return self.saving.folder

    @property
    def nearby(self) -> Path:
        """Where a person looks for files first: beside the recordings added last."""
        paths = [*(part.path for part in self.session.parts), *(track.recording.path for track in self.session.tracks)]
        return paths[-1].parent if paths else Path()

    @property
    def is_unsaved(self) -> bool:
        """Whether work would be lost if the session were left: it has no folder, and something was done."""
        return self.folder is None and not self.session.is_empty and self.session != self._unchanged

    @property
    def is_saved(self) -> bool:
        """Whether the present session is on disk."""
        return self.saving.is_saved(self.history)

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

    def begin_gesture(self, *, of_hits: bool = False) -> None:
        """Until `end_gesture`, what is done under one name is one step, as while a handle is dragged.

        If it changes hits, these are shown at once; strokes are laid to their slots when the hand rests.
        """
        self._gesture, self._is_of_hits = "", of_hits

    def end_gesture(self) -> None:
        """The handle was let go."""
        hits_first, self._gesture = self._hits_first, None
        if hits_first:
            self._catch_up()

    @property
    def _hits_first(self) -> bool:
        """Whether hits are shown before their strokes are laid."""
        return self._gesture is not None and self._is_of_hits

    def _catch_up(self) -> None:
        """Lay the strokes of hits that were shown alone: without an earlier view, one is made as a whole."""
        self._resting.stop()
        self._heard()

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

    def go_to_step(self, step: int) -> None:
        """Go to any moment of the history: 0 is the oldest one known."""
        self._gesture = None
        history = self.history.went(step - len(self.history.past))
        if history.present is not self.session:
            self.history = history
            self._session_replaced()

    def open(self, session: Session, listening: Listening | None = None) -> None:
        """Work on another session, which has no folder yet."""
        history = History(session)
        self.saving.begin(None, history)
        self._opened(Opened(history, desk=Desk(listening=listening or Listening())))

    def open_folder(self, path: Path) -> bool:
        """Open a saved session; says so if it cannot be opened, or only for reading."""
        path = path if path.is_dir() else path.parent
        if self.folder is not None and path.resolve() == self.folder.resolve():
            return True
        try:
            opened = open_history(path)
            folder, why = _take(path)
            if folder is not None:
                opened = open_history(path)  # nobody else changes it any more
        except SnareError as error:
            self.tell_problem(str(error))
            return False
        self.saving.begin(folder, opened.history)
        self._opened(opened)
        words = list(opened.words)
        if folder is None:
            self.reads_from = path
            words.append(f"{why}, so it is open for reading: to keep changes, save it in another folder.")
            self.saved_changed.emit()
        if words:
            self.tell("\n".join(words))
        return True

    def _opened(self, opened: Opened) -> None:
        """Show a session and its history from the start, as it was left."""
        session, desk = opened.history.present, opened.desk
        self._opened_count += 1
        self._views.clear()
        self._after_measuring.clear()
        self.history, self._unchanged, self.reads_from = opened.history, session, None
        self._gesture = None
        self.seams.forget()
        self.hearing.begin(self.folder)
        self._looked_nearby = False
        groups = [group.key for group in session.groups]
        group = desk.group if desk.group in groups else "".join(groups[:1])
        step = desk.step if desk.step in STEPS else self.looks.step
        self.looks = replace(
            Looks(group=group, step=step, loupe=self.looks.loupe),
            tightened=desk.tightened,
            loop_bars=desk.loop_bars,
            looping=desk.looping and desk.loop_bars is not None,
            clicking=desk.clicking,
            listening=desk.listening,
        )
        self.opened.emit()
        self._session_replaced()
        self.looks_changed.emit()

    def save(self) -> bool:
        """Write what is not on disk yet, now."""
        return self.saving.flush()

    def save_as(self, path: Path) -> bool:
        """Save to a folder and go on there; says so if that cannot be."""
        try:
            if (path / FILE_NAME).exists():
                raise SessionError(f"{path} holds another session already; choose another name.")
            folder = SessionFolder.take(path)
            if isinstance(folder, Holder):
                raise SessionError(f"{path} is being worked in by {folder.describe()}; choose another folder.")
            self.saving.move(folder, self.history)
        except SnareError as error:
            self.tell_problem(str(error))
            return False
        self.reads_from = None
        self.hearing.cache.beside = path
        self.jobs.submit("Keeping what was heard", lambda _progress: self.hearing.cache.copy_beside(), _ignore, _ignore)
        self.saved_changed.emit()
        return True

    def bring_back(self, left: Left) -> None:
        """Work on a session that was left behind; it has no folder still."""
        try:
            place = SessionFolder.take(left.folder)
            if isinstance(place, Holder):
                raise SessionError(f"It was brought back by {place.describe()} already.")
            opened = open_history(left.folder)
        except SnareError as error:
            self.tell_problem(str(error))
            return
        self.saving.begin(None, opened.history, place=place)
        self._opened(opened)
        self._unchanged = None
        self.saved_changed.emit()

    def close(self) -> None:
        """Stop all work."""
        self._settled.stop()
        self._tidying.stop()
        self.saving.close()
        self.jobs.shut_down()
        self.hearing.cache.prune()

    def tell(self, text: str) -> None:
        """A word to the person."""
        self.told.emit(text, False)

    def tell_problem(self, text: str) -> None:
        """Something went wrong."""
        self.told.emit(text, True)

    def tell_error(self, error: Exception) -> None:
        """The same with an error: one that a person is meant to read, or a fault."""
        if isinstance(error, RecordingChangedError):
            self.hearing.check_again([error.path])
        elif isinstance(error, SnareError):
            self.tell_problem(str(error))
        else:
            self.faulted.emit(error)

    def guard(self, replaceable: Iterable[Path] = ()) -> WriteGuard:
        """What may be written: no recording of any session that is open, and only such files as a person let go."""
        agreed = frozenset(replaceable)
        return WriteGuard((*paths_of(self.session), *(files_in_use() if agreed else ())), agreed)

    # ---- what is looked at

    def look(self, **changes: object) -> None:
        """Change what is looked at."""
        looks = replace(self.looks, **changes)  # type: ignore[arg-type]
        if looks != self.looks:
            regroup = looks.group != self.looks.group
            self.looks = looks
            self.saving.note_desk(looks.left())
            self.looks_changed.emit()
            if regroup:
                self.stages_changed.emit()

    def listen(self, **changes: object) -> None:
        """Change how the session is listened to."""
        self.look(listening=structs.replace(self.looks.listening, **changes))

    def turn_heard(self, what: Which, key: str) -> None:
        """Solo or mute a track or part in this step, or no longer."""
        step, listening = self.looks.step, self.looks.listening
        self.listen(steps=listening.steps | {step: listening.heard_in(step).turned(what, key)})

    @property
    def group(self) -> Group | None:
        """The group on the page."""
        return next((group for group in self.session.groups if group.key == self.looks.group), None)

    @property
    def view(self) -> GroupView | None:
        """Everything that follows from the session for the group on the page; None until it is analysed."""
        return self.view_of(self.group)

    @property
    def scope(self) -> str | None:
        """Key of the section whose settings are changed, if it is there."""
        scope = self.looks.scope
        return scope if any(section.key == scope for section in self.session.sections) else None

    @property
    def response(self) -> Response | None:
        """The response of the group on the page in the scope that is chosen."""
        return None if self.group is None else self.group.settings_in(self.scope).response

    @property
    def method(self) -> Method:
        """How its strokes come to their new places there."""
        return Method.CUT if self.group is None else self.group.settings_in(self.scope).method

    def set_method(self, label: str, method: Method) -> None:
        """Change the method in that scope, as one step."""
        if self.group is not None:
            self.do(label, edits.set_method(self.session, self.group.key, method, section=self.scope))

    @property
    def aim(self) -> Aim:
        """Its aim there."""
        return Aim() if self.group is None else self.group.settings_in(self.scope).aim

    def set_response(self, label: str, response: Response) -> None:
        """Change the response in that scope, as one step."""
        if self.group is not None:
            self.do(label, edits.set_response(self.session, self.group.key, response, section=self.scope))

    def set_aim(self, label: str, aim: Aim) -> None:
        """Change the aim in that scope, as one step.

        Raises
        ------
        UsageError
            If its reference cannot be one.
        """
        if self.group is not None:
            self.do(label, edits.set_aim(self.session, self.group.key, aim, section=self.scope))

    def notes_of(self, view: GroupView) -> tuple[Notes, NoteChange] | None:
        """The notes of a MIDI part and what becomes of them; None for recordings."""
        if view.part is None:
            return None
        depends = (view, self.session)
        if self._notes is None or self._notes[0] != depends:
            self._notes = (depends, (view.part.notes, change_of_part(self.session, view)))
        return self._notes[1]

    def view_of(self, group: Group | None) -> GroupView | None:
        """The same for any group."""
        if group is None:
            return None
        known = self._views.get(group.key)
        if known is None or known[0] is not self.session:
            if not self.stages.is_ready(self.session, group):
                view = None
            elif self._hits_first and known is not None and known[1] is not None:
                view = self.stages.with_hits(known[1], self.session, group)
                self._resting.start()
            else:
                view = self._measured_view(group, None if known is None else known[1])
            known = (self.session, view)
            self._views[group.key] = known
        return known[1]

    def _measured_view(self, group: Group, former: GroupView | None) -> GroupView | None:
        """The view of a group. Where its offsets take long to measure, a worker does it, and until then the former
        view stands, with the hits of today, if it is of the same recordings."""
        waiting = self.stages.unmeasured(self.session, group)
        if waiting is None:
            return self.stages.view(self.session, group)
        self._measure(waiting)
        recordings = [track.recording for track in self.session.tracks_of(group)]
        if former is None or [track.recording for track in former.tracks] != recordings:
            return None
        return self.stages.with_hits(former, self.session, group)

    def _measure(self, waiting: Unmeasured) -> None:
        """Have offsets measured by a worker, once."""
        if waiting.depends in self._measuring:
            return
        self._measuring.add(waiting.depends)

        def measured(offsets: Offsets) -> None:
            self.stages.learn_offsets(waiting, offsets)
            ended()

        def ended() -> None:
            self._measuring.discard(waiting.depends)
            self._heard()
            if not self._measuring:
                acts, self._after_measuring = self._after_measuring, []
                for act in acts:
                    act()

        def failed(error: Exception) -> None:
            self._measuring.discard(waiting.depends)  # or the search for seams would wait for it for ever
            self.tell_error(error)

        job = self.jobs.submit("", lambda _progress: waiting.measure(), measured, failed)
        job.cancelled.connect(ended)

    def moves_behind(self) -> FloatArray | None:
        """Moves of the strokes of the page in the snapshot laid behind them; NaN for strokes it does not have."""
        view, group, name = self.view, self.group, self.looks.behind
        if view is None or group is None or all(name != snapshot.name for snapshot in self.session.snapshots):
            return None
        depends = (self.session, view, name)
        if self._behind is None or self._behind[0] != depends:
            then = take_snapshot(self.session, name)
            there = next((other for other in then.groups if other.key == group.key), None)
            ready = there is not None and self.stages.is_ready(then, there)
            moves = moves_in(self.stages.view(then, there), view.strokes) if ready and there is not None else None
            self._behind = (depends, moves)
        return self._behind[1]

    @property
    def selected(self) -> int | None:
        """Index of the selected stroke on the page."""
        view = self.view
        if view is None or self.looks.selected_s is None or not len(view.strokes):
            return None
        index = int(np.argmin(np.abs(view.strokes.time_s - self.looks.selected_s)))
        return index if abs(view.strokes.time_s[index] - self.looks.selected_s) < 0.02 else None

    # ---- feels

    def grooves(self) -> list[tuple[Path, Groove]]:
        """The templates of the library that can be used."""
        if self._grooves is None:
            self._grooves = [(kept.path, kept.groove) for kept in self.library.all() if kept.groove is not None]
        return self._grooves

    def feels(self) -> tuple[FeelSeen | None, FeelSeen | None]:
        """The feel that is looked at, and the one laid over it; `why_no_feel` tells why there is none."""
        looks, view = self.looks, self.view
        beside = None if looks.feel_beside is None else self._view_beside(looks.feel_beside)
        depends = (self.session, view, looks.feel_of, looks.feel_beside, looks.range_s, beside, id(self._grooves))
        if self._feels is None or self._feels[0] != depends:
            self.why_no_feel = "Nothing measured yet."
            first = None if view is None else self._seen(view, looks.feel_of)
            second = None
            if first is not None and looks.feel_beside is not None and beside is not None:
                second = self._seen(beside, looks.feel_beside)
            self._feels = (depends, (first, second))
        return self._feels[1]

    @property
    def feel_tapped(self) -> FeelSeen | None:
        """The feel that is heard as taps in place of the recordings."""
        if self.looks.step != "feel" or not self.looks.tapping:
            return None
        return self.feels()[0 if self.looks.tapping == "first" else 1]

    def _view_beside(self, of: FeelOf) -> GroupView | None:
        if of.kind != "group":
            return self.view
        return self.view_of(next((group for group in self.session.groups if group.key == of.key), None))

    def _seen(self, view: GroupView, of: FeelOf) -> FeelSeen | None:
        if of.kind == "groove":
            found = [groove for path, groove in self.grooves() if str(path) == of.key]
            self.why_no_feel = "" if found else "This groove is no longer in the library."
            return FeelSeen.of_template(found[0]) if found else None
        try:
            if of.kind == "group":
                return replace(see_feel(self.session, view, FeelOf()), name=view.group.name)
            return see_feel(self.session, view, of, range_s=self.looks.range_s)
        except SnareError as error:
            self.why_no_feel = str(error)
            return None

    def _forget_grooves(self) -> None:
        self._grooves = None

    # ---- work

    def add_files(self, paths: Sequence[Path], *, group_name: str | None = None) -> None:
        """Add recordings and MIDI parts, when a worker has looked at them; what cannot be used is named."""
        self.hearing.is_paused = False

        def add(read: FilesRead) -> None:
            if self._opened_count == opened_count:  # else the session they were for is gone
                self._add(read, group_name)

        opened_count = self._opened_count
        self.jobs.submit("Looking at the files", partial(read_files, list(paths)), add, self.tell_error)

    def _add(self, read: FilesRead, group_name: str | None) -> None:
        found = gather(self.session, read, group_name=group_name)
        for path, notes in found.notes.items():
            self.stages.learn_part(path, notes)
        count = len(found.session.members) - len(self.session.members)
        if found.session != self.session:
            self.do(f"Add {theme.counted(count, 'file')}" if count else "Read the tempo from MIDI", found.session)
        if found.problems:
            self.tell_problem("\n".join(found.problems))
        elif found.tempo_of:
            self.tell(f"{found.tempo_of.name} has no notes: its tempos and meters are the grid now.")

    def when_cut(self, act: Callable[[], None]) -> None:
        """Run something once all seams are found."""
        self._settled.stop()
        self._find_seams(then=act)

    def stop_work(self) -> None:
        """Stop all that runs, and begin nothing new until it is asked for."""
        self.hearing.is_paused = True
        self.jobs.cancel_all()

    def resume(self) -> None:
        """Go on with work that was stopped."""
        self.hearing.is_paused = False
        self.hearing.hear(self.session)
        self._settled.start()

    def _session_replaced(self) -> None:
        if self.group is None:
            group = self.session.groups[0].key if self.session.groups else ""
            self.look(group=group)
        self.hearing.hear(self.session)
        self.session_changed.emit()
        self.stages_changed.emit()
        self.saved_changed.emit()
        self._settled.start()
        if self.history.present != self._unchanged or self.folder is not None:
            self.saving.note(self.history)

    def _heard(self) -> None:
        self._views.clear()
        self.stages_changed.emit()
        self._settled.start()

    def _checked(self, known: dict[Path, Fingerprint]) -> None:
        """A file is the one it should be; what it is known by is no step, so it holds in every session of the past."""
        self._change_all(lambda session: with_fingerprints(session, known))
        self.hearing.hear(self.session)
        self.stages_changed.emit()

    def _troubled(self) -> None:
        """Missing files may have moved with the session: when all are checked, that is looked at first, once."""
        folder = self.folder or self.reads_from
        missing = Trouble.MISSING in self.hearing.troubles.values()
        if missing and folder is not None and not self._looked_nearby and self.hearing.is_all_checked:
            self._looked_nearby = True
            self.find_recordings([folder, folder.parent])
        self.troubled.emit()

    def find_recordings(self, folders: Sequence[Path]) -> None:
        """Look for the files that are missing in folders, and go on with what is found."""
        self.hearing.find(folders, self._found)

    def _found(self, moved: dict[Path, Path]) -> None:
        missing = [path for path, trouble in self.hearing.troubles.items() if trouble is Trouble.MISSING]
        self._change_all(lambda session: relocated(session, moved))
        self.hearing.forget(moved)
        self._session_replaced()
        left = len(missing) - len(moved)
        if moved:
            places = ", ".join(sorted({str(path.parent) for path in moved.values()}))
            rest = f" {_files(left)} still missing." if left else ""
            self.tell(f"{_files(len(moved))} found again in {places}.{rest}")

    def take_changed(self) -> None:
        """Use the files that were changed as they are now."""
        changed = [path for path, trouble in self.hearing.troubles.items() if trouble is Trouble.CHANGED]
        self.hearing.look_again(changed, self._looked_again)

    def _looked_again(self, now: dict[Path, Now]) -> None:
        self._change_all(lambda session: accepted(session, now))
        self.hearing.forget(now)
        self._session_replaced()

    def _change_all(self, change: Callable[[Session], Session]) -> None:
        """A fact about the files, which no undo takes back."""
        history = self.history.changed(change)
        if history.row()[1] == self.history.row()[1]:
            return
        if self._unchanged is not None:
            self._unchanged = change(self._unchanged)
        self.history = history
        self._views.clear()
        if self.folder is not None or self.is_unsaved:
            self.saving.note(self.history)

    def _find_seams(self, then: Callable[[], None] | None = None) -> None:
        self._views.pop(self.looks.group, None)
        if self.view is not None and self._measuring:  # the look at the view has it measured
            self._after_measuring.append(partial(self._find_seams, then))
            return
        if self._resting.isActive():
            self._catch_up()
        self.seams.find(then)


def _take(path: Path) -> tuple[SessionFolder | None, str]:
    """The folder of a session to write into, or why it can only be read."""
    try:
        taken = SessionFolder.take(path)
    except SnareError:
        return None, f"Its folder {path} may not be written"
    if isinstance(taken, Holder):
        return None, f"It is being worked on by {taken.describe()}"
    return taken, ""


def _tidy(_progress: object) -> None:
    """Give back memory that was looked at or freed; on a worker, since it takes some ms."""
    release_memory()


def _ignore(_result: object) -> None:
    """Nobody waits for it."""


def _files(count: int) -> str:
    """So many recordings, with their verb."""
    return f"{count} recording{' was' if count == 1 else 's were'}"
