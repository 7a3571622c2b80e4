"""Which sessions are open on this machine, in any window, and so which recordings nobody may write over.

Each window notes the folder that it holds in the user's state folder. A note whose folder nobody holds any more was
left by a window that was killed, and is removed by whoever finds it.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from pathlib import Path

import platformdirs

from supple_snare.disk.opening import read_bounded
from supple_snare.disk.replacing import replacing
from supple_snare.errors import SessionError
from supple_snare.session.document import Session, Snapshot
from supple_snare.session.locks import is_held
from supple_snare.session.storage import FILE_NAME, load_session

_MOST_SESSIONS = 50
_LONGEST_PATH_BYTES = 1 << 16


def unsaved_folder() -> Path:
    """Return where sessions without a folder of their own are kept."""
    return platformdirs.user_state_path("supple-snare") / "unsaved"


def note_open(folder: Path) -> None:
    """Note that a folder is held; without the note only less is protected, so errors are not told."""
    with contextlib.suppress(OSError):
        note = _note_of(folder)
        note.parent.mkdir(parents=True, exist_ok=True)
        with replacing(note, is_durable=False) as file:
            file.write(os.fsencode(folder.resolve()))


def note_closed(folder: Path) -> None:
    """Remove the note."""
    with contextlib.suppress(OSError):
        _note_of(folder).unlink(missing_ok=True)


def files_in_use() -> tuple[Path, ...]:
    """Return the recordings and parts of all sessions that are open in any window or wait to be brought back."""
    found: dict[Path, None] = {}
    for folder in _open_folders()[:_MOST_SESSIONS]:
        with contextlib.suppress(SessionError):
            found |= dict.fromkeys(paths_of(load_session(folder)))
    return tuple(found)


def paths_of(session: Session) -> list[Path]:
    """Return the paths of all recordings and parts of a session, of its snapshots as well."""
    wholes: list[Session | Snapshot] = [session, *session.snapshots]
    paths = [track.recording.path for whole in wholes for track in whole.tracks]
    return paths + [part.path for whole in wholes for part in whole.parts]


def _open_folders() -> list[Path]:
    found = [file.parent for file in unsaved_folder().glob(f"*/{FILE_NAME}")]
    for note in _notes_folder().glob("*"):
        with contextlib.suppress(OSError):
            folder = Path(os.fsdecode(read_bounded(note, _LONGEST_PATH_BYTES)))
            if is_held(folder):
                found.append(folder)
            else:
                note.unlink(missing_ok=True)
    return found


def _notes_folder() -> Path:
    return platformdirs.user_state_path("supple-snare") / "open"


def _note_of(folder: Path) -> Path:
    return _notes_folder() / hashlib.blake2b(os.fsencode(folder.resolve()), digest_size=16).hexdigest()
