"""The program's own files, replaced in a single step: whole, or as they were."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO


def create_part(folder: Path) -> tuple[int, Path]:
    """Make a new file under a name that nobody can guess, and return its descriptor and path.

    The name is 22 bytes long, so that it fits wherever the final name does.

    Raises
    ------
    OSError
        If it cannot be made.
    """
    while True:
        path = folder / f".{secrets.token_hex(8)}.part"
        try:
            return os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666), path
        except FileExistsError:
            continue


@contextmanager
def replacing(path: Path, *, is_durable: bool = True, syncs_folder: bool = True) -> Iterator[BinaryIO]:
    """Give a file to write that takes the name `path` only when the block ends without an error.

    For files that belong to the program. A link of that name is replaced, never followed. What is written for a person
    goes through `outputs`.

    Parameters
    ----------
    path : Path
    is_durable : bool
        Whether to wait until it is on disk, so that a power cut leaves one of both files whole.
    syncs_folder : bool
        Whether to wait until the folder is on disk, too, so that it is the new one.

    Raises
    ------
    OSError
        If it cannot be written; the former file stays.
    """
    handle, part = create_part(path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
            if is_durable:
                file.flush()
                os.fsync(file.fileno())
        part.replace(path)
        if is_durable and syncs_folder:
            sync_folder(path.parent)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


def sync_folder(folder: Path) -> None:
    """Make the names in a folder survive a power cut."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
