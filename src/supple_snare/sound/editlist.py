"""The edit list: which sample of the recordings sounds at which sample of the result, for a whole group at once.

Every track of a group is rendered from the same list, so that every microphone of one performance gets the same edit,
to the sample.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from supple_snare.sound.files import AnyArray
from supple_snare.timing.units import FloatArray, IntArray, frozen


@dataclass(frozen=True, eq=False)
class EditList:
    """Pieces of the recordings, each moved as a whole, arrays of shape (pieces,).

    Attributes
    ----------
    at : int array
        Sample of the result from which the piece sounds alone; increasing. The first is always 0.
    shift : int array
        Place in the result minus place in the recording, in samples.
    fade : int array
        Length of the crossfade that ends at `at`; 0 for the first piece.
    """

    at: IntArray
    shift: IntArray
    fade: IntArray

    @classmethod
    def of(cls, at: ArrayLike, shift: ArrayLike, fade: ArrayLike) -> EditList:
        """A read-only edit list from any arrays."""
        return cls(frozen(at, np.int64), frozen(shift, np.int64), frozen(fade, np.int64))

    @staticmethod
    def identity() -> EditList:
        """The edit list that leaves everything as played: always the same one."""
        return _IDENTITY

    def __len__(self) -> int:
        return len(self.at)

    @property
    def is_identity(self) -> bool:
        """Whether nothing is moved."""
        return not self.shift.any()

    @cached_property
    def _extent(self) -> tuple[int, int]:
        return int(self.shift.min()), int(self.shift.max())

    def piece_at(self, sample: ArrayLike) -> NDArray[np.intp]:
        """Index of the piece that sounds at samples of the result; a fade belongs to the piece that comes."""
        begins = self.at - self.fade
        return np.maximum(np.searchsorted(begins, sample, side="right") - 1, 0)

    def source_of(self, sample: ArrayLike) -> IntArray:
        """Sample of the recording that sounds at samples of the result."""
        return np.asarray(sample, dtype=np.int64) - self.shift[self.piece_at(sample)]

    def result_of(self, sample: ArrayLike) -> IntArray:
        """Sample of the result at which a sample of the recording sounds, the first one if it sounds twice."""
        wanted = np.asarray(sample, dtype=np.int64)
        ends = np.append(self.at[1:] - self.fade[1:], np.iinfo(np.int64).max) - self.shift
        # Source ends increase with the pieces except where a repeat winds back; the running maximum skips those.
        piece = np.searchsorted(np.maximum.accumulate(ends), wanted, side="right")
        piece = np.minimum(piece, len(self) - 1)
        return np.maximum(wanted + self.shift[piece], self.at[piece] - self.fade[piece])

    def render(self, read: Callable[[int, int], AnyArray], start: int, count: int, *, quantum: int = 0) -> AnyArray:
        """Frames `start` to `start + count` of the result of one track.

        Parameters
        ----------
        read : callable
            Reads (start, count) of the recording, shape (count, channels); silence outside it.
        start, count : int
        quantum : int
            Step between sample values of an integer recording; fades are rounded to it.

        Returns
        -------
        array, shape (count, channels)
            Of the type that `read` gives; samples outside fades are exact copies.
        """
        low, high = self._extent
        source_start = start - high
        source = read(source_start, count + high - low)
        if low == high:
            return source
        result = np.empty((count, *source.shape[1:]), dtype=source.dtype)
        first, last = int(self.piece_at(start)), int(self.piece_at(start + count - 1))
        for piece in range(max(0, first - 1), last + 1):
            begin = max(int(self.at[piece]), start) if piece else start  # the first one began before the recordings
            until = int(self.at[piece + 1] - self.fade[piece + 1]) if piece + 1 < len(self) else start + count
            until = min(until, start + count)
            if begin < until:
                offset = -int(self.shift[piece]) - source_start
                result[begin - start : until - start] = source[begin + offset : until + offset]
        for piece in range(max(1, first), last + 1):
            self._render_fade(piece, source, source_start, result, start, read, quantum)
        return result

    def _render_fade(
        self,
        piece: int,
        source: AnyArray,
        source_start: int,
        result: AnyArray,
        start: int,
        read: Callable[[int, int], AnyArray],
        quantum: int,
    ) -> None:
        at, fade = int(self.at[piece]), int(self.fade[piece])
        begin, until = max(at - fade, start), min(at, start + len(result))
        if begin >= until:
            return

        def side(shift: int) -> FloatArray:
            first = at - fade - shift
            inside = first >= source_start and first + fade <= source_start + len(source)
            # The whole fade shapes each part of it, or the size of the blocks could be heard.
            sound = source[first - source_start :][:fade] if inside else read(first, fade)
            return sound.astype(np.float64)

        leaving, coming = side(int(self.shift[piece - 1])), side(int(self.shift[piece]))
        gain_out, gain_in = fade_gains(leaving, coming)
        part = slice(begin - (at - fade), until - (at - fade))
        mixed = (leaving * gain_out + coming * gain_in)[part]
        if quantum:
            info = np.iinfo(result.dtype)
            mixed = np.clip(np.rint(mixed / quantum) * quantum, info.min, info.max + 1 - quantum)
        result[begin - start : until - start] = mixed


_IDENTITY = EditList.of([0], [0], [0])

_MOST_GAIN = 2.5
"""A fade between sides of opposite phase is made up for as far as that: what little they share would else stand out."""


def _around(values: FloatArray) -> FloatArray:
    """Sums over all channels and half of the fade around each place, shape (..., length, 1)."""
    length = values.shape[-2]
    half = length // 4
    total = np.cumsum(values.sum(axis=-1), axis=-1)
    total = np.concatenate([np.zeros_like(total[..., :1]), total], axis=-1)
    place = np.arange(length)
    first, last = np.maximum(place - half, 0), np.minimum(place + half + 1, length)
    return np.asarray((total[..., last] - total[..., first]) / (last - first))[..., None]


def rising_side(length: int) -> FloatArray:
    """How far a fade has come, from near 0 to near 1."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * (np.arange(length) + 1.0) / (length + 1.0)))


def fade_gains(leaving: FloatArray, coming: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Gains of both sides of a crossfade that keep the level of this track on its way from one to the other.

    With powers P and Q of the sides around a place and their correlation r there, the sum out·leaving + in·coming has
    the power out²·P + in²·Q + 2·r·out·in·√(P·Q). The gains are those of sides that have nothing in common, times what
    makes up for what they have: equal gain for equal sides, equal power for unrelated ones, more for opposed ones.

    Parameters
    ----------
    leaving, coming : float arrays, shape (length, channels)
        Or of several tracks, shape (tracks, length, channels).

    Returns
    -------
    out, in : float arrays, shape (length, 1) or (tracks, length, 1)
    """
    rising = rising_side(leaving.shape[-2])[:, None]
    falling = 1.0 - rising
    left, right, shared = _around(leaving**2), _around(coming**2), _around(leaving * coming)
    power = falling**2 * left + rising**2 * right
    there = np.maximum(power + 2.0 * falling * rising * shared, 1e-30)
    gain = np.minimum(np.sqrt(power / (falling**2 + rising**2) / there), _MOST_GAIN)
    return falling * gain, rising * gain
