"""Which file it is that a path leads to, and whether it is still the one that was looked at.

A recording is looked at once and read many times. Each time that it is opened or read again, its device, inode, size
and time of change are compared with those of the look. This costs a microsecond; only where they differ are the bytes
hashed again.
"""

from __future__ import annotations

import os
from pathlib import Path
from threading import Lock
from typing import NamedTuple


class FileIdentity(NamedTuple):
    """What the operating system says of a file: a file written over, or replaced by another, has another."""

    device: int
    inode: int
    size: int
    changed_ns: int

    @classmethod
    def of(cls, file: Path | int) -> FileIdentity:
        """Of a path or an open descriptor.

        Raises
        ------
        OSError
            If there is no such file.
        """
        state = os.fstat(file) if isinstance(file, int) else file.stat()
        return cls(state.st_dev, state.st_ino, state.st_size, state.st_mtime_ns)


class SeenFiles:
    """The identity that each path had when it was last looked at. May be used from any thread."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._seen: dict[str, FileIdentity] = {}

    def note(self, path: Path, identity: FileIdentity) -> None:
        """A path was looked at: from now on it should lead to this file."""
        with self._lock:
            self._seen[os.fspath(path)] = identity

    def is_same(self, path: Path, identity: FileIdentity) -> bool:
        """Whether a path led to this file when it was last looked at; true for one that never was."""
        with self._lock:
            return self._seen.get(os.fspath(path), identity) == identity

    def has_changed(self, path: Path) -> bool:
        """Whether a path leads to another file than at the last look, or to none."""
        try:
            return not self.is_same(path, FileIdentity.of(path))
        except OSError:
            return True


SEEN = SeenFiles()
"""Of this process: whoever reads a recording asks here, so that no reader can miss that it was exchanged."""
