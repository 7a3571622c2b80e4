"""Coarse search: where the spectrum of a recording rises.

The recording is cut into short overlapping frames; each frame becomes levels in a few bands. A hit lifts several
bands at once, a ringing tail lifts none (spectral flux: P. Masri, "Computer modelling of sound for transformation and
synthesis of musical signals", 1996, here on logarithmic band levels so that soft strokes count like loud ones).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.disk.mapped import RowsWriter, release_rows
from supple_snare.sound.ear import EAR_ORDER
from supple_snare.sound.files import AnyArray, block_spans
from supple_snare.sound.filters import power_kept
from supple_snare.sound.material import Band
from supple_snare.sound.maxima import highest_around, spaced_peaks
from supple_snare.sound.spectra import SpectraReader
from supple_snare.timing.units import FloatArray

HOP_S = 0.00267
"""Distance of frames; a frame is four times as long (10.7 ms), with a taper of half that width."""

BAND_EDGES_HZ = (50.0, 150.0, 300.0, 600.0, 1_200.0, 2_400.0, 4_800.0, 9_600.0, 18_000.0)
BANDS = len(BAND_EDGES_HZ) - 1

_CENTRE_S = 0.03
"""The middle of a spectrum is taken over so much of an attack."""

_FLOOR_DB = -110.0
"""Band level below which nothing counts; the floor of a 16-bit recording lies near −100 dB a band."""

_STEPS_PER_DB = 2.0
_POWER = 10.0 ** ((np.arange(256) / _STEPS_PER_DB + _FLOOR_DB) / 10.0)
"""Of each step of a level."""

_SPACING_S = 0.013
"""Nearest two attacks that are told apart: the bounces of a buzz roll come every 25 to 50 ms, a neighbour's bleed may
come closer."""

_RISE_DB = 2.2
"""Mean rise over the bands that makes a candidate: low enough for the softest stroke into the loudest ring. Noise
passes it by chance, and is dropped again because it stands out in no view (`attacks`)."""

_RISE_CAP_DB = 15.0
_RISE_FRAMES, _MOMENTS = 1 << 14, 1 << 10
"""As many frames, and moments in order of time, are worked on at once."""


@dataclass(frozen=True, eq=False)
class BandLevels:
    """Levels of each frame in each band, kept coarsely so that an hour of a track takes some 10 MB.

    Attributes
    ----------
    steps : uint8 array, shape (frames, BANDS)
        Level in half dB above −110 dB; frame k is centred on sample k × hop.
    hop : int
        Samples from frame to frame.
    rate_hz : int
    """

    steps: NDArray[np.uint8]
    hop: int
    rate_hz: int

    def decibels(self, first: int = 0, last: int | None = None) -> NDArray[np.float32]:
        """Levels in dB of some frames, shape (last − first, BANDS)."""
        return self.steps[first:last].astype(np.float32) / np.float32(_STEPS_PER_DB) + np.float32(_FLOOR_DB)

    def power_between(self, low_hz: float, high_hz: float) -> NDArray[np.float32]:
        """Power of each frame between two of `BAND_EDGES_HZ`, shape (frames,)."""
        first, last = BAND_EDGES_HZ.index(low_hz), BAND_EDGES_HZ.index(high_hz)
        starts = range(0, len(self.steps), _RISE_FRAMES)
        blocks = [self.decibels(start, start + _RISE_FRAMES)[:, first:last] for start in starts]
        return np.concatenate([(10.0 ** (block / 10.0)).sum(axis=1) for block in blocks])

    def loudest(self, time_s: FloatArray, first_s: float, last_s: FloatArray | float) -> FloatArray:
        """Largest power of each band in the frames centred from `first_s` to `last_s` around moments.

        Parameters
        ----------
        time_s : float array, shape (n,)
        first_s : float
        last_s : float, or float array of shape (n,)
            Relative to each moment.

        Returns
        -------
        float array, shape (n, BANDS)
            The floor where that lies outside the recording.
        """
        frames_per_s = self.rate_hz / self.hop
        last = np.rint(np.broadcast_to(last_s, time_s.shape) * frames_per_s).astype(np.int64)
        offsets = range(round(first_s * frames_per_s), int(last.max(initial=0)) + 1)
        centre = np.rint(time_s * frames_per_s).astype(np.int64)
        most = np.zeros((len(centre), BANDS), dtype=np.uint8)
        if not len(centre) or not len(self.steps):
            return np.asarray(_POWER[most])
        shortest = int(last.min())
        inside = range(-int(centre.min()), len(self.steps) - int(centre.max()))
        for offset in offsets:
            frame = centre + offset
            heard = self.steps.take(frame, axis=0, mode="clip")
            if offset not in inside:
                heard[(frame < 0) | (frame >= len(self.steps))] = 0
            if offset > shortest:
                heard[offset > last] = 0
            np.maximum(most, heard, out=most)
        release_rows(self.steps)
        return np.asarray(_POWER[most])

    def mean_db(self, time_s: FloatArray, spans_s: Sequence[tuple[float, float]]) -> FloatArray:
        """Mean power over all bands in the frames centred in spans around moments, in dB.

        Parameters
        ----------
        time_s : float array, shape (n,)
        spans_s : sequence of (float, float)
            First and last, relative to each moment.

        Returns
        -------
        float array, shape (n, spans)
            Of the nearest frames where a span lies outside the recording.
        """
        frames = (time_s[:, None, None] + np.array(spans_s)) * (self.rate_hz / self.hop)
        first, last = np.moveaxis(np.clip(np.rint(frames).astype(np.int64), 0, max(len(self.steps) - 1, 0)), 2, 0)
        mean = np.zeros(first.shape)
        for start, count in block_spans(len(time_s), _MOMENTS):  # all frames at once would take much memory
            some = slice(start, start + count)
            begin, end = int(first[some].min()), int(last[some].max()) + 1
            power = np.zeros(end - begin)
            for band in range(BANDS):
                power += _POWER[self.steps[begin:end, band]]
            until = np.concatenate([[0.0], np.cumsum(power)])
            sums = until[last[some] + 1 - begin] - until[first[some] - begin]
            mean[some] = sums / (last[some] + 1 - first[some])
        release_rows(self.steps)
        return 10.0 * np.log10(np.maximum(mean, _POWER[0]))

    def centre_hz(self, time_s: FloatArray) -> FloatArray:
        """Middle of the spectrum of what starts at moments, by power and in octaves, shape (n,)."""
        power = self.loudest(time_s, 0.0, _CENTRE_S)
        middle = np.log(np.sqrt(np.array(BAND_EDGES_HZ[:-1]) * np.array(BAND_EDGES_HZ[1:])))
        return np.exp(power @ middle / power.sum(axis=1))


def level_spectra(rate_hz: int) -> SpectraReader:
    """Cuts a sound into the frames of `BandLevels`."""
    return SpectraReader(max(1, round(HOP_S * rate_hz)), rate_hz, BAND_EDGES_HZ[-1])


class BandLevelsBuilder:
    """Gathers band levels from spectra that follow one another; what lies outside a band counts as if filtered.

    Parameters
    ----------
    spectra : SpectraReader
        Where they come from, as `level_spectra` makes it.
    rate_hz : int
    band_hz : (float, float), optional
        Lowest and highest frequency that is listened to.
    """

    def __init__(self, spectra: SpectraReader, rate_hz: int, band_hz: Band = None) -> None:
        self._rate_hz, self._hop = rate_hz, spectra.hop
        bins = len(spectra.bins_hz)
        first = np.minimum(np.searchsorted(spectra.bins_hz, BAND_EDGES_HZ[:-1]), bins - 1)
        until = np.maximum(np.append(first[1:], bins), first + 1)  # above half a low rate the last bin stands for all
        each = np.arange(bins)[:, None]
        weights = ((each >= first) & (each < until)).astype(np.float32)
        if band_hz is not None:
            weights *= power_kept(spectra.bins_hz, *band_hz, rate_hz=rate_hz, order=EAR_ORDER)[:, None]
        self._weights = weights
        self._steps = RowsWriter()

    def add(self, power: AnyArray) -> None:
        """Add the next spectra, shape (n, bins)."""
        level_db = 10.0 * np.log10(power @ self._weights + 10.0 ** (_FLOOR_DB / 10.0))
        steps = np.clip(np.rint((level_db - _FLOOR_DB) * _STEPS_PER_DB), 0, 255)
        self._steps.add(steps.astype(np.uint8))

    def finish(self) -> BandLevels:
        """The levels of everything added."""
        return BandLevels(self._steps.finish(), self._hop, self._rate_hz)


def rise_curve(levels: BandLevels) -> NDArray[np.float32]:
    """Mean rise of the bands around each frame in dB, shape (frames,).

    Each band's rise is from the loudest of the frames just before to the loudest just after, so that beating inside a
    ringing tail does not count; and a single band cannot outvote the others.
    """
    frames = len(levels.steps)
    rise = np.zeros(frames, dtype=np.float32)
    if frames < 8:
        return rise
    for start, count in block_spans(frames - 4, _RISE_FRAMES):  # as levels in dB, all at once would take much memory
        first, last = max(start - 1, 0), min(start + count + 5, frames)
        loudest = highest_around(levels.decibels(first, last), 1)[start - first :]
        # Window and hop overlap by 4: frames 2 before and 2 after a sample share almost nothing of it.
        rise[start + 2 : start + 2 + count] = np.clip(loudest[4 : 4 + count] - loudest[:count], 0.0, _RISE_CAP_DB).mean(
            axis=1
        )
    return rise


def peaks_of_rise(rise: NDArray[np.float32]) -> NDArray[np.intp]:
    """Frames at which a `rise_curve` says that something seems to start."""
    return spaced_peaks(rise, _RISE_DB, round(_SPACING_S / HOP_S))
