"""The files of a session: whether they are still there and the same, and where they are if they were moved.

A file is known by its size and a hash of all its bytes, so that it is found again under any name, and one that was
changed is told before anything is drawn from it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

import msgspec

from supple_snare.disk.identity import SEEN, FileIdentity
from supple_snare.errors import RecordingChangedError, SnareError
from supple_snare.session.document import Part, Session, Snapshot, Track
from supple_snare.sound.attacks import Progress, part_of
from supple_snare.sound.files import Recording, read_recording
from supple_snare.sound.fingerprint import Fingerprint, take_fingerprint

_MOST_FILES = 20_000
_DEEPEST = 5


@dataclass(frozen=True)
class File:
    """A file that a session is about.

    Attributes
    ----------
    path : Path
    known_by : Fingerprint or None
    recording : Recording or None
        None for a MIDI part.
    """

    path: Path
    known_by: Fingerprint | None
    recording: Recording | None = None


class Trouble(Enum):
    """Why a file cannot be used as it is."""

    MISSING = "was not found"
    CHANGED = "is not the file it was"
    UNREADABLE = "cannot be read"


def files_of(session: Session) -> list[File]:
    """The files of a session, each once."""
    found = [File(track.recording.path, track.known_by, track.recording) for track in session.tracks]
    found += [File(part.path, part.known_by) for part in session.parts]
    return list({file.path: file for file in found}.values())


def check_file(file: File, progress: Progress | None = None) -> tuple[Fingerprint | None, Trouble | None]:
    """Read a file whole and compare it with what it is known by.

    Returns
    -------
    fingerprint : Fingerprint or None
        As it is now, if it can be read.
    trouble : Trouble or None
        What is wrong with it.
    """
    if not file.path.is_file():
        return None, Trouble.MISSING
    try:
        before = FileIdentity.of(file.path)
        if file.known_by is not None and before.size != file.known_by.size:
            return None, Trouble.CHANGED
        fingerprint = take_fingerprint(file.path, progress)
        if file.recording is not None and not _is_alike(read_recording(file.path), file.recording):
            return fingerprint, Trouble.CHANGED
        SEEN.note(file.path, before)
        if SEEN.has_changed(file.path):  # while it was read
            return fingerprint, Trouble.CHANGED
    except (SnareError, OSError):
        return None, Trouble.UNREADABLE
    changed = file.known_by is not None and fingerprint != file.known_by
    return fingerprint, Trouble.CHANGED if changed else None


def check_unchanged(files: Sequence[File], progress: Progress | None = None) -> None:
    """Read files whole, and raise at the first that is not the one that it was.

    Raises
    ------
    RecordingChangedError
        If its bytes are others.
    RecordingError
        If it is missing or cannot be read.
    """
    for number, file in enumerate(files):
        if (
            file.known_by is not None
            and take_fingerprint(file.path, part_of(progress, number, len(files))) != file.known_by
        ):
            raise RecordingChangedError(file.path)


def find_files(wanted: Sequence[File], folders: Iterable[Path], progress: Progress | None = None) -> dict[Path, Path]:
    """Look for files in folders and what lies below: the same bytes under any name.

    A file that was never read whole is known by its name, rate and length only.

    Parameters
    ----------
    wanted : sequence of File
    folders : iterable of Path
    progress : callable, optional
        Called with the share done, 0 to 1; may raise to stop the work.

    Returns
    -------
    dict of Path to Path
        Where each that was found is now.
    """
    found: dict[Path, Path] = {}
    there = list(dict.fromkeys(path for folder in folders for path in _files_below(folder)))
    for number, file in enumerate(wanted):
        if progress is not None:
            progress(number / len(wanted))
        same_name = [path for path in there if path.name == file.path.name]
        others = [] if file.known_by is None else [path for path in there if path.name != file.path.name]
        match = next((path for path in (*same_name, *others) if _is_file(path, file)), None)
        if match is not None:
            found[file.path] = match
    return found


def _is_file(path: Path, file: File) -> bool:
    """Whether there lies the file that is looked for."""
    try:
        if file.known_by is not None:
            return path.stat().st_size == file.known_by.size and take_fingerprint(path) == file.known_by
        return file.recording is None or _is_alike(read_recording(path), file.recording)
    except (SnareError, OSError):
        return False


def _is_alike(one: Recording, other: Recording) -> bool:
    return (one.frames, one.rate_hz, one.channels) == (other.frames, other.rate_hz, other.channels)


def _files_below(folder: Path) -> list[Path]:
    """Files in a folder and below, not endlessly many."""
    found: list[Path] = []
    for root, folders, names in os.walk(folder):
        if len(Path(root).parts) - len(folder.parts) >= _DEEPEST:
            folders.clear()
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        found += [Path(root) / name for name in sorted(names)]
        if len(found) > _MOST_FILES:
            return found[:_MOST_FILES]
    return found


def with_fingerprints(session: Session, known: Mapping[Path, Fingerprint]) -> Session:
    """The session with what its files are known by, where that was not known yet."""

    def track(each: Track) -> Track:
        told = known.get(each.recording.path) if each.known_by is None else None
        return each if told is None else msgspec.structs.replace(each, known_by=told)

    def part(each: Part) -> Part:
        told = known.get(each.path) if each.known_by is None else None
        return each if told is None else msgspec.structs.replace(each, known_by=told)

    return _with_each(session, track, part)


def relocated(session: Session, moved: Mapping[Path, Path]) -> Session:
    """The session whose files lie elsewhere now."""

    def track(each: Track) -> Track:
        path = moved.get(each.recording.path)
        return each if path is None else msgspec.structs.replace(each, recording=replace(each.recording, path=path))

    def part(each: Part) -> Part:
        path = moved.get(each.path)
        return each if path is None else msgspec.structs.replace(each, path=path)

    return _with_each(session, track, part)


@dataclass(frozen=True)
class Now:
    """A file as it is now."""

    fingerprint: Fingerprint
    recording: Recording | None


def look_again(file: File, progress: Progress | None = None) -> Now:
    """Look at a file that was changed.

    Raises
    ------
    RecordingError
        If it cannot be read, or is no recording any more.
    """
    fingerprint = take_fingerprint(file.path, progress)
    return Now(fingerprint, None if file.recording is None else read_recording(file.path))


def accepted(session: Session, now: Mapping[Path, Now]) -> Session:
    """The session that takes changed files as they are now."""

    def track(each: Track) -> Track:
        seen = now.get(each.recording.path)
        if seen is None or seen.recording is None:
            return each
        return msgspec.structs.replace(each, recording=seen.recording, known_by=seen.fingerprint)

    def part(each: Part) -> Part:
        seen = now.get(each.path)
        return each if seen is None else msgspec.structs.replace(each, known_by=seen.fingerprint)

    return _with_each(session, track, part)


def _with_each(session: Session, track: Callable[[Track], Track], part: Callable[[Part], Part]) -> Session:
    """The session, and what its snapshots hold, with every track and part changed; itself where nothing is."""

    def changed(whole: Session | Snapshot) -> dict[str, object]:
        tracks, parts = tuple(map(track, whole.tracks)), tuple(map(part, whole.parts))
        return {"tracks": tracks, "parts": parts} if (tracks, parts) != (whole.tracks, whole.parts) else {}

    snapshots = tuple(
        msgspec.structs.replace(each, **own) if (own := changed(each)) else each for each in session.snapshots
    )
    changes = changed(session)
    if snapshots != session.snapshots:
        changes["snapshots"] = snapshots
    return msgspec.structs.replace(session, **changes) if changes else session
