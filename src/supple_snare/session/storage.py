"""Sessions on disk: a folder with one readable JSON file that points to the recordings by relative path."""

from __future__ import annotations

import contextlib
import copy
import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, get_args

import msgspec
from msgspec.structs import FieldInfo

from supple_snare.disk.opening import FileTooLargeError, NotARegularFileError, read_bounded
from supple_snare.disk.replacing import replacing
from supple_snare.errors import NewerSessionError, SessionError, SnareError
from supple_snare.session.deltas import Json
from supple_snare.session.document import FORMAT_VERSION, Session
from supple_snare.session.edits import set_aim
from supple_snare.timing.units import LONGEST_TAKE_S

FILE_NAME = "session.json"
FORMAT = "supple snare session"
LARGEST_BYTES = 64 << 20


NO_NUMBER = -1


class _Head(msgspec.Struct, frozen=True):
    """The part that every version has."""

    format: str
    version: int
    number: int = NO_NUMBER


def number_in(data: bytes) -> int:
    """The number by which the journal knows the session in the bytes of a file that is whole."""
    return msgspec.json.decode(data, type=_Head).number


_RAW = "\0"
"""Begins the text of a path that is no UTF-8: no path holds it."""


def text_of_path(path: str) -> str:
    """Return a path as text that every JSON file can hold, also one whose bytes are no UTF-8.

    >>> path_of_text(text_of_path("sn\\udcffare.wav")) == "sn\\udcffare.wav"
    True
    """
    try:
        path.encode()
    except UnicodeEncodeError:
        return _RAW + os.fsencode(path).decode("latin-1")
    return path


def path_of_text(text: str) -> str:
    """Inverse of `text_of_path`."""
    return os.fsdecode(text[1:].encode("latin-1")) if text.startswith(_RAW) else text


def pack(session: Session, folder: Path) -> Json:
    """A session as a JSON value whose paths are relative to a folder."""
    root = folder.resolve()

    def relative(value: Any) -> Any:
        if isinstance(value, Path):
            return text_of_path(os.path.relpath(value, root))
        raise NotImplementedError(f"{type(value)} has no place in a session file")

    return msgspec.json.decode(msgspec.json.encode(session, enc_hook=relative))


class Unpacker:
    """Makes sessions of JSON values; what is the very same object in several of them becomes one value.

    Parameters
    ----------
    folder : Path
        What the paths are relative to.
    version : int, optional
        Of the format that the values have.
    """

    def __init__(self, folder: Path, version: int = FORMAT_VERSION) -> None:
        self._folder = folder.resolve()
        self._version = version
        self._made: dict[tuple[str, int], tuple[Json, Any]] = {}

    def session(self, value: Json) -> Session:
        """The session that a value stands for.

        Raises
        ------
        SessionError
            If it is none, or damaged.
        """
        try:
            if self._version < FORMAT_VERSION:
                value = _from_earlier(value, self._version)
            known = {field.name: field for field in msgspec.structs.fields(Session)}
            members = {name: self._member(known[name], inner) for name, inner in value.items() if name in known}
            session = Session(**members)
            _check_whole(session)
        except (msgspec.ValidationError, SnareError, ValueError, LookupError, TypeError, AttributeError) as error:
            raise SessionError(str(error)) from error
        return session

    def _member(self, field: FieldInfo, value: Json) -> Any:
        kinds = get_args(field.type)  # of a row of things each is made for itself, so that unchanged ones are shared
        if isinstance(value, list) and kinds[1:] == (Ellipsis,):
            return tuple(self._one(kinds[0], inner) for inner in value)
        return self._one(field.type, value)

    def _one(self, kind: Any, value: Json) -> Any:
        key = (str(kind), id(value))
        if key not in self._made:
            made = msgspec.convert(value, kind, dec_hook=self._absolute)
            self._made[key] = (value, made)  # the value is kept, or another could take its id
        return self._made[key][1]

    def _absolute(self, kind: type, value: Any) -> Any:
        if kind is Path and isinstance(value, str):
            return Path(os.path.normpath(self._folder / path_of_text(value)))
        raise ValueError(f"no {kind.__name__} can be made of {value!r:.40}")


def encode_session(session: Session, folder: Path, number: int = NO_NUMBER) -> bytes:
    """What is written into the file of a session, with the number that its journal knows it by."""
    numbered = {} if number == NO_NUMBER else {"number": number}
    envelope = {"format": FORMAT, "version": FORMAT_VERSION, **numbered, "session": pack(session, folder)}
    return msgspec.json.format(msgspec.json.encode(envelope), indent=2)


def save_session(session: Session, folder: Path) -> None:
    """Write a session, replacing the former one in a single step.

    Raises
    ------
    SessionError
        If the folder cannot be written; what was there stays.
    """
    with told_if_not_saved(folder):
        folder.mkdir(parents=True, exist_ok=True)
        with replacing(folder / FILE_NAME) as file:
            file.write(encode_session(session, folder))


@contextmanager
def told_if_not_saved(folder: Path) -> Iterator[None]:
    """What goes wrong while a session is written, in one sentence.

    Raises
    ------
    SessionError
        In place of an OSError.
    """
    try:
        yield
    except OSError as error:
        why = os.strerror(error.errno or errno.EIO)
        raise SessionError(f"The session could not be saved in {folder} ({why}); choose another folder.") from error


