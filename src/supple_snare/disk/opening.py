"""Opening files that may be anything: a pipe, a device, a link to somewhere else, a file that never ends.

A file that belongs to the program, such as a journal, is opened without following a link, since a session folder may
come from somebody else. A file that a person names may be a link.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

_READ_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK
"""Without waiting: opening a named pipe would otherwise last until somebody writes into it."""


class NotARegularFileError(OSError):
    """A folder, pipe, device, socket, or a link where none is followed."""

    def __init__(self, path: Path, kind: str) -> None:
        super().__init__(errno.EINVAL, f"it is {kind}, not a regular file", str(path))


class FileTooLargeError(OSError):
    """A file with more bytes than its reader accepts."""

    def __init__(self, path: Path, most_bytes: int) -> None:
        super().__init__(errno.EFBIG, f"it is larger than {most_bytes:,} bytes", str(path))


def real_path(path: Path) -> Path:
    """Return the absolute path with all links followed; also of a file that is not there, or a link to itself.

    `Path.resolve` raises a RuntimeError for the latter.
    """
    return Path(os.path.realpath(path))


def shown_name(name: str) -> str:
    """Return a file's name as text that can be shown and saved, with a mark for each byte that is no UTF-8.

    >>> shown_name("sn\\udcffare")
    'sn�are'
    """
    return os.fsencode(name).decode(errors="replace")


def open_for_reading(path: Path, *, follow_links: bool = True) -> int:
    """Return the descriptor of a regular file, open for reading.

    Parameters
    ----------
    path : Path
    follow_links : bool
        Whether `path` itself may be a symbolic link.

    Raises
    ------
    NotARegularFileError
        If it is anything but a regular file. Returns at once also for a pipe.
    OSError
        If it cannot be opened.
    """
    flags = _READ_FLAGS if follow_links else _READ_FLAGS | os.O_NOFOLLOW
    return _regular(_opened(path, flags), path)


def open_own(path: Path, flags: int) -> int:
    """Return the descriptor of a file of the program's own, open for writing.

    Parameters
    ----------
    path : Path
    flags : int
        Of `os.open`, without O_TRUNC, which would take effect before the file is looked at.

    Raises
    ------
    NotARegularFileError
        If it is not a regular file, or has a second name (hard link) that a write would change as well.
    OSError
        If it cannot be opened.
    """
    descriptor = _regular(_opened(path, flags | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK), path)
    if os.fstat(descriptor).st_nlink > 1:
        os.close(descriptor)
        raise NotARegularFileError(path, "a file with a second name")
    return descriptor


def read_bounded(path: Path, most_bytes: int, *, follow_links: bool = True) -> bytes:
    """Return all bytes of a regular file.

    Raises
    ------
    FileTooLargeError
        If it holds more than `most_bytes`, whatever its size was said to be.
    NotARegularFileError, OSError
        As `open_for_reading`.
    """
    with os.fdopen(open_for_reading(path, follow_links=follow_links), "rb") as file:
        data = file.read(most_bytes + 1)
    if len(data) > most_bytes:
        raise FileTooLargeError(path, most_bytes)
    return data


def _opened(path: Path, flags: int) -> int:
    try:
        return os.open(path, flags, 0o666)
    except OSError as error:
        if error.errno == errno.ELOOP and path.is_symlink():
            kind = "a link" if flags & os.O_NOFOLLOW else "a link that leads to itself"
            raise NotARegularFileError(path, kind) from error
        if error.errno == errno.EISDIR:
            raise NotARegularFileError(path, "a folder") from error
        if error.errno == errno.ENXIO:  # a pipe that nobody reads, a socket
            raise NotARegularFileError(path, "a pipe") from error
        raise


def _regular(descriptor: int, path: Path) -> int:
    mode = os.fstat(descriptor).st_mode
    if stat.S_ISREG(mode):
        return descriptor
    os.close(descriptor)
    kinds = {stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket"}
    raise NotARegularFileError(path, kinds.get(stat.S_IFMT(mode), "a device"))
