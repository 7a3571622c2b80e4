"""Attacks: every start of a sound in one recording, whoever played it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import BLOCK_FRAMES, BlockReader, Recording, block_spans
from supple_snare.sound.novelty import BandLevels, BandLevelsBuilder, find_candidates
from supple_snare.sound.peaks import BIN_FRAMES, Peaks, PeaksBuilder
from supple_snare.sound.rises import AFTER_S, BEFORE_S, Rises, measure_rises
from supple_snare.sound.starts import settle_starts
from supple_snare.timing.units import FloatArray, amplitude_to_db

_SLOW_RISE_S = 0.006
_SWELL_S = 0.045
_GROWING_S = 0.066
_ROLL_SPAN_S = 0.15
_ROLL_FINDS = 3
_ROLL_ALIKE_DB = 6.0
"""A fast part has two strokes in that time; of the bounces of a roll, four or five, though not all are found."""

_HELD_S = (0.09, 0.14)
_HELD_DB = 1.5
"""A note that has grown by this some 100 ms after its attack is held; the longest drums do not grow."""

_SAME_S = 0.012
_MIN_CONTRAST_DB = 5.0
"""An attack rises about this far above what sounded before it, in one view at least."""

_PLAIN_RISE_DB = 9.0
"""What lifts the whole spectrum by so much is an attack of its own."""

_FAINT_RISE_DB = 6.0
_BROKEN_OFF_DB = -8.0
"""Where so much less sounds after than before, a sound was cut off; nothing was struck."""

_FAINTEST_SHARE = 10.0 ** (-55.0 / 20.0)
"""What lies farther below the loudest attack is the noise of the chain being switched on, not a stroke."""

_DIGITAL_FLOOR = 1e-5
"""Amplitudes below −100 dB are not attacks, whatever they rise from."""

Progress = Callable[[float], None]


@dataclass(frozen=True, eq=False)
class Analysis:
    """What one reading of a recording tells: its peaks, its levels by band, and how its attacks rise."""

    peaks: Peaks
    levels: BandLevels
    attacks: Rises

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
    bands = BandLevelsBuilder(recording.rate_hz)
    with BlockReader(recording, "float32") as reader:
        for start, count in block_spans(recording.frames):
            report(0.6 * start / recording.frames)
            block = reader.read(start, count)
            builder.add(block)
            bands.add(block.mean(axis=1, dtype=np.float32))
        levels = bands.finish()
        frames, rise_db = find_candidates(levels)
        parts = []
        centres = frames * levels.hop
        for start, count in block_spans(recording.frames, 4 * BLOCK_FRAMES):
            report(0.6 + 0.4 * start / recording.frames)
            here = (centres >= start) & (centres < start + count)
            if here.any():
                parts.append(_refine_block(reader, centres[here], rise_db[here]))
    report(1.0)
    peaks = builder.finish(recording.frames, recording.rate_hz)
    return Analysis(peaks, levels, _real_attacks(Rises.joined(parts), peaks))


def _refine_block(reader: BlockReader, centres: NDArray[np.intp], rise_db: NDArray[np.float32]) -> Rises:
    rate = reader.recording.rate_hz
    before, after = round(BEFORE_S * rate), round(AFTER_S * rate)
    first = int(centres[0]) - before
    stretch = reader.read_mono(first, int(centres[-1]) + after - first)
    rows = (centres - before - first)[:, None] + np.arange(before + after)
    return measure_rises(stretch[rows], centres, rise_db, rate_hz=rate)


def _real_attacks(found: Rises, peaks: Peaks) -> Rises:
    """Candidates that are attacks, each once."""
    if not len(found):
        return found
    peak = found.peak[:, 0]
    stands_out = _stands_out(found) & (found.lasting_db > _BROKEN_OFF_DB)
    loud_enough = peak > max(_DIGITAL_FLOOR, _FAINTEST_SHARE * float(peak.max()))
    found = found[stands_out & loud_enough & ~_inside_rolls(found)]
    held = _is_held(found, peaks)
    # Of one attack found twice the plainer one is right; the louder as well, unless a held note is still growing.
    found = found[keep_distinct(settle_starts(found, 0.0), found.rise_db + (0.0 if held else found.level_db))]
    swell = _is_swell(found)
    # A bass drum just after a neighbour's bleed rises slowly too, but it lifts the spectrum.
    found = found[~(swell if held else swell & (found.rise_db < _FAINT_RISE_DB))]
    return found[_stands_alone(found)] if held else found


def _stands_out(found: Rises) -> NDArray[np.bool_]:
    """Whether candidates rise more, in some view, than noise does by chance; low noise swells most of all."""
    whole, low, middle, high = found.contrast_db.T
    upper = (middle > 1.1 * _MIN_CONTRAST_DB) | (high > 0.8 * _MIN_CONTRAST_DB)
    plain = np.maximum(whole, low) > 2.2 * _MIN_CONTRAST_DB
    together = (whole > _MIN_CONTRAST_DB) & (np.maximum(middle, high) > 0.5 * _MIN_CONTRAST_DB)
    return np.asarray(upper | plain | together)


def _inside_rolls(found: Rises) -> NDArray[np.bool_]:
    """Candidates that hardly stand out of a dense run of others as loud: bounces of a roll that chance lifted."""
    start_s, level_db = settle_starts(found, 0.0), found.level_db
    order = np.argsort(start_s, kind="stable")
    ordered_s = start_s[order]
    count = np.zeros(len(found), dtype=np.int64)
    for back in range(1, 2 * _ROLL_FINDS + 1):
        near = ordered_s[back:] - ordered_s[:-back] < _ROLL_SPAN_S
        alike = np.abs(level_db[order][back:] - level_db[order][:-back]) < _ROLL_ALIKE_DB
        count[order[back:]] += near & alike
    return np.asarray((count >= _ROLL_FINDS) & (found.contrast_db.max(axis=1) < 2.0 * _MIN_CONTRAST_DB))


def _is_held(found: Rises, peaks: Peaks) -> bool:
    """Whether this is a blown, bowed or sung part: its notes go on as loud as they began."""
    if not len(found):
        return False
    amplitude, bins_per_s = peaks.amplitude(), peaks.rate_hz / BIN_FRAMES
    loud = found.level_db > found.level_db.max() - 12.0
    first = np.rint(found.crossing_s[loud, 0, 0] * bins_per_s).astype(np.int64)
    span = np.arange(round(_HELD_S[0] * bins_per_s), round(_HELD_S[1] * bins_per_s))
    later = amplitude[np.clip(first[:, None] + span, 0, len(amplitude) - 1)].max(axis=1)
    return bool(np.median(amplitude_to_db(later) - found.level_db[loud]) > _HELD_DB)


def _stands_alone(found: Rises) -> NDArray[np.bool_]:
    """All but the pulses of a low note that is still growing: these stand out in a band, hardly in the whole sound, and
    follow an attack at once."""
    contrast_db = found.contrast_db[:, 0]
    plain = (contrast_db > 2.0 * _MIN_CONTRAST_DB) | (
        (contrast_db > _MIN_CONTRAST_DB) & (found.rise_db > _PLAIN_RISE_DB)
    )
    after_s = np.diff(settle_starts(found, 0.0), prepend=-np.inf)
    return np.asarray(plain | (after_s > _GROWING_S))


def _is_swell(found: Rises) -> NDArray[np.bool_]:
    """Slow rises just after another attack: the body of a blown or bowed note whose tongue was found already."""
    start_s = settle_starts(found, 0.0)
    rise_s = found.crossing_s[:, 0, -1] - start_s
    after_s = np.diff(start_s, prepend=-np.inf)
    return np.asarray((rise_s > _SLOW_RISE_S) & (after_s < _SWELL_S))


def keep_distinct(time_s: FloatArray, merit: FloatArray) -> NDArray[np.intp]:
    """Indices, in order of time, of attacks that are not the same one found twice; of such the one of most merit."""
    order = np.lexsort((-merit, time_s))
    kept: list[int] = []
    for index in order:
        if kept and time_s[index] - time_s[kept[-1]] < _SAME_S:
            if merit[index] > merit[kept[-1]]:
                kept[-1] = int(index)
        else:
            kept.append(int(index))
    return np.array(kept, dtype=np.intp)
