"""Mixing for listening: all tracks of the take, as played or tightened, block by block, with a click."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import AnyArray, BlockReader, Recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.units import db_to_amplitude

Stereo = NDArray[np.float32]

_AHEAD_FRAMES = 1 << 16
_CLICK_S = 0.03


@dataclass(frozen=True)
class MixTrack:
    """One track of the mix.

    Attributes
    ----------
    recording : Recording
    edits : EditList
        What happens to it when heard tightened.
    gain : float
        Amplitude; 0 leaves it out without reading it.
    """

    recording: Recording
    edits: EditList
    gain: float = 1.0


@dataclass(frozen=True)
class Click:
    """The click: a short tone on every count of the meter, higher on the first."""

    grid: Grid
    level_db: float = -12.0


class Mixer:
    """Renders stereo blocks of the take. Used from one thread; a new mix is taken over by `change`."""

    def __init__(self, tracks: Sequence[MixTrack] = (), rate_hz: int = 48_000) -> None:
        self.rate_hz = rate_hz
        self._tracks: tuple[MixTrack, ...] = ()
        self._readers: dict[Recording, _AheadReader] = {}
        self.click: Click | None = None
        self.change(tracks, rate_hz)

    def change(self, tracks: Sequence[MixTrack], rate_hz: int | None = None) -> None:
        """Take over other tracks, gains or edits; files that stay stay open."""
        self._tracks = tuple(tracks)
        self.rate_hz = rate_hz or self.rate_hz
        wanted = {track.recording for track in tracks}
        for recording in [known for known in self._readers if known not in wanted]:
            self._readers.pop(recording).close()
        for recording in wanted - self._readers.keys():
            self._readers[recording] = _AheadReader(recording)

    def close(self) -> None:
        """Close all files."""
        self.change(())

    def block(self, start: int, count: int, *, tightened: bool) -> Stereo:
        """Frames `start` to `start + count` of the mix, shape (count, 2).

        Raises
        ------
        RecordingError
            If a file breaks while it is read.
        """
        mix: Stereo = np.zeros((count, 2), dtype=np.float32)
        for track in self._tracks:
            if track.gain > 0.0:
                read = self._readers[track.recording].read
                sound = track.edits.render(read, start, count) if tightened else read(start, count)
                mix += sound * np.float32(track.gain)
        if self.click is not None:
            _add_click(mix, self.click, start, self.rate_hz)
        return mix


class _AheadReader:
    """Reads more than asked for, so that small blocks cost no system call each."""

    def __init__(self, recording: Recording) -> None:
        self._reader = BlockReader(recording, "float32")
        self._start = 0
        self._block: AnyArray = np.zeros((0, recording.channels), dtype=np.float32)

    def read(self, start: int, count: int) -> AnyArray:
        if start < self._start or start + count > self._start + len(self._block):
            # A little before as well: the next block of a cut may begin earlier in the recording than this one.
            self._start = start - _AHEAD_FRAMES // 8
            self._block = self._reader.read(self._start, max(count, _AHEAD_FRAMES) + _AHEAD_FRAMES // 8)
        return self._block[start - self._start : start - self._start + count]

    def close(self) -> None:
        self._reader.close()


def _add_click(mix: Stereo, click: Click, start: int, rate_hz: int) -> None:
    length = round(_CLICK_S * rate_hz)
    slots = click.grid.slots((start - length) / rate_hz, (start + len(mix)) / rate_hz)
    gain = db_to_amplitude(click.level_db)
    for time_s, beat in zip(slots.time_s[slots.on_count], slots.beat[slots.on_count], strict=True):
        at = round(time_s * rate_hz) - start
        first, last = max(at, 0), min(at + length, len(mix))
        if first < last:
            place = np.arange(first - at, last - at) / rate_hz
            pitch = 1760.0 if beat == 0 else 1174.66
            tone = gain * np.sin(2 * np.pi * pitch * place) * np.exp(-place / 0.006)
            mix[first:last] += tone[:, None].astype(np.float32)
