"""The journal of a session: its whole history, each change appended as it is made.

A text file of one record a line, each with a checksum before it, so that a line that was torn by a power cut is known
for what it is; what stands before it holds. A record either changes the row of sessions,

    {"drop": 0, "keep": 3, "steps": [["Hold bar 9", change], …], "at": 3}

(so many forgotten at the far end, so many kept of the rest, these steps after them, and which one is the present), or
says what is about to be written into the session's own file: {"file": digest}.
"""

from __future__ import annotations

import os
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Self

import msgspec

from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.exchange.replacing import replacing
from supple_snare.session.deltas import Json, changed, delta
from supple_snare.session.document import FORMAT_VERSION, Session
from supple_snare.session.history import History
from supple_snare.session.storage import Unpacker, pack

FILE_NAME = "journal"
_FORMAT = "supple snare journal"
_LONG_BYTES = 4 << 20
"""A longer journal is written anew when its session is opened, and when it has grown so much since."""

_LARGEST_BYTES = 256 << 20
_MOST_STEPS = 2_000
_MARKS = 2
"""The session's file may hold what the last mark says, or, if the end came between the two, the one before."""


@dataclass(frozen=True)
class Journaled:
    """What a journal holds.

    Attributes
    ----------
    history : History
    digests : tuple of str
        Of the session's own file: what it may hold if nobody else changed it.
    is_torn : bool
        Whether its end, or what followed some place in it, could not be read.
    """

    history: History
    digests: tuple[str, ...]
    is_torn: bool


def read_journal(folder: Path) -> Journaled | None:
    """What the journal in a folder holds; None if there is none, or nothing of it can be read.

    Raises
    ------
    NewerSessionError
        If a newer version of the program wrote it.
    SessionError
        If it is there and may not be read.
    """
    file = folder / FILE_NAME
    try:
        if not file.is_file() or file.stat().st_size > _LARGEST_BYTES:
            return None
        records = list(_records(file.read_bytes().splitlines()))
    except OSError as error:
        raise SessionError(f"{file}: it cannot be read ({error.strerror}).") from error
    if not records or not isinstance(records[0], dict) or records[0].get("format") != _FORMAT:
        return None
    version = records[0].get("version")
    if not isinstance(version, int):
        return None
    if version > FORMAT_VERSION:
        raise NewerSessionError(f"{file}: it was made by a newer version of Supple Snare; update the program.")
    return _replayed(records, Unpacker(folder, version))


def _replayed(records: list[Json], unpacker: Unpacker) -> Journaled | None:
    row, digests, is_torn = _Row(), list[str](), False
    for record in records[1:]:
        match record:
            case {"file": str(digest)}:
                digests.append(digest)
            case {"drop": int(drop), "keep": int(keep), "steps": list(steps), "at": int(at)}:
                try:
                    row = row.after(drop, keep, steps, at)
                except ValueError:
                    is_torn = True
                    break
            case _:
                is_torn = True
                break
    try:
        history = row.history(unpacker)
    except SessionError:
        return None
    return None if history is None else Journaled(history, tuple(digests[-_MARKS:]), is_torn or records[-1] is None)


def _records(lines: Iterable[bytes]) -> Iterator[Json]:
    """The records of lines up to the first that is torn, for which stands None."""
    for line in lines:
        sum_hex, _, text = line.partition(b" ")
        try:
            if int(sum_hex, 16) != zlib.crc32(text):
                raise ValueError("checksum")
            yield msgspec.json.decode(text)
        except (ValueError, msgspec.DecodeError, RecursionError):
            yield None
            return


def _line(record: Json) -> bytes:
    text = msgspec.json.encode(record)
    return b"%08x %s\n" % (zlib.crc32(text), text)


