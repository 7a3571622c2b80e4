"""Sessions on disk: a folder with one readable JSON file that points to the recordings by relative path."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

import msgspec

from supple_snare.errors import SessionError, SnareError
from supple_snare.session.document import FORMAT_VERSION, Session

FILE_NAME = "session.json"
_LARGEST_BYTES = 64 << 20


class _Envelope(msgspec.Struct, frozen=True):
    """What the file holds."""

    format: str
    version: int
    session: Session


class _Head(msgspec.Struct, frozen=True):
    """The part that every version has."""

    format: str
    version: int


def save_session(session: Session, folder: Path) -> None:
    """Write a session, replacing the former one in a single step.

    Raises
    ------
    SessionError
        If the folder cannot be written; what was there stays.
    """

    def relative(value: Any) -> Any:
        if isinstance(value, Path):
            return Path(os.path.relpath(value, folder.resolve())).as_posix()
        raise NotImplementedError(f"{type(value)} has no place in a session file")

    envelope = _Envelope("supple snare session", FORMAT_VERSION, session)
    data = msgspec.json.format(msgspec.json.encode(envelope, enc_hook=relative), indent=2)
    part = ""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        handle, part = tempfile.mkstemp(prefix=".session-", dir=folder)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        Path(part).replace(folder / FILE_NAME)
    except OSError as error:
        if part:
            Path(part).unlink(missing_ok=True)
        raise SessionError(
            f"The session could not be saved in {folder} ({os.strerror(error.errno or 0)}); choose another folder."
        ) from error


def load_session(path: Path) -> Session:
    """Open a session from its folder or its JSON file. Recordings are not touched.

    Raises
    ------
    SessionError
        If there is no session, or it is damaged, foreign or of a newer version. Nothing is changed.
    """
    file = path / FILE_NAME if path.is_dir() else path
    try:
        if file.stat().st_size > _LARGEST_BYTES:
            raise SessionError(f"{file}: too large to be a session; choose a session folder.")
        data = file.read_bytes()
    except OSError as error:
        raise SessionError(f"{path}: no session can be read here; choose a folder with a {FILE_NAME}.") from error
    try:
        head = msgspec.json.decode(data, type=_Head)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise SessionError(f"{file}: this is not a session of Supple Snare, or it is damaged ({error}).") from error
    if head.format != "supple snare session":
        raise SessionError(f"{file}: this is not a session of Supple Snare.")
    if head.version > FORMAT_VERSION:
        raise SessionError(f"{file}: it was made by a newer version of Supple Snare; update the program to open it.")

    def absolute(kind: type, value: Any) -> Any:
        if kind is Path and isinstance(value, str):
            return Path(os.path.normpath(file.parent.resolve() / value))
        raise NotImplementedError(f"{kind} has no place in a session file")

    try:
        if head.version < FORMAT_VERSION:
            data = _from_earlier(data, head.version)
        session = msgspec.json.decode(data, type=_Envelope, dec_hook=absolute).session
    except (msgspec.DecodeError, SnareError, ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise SessionError(f"{file}: the session is damaged and was not opened ({error}).") from error
    _check_whole(session, file)
    return session


def _from_earlier(data: bytes, version: int) -> bytes:
    """A session of an earlier version as one of today."""
    whole = msgspec.json.decode(data)
    session = whole["session"]
    if version < 2:  # level limits held for the whole take
        for track in session["tracks"]:
            track["rules"] = {"level_limit_db": track.pop("level_limit_db", None)}
    if version < 3:  # one steady grid, ruled alike from end to end
        grid = session.pop("grid")
        grid["ruling"] = {"subdivision": grid.pop("subdivision"), "swing": grid.pop("swing")}
        session["take_grid"] = grid
    return msgspec.json.encode(whole)


def _check_whole(session: Session, file: Path) -> None:
    """Every track in one group, and no group of tracks that are not there."""
    keys = [track.key for track in session.tracks]
    grouped = [key for group in session.groups for key in group.tracks]
    leads = [
        key
        for group in session.groups
        for ranked in (group.leads or (), *(own.leads for own in group.section_leads))
        for key in ranked
        if key not in group.tracks
    ]
    heard = [key for track in session.tracks for key in track.listens_to if key not in keys]
    if len(set(keys)) != len(keys) or sorted(keys) != sorted(grouped) or leads or heard:
        raise SessionError(f"{file}: the session is damaged and was not opened (its groups do not match its tracks).")
    starts = [section.start_s for section in session.sections]
    if starts != sorted(starts):
        raise SessionError(f"{file}: the session is damaged and was not opened (its sections are out of order).")
