"""A shelter for sessions that have no folder yet: kept in the user's state folder until they are saved or given up.

Each is a session folder of its own, held by the window that works on it. What a window leaves behind because it was
killed is held by nobody, and found by the next one.
"""

from __future__ import annotations

import os
import shutil
import time
from dataclasses import dataclass
from pathlib import Path

from supple_snare.errors import SessionError
from supple_snare.session.document import Session
from supple_snare.session.folder import SessionFolder, open_history
from supple_snare.session.locks import Holder
from supple_snare.session.storage import FILE_NAME

_MOST_LEFT = 20
"""So many are looked at; nobody lost more sessions than that."""


@dataclass(frozen=True)
class Left:
    """A session that was left behind."""

    folder: Path
    session: Session


class Shelter:
    """Places for unsaved sessions.

    Parameters
    ----------
    root : Path
        Holds all places; made when one is taken.
    """

    def __init__(self, root: Path) -> None:
        self._root = root

    def place(self) -> SessionFolder:
        """A new place, held.

        Raises
        ------
        SessionError
            If none can be made.
        """
        for number in range(1_000):
            path = self._root / f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}-{number}"
            if not path.exists() and isinstance(place := SessionFolder.take(path), SessionFolder):
                return place
        raise SessionError(f"{self._root}: no place for unsaved work; remove what lies there.")

    def left(self) -> list[Left]:
        """What nobody works on, newest first; what cannot be read stays where it is."""
        found = []
        for file in sorted(self._root.glob(f"*/{FILE_NAME}"), key=_age_s)[:_MOST_LEFT]:
            try:
                place = SessionFolder.take(file.parent)
                if isinstance(place, Holder):
                    continue
                with place:
                    found.append(Left(file.parent, open_history(file.parent).history.present))
            except SessionError:
                continue
        return found

    def give_up(self, folder: Path) -> None:
        """Nobody wants what is kept in one of its places any more."""
        if folder.parent == self._root:
            shutil.rmtree(folder, ignore_errors=True)


def _age_s(file: Path) -> float:
    try:
        return -file.stat().st_mtime
    except OSError:
        return 0.0
