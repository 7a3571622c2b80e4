"""Large arrays kept in files instead of memory: the system reads from them what is looked at, when it is looked at.

What is heard of an hour of a track takes some 40 MB, and a person looks at a few seconds of it. The files are
temporary, without a name, and go when the last array is gone.
"""

from __future__ import annotations

import ctypes
import mmap
import tempfile
from collections.abc import Callable, Iterable
from threading import Lock
from typing import IO, Any, cast
from weakref import WeakSet

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]

_LEAST_BYTES = 1 << 20
"""Smaller arrays stay in memory: each file takes a descriptor, of which a process has some thousand."""

_CHUNK_BYTES = 1 << 20

_maps: WeakSet[mmap.mmap] = WeakSet()
_lock = Lock()


class RowsWriter:
    """Gathers rows of one shape and type; many of them go into a file."""

    def __init__(self) -> None:
        self._parts: list[Array] = []
        self._held_bytes = 0
        self._file: IO[bytes] | None = None
        self._rows = 0

    def add(self, rows: Array) -> None:
        """Add rows, shape (n, …)."""
        self._parts.append(rows)
        self._held_bytes += rows.nbytes
        self._rows += len(rows)
        if self._held_bytes >= _LEAST_BYTES:
            self._spill()

    def finish(self) -> Array:
        """Return all rows that were added, at least none of them, as one read-only array."""
        first = self._parts[0] if self._parts else np.zeros(0)
        if self._file is None:
            whole = np.concatenate(self._parts) if len(self._parts) != 1 else first.copy()
            whole.flags.writeable = False
            return whole
        self._spill()
        with self._file as file:
            file.flush()
            mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        with _lock:
            _maps.add(mapped)
        return np.frombuffer(mapped, first.dtype).reshape(self._rows, *first.shape[1:])

    def _spill(self) -> None:
        """Move what is held into the file; where none can be made, it stays: a full disk only costs memory."""
        try:
            self._file = self._file or tempfile.TemporaryFile(prefix="supple-snare-")  # noqa: SIM115  # closed when mapped
        except OSError:
            return
        for part in self._parts:
            self._file.write(np.ascontiguousarray(part).data)
        self._parts, self._held_bytes = [self._parts[0][:0]], 0


def kept_rows(rows: Array) -> Array:
    """Return an array, read-only, in a file if it is large."""
    return joined_rows([rows])


def joined_rows(parts: Iterable[Array]) -> Array:
    """Return several arrays one after the other, in a file if they are large."""
    writer = RowsWriter()
    for part in parts:
        writer.add(part)
    return writer.finish()


def chosen_rows(rows: Array, which: Array) -> Array:
    """Return some rows, by a mask or by their numbers, in a file if they are large."""
    numbers = np.flatnonzero(which) if which.dtype == np.bool_ else which
    row_bytes = max(rows.nbytes // max(len(rows), 1), 1)
    step = max(_CHUNK_BYTES // row_bytes, 1)
    return joined_rows(rows[numbers[first : first + step]] for first in range(0, max(len(numbers), 1), step))


def release_rows(rows: Array) -> None:
    """Give back the memory of what was looked at of one array, if it is in a file; the next look reads it again."""
    owner: object = rows
    while isinstance(owner, np.ndarray):
        owner = owner.base
    owner = owner.obj if isinstance(owner, memoryview) else owner
    if isinstance(owner, mmap.mmap):
        owner.madvise(mmap.MADV_DONTNEED)


def release_memory() -> None:
    """Give back the memory of what was looked at in files, which the next look reads again, and of what was freed.

    Without this the process keeps all that it ever used while the system has memory to spare.
    """
    with _lock:
        for each in list(_maps):
            each.madvise(mmap.MADV_DONTNEED)
    if _trim is not None:
        _trim(0)


def share_heaps() -> None:
    """Let all threads take memory from two heaps; by default each new thread gets one, of which each keeps a rest."""
    if _set_option is not None:
        _set_option(_ARENA_MAX, 2)


def _libc(name: str) -> Callable[..., int] | None:
    """A function of glibc's; None in other C libraries."""
    try:
        return cast(Callable[..., int], getattr(ctypes.CDLL(None), name))
    except (OSError, AttributeError):
        return None


_trim, _set_option = _libc("malloc_trim"), _libc("mallopt")
_ARENA_MAX = -8
"""M_ARENA_MAX of glibc's malloc.h."""
