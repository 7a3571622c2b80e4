"""Coarse search for the notes of pitched instruments: where partials sound that did not sound before.

A string or a voice that goes from one note to the next hardly grows louder, and each pulse of a low note lifts the
broad bands of `novelty` again. Here frames are long and bands are quarter tones, so that a new note lifts the bands of
its partials and a note that goes on lifts none. Each band is compared with the loudest of itself and its neighbours
shortly before, so that vibrato does not count (S. Böck and G. Widmer, "Maximum filter vibrato suppression for onset
detection", Proc. DAFx 2013); and what newly sounds must go on, so that the end of a note does not count either.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.ear import EAR_ORDER
from supple_snare.sound.files import AnyArray
from supple_snare.sound.filters import power_kept
from supple_snare.sound.material import Band
from supple_snare.sound.maxima import highest_around, spaced_peaks
from supple_snare.sound.novelty import BandLevels, peaks_of_rise
from supple_snare.sound.spectra import SpectraReader
from supple_snare.timing.units import FloatArray

_HOP_S = 0.01067
"""A frame of 43 ms tells partials 47 Hz apart: those of all but the lowest notes of a bass."""

_LOWEST_HZ, _HIGHEST_HZ = 50.0, 9_600.0
_BANDS_PER_OCTAVE = 24
_STEP = 2.0 ** (1.0 / _BANDS_PER_OCTAVE)
_FLOOR_DB = -100.0

_BEFORE = (4, 3)
"""Frames before, the nearest of which overlaps a quarter, that a frame is compared with."""

_ON = 2
"""Frames on, by which what newly sounds must still sound: where a note is broken off, its partials smear over all bands
for a moment."""

_RANGE_DB, _FALLING_DB = 45.0, 6.0
"""A band this far below the loudest one has no say; nor one so much farther below what was loudest before."""

_CAP_DB = 25.0

_LATE_S = 0.013
"""The partials of a note have risen most when it fills so much of the second half of a frame."""

_LEAST_DB = 1.0
_SPACING_HOPS = 3
_GROWING_HOPS, _GROWING_SHARE = 6, 0.4
"""What rises so soon after a note, and by so much less, is the same one, whose upper or lower partials still grow."""

_NEAR_S = (-0.032, 0.024)
"""A candidate of the broad search lies there around the note that it is the start of."""

_PLAIN_SHARE = 0.75
"""Of the frames near a note the first that rises by so much of the most is its start: a low note goes on growing."""

_PLUCKED, _SOFT = (1.3, 8.5), (0.4, 6.5)
"""A note lifts its partials, and the broad bands too if it is struck: the first and so great a share of the second make
so many dB."""


@dataclass(frozen=True, eq=False)
class NewPartials:
    """How much newly sounds in each frame.

    Attributes
    ----------
    rise_db : float32 array, shape (frames,)
        Rise of the bands that sound, root of the mean square: a few that rise far count more than many that tremble.
        Frame k is centred on sample k × hop.
    hop : int
        Samples from frame to frame.
    rate_hz : int
    """

    rise_db: NDArray[np.float32]
    hop: int
    rate_hz: int

    def notes(self) -> tuple[FloatArray, FloatArray]:
        """About when notes seem to begin, in s, and how much their partials rise in dB."""
        frames = spaced_peaks(self.rise_db, _LEAST_DB, _SPACING_HOPS)
        rise_db = self.rise_db[frames]
        growing = np.diff(frames, prepend=-_GROWING_HOPS) < _GROWING_HOPS
        growing[1:] &= rise_db[1:] < _GROWING_SHARE * rise_db[:-1]
        frames = frames[~growing]
        time_s = frames * np.float64(self.hop / self.rate_hz) - _LATE_S
        return time_s, self.rise_db[frames].astype(np.float64)


class NewPartialsBuilder:
    """Gathers how much newly sounds from blocks that follow one another; outside a band it counts as if filtered."""

    def __init__(self, rate_hz: int, band_hz: Band = None) -> None:
        self._rate_hz = rate_hz
        highest_hz = min(_HIGHEST_HZ, 0.45 * rate_hz)
        self._spectra = SpectraReader(max(1, round(_HOP_S * rate_hz)), rate_hz, highest_hz * _STEP)
        self._bands = _quarter_tones(self._spectra.bins_hz, highest_hz, rate_hz, band_hz)
        self._known = self._nothing(_BEFORE[0])
        self._parts: list[NDArray[np.float32]] = []

    def add(self, block: AnyArray) -> None:
        """Add the next samples, shape (count,), float32."""
        self._take(self._spectra.add(block))

    def finish(self) -> NewPartials:
        """What everything added holds."""
        self._take(self._spectra.finish())
        self._parts.append(self._rises(self._nothing(_ON)))
        rise_db = np.concatenate(self._parts)
        rise_db.flags.writeable = False
        return NewPartials(rise_db, self._spectra.hop, self._rate_hz)

    def _take(self, power: AnyArray) -> None:
        bands = power @ self._bands.T
        level_db = 10.0 * np.log10(bands + 10.0 ** (_FLOOR_DB / 10.0))
        self._parts.append(self._rises(level_db.astype(np.float32)))

    def _nothing(self, frames: int) -> NDArray[np.float32]:
        return np.full((frames, len(self._bands)), _FLOOR_DB, dtype=np.float32)

    def _rises(self, level_db: NDArray[np.float32]) -> NDArray[np.float32]:
        """Take the next levels, shape (n, bands); the rises of the frames of which is known by now how they go on."""
        known = np.concatenate([self._known, level_db])
        count = max(0, len(known) - _BEFORE[0] - _ON)
        self._known = known[count:]
        around = highest_around(known, 1, axis=1)
        far, near = (around[_BEFORE[0] - ago :][:count] for ago in _BEFORE)
        here, later = known[_BEFORE[0] :][:count], known[_BEFORE[0] + _ON :]
        before = np.maximum(far, near)
        loudest = np.maximum(here.max(axis=1), before.max(axis=1) - _FALLING_DB)
        weight = np.clip(1.0 - (loudest[:, None] - here) / _RANGE_DB, 0.0, 1.0)
        rise_db = np.clip(np.minimum(here, later) - before, 0.0, _CAP_DB)
        mean: NDArray[np.float32] = np.sqrt((weight * rise_db**2).sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-9))
        return mean


def note_frames(
    levels: BandLevels, curve: NDArray[np.float32], partials: NewPartials, *, soft: bool
) -> NDArray[np.intp]:
    """Frames of the band levels, whose `rise_curve` is given, at which a note seems to begin.

    A note that the broad search does not find begins where the broad bands rise near it.

    Parameters
    ----------
    levels : BandLevels
    curve : float32 array, shape (frames of the levels,)
    partials : NewPartials
    soft : bool
        Whether notes need not be struck: they are blown, bowed or sung.
    """
    frame = peaks_of_rise(curve)
    per_s = levels.rate_hz / levels.hop
    note_s, note_db = partials.notes()
    reach = np.rint(np.array(_NEAR_S) * per_s).astype(np.int64)
    around = np.rint(note_s * per_s).astype(np.int64)[:, None] + np.arange(reach[0], reach[1] + 1)
    around = np.clip(around, 0, max(len(curve) - 1, 0))
    broad = np.zeros(len(curve), dtype=np.float32)
    broad[frame] = curve[frame]
    # Where the broad search found no candidate any frame may be the start.
    candidates = broad[around]
    told = np.where(np.any(candidates, axis=1, keepdims=True), candidates, curve[around])
    plain = told >= _PLAIN_SHARE * told.max(axis=1, keepdims=True)
    own = around[np.arange(len(around)), plain.argmax(axis=1)]
    partial_db = np.zeros(len(curve))
    np.maximum.at(partial_db, own, note_db)
    frames = np.unique(own).astype(np.intp)
    share, enough_db = _SOFT if soft else _PLUCKED
    return frames[partial_db[frames] + share * curve[frames] >= enough_db]


def _quarter_tones(bins_hz: FloatArray, highest_hz: float, rate_hz: int, band_hz: Band) -> NDArray[np.float32]:
    """Triangular bands over the bins of a spectrum up to the highest, shape (bands, bins); low ones are as wide as a
    bin tells."""
    middle = _LOWEST_HZ * 2.0 ** np.arange(0.0, np.log2(highest_hz / _LOWEST_HZ), 1.0 / _BANDS_PER_OCTAVE)
    width = np.maximum(middle * (_STEP - 1.0), bins_hz[1])
    bands = np.clip(1.0 - np.abs(bins_hz - middle[:, None]) / width[:, None], 0.0, None)
    bands /= bands.sum(axis=1, keepdims=True)
    if band_hz is not None:
        bands *= power_kept(middle, *band_hz, rate_hz=rate_hz, order=EAR_ORDER)[:, None]
    return bands.astype(np.float32)
