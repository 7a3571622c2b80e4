"""Reading ahead: recordings as chunks in memory, fetched by a thread of their own before they are asked for."""

from __future__ import annotations

import contextlib
from collections import OrderedDict
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from threading import Lock

import numpy as np

from supple_snare.errors import RecordingError
from supple_snare.sound.files import AnyArray, BlockReader, Recording

CHUNK_FRAMES = 1 << 15
"""0.7 s at 48 kHz: small enough to be there at once, large enough that a disk need not seek all the time."""

_CHUNKS_KEPT = 10
"""Of each recording: some seconds, so that a short loop and both versions of a place stay in memory."""


class ReadAhead:
    """Frames of many recordings, as float32. Safe to use from several threads."""

    def __init__(self) -> None:
        self._tracks: dict[Recording, _Chunks] = {}
        self._lock = Lock()
        self._reader = ThreadPoolExecutor(max_workers=1, thread_name_prefix="reading ahead")

    def read(self, recording: Recording, start: int, count: int) -> AnyArray:
        """Frames `start` to `start + count`, shape (count, channels); silence outside the recording.

        What comes next is fetched in the background.

        Raises
        ------
        RecordingError
            If the file vanished or broke.
        """
        track = self._track(recording)
        first, last = start // CHUNK_FRAMES, (start + count - 1) // CHUNK_FRAMES
        chunks = [track.chunk(number) for number in range(first, last + 1)]
        self._fetch(track, last + 1)
        begin = start - first * CHUNK_FRAMES
        whole = chunks[0] if len(chunks) == 1 else np.concatenate(chunks)
        return whole[begin : begin + count]

    def prepare(self, recordings: Iterable[Recording], frame: int) -> None:
        """Fetch what is heard around a place, in the background."""
        for recording in recordings:
            track = self._track(recording)
            here = frame // CHUNK_FRAMES
            near_edge = (frame % CHUNK_FRAMES) < CHUNK_FRAMES // 4
            for number in (here, here - 1 if near_edge else here + 1):
                self._fetch(track, number)

    def keep_only(self, recordings: Iterable[Recording]) -> None:
        """Close all others."""
        wanted = set(recordings)
        with self._lock:
            gone = [self._tracks.pop(known) for known in list(self._tracks) if known not in wanted]
        for track in gone:
            track.close()

    def close(self) -> None:
        """Stop the thread and close all files."""
        self._reader.shutdown(wait=True, cancel_futures=True)
        self.keep_only(())

    def _track(self, recording: Recording) -> _Chunks:
        with self._lock:
            return self._tracks.setdefault(recording, _Chunks(recording))

    def _fetch(self, track: _Chunks, number: int) -> None:
        if track.wants(number):
            with contextlib.suppress(RuntimeError):  # shut down just now
                self._reader.submit(track.fetch, number)


class _Chunks:
    """The chunks of one recording, the newest last."""

    def __init__(self, recording: Recording) -> None:
        self._recording = recording
        self._reader = BlockReader(recording, "float32")
        self._reading = Lock()  # held while the file is read
        self._known: OrderedDict[int, AnyArray] = OrderedDict()
        self._asked: set[int] = set()
        self._lock = Lock()  # held for a moment only
        self._closed = False

    def wants(self, number: int) -> bool:
        """Whether a chunk is to be fetched: it is part of the recording, and not known or on its way."""
        inside = 0 <= number * CHUNK_FRAMES < self._recording.frames
        with self._lock:
            if not inside or number in self._known or number in self._asked:
                return False
            self._asked.add(number)
            return True

    def fetch(self, number: int) -> None:
        """In the background; what goes wrong shows itself when the chunk is asked for."""
        with contextlib.suppress(RecordingError):
            self.chunk(number)
        with self._lock:
            self._asked.discard(number)

    def chunk(self, number: int) -> AnyArray:
        """One chunk, read now if it is not there."""
        if (known := self._take(number)) is not None:
            return known
        with self._reading:
            if (known := self._take(number)) is not None:  # it came while another thread was reading
                return known
            chunk = self._reader.read(number * CHUNK_FRAMES, CHUNK_FRAMES)
            if self._closed:
                self._reader.close()
        chunk.flags.writeable = False
        with self._lock:
            self._known[number] = chunk
            while len(self._known) > _CHUNKS_KEPT:
                self._known.popitem(last=False)
        return chunk

    def _take(self, number: int) -> AnyArray | None:
        with self._lock:
            if number in self._known:
                self._known.move_to_end(number)
                return self._known[number]
        return None

    def close(self) -> None:
        """Close the file, or let a read that is under way close it: whoever closes does not wait for a slow disk."""
        self._closed = True
        if self._reading.acquire(blocking=False):
            try:
                self._reader.close()
            finally:
                self._reading.release()
