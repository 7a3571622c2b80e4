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
import hashlib
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Self

from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.exchange.replacing import replacing
from supple_snare.session.document import Session
from supple_snare.session.history import History
from supple_snare.session.journal import Journal, read_journal
from supple_snare.session.listening import Desk, read_desk, write_desk
from supple_snare.session.locks import FolderLock, Holder
from supple_snare.session.storage import FILE_NAME, decode_session, encode_session, read_file, told_if_not_saved

ASIDE = "session.aside"


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
    journal = read_journal(folder) if file.name == FILE_NAME else None
    try:
        data = read_file(file)
        session = decode_session(data, file)
    except NewerSessionError:
        raise
    except SessionError as error:
        if journal is None:
            raise
        return journal.history, (f"{error} It was opened from its journal instead, with nothing lost.",)
    if journal is None:
        return History(session), ()
    if _digest(data) in journal.digests or session in journal.history.row()[1]:
        torn = "The end of its journal was torn; what is whole was opened." if journal.is_torn else ""
        return journal.history, (torn,) if torn else ()
    return (
        journal.history.step("Changed outside the program", session),
        (f"{file.name} was changed outside the program: that is what you see. Undo brings back how it was left.",),
    )


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
        return lock if isinstance(lock, Holder) else cls(path, lock)

    def write(self, history: History, desk: Desk | None = None) -> None:
        """Put a history on disk, synced, and how it is looked at, if that changed.

        Raises
        ------
        SessionError
            If that fails; what was there can still be opened.
        """
        with told_if_not_saved(self.path):
            data, file = encode_session(history.present, self.path), self.path / FILE_NAME
            digest = _digest(data)
            self._put_aside(file)
            self._journal.add(history, digest, self._known)
            with replacing(file) as target:
                target.write(data)
            self._known = digest
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
        return _digest(data)

    def _put_aside(self, file: Path) -> None:
        """A session's file that is damaged, or that others wrote, is not written over without a copy."""
        if file.exists() and _digest(file.read_bytes()) != self._known:
            number = 1
            while (aside := self.path / f"{ASIDE}-{number}.json").exists():
                number += 1
            shutil.copyfile(file, aside)

    def release(self) -> None:
        """Others may write here."""
        self._lock.release()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.release()


def _digest(data: bytes) -> str:
    return hashlib.blake2b(data, digest_size=16).hexdigest()