@dataclass(frozen=True)
class _Row:
    """Sessions as JSON values in the order of the steps between them, and which one is the present."""

    labels: tuple[str, ...] = ()
    states: tuple[Json, ...] = ()
    at: int = 0

    def after(self, drop: int, keep: int, steps: list[Json], at: int) -> Self:
        """The row a record leads to.

        Raises
        ------
        ValueError
            If it does not fit.
        """
        if not 0 <= drop <= drop + keep <= len(self.states):
            raise ValueError("a record that does not fit")
        labels, states = list(self.labels[drop : drop + keep]), list(self.states[drop : drop + keep])
        before = self.states[drop + keep - 1] if keep else {}
        for step in steps:
            match step:
                case [str(label), list(change)]:
                    before = changed(before, change)
                    labels.append(label)
                    states.append(before)
                case _:
                    raise ValueError("a step that is none")
        if not 0 <= at < len(states) <= _MOST_STEPS:
            raise ValueError("a present that is not there")
        return type(self)(tuple(labels), tuple(states), at)

    def history(self, unpacker: Unpacker) -> History | None:
        """The history it stands for; None for an empty one."""
        if not self.states:
            return None
        sessions = [unpacker.session(state) for state in self.states]
        return History.of_row(self.labels, sessions, self.at)


class Journal:
    """Writes the histories of one session, one after the other. Used by one thread.

    Parameters
    ----------
    folder : Path
        Must be there.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._file = folder / FILE_NAME
        self._labels: tuple[str, ...] = ()
        self._sessions: tuple[Session, ...] = ()
        self._at = -1
        self._last: tuple[Session, Json] | None = None
        self._grown = 0

    @property
    def is_begun(self) -> bool:
        """Whether anything was written."""
        return self._at >= 0

    def begin(self, history: History, digest: str, before: str = "") -> None:
        """Write the journal anew, holding this history and nothing else.

        Parameters
        ----------
        history : History
        digest, before : str
            Of what the session's own file is about to hold, and of what it holds now.

        Raises
        ------
        OSError
            If it cannot be written; the former one stays.
        """
        self._labels, self._sessions, self._at, self._last = (), (), -1, None
        head = {"format": _FORMAT, "version": FORMAT_VERSION}
        record = self._record(history)
        with replacing(self._file) as file:
            file.write(b"".join(map(_line, (head, record, {"file": before}, {"file": digest}))))
        self._remember(history)
        self._grown = 0

    def add(self, history: History, digest: str, before: str = "") -> None:
        """Append what has changed, and the digest of what the session's own file will hold, as in `begin`.

        Raises
        ------
        OSError
            If it cannot be written; a torn end of the file does not count.
        """
        if self._at < 0 or self._grown > _LONG_BYTES:
            self.begin(history, digest, before)
            return
        lines = _line(self._record(history)) + _line({"file": digest})
        try:
            with self._file.open("ab") as file:
                file.write(lines)
                file.flush()
                os.fsync(file.fileno())
        except OSError:
            self._at = -1  # its end may be torn: what comes next is written anew
            raise
        self._remember(history)
        self._grown += len(lines)

    def _remember(self, history: History) -> None:
        self._labels, sessions, self._at = history.row()
        self._sessions = tuple(sessions)

    def _record(self, history: History) -> Json:
        """What leads from the history written last to this one."""
        labels, sessions, at = history.row()
        drop = next((n for n, known in enumerate(self._sessions) if known is sessions[0]), len(self._sessions))
        kept = zip(self._sessions[drop:], sessions, self._labels[drop:], labels, strict=False)
        keep = 0
        for known, session, known_label, label in kept:
            if known is not session or (known_label != label and keep):
                break
            keep += 1
        before = self._packed(sessions[keep - 1]) if keep else {}
        steps = []
        for label, session in zip(labels[keep:], sessions[keep:], strict=True):
            after = self._packed(session)
            steps.append([label, delta(before, after)])
            before = after
        return {"drop": drop, "keep": keep, "steps": steps, "at": at}

    def _packed(self, session: Session) -> Json:
        if self._last is None or self._last[0] is not session:
            self._last = (session, pack(session, self._folder))
        return self._last[1]
