"""Peak pyramids: the lowest and highest sample of every stretch of a recording, at ever coarser stretches.

They draw waveforms at any zoom, and tell how loud a track was at any moment, without reading the file again.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.disk.mapped import RowsWriter, kept_rows
from supple_snare.sound.files import AnyArray
from supple_snare.timing.units import FloatArray

BIN_FRAMES = 128
"""Frames of one stretch on the finest level: 2.7 ms at 48 kHz."""

_STEP = 4
_COARSEST_BINS = 64

Extremes = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Peaks:
    """Peak pyramid of one track.

    Attributes
    ----------
    levels : tuple of float32 arrays, each of shape (bins, 2)
        Lowest and highest sample (full scale 1.0, over all channels) of stretches of
        `BIN_FRAMES × 4**level` frames.
    frames : int
    rate_hz : int
    """

    levels: tuple[Extremes, ...]
    frames: int
    rate_hz: int

    def between(self, start_frame: float, end_frame: float, columns: int) -> Extremes:
        """Extremes of a span of frames in equal columns, shape (columns, 2); silence outside the recording.

        Parameters
        ----------
        start_frame, end_frame : float
            May lie outside the recording; end above start.
        columns : int
            Number of columns, at least 1.
        """
        edges: FloatArray = start_frame + (end_frame - start_frame) / columns * np.arange(columns + 1.0)
        return self.spans(edges[:-1], edges[1:])

    def spans(self, start_frames: FloatArray, end_frames: FloatArray) -> Extremes:
        """Extremes of many spans of frames of about one length, shape (n, 2); silence outside the recording.

        Parameters
        ----------
        start_frames, end_frames : float array, shape (n,)
            Each end above its start; the first span tells how fine the pyramid must be.
        """
        length = float(end_frames[0] - start_frames[0]) if len(start_frames) else 1.0
        wanted = np.log(max(length / (2 * BIN_FRAMES), 1.0)) / np.log(_STEP)
        level = min(int(wanted), len(self.levels) - 1)
        bins = self.levels[level]
        size = BIN_FRAMES * _STEP**level
        first = np.floor(start_frames / size).astype(np.int64)
        last = np.maximum(np.ceil(end_frames / size).astype(np.int64), first + 1)
        inside = (last > 0) & (first < len(bins))
        result = np.zeros((len(first), 2), dtype=np.float32)
        if not inside.any():
            return result
        low = np.clip(first[inside], 0, len(bins) - 1)
        high = np.clip(last[inside], 1, len(bins))
        # reduceat reads pairs (low, high); every other result is the stretch between pairs and is dropped. Each call
        # ends with a spare element because an index of len(bins) is not allowed.
        pairs = np.ravel(np.column_stack([low, high]))
        top = int(high.max()) + 1
        base = int(low.min())
        near = np.concatenate([bins[base:top], bins[-1:]])
        result[inside, 0] = np.minimum.reduceat(near[:, 0], pairs - base)[::2]
        result[inside, 1] = np.maximum.reduceat(near[:, 1], pairs - base)[::2]
        return result

    def amplitude(self) -> NDArray[np.float32]:
        """Largest absolute sample of each stretch of `BIN_FRAMES` frames, shape (bins,)."""
        low, high = self.levels[0].T
        return np.maximum(-low, high)

    @property
    def loudest(self) -> float:
        """Largest absolute sample of the recording."""
        return float(np.abs(self.levels[-1]).max(initial=0.0))


class PeaksBuilder:
    """Gathers a pyramid from blocks that follow one another."""

    def __init__(self) -> None:
        self._bins = RowsWriter()
        self._count = 0
        self._rest: AnyArray = np.zeros((0, 1), dtype=np.float32)

    def add(self, block: AnyArray) -> None:
        """Add the next frames, shape (count, channels), float32."""
        joined = np.concatenate([self._rest, block]) if len(self._rest) else block
        whole = len(joined) // BIN_FRAMES * BIN_FRAMES
        if whole:
            shaped = joined[:whole].reshape(-1, BIN_FRAMES * joined.shape[1])
            self._bins.add(np.stack([shaped.min(axis=1), shaped.max(axis=1)], axis=1))
            self._count += len(shaped)
        self._rest = joined[whole:]

    def finish(self, frames: int, rate_hz: int) -> Peaks:
        """The pyramid of everything added."""
        if len(self._rest) or not self._count:
            rest = self._rest if len(self._rest) else np.zeros((1, 1), dtype=np.float32)
            self._bins.add(np.array([[rest.min(), rest.max()]], dtype=np.float32))
        levels: list[Extremes] = [self._bins.finish()]
        while len(levels[-1]) > _COARSEST_BINS:
            levels.append(kept_rows(_coarser(levels[-1])))
        return Peaks(tuple(levels), frames, rate_hz)


def _coarser(bins: Extremes) -> Extremes:
    starts = np.arange(0, len(bins), _STEP)
    low = np.minimum.reduceat(bins[:, 0], starts)
    high = np.maximum.reduceat(bins[:, 1], starts)
    return np.stack([low, high], axis=1)
