"""The journal of a session: its whole history, each change appended as it is made.

A text file of one record a line, each with a checksum before it, so that a line that was torn by a power cut or
damaged later is known for what it is. After a head, each record tells the row of sessions as it stands:

    {"row": [[0, 7], [9, 11]], "steps": [[11, "Hold bar 9", change, way back], …], "at": 11, "file": digest}

Every session of the row has a number that is never used again; a step leads to its session from the one before it in
the row, and the way back leads there again. So what a damaged line told can be worked out from both sides: forward
from the sessions before it, and back from those after it, of which the session's own file holds one whole. "file" is
the digest of what is written into that file next; "before", where a journal begins, of what it holds until then. The
file tells the number of its session, so that a journal which was cut off is not taken for a file that was changed.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from enum import Enum
from itertools import count
from pathlib import Path

import msgspec

from supple_snare.disk.identity import FileIdentity
from supple_snare.disk.opening import open_own, read_bounded
from supple_snare.disk.replacing import replacing
from supple_snare.errors import NewerSessionError, SessionError
from supple_snare.session.deltas import Json, changed, delta
from supple_snare.session.document import FORMAT_VERSION, Session
from supple_snare.session.history import History
from supple_snare.session.storage import Unpacker, pack, put_aside

FILE_NAME = "journal"
_FORMAT = "supple snare journal"
_LONG_BYTES = 4 << 20
"""A longer journal is written anew when its session is opened, and when it has grown so much since."""

_SUM_BYTES = 8
"""Before the record of a line stands its sum, in hexadecimal digits."""

_BROKEN_BREAK = re.compile(rb"(?s)(?<=\}).(?=[0-9a-f]{8} )")
"""What may have been a line break: a byte between the end of one record and the sum of the next."""

_LARGEST_BYTES = 256 << 20
_MOST_STEPS = 2_000
_MARKS = 2
"""The session's file may hold what the last mark says, or, if the end came between the two, the one before."""

_LOST_LABEL = "A step whose name was lost"


DataOf = Callable[[int], bytes]


class State(Enum):
    """How much of a journal could be read."""

    WHOLE = "whole"
    MISSING = "missing"
    TORN = "torn at its end, as by a power cut"
    DAMAGED = "damaged"


@dataclass(frozen=True)
class Journaled:
    """What a journal holds.

    Attributes
    ----------
    state : State
    history : History or None
        None if nothing of it could be read.
    digests : tuple of str
        Of the session's own file: what it may hold if nobody else changed it.
    lost : int
        How many of its sessions could not be worked out; those that damaged last lines told are not counted.
    is_end_lost : bool
        Whether the last line could not be read: what it told may be in the session's own file.
    numbers : frozenset of int
        Of all sessions that it tells of.
    """

    state: State
    history: History | None = None
    digests: tuple[str, ...] = ()
    lost: int = 0
    is_end_lost: bool = False
    numbers: frozenset[int] = frozenset()


def digest_of(data: bytes) -> str:
    """Return the digest by which a journal knows what was written into the session's own file."""
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def read_journal(folder: Path, digest: str = "", present: Json = None) -> Journaled:
    """Read the journal in a folder.

    Parameters
    ----------
    folder : Path
    digest : str
        Of the session's own file; "" if that is not whole.
    present : JSON value, optional
        The session in that file: what is damaged is worked out from there, too.

    Raises
    ------
    NewerSessionError
        If a newer version of the program wrote it.
    SessionError
        If it is there and may not be read.
    """
    file = folder / FILE_NAME
    try:
        data = read_bounded(file, _LARGEST_BYTES, follow_links=False)
    except FileNotFoundError:
        return Journaled(State.MISSING)
    except PermissionError as error:
        raise SessionError(f"{file}: it cannot be read ({error.strerror}).") from error
    except OSError:
        return Journaled(State.DAMAGED)
    lines = _records_of(data)
    version = _version_of(lines[0] if lines else None)
    if version > FORMAT_VERSION:
        raise NewerSessionError(f"{file}: it was made by a newer version of Supple Snare; update the program.")
    state = _state_of(lines, data)
    told = _Told.of(_numbered(lines))
    if not told.row:
        return Journaled(State.DAMAGED)
    try:
        history, lost = told.history(Unpacker(folder, version or FORMAT_VERSION), digest, present)
    except SessionError:
        return Journaled(State.DAMAGED)
    return Journaled(state, history, tuple(told.digests[-_MARKS:]), lost, lines[-1] is None, frozenset(told.steps))


