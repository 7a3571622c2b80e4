"""Who works in a folder: one at a time writes, and the others can say who it is.

The lock is the kernel's (`flock`), so that it goes with the process that holds it, however that ends. It lies on the
folder itself, which no cleaner or synchronising program takes away while somebody works in it, and on a file in it for
disks that lock files alone. The text in that file only tells a person who holds the folder.
"""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import os
import socket
import time
from pathlib import Path

import msgspec

from supple_snare.disk.opening import open_own, read_bounded

FILE_NAME = ".lock"
_LONGEST_BYTES = 4096


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

    def __init__(self, folder: Path, folder_handle: int) -> None:
        self._folder = folder
        self._folder_handle = folder_handle
        self._file_handle = -1

    @classmethod
    def take(cls, folder: Path) -> FolderLock | Holder:
        """Take the lock of a folder, or learn who holds it.

        Raises
        ------
        OSError
            If no file can be made there, or what lies there under the name of the lock is no plain file of ours.
        """
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        if not _flock(handle):
            os.close(handle)
            return _holder_of(folder)
        lock = cls(folder, handle)
        try:
            if not lock._lock_file():
                lock.release()
                return _holder_of(folder)
        except OSError:
            lock.release()
            raise
        return lock

    def is_whole(self) -> bool:
        """Whether the path still leads to the folder that is held; a lock file that was removed is made anew.

        Raises
        ------
        OSError
            If the folder is gone, or the lock file cannot be made.
        """
        held, there = os.fstat(self._folder_handle), self._folder.stat()
        if (held.st_dev, held.st_ino) != (there.st_dev, there.st_ino):
            return False
        try:
            is_there = os.path.samestat(os.fstat(self._file_handle), (self._folder / FILE_NAME).lstat())
        except FileNotFoundError:
            is_there = False
        return is_there or self._lock_file()

    def _lock_file(self) -> bool:
        """Lock the file in the folder and write into it who holds it; false if another process has it."""
        handle = open_own(self._folder / FILE_NAME, os.O_RDWR | os.O_CREAT)
        if not _flock(handle):
            os.close(handle)
            return False
        if self._file_handle >= 0:
            os.close(self._file_handle)
        self._file_handle = handle
        holder = Holder(_user(), socket.gethostname(), os.getpid(), time.strftime("%d %b, %H:%M"))
        os.ftruncate(handle, 0)
        os.pwrite(handle, msgspec.json.encode(holder), 0)
        return True

    def release(self) -> None:
        """Let it go; the file stays, empty."""
        if self._file_handle >= 0:
            with contextlib.suppress(OSError):
                os.ftruncate(self._file_handle, 0)
            os.close(self._file_handle)
        if self._folder_handle >= 0:
            os.close(self._folder_handle)
        self._file_handle = self._folder_handle = -1


def is_held(folder: Path) -> bool:
    """Return whether anybody holds a folder, without taking it."""
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return not _flock(handle, fcntl.LOCK_SH)
    finally:
        os.close(handle)


def _flock(handle: int, kind: int = fcntl.LOCK_EX) -> bool:
    """Lock a file; false if another process has it. True where the disk knows no locks: better to work than not to."""
    try:
        fcntl.flock(handle, kind | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        pass
    return True


def _holder_of(folder: Path) -> Holder:
    with contextlib.suppress(OSError, msgspec.MsgspecError, UnicodeDecodeError):
        return msgspec.json.decode(read_bounded(folder / FILE_NAME, _LONGEST_BYTES, follow_links=False), type=Holder)
    return Holder()


def _user() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return f"user {os.getuid()}"
