"""A phase vocoder for a group of microphones: what rings is stretched, and arrives in phase at what follows.

Identity phase locking (J. Laroche, M. Dolson, IEEE Trans. Speech and Audio Processing 7(3), 1999): around each spectral
peak all bins turn by one angle. Here the peaks are those of all tracks together, and the angle is the same in every
track, so microphones keep their phase to one another.

A partial has to reach the copied sound behind the stretched part with the phase that it has there, or it jumps. The
angle that is left over, up to half a turn, is spread over the stretched part as a bend of pitch too small to hear.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.crossfade import fade_gains, rising_side
from supple_snare.sound.files import AnyArray
from supple_snare.sound.transforms import Spectrum, fast_length, sound_of, spectrum_of
from supple_snare.timing.units import FloatArray, IntArray

LARGEST_BEND_CENTS = 4.0
"""Pitch may be off by that much: trained listeners tell 5 to 8 cents apart in tones that follow one another."""

_HOPS_A_FRAME = 4
_FRAME_S = ((0.48, 0.171), (0.11, 0.0854), (0.0, 0.0427))
"""From which length of the stretched part on which frame, in s: 8192, 4096 and 2048 samples at 48 kHz. Long frames
tell low partials apart; a frame much longer than the stretched part hears too much of the attacks around it."""

_PEAK_BINS = 5
"""A peak is the largest of that many bins: the main lobe of the taper is four bins wide."""

_FAINT = 1e-6
"""Peaks below that share of the largest (−120 dB) are rounding errors."""

_PADDED = 4
"""Frames are filled up to so many times their length where the frequency of a partial matters."""

_FADE_S = 0.006
"""At each end the stretched sound and the copied sound fade into one another for so long."""

_LEAST_OVERLAP = 0.05
"""Of the sum of squared tapers: less of it, at the very ends, is not divided by."""


@dataclass(frozen=True)
class StretchedPart:
    """A stretched part: `source` to `until` of the recordings sound for `length` samples.

    Attributes
    ----------
    source, until : int
        First sample and sample after the last.
    length : int
    """

    source: int
    until: int
    length: int

    @property
    def change(self) -> int:
        """How much longer the result is."""
        return self.length - (self.until - self.source)


def frame_length(part: StretchedPart, rate_hz: int) -> int:
    """The length of the vocoder's frames for a part, a power of two."""
    seconds = next(frame_s for least_s, frame_s in _FRAME_S if part.length >= least_s * rate_hz)
    return 1 << round(math.log2(seconds * rate_hz))


def margin(part: StretchedPart, rate_hz: int) -> int:
    """How much of the recordings before and after a gap `stretch_locked` reads."""
    frame = frame_length(part, rate_hz)
    return frame + frame // _HOPS_A_FRAME + abs(part.change)