def _state_of(lines: Sequence[Json], data: bytes) -> State:
    """Whole, or torn in its last line alone, or damaged."""
    if _version_of(lines[0] if lines else None) and all(line is not None for line in lines):
        return State.WHOLE
    torn = len(lines) > 1 and all(line is not None for line in lines[:-1]) and not data.endswith(b"\n")
    return State.TORN if torn and _version_of(lines[0]) else State.DAMAGED


def _records_of(data: bytes) -> list[Json]:
    """The records of all lines, None for each damaged one; two lines whose break is damaged are told apart again."""
    records: list[Json] = []
    for line in data.splitlines():
        record = _record_of(line)
        records += _told_apart(line) if record is None else [record]
    return records


def _told_apart(line: bytes) -> list[Json]:
    """What is left of a damaged line: the two records on either side of a damaged break, and None for the damage."""
    crc, done = 0, _SUM_BYTES + 1
    for at in _BROKEN_BREAK.finditer(line, done):
        crc, done = zlib.crc32(line[done : at.start()], crc), at.start()
        if line.startswith(b"%08x " % crc):  # summed up as it goes: a forged line may have many such places
            both = [_record_of(line[: at.start()]), _record_of(line[at.end() :])]
            if None not in both:
                return [both[0], None, both[1]]
    return [None]


def _record_of(line: bytes) -> Json:
    """The record of a line; None if it is damaged."""
    sum_hex, _, text = line.partition(b" ")
    try:
        if len(sum_hex) != _SUM_BYTES or int(sum_hex, 16) != zlib.crc32(text):
            return None
        return msgspec.json.decode(text)
    except (ValueError, msgspec.DecodeError, RecursionError):
        return None


def _version_of(head: Json) -> int:
    """The version that the head of a journal tells; 0 if it is no head."""
    match head:
        case {"format": str(form), "version": int(version)} if form == _FORMAT:
            return version
    return 0


def _line(record: Json) -> bytes:
    text = msgspec.json.encode(record)
    return b"%08x %s\n" % (zlib.crc32(text), text)


def _numbered(lines: Iterable[Json]) -> Iterator[Json]:
    """The records, those that earlier versions wrote as today's.

    They told how many sessions of the row to forget at the far end and how many to keep of the rest, so that nothing
    behind a damaged line can be understood.
    """
    numbers, row, is_broken = count(), list[int](), False
    for line in lines:
        match line:
            case {"drop": int(drop), "keep": int(keep), "steps": list(steps), "at": int(at)} if not is_broken:
                if not 0 <= drop <= drop + keep <= len(row):
                    is_broken = True
                    continue
                new = [[next(numbers), *step, None] for step in steps if isinstance(step, list)]
                row = row[drop : drop + keep] + [step[0] for step in new]
                if 0 <= at < len(row):
                    yield {"row": [[number, number] for number in row], "steps": new, "at": row[at]}
                else:
                    is_broken = True
            case {"file": str(digest), **rest} if not rest and not is_broken:
                yield {"mark": digest}
            case {"row": list(), "steps": list(), "at": int()}:
                yield line
            case None:
                is_broken = True


@dataclass(frozen=True)
class _Step:
    """What leads to a session from the one before it in the row, and back."""

    label: str
    before: int | None
    forward: Json
    back: Json


