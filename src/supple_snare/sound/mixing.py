"""Mixing for listening: all tracks of the take, as played or tightened, block by block, with a click."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.ahead import ReadAhead
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import Recording
from supple_snare.sound.taps import TapTrack
from supple_snare.timing.grid import Grid
from supple_snare.timing.units import db_to_amplitude

Stereo = NDArray[np.float32]

_CLICK_S = 0.03
_FIRST_HZ, _COUNT_HZ, _SLOT_HZ = 1760.0, 1174.66, 880.0
_SLOT_DB = -9.0
"""Slots between the counts are softer than those."""


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
    pan : float
        −1 (left alone) to 1 (right alone); in between the farther side gets softer, and both are whole at 0.
    """

    recording: Recording
    edits: EditList
    gain: float = 1.0
    pan: float = 0.0


@dataclass(frozen=True)
class Click:
    """The click: a short tone on every count of the meter, higher on the first.

    Attributes
    ----------
    grid : Grid
    level_db, pan : float
    every_slot : bool
        Whether the slots between the counts sound as well, lower and softer.
    """

    grid: Grid
    level_db: float = -12.0
    pan: float = 0.0
    every_slot: bool = False


class Mixer:
    """Renders stereo blocks of the take. Used from one thread; a new mix is taken over by `change`.

    Parameters
    ----------
    tracks : sequence of MixTrack
    rate_hz : int
    reads : ReadAhead, optional
        What the recordings are read through, if it outlives the mixer; else it has its own.
    """

    def __init__(
        self, tracks: Sequence[MixTrack] = (), rate_hz: int = 48_000, *, reads: ReadAhead | None = None
    ) -> None:
        self.rate_hz = rate_hz
        self._tracks = tuple(tracks)
        self._reads, self._owns_reads = reads or ReadAhead(), reads is None
        self.click: Click | None = None
        self.taps: tuple[TapTrack, ...] = ()
        self.mono = False

    def change(self, tracks: Sequence[MixTrack], rate_hz: int | None = None) -> None:
        """Take over other tracks, gains or edits; files that stay stay open."""
        self._tracks = tuple(tracks)
        self.rate_hz = rate_hz or self.rate_hz
        self._reads.keep_only(track.recording for track in tracks)

    def close(self) -> None:
        """Close all files, if they are its own."""
        if self._owns_reads:
            self._reads.close()

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
                read = partial(self._reads.read, track.recording)
                if tightened:
                    sound = track.edits.render(read, start, count, recording=track.recording)
                else:
                    sound = read(start, count)
                mix += sound * _sides(track.gain, track.pan)
        for taps in self.taps:
            if taps.gain > 0.0:
                tones = np.zeros_like(mix)
                (taps.tightened if tightened else taps.played).add_to(tones, start, self.rate_hz)
                mix += tones * _sides(taps.gain, taps.pan)
        if self.mono:
            mix[:] = mix.mean(axis=1, keepdims=True)
        if self.click is not None:
            mix += click_block(self.click, start, count, self.rate_hz)[:, None] * _sides(1.0, self.click.pan)
        return mix


def click_block(click: Click, start: int, count: int, rate_hz: int) -> NDArray[np.float32]:
    """Frames `start` to `start + count` of the click, shape (count,)."""
    length = round(_CLICK_S * rate_hz)
    slots = click.grid.slots((start - length) / rate_hz, (start + count) / rate_hz)
    heard = np.flatnonzero(slots.on_count | click.every_slot)
    sound = np.zeros(count, dtype=np.float32)
    for index in heard.tolist():
        at = round(float(slots.time_s[index]) * rate_hz) - start
        first, last = max(at, 0), min(at + length, count)
        if first < last:
            on_count = bool(slots.on_count[index])
            pitch = _SLOT_HZ if not on_count else _FIRST_HZ if slots.beat[index] == 0 else _COUNT_HZ
            gain = db_to_amplitude(click.level_db + (0.0 if on_count else _SLOT_DB))
            place = np.arange(first - at, last - at) / rate_hz
            tone = gain * np.sin(2 * np.pi * pitch * place) * np.exp(-place / 0.006)
            sound[first:last] += tone.astype(np.float32)
    return sound


def _sides(gain: float, pan: float) -> NDArray[np.float32]:
    """Gains of both sides, shape (2,)."""
    return np.array([gain * min(1.0, 1.0 - pan), gain * min(1.0, 1.0 + pan)], dtype=np.float32)
