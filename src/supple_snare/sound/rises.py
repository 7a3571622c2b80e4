"""How attacks rise: when each passes several shares of its peak, in the whole sound and in three bands.

A stroke that is covered in the whole sound (by the ring of the stroke before, or by a neighbour's bleed) mostly stands
clear in one of the bands.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from supple_snare.disk.mapped import chosen_rows, joined_rows, kept_rows, release_rows
from supple_snare.sound.files import AnyArray, block_spans
from supple_snare.sound.filters import Bands
from supple_snare.timing.units import FloatArray, amplitude_to_db, frozen

AVERAGE_S = 0.00025
"""The span over which an amplitude is averaged, by the definition of an attack's start."""

START_SHARE = 0.05
SHARES = (START_SHARE, 0.1, 0.2, 0.4, 0.7)

BEFORE_S = 0.045
AFTER_S = 0.040
"""What is read around a candidate."""

_SEARCH_BACK_S = 0.014
_SEARCH_ON_S = 0.012
_PEAK_SPAN_S = 0.025
_QUIET_S = 0.012
_SUSTAIN_S = 0.026
"""Long enough for a whole period of a low note, whose every pulse would look like an attack otherwise."""

_SETTLED_S = 0.020
"""So long after a candidate its sound has surely begun, or what was broken off is over."""

_LEAST_RISE_MS = 0.25
"""The span over which amplitudes are averaged: nothing rises faster than can be seen."""

SHAPE_RATE_HZ = 10_000.0
SHAPE_BEFORE_S = 0.025
SHAPE_SAMPLES = round((SHAPE_BEFORE_S + 0.039) * SHAPE_RATE_HZ)
"""The waveform of an attack is kept around the moment at which its spectrum rises most."""

_SHAPE_LEAN_HZ = 200.0
_SHAPE_TOP_HZ = 4_000.0
"""Below the first what sounds counts less the lower it is: else the body of a drum would drown how it is struck."""

_AT_A_TIME = 16
"""So many windows stay in the processor's cache from one view to the next."""

CLEARANCE = 1.4
"""A share this much above something else is not that something else."""

_GUARD_S = 0.006
_PLAIN_RISE_DB = 9.0
"""An attack whose spectrum rises this much is one of its own, not the second half of a slow one."""


@dataclass(frozen=True)
class _View:
    """One way to look at the sound: a band, and the span over which its amplitude is averaged."""

    low_hz: float | None
    high_hz: float | None
    average_s: float
    bands: slice
    """The bands of `BandLevels` that lie in it."""


VIEWS = (
    _View(None, None, AVERAGE_S, slice(0, 8)),
    _View(None, 300.0, 0.001, slice(0, 2)),
    _View(300.0, 2_400.0, 0.0005, slice(2, 5)),
    _View(2_400.0, None, AVERAGE_S, slice(5, 8)),
)
"""The whole sound first."""