@dataclass
class _Told:
    """What the records of a journal tell together."""

    row: list[int] = field(default_factory=list)
    at: int = 0
    steps: dict[int, _Step] = field(default_factory=dict)
    digests: list[str] = field(default_factory=list)
    written: dict[str, int] = field(default_factory=dict)
    """From the digest of what was written into the session's own file to the number of that session."""

    @classmethod
    def of(cls, records: Iterable[Json]) -> _Told:
        told = cls()
        for record in records:
            match record:
                case {"mark": digest}:
                    told._mark(digest)
                case {"row": list(spans), "steps": list(steps), "at": int(at)}:
                    row = _row_of(spans)
                    if at not in row:
                        continue
                    told.row, told.at = row, at
                    told._add(steps)
                    for name in ("before", "file"):
                        if isinstance(digest := record.get(name), str):
                            told._mark(digest, is_written=name == "file")
        return told

    def _mark(self, digest: str, *, is_written: bool = True) -> None:
        self.digests.append(digest)
        if is_written:
            self.written[digest] = self.at

    def _add(self, steps: Sequence[Json]) -> None:
        before = dict(zip(self.row[1:], self.row, strict=False))
        for step in steps:
            match step:
                case [int(number), str(label), list(forward), back]:
                    self.steps[number] = _Step(label, before.get(number), forward, back)

    def history(self, unpacker: Unpacker, digest: str, present: Json) -> tuple[History | None, int]:
        """The history of what can be worked out, and how many of its sessions cannot."""
        values = self._values({self.written[digest]: present} if digest in self.written and present else {})
        known = [number for number in self.row if number in values]
        if not known:
            return None, len(self.row)
        at = self.at if self.at in values else max((n for n in known if n < self.at), default=known[0])
        labels = [self.steps[number].label if number in self.steps else _LOST_LABEL for number in known]
        sessions = [unpacker.session(values[number]) for number in known]
        return History.of_row(labels, sessions, known.index(at)), len(self.row) - len(known)

    def _values(self, given: dict[int, Json]) -> dict[int, Json]:
        """Each session that can be worked out, forward from those before it and back from those after it."""
        values = self._forward({})
        if all(number in values for number in self.row):
            return values
        values = given | values
        for number, step in sorted(self.steps.items(), reverse=True):
            if number in values and step.before is not None and step.before not in values and step.back is not None:
                with contextlib.suppress(ValueError):
                    values[step.before] = changed(values[number], step.back)
        return self._forward(values)

    def _forward(self, values: dict[int, Json]) -> dict[int, Json]:
        for number, step in sorted(self.steps.items()):
            if number in values:
                continue
            known = {} if step.before is None or step.forward[:1] == ["to"] else values.get(step.before)
            if known is not None:
                with contextlib.suppress(ValueError):
                    values[number] = changed(known, step.forward)
        return values


def _row_of(spans: Sequence[Json]) -> list[int]:
    """The numbers in spans of them, each told by its first and last."""
    row: list[int] = []
    for span in spans:
        match span:
            case [int(first), int(last)] if 0 <= first <= last < first + _MOST_STEPS:
                row += range(first, last + 1)
    return row[:_MOST_STEPS]


