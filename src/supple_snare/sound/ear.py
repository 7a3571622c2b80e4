"""What is listened to for the attacks of a track: the track itself, a band of it, or a mix of others. Never heard."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from types import TracebackType
from typing import Self

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import AnyArray, BlockReader, Recording
from supple_snare.sound.filters import Bands
from supple_snare.sound.material import PRESETS, Band, Material

_SETTLE_S = 0.08
"""The filters have forgotten what came before after so long."""

_FAR_APART = 4
"""What lies between stretches of sound is left out if it is so many times as long as they are."""

EAR_ORDER = 4
"""Steep enough that what lies an octave outside is 24 dB softer."""


@dataclass(frozen=True)
class Ear:
    """One way to listen.

    Attributes
    ----------
    recordings : tuple of Recording
        Mixed in equal parts; one or more, of one rate.
    band_hz : (float, float) or None
        Lowest and highest frequency; None for what the material asks for.
    material : Material or None
        None lets the sound tell.
    """

    recordings: tuple[Recording, ...]
    band_hz: Band = None
    material: Material | None = None

    @classmethod
    def of(cls, recording: Recording) -> Ear:
        """A recording as it is."""
        return cls((recording,))

    @property
    def heard_hz(self) -> Band:
        """The band that is listened to; None for all of the sound."""
        if self.band_hz is not None or self.material is None:
            return self.band_hz
        return PRESETS[self.material].band_hz

    @property
    def bands_hz(self) -> set[Band]:
        """The bands that may come to be listened to: that of any material while none is told."""
        if self.band_hz is not None or self.material is not None:
            return {self.heard_hz}
        return {preset.band_hz for preset in PRESETS.values()}

    @property
    def frames(self) -> int:
        """Length of the longest recording."""
        return max(recording.frames for recording in self.recordings)

    @property
    def rate_hz(self) -> int:
        """Rate of the recordings."""
        return self.recordings[0].rate_hz


@dataclass(frozen=True)
class Ensemble:
    """Who is listened to together.

    Attributes
    ----------
    ears : tuple of Ear
    given : tuple of (int, int)
        Drums given by hand (`roles`), by the number of the ear.
    """

    ears: tuple[Ear, ...]
    given: tuple[tuple[int, int], ...] = ()


class EarReader:
    """Random access to what an ear hears; use as a context manager."""

    def __init__(self, ear: Ear) -> None:
        self.ear = ear
        self._stack = ExitStack()
        self._readers: list[BlockReader] = []

    def __enter__(self) -> Self:
        self._readers = [self._stack.enter_context(BlockReader(heard, "float32")) for heard in self.ear.recordings]
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stack.close()

    def read(self, start: int, count: int) -> AnyArray:
        """Frames `start` to `start + count` in their whole band, shape (count, channels): one channel of a mix.

        Raises
        ------
        RecordingError
            If a file vanished or broke.
        """
        if len(self._readers) == 1:
            return self._readers[0].read(start, count)
        return self.read_whole(start, count)[:, None]

    def read_whole(self, start: int, count: int) -> AnyArray:
        """The same as one channel, shape (count,)."""
        sounds = [reader.read_mono(start, count) for reader in self._readers]
        return sounds[0] if len(sounds) == 1 else np.stack(sounds).mean(axis=0, dtype=np.float32)

    def read_each(self, first: NDArray[np.intp], count: int) -> AnyArray:
        """So many frames from each of some on, in the band that is listened to, shape (len(first), count).

        What lies between is not read if it is long.
        """
        band = self.ear.heard_hz
        if band is None:
            return self._read_each(first, count)
        lead = round(_SETTLE_S * self.ear.rate_hz)
        sound = Bands(self._read_each(first - lead, count + lead), self.ear.rate_hz)
        return sound.between(*band, order=EAR_ORDER)[:, lead:]

    def _read_each(self, first: NDArray[np.intp], count: int) -> AnyArray:
        start = int(first.min())
        whole = int(first.max()) - start + count
        if whole > _FAR_APART * len(first) * count:
            return np.stack([self.read_whole(int(each), count) for each in first])
        sound = self.read_whole(start, whole)
        return np.lib.stride_tricks.sliding_window_view(sound, count)[first - start]