@dataclass(frozen=True, eq=False)
class Rises:
    """Rises of n attacks, in order of time.

    Attributes
    ----------
    crossing_s : float array, shape (n, views, shares)
        When the amplitude of each attack first passes each of `SHARES` of its peak, seen in each of `VIEWS`.
    peak, quiet : float array, shape (n, views)
        Largest amplitude within 25 ms, and just before.
    contrast_db : float array, shape (n, views)
        Peak over the loudest moment of a longer time before.
    rise_db : float array, shape (n,)
        How much the spectrum rises, a mean over bands.
    lasting_db : float array, shape (n,)
        Loudest moment after the candidate over the loudest before, in the whole sound: far below 0 where a sound is
        broken off, which lifts the spectrum for a moment too.
    centre_s : float array, shape (n,)
        When the spectrum rises most, to a frame of `BandLevels`.
    shape : int8 array, shape (n, SHAPE_SAMPLES)
        The waveform below 4 kHz at `SHAPE_RATE_HZ`, the largest amplitude 127; it begins at `shape_s`.
    shape_peak : float array, shape (n,)
        That largest amplitude.
    """

    crossing_s: FloatArray
    peak: FloatArray
    quiet: FloatArray
    contrast_db: FloatArray
    rise_db: FloatArray
    lasting_db: FloatArray
    centre_s: FloatArray
    shape: NDArray[np.int8]
    shape_peak: FloatArray

    def __len__(self) -> int:
        return len(self.peak)

    def __getitem__(self, which: NDArray[np.intp] | NDArray[np.bool_]) -> Rises:
        """The rises at an index array or mask."""
        columns = {field.name: getattr(self, field.name) for field in fields(self)}
        shape = chosen_rows(columns.pop("shape"), which)
        return Rises(shape=shape, **{name: kept_rows(column[which]) for name, column in columns.items()})

    def heights(self) -> FloatArray:
        """Amplitude of each of `SHARES` of each attack's peak, shape (n, views, shares)."""
        heights: FloatArray = self.peak[:, :, None] * np.array(SHARES)
        return heights

    @cached_property
    def seen_s(self) -> FloatArray:
        """When attacks pass each share in each view, shape (n, views · shares), NaN where that may be the ring."""
        seen = self.heights() > CLEARANCE * self.quiet[:, :, None]
        return kept_rows(np.where(seen, self.crossing_s, np.nan).reshape(len(self), len(VIEWS) * len(SHARES)))

    @property
    def shape_s(self) -> FloatArray:
        """When the first sample of each shape is, shape (n,)."""
        return self.centre_s - SHAPE_BEFORE_S

    def place_in_shape(self, start_s: FloatArray) -> FloatArray:
        """Where in their shapes attacks start, in samples, shape (n,)."""
        return (start_s - self.shape_s) * SHAPE_RATE_HZ

    def waves(self, which: NDArray[np.intp]) -> FloatArray:
        """The waveforms of some attacks as loud as they are, shape (which, SHAPE_SAMPLES)."""
        waves = np.asarray(self.shape[which] * (self.shape_peak[which] / 127.0)[:, None])
        release_rows(self.shape)
        return waves

    @property
    def level_db(self) -> FloatArray:
        """Peak level, shape (n,)."""
        return amplitude_to_db(self.peak[:, 0])

    @property
    def sharpness(self) -> FloatArray:
        """How fast each attack rises from a tenth of its peak to seven tenths, dB per ms, shape (n,)."""
        low, high = SHARES.index(0.1), SHARES.index(0.7)
        span_ms = 1000.0 * (self.crossing_s[:, 0, high] - self.crossing_s[:, 0, low])
        rise_db = float(amplitude_to_db(SHARES[high] / SHARES[low]))
        return rise_db / np.maximum(span_ms, _LEAST_RISE_MS)

    @classmethod
    def joined(cls, parts: list[Rises]) -> Rises:
        """Several runs of rises as one."""
        if not parts:
            views, shares = len(VIEWS), len(SHARES)
            return cls(
                frozen(np.zeros((0, views, shares))),
                frozen(np.zeros((0, views))),
                frozen(np.zeros((0, views))),
                frozen(np.zeros((0, views))),
                frozen([]),
                frozen([]),
                frozen([]),
                frozen(np.zeros((0, SHAPE_SAMPLES)), np.int8),
                frozen([]),
            )
        names = [field.name for field in fields(cls) if field.name != "shape"]
        columns = {name: kept_rows(np.concatenate([getattr(part, name) for part in parts])) for name in names}
        return cls(shape=joined_rows(part.shape for part in parts), **columns)


def measure_rises(windows: AnyArray, centres: NDArray[np.intp], rise_db: NDArray[np.float32], *, rate_hz: int) -> Rises:
    """How each candidate rises.

    Parameters
    ----------
    windows : float array, shape (n, samples)
        Sound from `BEFORE_S` before to `AFTER_S` after each candidate.
    centres : int array, shape (n,)
        Samples of the candidates.
    rise_db : float array, shape (n,)
        How much the spectrum rises at each.
    rate_hz : int

    Returns
    -------
    Rises
    """
    back = round(_SEARCH_BACK_S * rate_hz)
    length = back + round((_SEARCH_ON_S + _PEAK_SPAN_S) * rate_hz)
    # Where another attack follows soon (a flam), its sound is not part of this one's.
    gap = np.append(np.diff(centres), length) - round(_GUARD_S * rate_hz)
    until = np.where(np.append(rise_db[1:], 0.0) > _PLAIN_RISE_DB, back + gap, length)
    own = np.arange(length)[None, :] < np.maximum(until, back + 1)[:, None]
    pieces = [slice(first, first + count) for first, count in block_spans(len(windows), _AT_A_TIME)]
    return Rises.joined([_measure(windows[some], own[some], centres[some], rise_db[some], rate_hz) for some in pieces])


