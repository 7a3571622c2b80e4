"""The stretched parts of a group's recordings: each is rendered once, when it is first wanted, and kept for a while."""

from __future__ import annotations

import contextlib
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import SnareError
from supple_snare.sound.files import BlockReader, Recording
from supple_snare.sound.stretch.vocoder import StretchedPart, margin, stretch_locked

_MOST_BYTES = 1 << 26
"""64 MB: 40 s of eight tracks. What was used longest ago goes first."""


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
                    found = self._render(part)
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
            while self._bytes > _MOST_BYTES and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1].nbytes

    def _render(self, part: StretchedPart) -> NDArray[np.float32]:
        rate_hz = self.recordings[0].rate_hz
        around = margin(part, rate_hz)
        rows = []
        for recording in self.recordings:
            with BlockReader(recording, "float32") as reader:
                rows.append(reader.read(part.source - around, part.until - part.source + 2 * around).T)
        return stretch_locked(np.concatenate(rows), part, rate_hz)
