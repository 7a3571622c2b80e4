"""The stretched parts of a group's recordings: each is rendered once, when it is first wanted, and kept for a while."""

from __future__ import annotations

import contextlib
import tempfile
import weakref
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from threading import Lock
from typing import IO

import numpy as np
import platformdirs
from numpy.typing import NDArray

from supple_snare.errors import SnareError
from supple_snare.sound.files import BlockReader, Recording
from supple_snare.sound.stretch.vocoder import StretchedPart, margin, stretch_locked

_IN_MEMORY_BYTES, _ON_DISK_BYTES = 1 << 25, 1 << 31
"""32 MB in memory: 20 s of eight tracks; 2 GB on disk: 20 min of them. What was used or made longest ago goes first."""


PREPARED_AHEAD = 1 << 16
"""A part is rendered so many samples before it is heard: 1.4 s at 48 kHz."""


@lru_cache
def _renderer() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max_workers=1, thread_name_prefix="stretching")


class StretchedSound:
    """Rendered parts of one group. Safe to use from several threads.

    Parameters
    ----------
    recordings : sequence of Recording
        All tracks of the group, of one rate: what is stretched in one is stretched alike in all.
    """

    def __init__(self, recordings: Sequence[Recording]) -> None:
        self.recordings = tuple(recordings)
        self._kept: OrderedDict[StretchedPart, NDArray[np.float32]] = OrderedDict()
        self._bytes = 0
        self._asked: set[StretchedPart] = set()
        self._lock = Lock()  # held for a moment only
        self._rendering = Lock()
        self._disk = _DiskCache()
        ends = np.cumsum([recording.channels for recording in self.recordings]).tolist()
        self._rows = {
            recording: slice(end - recording.channels, end)
            for recording, end in zip(self.recordings, ends, strict=True)
        }

    def prepare(self, part: StretchedPart) -> None:
        """Render a part in the background; what goes wrong shows itself when it is read."""
        with self._lock:
            if part in self._kept or part in self._asked:
                return
            self._asked.add(part)
        with contextlib.suppress(RuntimeError):  # the program is closing
            _renderer().submit(self._prepare, part)

    def _prepare(self, part: StretchedPart) -> None:
        with contextlib.suppress(SnareError):
            self.read(self.recordings[0], part)
        with self._lock:
            self._asked.discard(part)

    def read(self, recording: Recording, part: StretchedPart) -> NDArray[np.float32]:
        """A stretched part of one recording, shape (part.length, channels).

        Raises
        ------
        RecordingError
            If a recording of the group breaks while it is read.
        """
        found = self._known(part)
        if found is None:
            with self._rendering:  # another thread may be at this very part
                found = self._known(part)
                if found is None:
                    found = self._disk.get(part)
                    if found is None:
                        found = self._render(part)
                        self._disk.put(part, found)
                    self._keep(part, found)
        return found[self._rows[recording]].T

    def _known(self, part: StretchedPart) -> NDArray[np.float32] | None:
        with self._lock:
            if part in self._kept:
                self._kept.move_to_end(part)
                return self._kept[part]
        return None

    def _keep(self, part: StretchedPart, sound: NDArray[np.float32]) -> None:
        with self._lock:
            self._kept[part] = sound
            self._bytes += sound.nbytes
            while self._bytes > _IN_MEMORY_BYTES and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1].nbytes

    def _render(self, part: StretchedPart) -> NDArray[np.float32]:
        rate_hz = self.recordings[0].rate_hz
        around = margin(part, rate_hz)
        rows = []
        for recording in self.recordings:
            with BlockReader(recording, "float32") as reader:
                rows.append(reader.read(part.source - around, part.until - part.source + 2 * around).T)
        return stretch_locked(np.concatenate(rows), part, rate_hz)


class _DiskCache:
    """Rendered parts in a file without a name, which is gone with the program. Used by one thread at a time.

    A disk that is full or missing only costs time.
    """

    def __init__(self) -> None:
        self._file: IO[bytes] | None = None
        self._places: dict[StretchedPart, tuple[int, int]] = {}
        """Where each begins, in bytes, and of how many rows it is."""
        self._end = 0

    def get(self, part: StretchedPart) -> NDArray[np.float32] | None:
        if self._file is None or part not in self._places:
            return None
        place, rows = self._places[part]
        sound = np.zeros((rows, part.length), dtype=np.float32)
        try:
            self._file.seek(place)
            whole = self._file.readinto(memoryview(sound).cast("B")) == sound.nbytes  # type: ignore
        except OSError:
            return None
        return sound if whole else None

    def put(self, part: StretchedPart, sound: NDArray[np.float32]) -> None:
        if self._end + sound.nbytes > _ON_DISK_BYTES:
            self._places.clear()
            self._end = 0
        try:
            if self._file is None:
                self._file = _nameless_file()
                weakref.finalize(self, self._file.close)
            self._file.seek(self._end)
            self._file.write(np.ascontiguousarray(sound).data)
        except OSError:
            return
        self._places[part] = self._end, len(sound)
        self._end += sound.nbytes


def _nameless_file() -> IO[bytes]:
    """A file on the disk that caches are for: the system's own place for such files may be memory."""
    folder = platformdirs.user_cache_path("supple-snare")
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True)
        return tempfile.TemporaryFile(dir=folder, buffering=0)
    return tempfile.TemporaryFile(buffering=0)
