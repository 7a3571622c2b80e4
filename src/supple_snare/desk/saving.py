"""Saving: every change is on disk within a second, written on a thread of its own.

At most one write is under way; when it ends, the newest history is written, and those between are not. So however slow
the disk is, nothing queues up, and closing takes the rest of one write and one more.

A session is written into its folder; while it has none, or that cannot be written, into a place of the shelter, from
which the next start brings it back. Lives on the interface thread; only `SessionFolder.write` runs elsewhere.
"""

from __future__ import annotations

import contextlib
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from supple_snare.errors import SnareError
from supple_snare.session.folder import SessionFolder
from supple_snare.session.history import History
from supple_snare.session.listening import Desk
from supple_snare.session.shelter import Shelter

_SOON_MS = 400
_AGAIN_MS = 5_000
_DESK_MS = 3_000
_SLOW_MS = 1_000
"""A write that takes longer is told."""


class Saving(QObject):
    """Where the present session is kept, and whether it is."""

    changed = pyqtSignal()
    told = pyqtSignal(str, bool)
    """What a person should know, and whether something went wrong."""

    _written = pyqtSignal(object)

    def __init__(self, shelter: Shelter) -> None:
        super().__init__()
        self.shelter = shelter
        self._folder: SessionFolder | None = None
        self._place: SessionFolder | None = None
        self._history: History | None = None
        self._saved: History | None = None
        self._problem = ""
        self._is_closed = False
        self._writing: tuple[Future[None], History | None] | None = None
        """The write under way: of a history with the desk, or of the desk alone."""

        self._is_behind = False
        """Whether something newer waits for the write to end."""
        self._writer = ThreadPoolExecutor(max_workers=1, thread_name_prefix="saving")
        self._written.connect(self._settle)
        self._desk: Desk | None = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._write)
        self._slow = QTimer(self)
        self._slow.setSingleShot(True)
        self._slow.setInterval(_SLOW_MS)
        self._slow.timeout.connect(self.changed)

    @property
    def is_slow(self) -> bool:
        """Whether a write has been under way for so long that a person should know."""
        return self._writing is not None and not self._slow.isActive()

    @property
    def folder(self) -> Path | None:
        """The session's folder; None while it has none."""
        return None if self._folder is None else self._folder.path

    @property
    def is_waiting(self) -> bool:
        """Whether something is about to be written."""
        return self._soon.isActive() or self._writing is not None

    @property
    def problem(self) -> str:
        """Why the folder cannot be written, "" if it can."""
        return self._problem

    def is_saved(self, history: History) -> bool:
        """Whether a history has reached the disk, in the session's own folder or, without one, in the shelter."""
        return self._saved is not None and self._saved.present == history.present

    def begin(self, folder: SessionFolder | None, history: History, *, place: SessionFolder | None = None) -> None:
        """Go on with another session, kept in a folder, in a place of the shelter, or nowhere yet."""
        self.finish()
        self._folder, self._place = folder, place
        self._history = self._saved = history
        self._desk = None
        self.changed.emit()

    def move(self, folder: SessionFolder, history: History) -> None:
        """Keep the session in another folder from now on.

        Raises
        ------
        SessionError
            If it cannot be written there; it stays where it was.
        """
        self.flush()
        try:
            folder.write(history, self._desk)
        except SnareError:
            folder.release()
            raise
        self._leave_place()
        if self._folder is not None:
            self._folder.release()
        self._folder, self._problem = folder, ""
        self._history = self._saved = history
        self.changed.emit()

    def note(self, history: History) -> None:
        """The session has changed: it is written soon, however fast changes follow."""
        if self._is_closed:  # work that was under way may still come back
            return
        self._history = history
        if not self._soon.isActive() or self._soon.interval() > _SOON_MS:  # a wait for the desk or another try
            self._soon.start(_SOON_MS)

    def note_desk(self, desk: Desk) -> None:
        """The session is looked at or listened to in another way: written along, or after a while."""
        self._desk = desk
        if self._is_closed:
            return
        if not self._soon.isActive() and (self._folder or self._place) is not None:
            self._soon.start(_DESK_MS)

    def flush(self) -> bool:
        """Write what is not written yet and wait for it; whether all is on disk."""
        if self._soon.isActive():
            self._write()
        while self._writing is not None:
            writing, _ = self._writing
            with contextlib.suppress(Exception):
                writing.result()
            self._settle(writing)
        return not self._problem

    def finish(self) -> None:
        """Write what is left, and let the folder go; what the shelter keeps of it was saved or given up."""
        saved = self.flush()
        self._soon.stop()
        if self._folder is not None:
            self._folder.release()
            if not saved and self._place is not None:  # the shelter has what the folder could not take
                self._place.release()
                self._place = None
        self._leave_place()
        self._folder, self._problem = None, ""

    def keep_place(self) -> None:
        """Leave what the shelter keeps of the session there for the next start, though it ends in good order."""
        self.flush()
        if self._place is not None:
            self._place.release()
            self._place = None

    def close(self) -> None:
        """The end."""
        self.finish()
        self._is_closed = True
        self._writer.shutdown(wait=True)

    def _leave_place(self) -> None:
        if self._place is not None:
            self._place.release()
            self.shelter.give_up(self._place.path)
            self._place = None

    def _write(self) -> None:
        self._soon.stop()
        if self._writing is not None:
            self._is_behind = True
            return
        history = self._history
        if history is None or (history is self._saved and not self._problem):
            kept_in = self._folder or self._place
            if kept_in is not None:
                self._follow(self._writer.submit(kept_in.write_desk, self._desk), None)
            return
        try:
            folder = self._folder or self._place_for_now()
        except SnareError as error:
            self._fail(str(error))
            return
        self._follow(self._writer.submit(folder.write, history, self._desk), history)

    def _follow(self, writing: Future[None], history: History | None) -> None:
        self._writing = (writing, history)
        self._slow.start()
        writing.add_done_callback(self._written.emit)

    def _place_for_now(self) -> SessionFolder:
        if self._place is None:
            self._place = self.shelter.place()
        return self._place

    def _settle(self, writing: Future[None]) -> None:
        """What came of writing; told once, by the signal or by whoever waited."""
        if self._writing is None or self._writing[0] is not writing:
            return
        _, history = self._writing
        self._writing = None
        self._slow.stop()
        error = writing.exception()
        if history is not None and error is not None:
            self._fail(str(error))
        elif history is not None:
            self._saved = history
            if self._problem:
                self._problem = ""
                self.told.emit("The session is saved again.", False)
                if self._folder is not None:
                    self._leave_place()
        if self._is_behind:
            self._is_behind = False
            self._write()
        self.changed.emit()

    def _fail(self, text: str) -> None:
        """Try again later; until then the shelter keeps it, if that can be written."""
        if text != self._problem:
            self.told.emit(text, True)
        self._problem = text
        if self._folder is not None and self._history is not None:
            with contextlib.suppress(SnareError):
                self._place_for_now().write(self._history)
        self._soon.start(_AGAIN_MS)
        self.changed.emit()
