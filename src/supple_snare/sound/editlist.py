"""The edit list: which sample of the recordings sounds at which sample of the result, for a whole group at once.

Every track of a group is rendered from the same list, so that every microphone of one performance gets the same edit,
to the sample. Most pieces are copied as they are; between two of them a piece may be stretched.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from supple_snare.sound.crossfade import fade_gains
from supple_snare.sound.files import AnyArray, Recording
from supple_snare.sound.stretch.rendering import PREPARED_AHEAD, StretchedSound
from supple_snare.sound.stretch.vocoder import StretchedPart
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
        Length of the crossfade that ends at `at`; 0 for the first piece and after a stretched one.
    is_stretched : bool array
        Pieces whose end moves as the piece after them does; their `shift` is that of their beginning. Never the last.
    sound : StretchedSound or None
        Where stretched pieces come from; None if there are none.
    """

    at: IntArray
    shift: IntArray
    fade: IntArray
    is_stretched: NDArray[np.bool_]
    sound: StretchedSound | None = None

    @classmethod
    def of(
        cls,
        at: ArrayLike,
        shift: ArrayLike,
        fade: ArrayLike,
        is_stretched: ArrayLike | None = None,
        sound: StretchedSound | None = None,
    ) -> EditList:
        """A read-only edit list from any arrays; by default nothing is stretched."""
        at, shift, fade = (frozen(each, np.int64) for each in (at, shift, fade))
        stretched = np.zeros(len(at), dtype=bool) if is_stretched is None else is_stretched
        return cls(at, shift, fade, frozen(stretched, np.bool_), sound)

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

    @cached_property
    def _end_shift(self) -> IntArray:
        """Shift of the end of each piece."""
        return np.where(self.is_stretched, np.append(self.shift[1:], 0), self.shift)

    @cached_property
    def stretched_pieces(self) -> NDArray[np.intp]:
        """Indices of the stretched pieces."""
        return np.flatnonzero(self.is_stretched)

    @cached_property
    def ratio(self) -> FloatArray:
        """How many times as long each piece sounds as it was played, shape (pieces,)."""
        length = np.append(np.diff(self.at), 1)
        played = np.maximum(length - (self._end_shift - self.shift), 1)
        return np.where(self.is_stretched, length / played, 1.0)

    def piece_at(self, sample: ArrayLike) -> NDArray[np.intp]:
        """Index of the piece that sounds at samples of the result; a fade belongs to the piece that comes."""
        begins = self.at - self.fade
        return np.maximum(np.searchsorted(begins, sample, side="right") - 1, 0)

    def source_of(self, sample: ArrayLike) -> IntArray:
        """Sample of the recording that sounds at samples of the result; in a stretched piece, in proportion."""
        wanted, piece = np.asarray(sample, dtype=np.int64), self.piece_at(sample)
        begin, ratio = self.at[piece], self.ratio[piece]
        inside = np.where(ratio == 1.0, wanted - begin, np.rint((wanted - begin) / ratio).astype(np.int64))
        return begin - self.shift[piece] + inside

    def result_of(self, sample: ArrayLike) -> IntArray:
        """Sample of the result at which a sample of the recording sounds, the first one if it sounds twice."""
        wanted = np.asarray(sample, dtype=np.int64)
        ends = np.append(self.at[1:] - self.fade[1:], np.iinfo(np.int64).max >> 1) - self._end_shift
        # Source ends increase with the pieces except where a repeat winds back; the running maximum skips those.
        piece = np.searchsorted(np.maximum.accumulate(ends), wanted, side="right")
        piece = np.minimum(piece, len(self) - 1)
        begin, ratio = self.at[piece], self.ratio[piece]
        inside = wanted + self.shift[piece] - begin
        inside = np.where(ratio == 1.0, inside, np.rint(inside * ratio).astype(np.int64))
        return np.maximum(begin + inside, begin - self.fade[piece])

    def render(
        self,
        read: Callable[[int, int], AnyArray],
        start: int,
        count: int,
        *,
        quantum: int = 0,
        recording: Recording | None = None,
    ) -> AnyArray:
        """Frames `start` to `start + count` of the result of one track.

        Parameters
        ----------
        read : callable
            Reads (start, count) of the recording, shape (count, channels); silence outside it.
        start, count : int
        quantum : int
            Step between sample values of an integer recording; fades and stretched sound are rounded to it.
        recording : Recording, optional
            The track; needed if anything is stretched.

        Returns
        -------
        array, shape (count, channels)
            Of the type that `read` gives; samples outside fades and stretched pieces are exact copies.

        Raises
        ------
        RecordingError
            If a recording breaks while it is read.
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
            if begin >= until:
                continue
            if self.is_stretched[piece]:
                part = slice(begin - int(self.at[piece]), until - int(self.at[piece]))
                stretched = self._stretched(piece, recording)[part]
                result[begin - start : until - start] = _as_samples(stretched, result.dtype, quantum)
            else:
                offset = -int(self.shift[piece]) - source_start
                result[begin - start : until - start] = source[begin + offset : until + offset]
        self._prepare_after(start + count)
        for piece in range(max(1, first), last + 1):
            self._render_fade(piece, source, source_start, result, start, read, quantum)
        return result

    def _stretched(self, piece: int, recording: Recording | None) -> AnyArray:
        assert self.sound is not None
        assert recording is not None
        return self.sound.read(recording, self._part(piece))

    def _part(self, piece: int) -> StretchedPart:
        """What a stretched piece is made of."""
        at, until = int(self.at[piece]), int(self.at[piece + 1])
        return StretchedPart(at - int(self.shift[piece]), until - int(self.shift[piece + 1]), until - at)

    def _prepare_after(self, sample: int) -> None:
        """Have the next stretched piece rendered before it is wanted, if it comes soon."""
        if self.sound is not None:
            pieces = self.stretched_pieces
            index = int(np.searchsorted(self.at[pieces], sample))
            if index < len(pieces) and self.at[pieces[index]] - sample < PREPARED_AHEAD:
                self.sound.prepare(self._part(int(pieces[index])))

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
        result[begin - start : until - start] = _rounded(mixed, result.dtype, quantum)


def _rounded(sound: FloatArray, kind: np.dtype[Any], quantum: int) -> FloatArray:
    """Samples as a recording of integers can hold them; others as they are."""
    if not quantum:
        return sound
    info = np.iinfo(kind)
    return np.clip(np.rint(sound / quantum) * quantum, info.min, info.max + 1 - quantum)


def _as_samples(sound: AnyArray, kind: np.dtype[Any], quantum: int) -> FloatArray:
    """Sound whose full scale is 1, as samples of a type whose full scale may be its largest integer."""
    if kind.kind != "i":
        return sound
    return _rounded(sound * -float(np.iinfo(kind).min), kind, max(quantum, 1))


_IDENTITY = EditList.of([0], [0], [0])