def _spans_of(row: Sequence[int]) -> list[list[int]]:
    """Inverse of `_row_of`."""
    spans: list[list[int]] = []
    for number in row:
        if spans and spans[-1][1] == number - 1:
            spans[-1][1] = number
        else:
            spans.append([number, number])
    return spans


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
        self._row: list[int] = []
        self._next = 0
        self._left: FileIdentity | None = None
        """The file as it was left; None before anything was written."""

        self._last: tuple[Session, Json] | None = None
        self._grown = 0

    @property
    def is_begun(self) -> bool:
        """Whether anything was written."""
        return self._left is not None

    def begin(self, history: History, data_of: DataOf, before: str = "") -> bytes:
        """Write the journal anew, holding this history and nothing else; a damaged one is put aside first.

        Parameters
        ----------
        history : History
        data_of : callable
            Makes what the session's own file is about to hold, from the number of the present session.
        before : str
            Digest of what that file holds now.

        Returns
        -------
        bytes
            What `data_of` made.

        Raises
        ------
        OSError
            If it cannot be written; the former one stays.
        """
        if self._left is None and not self._is_sound():
            put_aside(self._file)
        self._labels, self._sessions, self._row, self._next, self._last = (), (), [], 0, None
        head = {"format": _FORMAT, "version": FORMAT_VERSION}
        record, row, data = self._record(history, data_of)
        with replacing(self._file) as file:
            file.write(_line(head) + _line(record | {"before": before}))
        self._remember(history, row, 0)
        return data

    def add(self, history: History, data_of: DataOf, before: str = "") -> bytes:
        """Append what has changed, and the digest of what the session's own file will hold, as `begin` does.

        A journal that somebody removed or changed meanwhile is written anew.

        Raises
        ------
        OSError
            If it cannot be written; a torn end of the file does not count.
        """
        if self._left is None or self._grown > _LONG_BYTES:
            return self.begin(history, data_of, before)
        record, row, data = self._record(history, data_of)
        line = _line(record)
        if not self._append(line):
            if not self._is_as_left():
                put_aside(self._file)
            return self.begin(history, data_of, before)
        self._remember(history, row, self._grown + len(line))
        return data

    def _append(self, line: bytes) -> bool:
        """Add a line to the file; false if it is not the file that was left, or has a second name."""
        try:
            handle = open_own(self._file, os.O_WRONLY | os.O_APPEND)
        except OSError:
            return False
        with os.fdopen(handle, "ab") as file:
            if FileIdentity.of(file.fileno()) != self._left:
                return False
            self._left = None  # its end may be torn if this fails: what comes next is then written anew
            file.write(line)
            file.flush()
            os.fsync(file.fileno())
        return True

    def _is_as_left(self) -> bool:
        try:
            return FileIdentity.of(self._file) == self._left and not self._file.is_symlink()
        except OSError:
            return False

    def _is_sound(self) -> bool:
        """Whether what lies there, if anything does, may be written over."""
        try:
            data = read_bounded(self._file, _LARGEST_BYTES, follow_links=False)
        except FileNotFoundError:
            return True
        except OSError:
            return False
        return _state_of(_records_of(data), data) is State.WHOLE

    def _remember(self, history: History, row: list[int], grown: int) -> None:
        self._labels, sessions, _ = history.row()
        self._sessions, self._row, self._grown = tuple(sessions), row, grown
        self._next = max(self._next, max(row) + 1)
        self._left = FileIdentity.of(self._file)

    def _record(self, history: History, data_of: DataOf) -> tuple[Json, list[int], bytes]:
        """What leads from the history written last to this one, the numbers of its sessions, and the file to write."""
        labels, sessions, at = history.row()
        drop = next((n for n, known in enumerate(self._sessions) if known is sessions[0]), len(self._sessions))
        kept = zip(self._sessions[drop:], sessions, self._labels[drop:], labels, strict=False)
        keep = 0
        for known, session, known_label, label in kept:
            if known is not session or (known_label != label and keep):
                break
            keep += 1
        row = [*self._row[drop : drop + keep], *range(self._next, self._next + len(sessions) - keep)]
        before = self._packed(sessions[keep - 1]) if keep else {}
        steps = []
        for number, label, session in zip(row[keep:], labels[keep:], sessions[keep:], strict=True):
            after = self._packed(session)
            steps.append([number, label, delta(before, after), delta(after, before) if before else None])
            before = after
        data = data_of(row[at])
        return {"row": _spans_of(row), "steps": steps, "at": row[at], "file": digest_of(data)}, row, data

    def _packed(self, session: Session) -> Json:
        if self._last is None or self._last[0] is not session:
            self._last = (session, pack(session, self._folder))
        return self._last[1]
