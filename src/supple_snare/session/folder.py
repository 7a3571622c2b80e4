"""The folder of a session: opened whole, held by one window, and written so that nothing is ever lost.

    session.json    the session as it is, readable
    journal         its history: every step and how to take it back
    desk.json       how it is looked at and listened to
    cache           what was heard of its recordings
    .lock           who writes here

The journal is written first and tells what the session's file is about to hold. So whichever of the two is whole after
any accident, the newest state that reached the disk is opened; and a file that was changed by hand is known as such.
"""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Self

from supple_snare.disk.opening import read_bounded
from supple_snare.disk.replacing import replacing
from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.session.document import Session
from supple_snare.session.history import History
from supple_snare.session.journal import Journal, Journaled, State, digest_of, read_journal
from supple_snare.session.listening import Desk, read_desk, write_desk
from supple_snare.session.locks import FolderLock, Holder
from supple_snare.session.open_sessions import note_closed, note_open
from supple_snare.session.storage import (
    FILE_NAME,
    LARGEST_BYTES,
    NO_NUMBER,
    decode_session,
    encode_session,
    number_in,
    pack,
    put_aside,
    read_file,
    told_if_not_saved,
)


@dataclass(frozen=True)
class Opened:
    """What was found in a folder.

    Attributes
    ----------
    history : History
    words : tuple of str
        What a person should know of how it was opened.
    desk : Desk
        How it was looked at and listened to.
    """

    history: History
    words: tuple[str, ...] = ()
    desk: Desk = Desk()  # noqa: RUF009  # frozen


def folder_name(session: Session) -> str:
    """The session's name as the name of a folder."""
    return session.name.replace("/", "-").strip(". ") or "session"


def open_history(path: Path) -> Opened:
    """Read the session in a folder, or of a file, with its history. Nothing is changed.

    Raises
    ------
    NewerSessionError
        If a newer version of the program made it.
    SessionError
        If nothing whole is found.
    """
    folder = path if path.is_dir() else path.parent
    history, words = _newest(path, folder)
    return Opened(history, words, read_desk(folder))


def _newest(path: Path, folder: Path) -> tuple[History, tuple[str, ...]]:
    """The newest whole state, and what is to be said of it."""
    file = folder / FILE_NAME if path.is_dir() else path
    try:
        data = read_file(file)
        session = decode_session(data, file)
    except NewerSessionError:
        raise
    except SessionError as error:
        journal = read_journal(folder) if file.name == FILE_NAME else None
        if journal is None or journal.history is None:
            raise
        return journal.history, (f"{error} It was opened from its journal instead{_lost_words(journal)}.",)
    if file.name != FILE_NAME:
        return History(session), ()
    digest, number = digest_of(data), number_in(data)
    journal = read_journal(folder, digest, pack(session, folder))
    if journal.state is State.WHOLE and number != NO_NUMBER and number not in journal.numbers:
        journal = replace(journal, state=State.DAMAGED, is_end_lost=True)  # it was cut off between two lines
    return _joined(session, journal, is_known=digest in journal.digests)


def _joined(session: Session, journal: Journaled, *, is_known: bool) -> tuple[History, tuple[str, ...]]:
    """The session in the file with the history in the journal, and what is to be said of it.

    Where the journal is damaged, nobody can tell whether the file was changed outside the program.
    """
    history = journal.history
    words: tuple[str, ...] = ()
    if journal.state is State.DAMAGED:
        if history is None:
            return History(session), (f"Its undo list could not be read: undo begins here. {_KEPT}",)
        words = (f"Its undo list was damaged{_lost_words(journal)}. {_KEPT}",)
    elif journal.state is State.TORN:
        words = ("The end of its journal was torn; what is whole was opened.",)
    if history is None:
        return History(session), ("It has no undo list: undo begins here.",)
    if history.present == session or (is_known and not journal.is_end_lost):
        return history, words
    sessions = history.row()[1]
    if session in sessions:
        last = len(sessions) - 1 - sessions[::-1].index(session)
        return (history.went(last - len(history.past)) if words else history), words
    if words:
        return (
            history.step("Steps that could not be read", session),
            (f"The end of its undo list was damaged: the session is whole, but its newest steps are one. {_KEPT}",),
        )
    return (
        history.step("Changed outside the program", session),
        (f"{FILE_NAME} was changed outside the program: that is what you see. Undo brings back how it was left.",),
    )


_KEPT = "The damaged file is put aside when the session is next saved."


def _lost_words(journal: Journaled) -> str:
    if journal.lost:
        return f", and {journal.lost} of its steps {'is' if journal.lost == 1 else 'are'} lost"
    return ", but all of it could be worked out" if journal.state is State.DAMAGED else ", with nothing lost"


class SessionFolder:
    """The right to write into the folder of a session.

    Used by one thread at a time; ends with `release`.
    """

    def __init__(self, path: Path, lock: FolderLock) -> None:
        self.path = path
        self._lock = lock
        self._journal = Journal(path)
        self._known = self._digest_if_whole()
        self._desk: Desk | None = None

    @classmethod
    def take(cls, path: Path) -> SessionFolder | Holder:
        """Take a folder to write into, which is made if it is not there; or learn who has it.

        Raises
        ------
        SessionError
            If it cannot be written.
        """
        with told_if_not_saved(path):
            path.mkdir(parents=True, exist_ok=True)
            lock = FolderLock.take(path)
        if isinstance(lock, Holder):
            return lock
        note_open(path)
        return cls(path, lock)

    def write(self, history: History, desk: Desk | None = None) -> None:
        """Put a history on disk, synced, and how it is looked at, if that changed.

        Raises
        ------
        SessionError
            If that fails; what was there can still be opened.
        """
        with told_if_not_saved(self.path):
            if not self._lock.is_whole():
                raise SessionError(
                    f"{self.path}: the folder was replaced by another, or another window took it; save the session in "
                    "another folder."
                )
            file = self.path / FILE_NAME
            self._put_aside(file)
            data = self._journal.add(history, partial(encode_session, history.present, self.path), self._known)
            with replacing(file, syncs_folder=False) as target:  # after a power cut its journal knows better
                target.write(data)
            self._known = digest_of(data)
        self.write_desk(desk)

    def write_desk(self, desk: Desk | None) -> None:
        """How the session is looked at alone; without it nothing is lost, so what goes wrong is not told."""
        if desk is not None and desk != self._desk:
            with contextlib.suppress(OSError):
                write_desk(self.path, desk)
                self._desk = desk

    def _digest_if_whole(self) -> str:
        """Of the session's file, if that can be read."""
        file = self.path / FILE_NAME
        try:
            data = read_file(file)
            decode_session(data, file)
        except SessionError:
            return ""
        return digest_of(data)

    def _put_aside(self, file: Path) -> None:
        """A session's file that is damaged, or that others wrote, is not written over without a copy."""
        try:
            known = digest_of(read_bounded(file, LARGEST_BYTES, follow_links=False)) == self._known
        except FileNotFoundError:
            return
        except OSError:
            known = False
        if not known:
            put_aside(file)

    def release(self) -> None:
        """Others may write here."""
        note_closed(self.path)
        self._lock.release()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.release()
