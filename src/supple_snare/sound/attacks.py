"""Attacks: every start of a sound in one recording, whoever played it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.files import BLOCK_FRAMES, BlockReader, Recording, block_spans
from supple_snare.sound.novelty import BandLevels, BandLevelsBuilder, find_candidates
from supple_snare.sound.peaks import Peaks, PeaksBuilder
from supple_snare.sound.rises import AFTER_S, BEFORE_S, Rises, measure_rises
from supple_snare.sound.starts import settle_starts
from supple_snare.timing.units import FloatArray

_SLOW_RISE_S = 0.006
_SWELL_S = 0.045
_GROWING_S = 0.066
_SAME_S = 0.012
_MIN_CONTRAST_DB = 5.0
"""An attack rises at least this far above what sounded before it, in one view at least."""

_PLAIN_RISE_DB = 9.0
"""What lifts the whole spectrum by so much is an attack of its own."""

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
    return Analysis(builder.finish(recording.frames, recording.rate_hz), levels, _real_attacks(Rises.joined(parts)))


def _refine_block(reader: BlockReader, centres: NDArray[np.intp], rise_db: NDArray[np.float32]) -> Rises:
    rate = reader.recording.rate_hz
    before, after = round(BEFORE_S * rate), round(AFTER_S * rate)
    first = int(centres[0]) - before
    stretch = reader.read_mono(first, int(centres[-1]) + after - first)
    rows = (centres - before - first)[:, None] + np.arange(before + after)
    return measure_rises(stretch[rows], centres, rise_db, rate_hz=rate)


def _real_attacks(found: Rises) -> Rises:
    """Candidates that are attacks, each once."""
    if not len(found):
        return found
    peak = found.peak[:, 0]
    stands_out = (found.contrast_db.max(axis=1) > _MIN_CONTRAST_DB) & (found.lasting_db > _BROKEN_OFF_DB)
    found = found[stands_out & (peak > max(_DIGITAL_FLOOR, _FAINTEST_SHARE * float(peak.max())))]
    found = found[keep_distinct(settle_starts(found, 0.0), found.rise_db)]
    found = found[~_is_swell(found)]
    return found[_stands_alone(found)]


def _stands_alone(found: Rises) -> NDArray[np.bool_]:
    """All but the pulses of a low note that is still growing: these stand out in a band, not in the whole sound, and
    follow an attack at once. A stroke into the ring of another does so too, but not so soon."""
    start_s = settle_starts(found, 0.0)
    contrast_db = found.contrast_db[:, 0]
    plain = (contrast_db > 2.0 * _MIN_CONTRAST_DB) | (
        (contrast_db > _MIN_CONTRAST_DB) & (found.rise_db > _PLAIN_RISE_DB)
    )
    kept = np.zeros(len(found), dtype=bool)
    last_s = -np.inf
    for index in range(len(found)):
        kept[index] = plain[index] or start_s[index] - last_s > _GROWING_S
        if kept[index]:
            last_s = start_s[index]
    return kept


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