def _measure(
    windows: AnyArray,
    own: NDArray[np.bool_],
    centres: NDArray[np.intp],
    rise_db: NDArray[np.float32],
    rate_hz: int,
) -> Rises:
    """How some candidates rise, each in that part of its window which is its own."""
    before, back = round(BEFORE_S * rate_hz), round(_SEARCH_BACK_S * rate_hz)
    length = own.shape[1]
    crossings, peaks, quiets, contrasts = [], [], [], []
    lasting_db = np.zeros(len(windows))
    bands = Bands(windows, rate_hz)
    for view in VIEWS:
        sound = bands.between(view.low_hz, view.high_hz)
        envelope = _running_mean(np.abs(sound), max(1, round(view.average_s * rate_hz)))
        zone = np.where(own, envelope[:, before - back : before - back + length], 0.0)
        peak = zone.max(axis=1)
        quiet = envelope[:, before - back - round(_QUIET_S * rate_hz) : before - back].max(axis=1)
        sustain = envelope[:, before - back - round(_SUSTAIN_S * rate_hz) : before - back].max(axis=1)
        contrasts.append(amplitude_to_db(peak) - amplitude_to_db(np.maximum(sustain, 1e-7)))
        if view is VIEWS[0]:
            lasting_db = amplitude_to_db(envelope[:, before + round(_SETTLED_S * rate_hz) :].max(axis=1))
            lasting_db -= amplitude_to_db(np.maximum(quiet, 1e-7))
        crossings.append(np.stack([np.argmax(zone > share * peak[:, None], axis=1) for share in SHARES], axis=1))
        peaks.append(peak)
        quiets.append(quiet)
    peak = np.stack(peaks, axis=1).astype(np.float64)
    shape, shape_peak = _shapes(bands, before - SHAPE_BEFORE_S * rate_hz, rate_hz)
    first = (centres - back).astype(np.float64)
    return Rises(
        crossing_s=(np.stack(crossings, axis=1) + first[:, None, None]) / rate_hz,
        peak=peak,
        quiet=np.stack(quiets, axis=1).astype(np.float64),
        contrast_db=np.stack(contrasts, axis=1),
        rise_db=rise_db.astype(np.float64),
        lasting_db=lasting_db,
        centre_s=centres / rate_hz,
        shape=shape,
        shape_peak=shape_peak,
    )


def _shapes(bands: Bands, first: float, rate_hz: int) -> tuple[NDArray[np.int8], FloatArray]:
    """The waveforms from a sample of the windows on, and their largest amplitudes."""
    low = bands.between(_SHAPE_LEAN_HZ, _SHAPE_TOP_HZ, low_order=1)
    at = first + np.arange(SHAPE_SAMPLES) * (rate_hz / SHAPE_RATE_HZ)
    left = np.floor(at).astype(np.int64)
    share = at - left
    shape = low[:, left] * (1.0 - share) + low[:, left + 1] * share
    return packed(shape)


def packed(waves: AnyArray) -> tuple[NDArray[np.int8], FloatArray]:
    """Waveforms as `Rises` keeps them: the shapes, and their largest amplitudes."""
    loudest = np.maximum(np.abs(waves).max(axis=1), 1e-12)
    return np.rint(127.0 * waves / loudest[:, None]).astype(np.int8), loudest.astype(np.float64)


def _running_mean(amplitude: AnyArray, count: int) -> AnyArray:
    """Means of so many samples around each of every row; 0 where they do not reach around it.

    Sums of one, two, four, … samples make up any count, where differences of one long sum would lose what is soft.
    """
    means = np.zeros_like(amplitude)
    whole = amplitude.shape[1] - count + 1
    inside = means[:, count // 2 :][:, :whole]
    summed, taken = amplitude, 0
    for power in range(count.bit_length()):
        span = 1 << power
        if power:
            summed = summed[:, span // 2 :] + summed[:, : -(span // 2)]
        if count & span:
            inside += summed[:, taken:][:, :whole]
            taken += span
    inside /= count
    return means
