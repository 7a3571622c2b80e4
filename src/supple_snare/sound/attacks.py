"""Attacks: every start of a sound in one recording, to the sample, whoever played it.

The *start* of an attack is the first moment at which its amplitude, averaged over 0.25 ms, passes 5 % of the
attack's peak, were nothing else sounding. What sounds already (the ring of the stroke before, bleed, noise) is taken
into account by what was heard just before: see `settle_starts`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from supple_snare.sound.files import BLOCK_FRAMES, AnyArray, BlockReader, Recording, block_spans
from supple_snare.sound.novelty import BandLevels, find_candidates
from supple_snare.sound.peaks import Peaks, PeaksBuilder
from supple_snare.timing.units import FloatArray, amplitude_to_db, frozen

AVERAGE_S = 0.00025
START_SHARE = 0.05
_SHARES = (START_SHARE, 0.1, 0.2, 0.4, 0.7)
_CLEARANCE = 1.4
"""A share this much above something else is not that something else."""

_STEP_SLACK_S = 0.0012
_SURE_SHARE = 2
_MIN_CLEAR = 4
_SLOW_RISE_S = 0.006
_SWELL_S = 0.045
_SAME_S = 0.012
_GUARD_S = 0.006
_PLAIN_RISE_DB = 9.0
"""An attack whose spectrum rises this much is one of its own, not the second half of a slow one."""

_QUIET_S = 0.012
_SUSTAIN_S = 0.026
"""Long enough for a whole period of a low note, whose every pulse would look like an attack otherwise."""

_BEFORE_S = 0.045
_AFTER_S = 0.040
_SEARCH_BACK_S = 0.014
_SEARCH_ON_S = 0.012
_PEAK_SPAN_S = 0.025
_MIN_CONTRAST_DB = 5.0
"""An attack rises at least this far above what sounded before it."""

_FAINTEST_SHARE = 10.0 ** (-55.0 / 20.0)
"""What lies farther below the loudest attack is the noise of the chain being switched on, not a stroke."""

_DIGITAL_FLOOR = 1e-5
"""Amplitudes below −100 dB are not attacks, whatever they rise from."""

Progress = Callable[[float], None]


@dataclass(frozen=True, eq=False)
class Attacks:
    """All attacks found in one recording, in order of time, whoever played them.

    Attributes
    ----------
    crossing_s : float array, shape (n, shares)
        When each attack's amplitude first passes 5, 10, 20, 40 and 70 % of its peak.
    peak : float array, shape (n,)
        Largest amplitude within 25 ms.
    quiet : float array, shape (n,)
        Largest amplitude just before.
    """

    crossing_s: FloatArray
    peak: FloatArray
    quiet: FloatArray

    def __len__(self) -> int:
        return len(self.peak)

    @property
    def level_db(self) -> FloatArray:
        """Peak level, shape (n,)."""
        return amplitude_to_db(self.peak)


@dataclass(frozen=True, eq=False)
class Analysis:
    """What one reading of a recording tells: its peaks and its attacks."""

    peaks: Peaks
    attacks: Attacks

    @property
    def is_silent(self) -> bool:
        """Whether nothing at all is heard in the recording."""
        return bool(self.peaks.amplitude().max(initial=0.0) < _DIGITAL_FLOOR)


def analyse(recording: Recording, progress: Progress | None = None) -> Analysis:
    """Read a recording twice in blocks: once for peaks and band levels, once around the candidates.

    Parameters
    ----------
    recording : Recording
    progress : callable, optional
        Called with the share done, 0 to 1; may raise to stop the work.

    Raises
    ------
    RecordingError
        If the file breaks while it is read.
    """
    report = progress or (lambda _share: None)
    builder = PeaksBuilder()
    bands = BandLevels(recording.rate_hz)
    with BlockReader(recording, "float32") as reader:
        for start, count in block_spans(recording.frames):
            report(0.7 * start / recording.frames)
            block = reader.read(start, count)
            builder.add(block)
            bands.add(block.mean(axis=1, dtype=np.float32))
        frames, rise_db = find_candidates(bands.finish())
        parts = []
        centres = frames * bands.hop
        for start, count in block_spans(recording.frames, 4 * BLOCK_FRAMES):
            report(0.7 + 0.3 * start / recording.frames)
            here = (centres >= start) & (centres < start + count)
            if here.any():
                parts.append(_refine_block(reader, centres[here], rise_db[here]))
    report(1.0)
    return Analysis(builder.finish(recording.frames, recording.rate_hz), _join(parts, recording.rate_hz))


@dataclass(frozen=True, eq=False)
class _Rises:
    """How each candidate rises: `crossing` (n, shares) in samples, the rest (n,) amplitudes."""

    crossing: FloatArray
    peak: FloatArray
    quiet: FloatArray
    sustain: FloatArray


def _refine_block(reader: BlockReader, centres: NDArray[np.intp], rise_db: NDArray[np.float32]) -> _Rises:
    rate = reader.recording.rate_hz
    before, after = round(_BEFORE_S * rate), round(_AFTER_S * rate)
    first = int(centres[0]) - before
    stretch = reader.read_mono(first, int(centres[-1]) + after - first)
    rows = (centres - before - first)[:, None] + np.arange(before + after)
    return _measure_rises(stretch[rows], centres, rise_db, rate_hz=rate)


def _measure_rises(
    windows: AnyArray, centres: NDArray[np.intp], rise_db: NDArray[np.float32], *, rate_hz: int
) -> _Rises:
    """When each candidate's amplitude passes each of `_SHARES` of its peak.

    `windows`, shape (n, samples), reach from 45 ms before to 40 ms after the candidates; `rise_db` (n,) is how much the
    spectrum rises at each.
    """
    before = round(_BEFORE_S * rate_hz)
    back, onward = round(_SEARCH_BACK_S * rate_hz), round(_SEARCH_ON_S * rate_hz)
    envelope = uniform_filter1d(np.abs(windows), max(1, round(AVERAGE_S * rate_hz)), axis=1)
    zone = envelope[:, before - back : before + onward + round(_PEAK_SPAN_S * rate_hz)]
    # Where another attack follows soon (a flam), its sound is not part of this one's.
    gap = np.append(np.diff(centres), zone.shape[1]) - round(_GUARD_S * rate_hz)
    until = np.where(np.append(rise_db[1:], 0.0) > _PLAIN_RISE_DB, back + gap, zone.shape[1])
    own = np.arange(zone.shape[1])[None, :] < np.maximum(until, back + 1)[:, None]
    peak = np.where(own, zone, 0.0).max(axis=1)
    quiet = envelope[:, before - back - round(_QUIET_S * rate_hz) : before - back].max(axis=1)
    sustain = envelope[:, before - back - round(_SUSTAIN_S * rate_hz) : before - back].max(axis=1)
    crossing = np.stack([np.argmax(zone > share * peak[:, None], axis=1) for share in _SHARES], axis=1)
    return _Rises(crossing + (centres - back)[:, None].astype(np.float64), peak.astype(np.float64), quiet, sustain)


def settle_starts(attacks: Attacks, covered_by: FloatArray | float) -> FloatArray:
    """Starts of attacks from the moments at which they pass several shares of their peaks.

    The start is where an attack passes 5 % of its peak. Where something else sounds that loud (the ring of the stroke
    before, or a neighbour's bleed that arrives a little earlier), that moment is early and the step from it to the
    next share is long. So the lowest share counts from which on the attack rises as fast as this recording's attacks
    usually do, and the usual time from 5 % to that share, learned from the attacks that stand in the clear, is taken
    off. A stroke then has the same start whether or not something covers it.

    Parameters
    ----------
    attacks : Attacks
    covered_by : float array, shape (n,)
        Amplitude of what else is expected to sound at each attack, beyond what was heard just before it.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    """
    if not len(attacks):
        return np.zeros(0)
    heights = np.array(_SHARES)[None, :] * attacks.peak[:, None]
    above_ring = heights > _CLEARANCE * attacks.quiet[:, None]
    above_all = above_ring & (heights > _CLEARANCE * np.asarray(covered_by).reshape(-1, 1))
    above_ring[:, -1] = above_all[:, -1] = True
    steps_s = np.diff(attacks.crossing_s, axis=1)
    usual_s = _usual_steps(steps_s, above_all[:, :-1], attacks.peak)
    steady = steps_s <= 2.0 * usual_s + _STEP_SLACK_S
    # Every step up to the first share that nothing covers (20 % or 40 %) must be an ordinary one.
    sure = np.clip(np.argmax(above_all, axis=1), _SURE_SHARE, _SURE_SHARE + 1)
    counted = np.arange(steps_s.shape[1])[None, :] < sure[:, None]
    unbroken = np.cumprod((steady | ~counted)[:, ::-1], axis=1)[:, ::-1].astype(bool)
    believed = above_ring[:, :-1] & unbroken
    lowest = np.where(believed.any(axis=1), np.argmax(believed, axis=1), sure)
    rows = np.arange(len(attacks))
    lag_s = np.concatenate([[0.0], np.cumsum(usual_s)])
    return np.maximum(attacks.crossing_s[rows, lowest] - lag_s[lowest], 0.0)


def _usual_steps(steps_s: FloatArray, clear: NDArray[np.bool_], peak: FloatArray) -> FloatArray:
    """Usual time from each share to the next, shape (shares − 1,), from loud attacks that nothing covers there."""
    loud = peak > 0.25 * np.percentile(peak, 95)
    usual = np.zeros(steps_s.shape[1])
    for share in range(steps_s.shape[1]):
        known = steps_s[loud & clear[:, share], share]
        # What covers an attack only ever makes a step longer, so the shorter steps are the attack's own.
        usual[share] = np.percentile(known if len(known) >= _MIN_CLEAR else steps_s[loud, share], 40)
    return usual


def _join(parts: list[_Rises], rate_hz: int) -> Attacks:
    if not parts:
        return Attacks(frozen(np.zeros((0, len(_SHARES)))), frozen([]), frozen([]))
    crossing = np.concatenate([part.crossing for part in parts])
    peak = np.concatenate([part.peak for part in parts])
    quiet = np.concatenate([part.quiet for part in parts])
    sustain = np.concatenate([part.sustain for part in parts])
    contrast = amplitude_to_db(peak) - amplitude_to_db(np.maximum(sustain, 1e-7))
    real = (contrast > _MIN_CONTRAST_DB) & (peak > max(_DIGITAL_FLOOR, _FAINTEST_SHARE * float(peak.max())))
    found = Attacks(crossing_s=crossing[real] / rate_hz, peak=peak[real], quiet=quiet[real])
    once = keep_distinct(settle_starts(found, 0.0), found.peak)
    found = Attacks(found.crossing_s[once], found.peak[once], found.quiet[once])
    once = np.flatnonzero(~_is_swell(found))
    return Attacks(frozen(found.crossing_s[once]), frozen(found.peak[once]), frozen(found.quiet[once]))


def _is_swell(found: Attacks) -> NDArray[np.bool_]:
    """Slow rises just after another attack: the body of a blown or bowed note whose tongue was found already."""
    start_s = settle_starts(found, 0.0)
    rise_s = found.crossing_s[:, -1] - start_s
    after_s = np.diff(start_s, prepend=-np.inf)
    return np.asarray((rise_s > _SLOW_RISE_S) & (after_s < _SWELL_S))


def keep_distinct(time_s: FloatArray, peak: FloatArray) -> NDArray[np.intp]:
    """Indices, in order of time, of attacks that are not the same one found twice; of such the loudest stays."""
    order = np.lexsort((-peak, time_s))
    kept: list[int] = []
    for index in order:
        if kept and time_s[index] - time_s[kept[-1]] < _SAME_S:
            if peak[index] > peak[kept[-1]]:
                kept[-1] = int(index)
        else:
            kept.append(int(index))
    return np.array(kept, dtype=np.intp)