def read_file(path: Path, largest_bytes: int = LARGEST_BYTES) -> bytes:
    """The bytes of a file of a session; a link is not followed, since the folder may come from anybody.

    Raises
    ------
    SessionError
        If there is none, or it is far too large.
    """
    try:
        return read_bounded(path, largest_bytes, follow_links=False)
    except FileTooLargeError as error:
        raise SessionError(f"{path}: too large to be a session; choose a session folder.") from error
    except NotARegularFileError as error:
        raise SessionError(f"{path}: {error.strerror}; choose a folder with a {FILE_NAME} of its own.") from error
    except (FileNotFoundError, NotADirectoryError) as error:
        raise SessionError(f"{path}: no session can be read here; choose a folder with a {FILE_NAME}.") from error
    except OSError as error:
        raise SessionError(f"{path}: it cannot be read ({os.strerror(error.errno or errno.EIO)}).") from error


def put_aside(file: Path) -> None:
    """Rename a file that is not to be written over: `journal` becomes `journal.aside-1`, or the next free number.

    Raises
    ------
    OSError
        If it cannot be renamed.
    """
    number = 1
    while os.path.lexists(aside := file.with_name(f"{file.stem}.aside-{number}{file.suffix}")):
        number += 1
    with contextlib.suppress(FileNotFoundError):
        file.rename(aside)


def decode_session(data: bytes, file: Path) -> Session:
    """The session in the bytes of a file; paths are relative to its folder.

    Raises
    ------
    NewerSessionError
        If it was made by a newer version.
    SessionError
        If it is damaged or foreign.
    """
    try:
        head = msgspec.json.decode(data, type=_Head)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise SessionError(f"{file}: this is not a session of Supple Snare, or it is damaged ({error}).") from error
    if head.format != FORMAT:
        raise SessionError(f"{file}: this is not a session of Supple Snare.")
    if head.version > FORMAT_VERSION:
        raise NewerSessionError(
            f"{file}: it was made by a newer version of Supple Snare; update the program to open it."
        )
    try:
        value = msgspec.json.decode(data)["session"]
        return Unpacker(file.parent, head.version).session(value)
    except (msgspec.DecodeError, ValueError, LookupError, TypeError, RecursionError) as error:
        raise SessionError(f"{file}: the session is damaged and was not opened ({error}).") from error


def load_session(path: Path) -> Session:
    """Open a session from its folder or its JSON file. Recordings are not touched.

    Raises
    ------
    SessionError
        If there is no session, or it is damaged, foreign or of a newer version. Nothing is changed.
    """
    file = path / FILE_NAME if path.is_dir() else path
    return decode_session(read_file(file), file)


def _from_earlier(value: Json, version: int) -> Json:
    """A session of an earlier version as one of today."""
    session = copy.deepcopy(value)
    if version < 2:  # level limits held for the whole take
        for track in session["tracks"]:
            track["rules"] = {"level_limit_db": track.pop("level_limit_db", None)}
    if version < 3:  # one steady grid, ruled alike from end to end
        grid = session.pop("grid")
        grid["ruling"] = {"subdivision": grid.pop("subdivision"), "swing": grid.pop("swing")}
        session["take_grid"] = grid
    if version < 4:  # MIDI parts were only kept
        numbers = [int(group["key"][1:]) for group in session["groups"]]
        for number, part in enumerate(session.get("parts", []), 1):
            part["key"] = f"p{number}"
            key = f"g{max(numbers, default=0) + number}"
            session["groups"].append({"key": key, "name": part["name"], "tracks": [], "part": part["key"]})
    return session


def _check_whole(session: Session) -> None:
    """Every track in one group, no group of tracks that are not there, and lengths that memory can be taken for."""
    keys = [each.key for each in session.members]
    grouped = [key for group in session.groups for key in (*group.tracks, *filter(None, (group.part,)))]
    grouped += ["" for group in session.groups if bool(group.part) == bool(group.tracks)]
    leads = [
        key
        for group in session.groups
        for ranked in (group.leads or (), *(own.leads for own in group.section_leads))
        for key in ranked
        if key not in group.tracks
    ]
    heard = [key for track in session.tracks for key in track.listens_to if key not in keys]
    if len(set(keys)) != len(keys) or sorted(keys) != sorted(grouped) or leads or heard:
        raise SessionError("its groups do not match its tracks")
    for recording in (track.recording for track in session.tracks):
        if not (0 < recording.frames <= LONGEST_TAKE_S * recording.rate_hz and recording.channels in (1, 2)):
            raise SessionError(f"{recording.path.name} has a length, a rate or channels that no recording has")
    if any(not 0.0 <= part.length_s <= LONGEST_TAKE_S for part in session.parts):
        raise SessionError("a part has a length that no part has")
    for group in session.groups:
        set_aim(session, group.key, group.aim)
        for own in group.section_settings:
            set_aim(session, group.key, own.aim, section=own.section)
    starts = [section.start_s for section in session.sections]
    if starts != sorted(starts):
        raise SessionError("its sections are out of order")
