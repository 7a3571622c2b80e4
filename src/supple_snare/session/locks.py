"""Who works in a folder: one at a time writes, and the others can say who it is.

The lock is the kernel's (`flock`), so that it goes with the process that holds it, however that ends. The text in the
file only tells a person who holds it.
"""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import os
import socket
import time
from pathlib import Path
from typing import BinaryIO

import msgspec

FILE_NAME = ".lock"


class Holder(msgspec.Struct, frozen=True):
    """Who holds a folder."""

    user: str = ""
    host: str = ""
    process: int = 0
    since: str = ""

    def describe(self) -> str:
        """In a few words."""
        if not self.user:
            return "another window"
        here = "" if self.host == socket.gethostname() else f" on {self.host}"
        window = "another window" if self.process == os.getpid() else f"process {self.process}"
        return f"{self.user}{here} ({window}, since {self.since})"


class FolderLock:
    """The right to write in one folder, until it is let go.

    Use `take`; a lock that could not be taken is a `Holder`.
    """

    def __init__(self, file: BinaryIO) -> None:
        self._file: BinaryIO | None = file

    @classmethod
    def take(cls, folder: Path) -> FolderLock | Holder:
        """Take the lock of a folder, or learn who holds it.

        Raises
        ------
        OSError
            If no file can be made there.
        """
        path = folder / FILE_NAME
        file = path.open("a+b")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.seek(0)
            with contextlib.suppress(msgspec.MsgspecError, UnicodeDecodeError), file:
                return msgspec.json.decode(file.read(4096), type=Holder)
            return Holder()
        except OSError:
            pass  # a file system without locks: better to work than not to
        holder = Holder(_user(), socket.gethostname(), os.getpid(), time.strftime("%d %b, %H:%M"))
        file.seek(0)
        file.truncate()
        file.write(msgspec.json.encode(holder))
        file.flush()
        return cls(file)

    def release(self) -> None:
        """Let it go; the file stays, empty."""
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.truncate(0)
            self._file.close()
            self._file = None


def _user() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return f"user {os.getuid()}"