def stretch_locked(
    sound: AnyArray, part: StretchedPart, rate_hz: int, *, bend_cents: float = LARGEST_BEND_CENTS
) -> NDArray[np.float32]:
    """Stretch a gap of all tracks.

    Parameters
    ----------
    sound : float array, shape (rows, samples)
        Every channel of every track, from `margin` samples before the gap to as many after it.
    part : StretchedPart
    rate_hz : int
    bend_cents : float

    Returns
    -------
    float32 array, shape (rows, part.length)
        Its first and last samples join what is copied before and after.
    """
    frame, before = frame_length(part, rate_hz), margin(part, rate_hz)
    hop = frame // _HOPS_A_FRAME
    fade = min(round(_FADE_S * rate_hz), part.length // 2, (part.until - part.source) // 2)
    centre = np.arange(-frame // 2, part.length + frame // 2, hop)
    shift = _shift_at(centre, part, frame)
    taper = np.hanning(frame + 1)[:-1].astype(np.float32)
    end = before + part.until - part.source
    heard = _continued(np.asarray(sound, dtype=np.float32), end, fade, taper)
    spectra = _frames(heard, centre - shift + before, taper)
    moves = np.flatnonzero(np.diff(shift)) + 1
    # The frame before each frame as the recording has it: how far every partial turns in one hop.
    turned_from = _frames(heard, (centre - shift - hop)[moves] + before, taper)
    locked = _locked(spectra, dict(zip(moves.tolist(), np.moveaxis(turned_from, 1, 0), strict=True)))
    ends = int(np.searchsorted(centre, part.length - fade))
    turning = np.flatnonzero((centre > _kinks(part, frame)[0] - hop) & (np.arange(len(centre)) <= ends))
    left = locked.angles(upto=ends)
    most = 2.0 * np.pi * locked.peaks[ends] * (2.0 ** (bend_cents / 1200.0) - 1.0) * hop / frame
    bend = np.clip(-left / max(1, len(turning)), -most, most)[locked.region[ends]]
    stretched = _overlap_added(locked.turned(bend, turning), taper, hop, -int(centre[0] - frame // 2), part.length)
    return _joined(stretched, sound[:, before : before + fade], sound[:, end - fade : end])


def unmet_phase(
    sound: AnyArray, lengths: Sequence[int], change: int, *, bend_cents: float = LARGEST_BEND_CENTS
) -> list[float]:
    """How little the end of stretched parts of several lengths will join what follows, as far as partials tell.

    A partial of f Hz arrives 2πf × change away from the phase that it has in what follows; what the bend does not make
    up for within the part is left.

    Parameters
    ----------
    sound : float array, shape (tracks, samples)
        What sounds at the end of each part.
    lengths : sequence of int
        Of the parts as played.
    change : int
        How much longer they get.

    Returns
    -------
    list of float
        For each length 0 where all partials go on, 1 where what follows is unrelated; weighed by their power.
    """
    size = fast_length(_PADDED * sound.shape[1])
    spectra = spectrum_of(sound * np.hanning(sound.shape[1]).astype(np.float32), size)
    power = np.einsum("rb,rb->b", spectra, np.conj(spectra)).real
    peaks = spectral_peaks(power)
    radians = 2.0 * np.pi * peaks / size
    left = np.abs(np.angle(np.exp(1j * radians * change)))
    bent = radians * (2.0 ** (bend_cents / 1200.0) - 1.0)
    weight = power[peaks] / max(power[peaks].sum(), 1e-30)
    return [float(weight @ (1.0 - np.cos(np.maximum(left - bent * (each + change), 0.0)))) for each in lengths]


def _kinks(part: StretchedPart, frame: int) -> tuple[float, float]:
    """Where in the result the time map leaves the first copy, and where it meets the second."""
    return min(frame // 8, part.length // 4), part.length - min(frame // 4, part.length // 3)


def _shift_at(centre: IntArray, part: StretchedPart, frame: int) -> IntArray:
    """Place in the result minus place in the recording, for the centres of frames."""
    return np.rint(np.interp(centre, _kinks(part, frame), [0.0, part.change])).astype(np.int64)


def _continued(sound: NDArray[np.float32], end: int, fade: int, taper: NDArray[np.float32]) -> NDArray[np.float32]:
    """The sound with what rings at `end` ringing on, in place of what follows.

    An attack that follows would sound before its time, and silence would break off what the last frames hear. So the
    last frame before the end goes on turning, and dying away, in each region as it did from the frame before it.
    """
    frame = len(taper)
    hop = frame // _HOPS_A_FRAME
    heard = sound.copy()
    last = end - frame // 2
    if last < hop:
        heard[:, end:] = 0.0
        return heard
    before, at_end = np.moveaxis(_frames(sound, np.array([last - hop, last]), taper), 1, 0)
    power = np.einsum("rb,rb->b", at_end, np.conj(at_end)).real
    region = _regions(spectral_peaks(power), len(power))
    turn, size = _direction(np.einsum("rb,rb->b", at_end, np.conj(before)), region), np.bincount(region, power)
    earlier = np.bincount(region, np.einsum("rb,rb->b", before, np.conj(before)).real)
    step = turn * np.minimum(np.sqrt(size / np.maximum(earlier, 1e-30)), 1.0)
    ahead = np.arange(-(-(sound.shape[1] - end) // hop) + 1)
    spectra = (at_end[:, None] * (step[:, None] ** ahead)[region].T).astype(np.complex64)
    rings_on = _overlap_added(spectra, taper, hop, frame - fade, sound.shape[1] - end + fade)
    rising = rising_side(fade).astype(np.float32)
    heard[:, end - fade : end] *= 1.0 - rising
    rings_on[:, :fade] *= rising
    heard[:, end:] = 0.0
    heard[:, end - fade :] += rings_on
    return heard


def _frames(sound: NDArray[np.float32], centre: IntArray, taper: NDArray[np.float32]) -> Spectrum:
    """Spectra of tapered frames around places, shape (rows, frames, bins); those at its edges for what lies outside."""
    frame = len(taper)
    begin = np.clip(centre - frame // 2, 0, sound.shape[1] - frame)
    views = np.lib.stride_tricks.sliding_window_view(sound, frame, axis=1)
    return spectrum_of(views[:, begin] * taper)


@dataclass
class _Locked:
    """Frames whose regions are to turn, and what each frame is turned against.

    Attributes
    ----------
    spectra : complex array, shape (rows, frames, bins)
    peaks : list of int arrays
        The bins of the spectral peaks of each frame.
    region : list of int arrays, shape (bins,)
        Number of the peak whose region each bin of a frame is in.
    before : dict of int to complex array, shape (rows, bins)
        For frames whose shift changes, the frame one hop before it in the recording.
    """

    spectra: Spectrum
    peaks: list[IntArray]
    region: list[IntArray]
    before: dict[int, Spectrum]

    def angles(self, upto: int) -> AnyArray:
        """By how much each region of a frame has turned in the end, in radians."""
        turns = self._turns(np.zeros(self.spectra.shape[2]), np.zeros(0, dtype=np.int64), upto)
        return np.angle(turns[-1])[self.peaks[upto]]

    def turned(self, bend: FloatArray, where: IntArray) -> Spectrum:
        """The frames, turned; those at `where` by a further angle a bin and frame."""
        turns = self._turns(bend, where, self.spectra.shape[1] - 1)
        return self.spectra * np.stack(turns)

    def _turns(self, bend: FloatArray, where: IntArray, upto: int) -> list[Spectrum]:
        bins = self.spectra.shape[2]
        step = np.exp(1j * bend).astype(np.complex64)
        turn: NDArray[Any] = np.ones(bins, dtype=np.complex64)
        bent = set(where.tolist())
        turns = []
        for number in range(upto + 1):
            if number in self.before:
                # The angle at which this frame goes on from the one before best, over all tracks and bins of a region.
                fits = np.einsum("rb,rb->b", self.spectra[:, number - 1] * turn, np.conj(self.before[number]))
                region = self.region[number]
                turn = _direction(fits, region)[region]
            if number in bent:
                turn = turn * step
            turns.append(turn)
        return turns


def _locked(spectra: Spectrum, before: dict[int, Spectrum]) -> _Locked:
    power = np.einsum("rfb,rfb->fb", spectra, np.conj(spectra)).real
    peaks = [spectral_peaks(row) for row in power]
    return _Locked(spectra, peaks, [_regions(each, power.shape[1]) for each in peaks], before)


def spectral_peaks(power: AnyArray) -> IntArray:
    """The bins of the peaks of a power spectrum, shape (bins,)."""
    from scipy.ndimage import maximum_filter1d

    return np.flatnonzero((power == maximum_filter1d(power, _PEAK_BINS)) & (power >= _FAINT**2 * power.max()))


def _regions(peaks: IntArray, bins: int) -> IntArray:
    """Number of the peak that each bin belongs to; regions meet half way between peaks."""
    return np.searchsorted((peaks[1:] + peaks[:-1] + 1) // 2, np.arange(bins), side="right")


def _direction(values: Spectrum, region: IntArray) -> Spectrum:
    """The angle of the sum over each region, as a number of size 1, shape (regions,)."""
    sums = np.bincount(region, values.real) + 1j * np.bincount(region, values.imag)
    return (sums / np.maximum(np.abs(sums), 1e-30)).astype(np.complex64)


def _overlap_added(spectra: Spectrum, taper: NDArray[np.float32], hop: int, begin: int, count: int) -> AnyArray:
    """Sum of frames, `hop` apart, from sample `begin` of the sum on."""
    rows, frames, _ = spectra.shape
    frame = len(taper)
    sound = sound_of(spectra, frame) * taper
    total = np.zeros((rows, (frames - 1) * hop + frame), dtype=np.float32)
    overlap, squared = np.zeros(total.shape[1], dtype=np.float32), taper**2
    for number in range(frames):
        place = slice(number * hop, number * hop + frame)
        total[:, place] += sound[:, number]
        overlap[place] += squared
    wanted = slice(begin, begin + count)
    return total[:, wanted] / np.maximum(overlap[wanted], _LEAST_OVERLAP)


def _joined(stretched: AnyArray, first: AnyArray, last: AnyArray) -> NDArray[np.float32]:
    """The stretched part, faded into what is copied on both sides of it, by how alike both are in each track."""
    fade = first.shape[1]
    result = stretched.astype(np.float32)
    result[:, :fade] = _faded(first, stretched[:, :fade])
    result[:, -fade:] = _faded(stretched[:, -fade:], last)
    return result


def _faded(leaving: AnyArray, coming: AnyArray) -> AnyArray:
    gain_out, gain_in = fade_gains(leaving[..., None].astype(np.float64), coming[..., None].astype(np.float64))
    return leaving * gain_out[..., 0] + coming * gain_in[..., 0]
