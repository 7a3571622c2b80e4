"""Files that are replaced in a single step: whole, or as they were."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO


@contextmanager
def replacing(path: Path) -> Iterator[BinaryIO]:
    """A file to write that takes its name only when the block is left without an error, flushed to disk.

    Raises
    ------
    OSError
        If it cannot be written; what was there stays.
    """
    handle, part = tempfile.mkstemp(prefix=f".{path.stem[:40]}-", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        Path(part).chmod(0o666 & ~_umask())
        Path(part).replace(path)
        sync_folder(path.parent)
    except BaseException:
        Path(part).unlink(missing_ok=True)
        raise


def sync_folder(folder: Path) -> None:
    """Have the disk remember which names a folder holds."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _umask() -> int:
    """The permissions new files leave out; the temporary file had the narrowest."""
    mask = os.umask(0)
    os.umask(mask)
    return mask
