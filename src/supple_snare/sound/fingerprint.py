"""What tells a file from every other: its size and a hash of all its bytes."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from supple_snare.disk.opening import open_for_reading
from supple_snare.errors import RecordingError

_BLOCK_BYTES = 1 << 22


@dataclass(frozen=True)
class Fingerprint:
    """Of one file.

    Attributes
    ----------
    size : int
        In bytes.
    sha256 : str
        In hexadecimal.
    """

    size: int
    sha256: str


def take_fingerprint(path: Path, progress: Callable[[float], None] | None = None) -> Fingerprint:
    """Read a file whole, in blocks.

    Parameters
    ----------
    path : Path
    progress : callable, optional
        Called with the share done, 0 to 1; may raise to stop the work.

    Raises
    ------
    RecordingError
        If it is missing or cannot be read.
    """
    digest, size = hashlib.sha256(), 0
    try:
        with os.fdopen(open_for_reading(path), "rb", buffering=0) as file:
            whole = max(os.fstat(file.fileno()).st_size, 1)
            while block := file.read(_BLOCK_BYTES):
                digest.update(block)
                size += len(block)
                if progress is not None:
                    progress(min(size / whole, 1.0))
    except OSError as error:
        raise RecordingError(path, f"it cannot be read in {path.parent} ({error.strerror}).") from error
    return Fingerprint(size, digest.hexdigest())
