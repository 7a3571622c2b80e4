"""Attacks: every start of a sound in one recording, whoever played it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.ear import Ear, EarReader
from supple_snare.sound.files import BLOCK_FRAMES, Recording, block_spans
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.novelty import BandLevels, BandLevelsBuilder, find_candidates
from supple_snare.sound.peaks import BIN_FRAMES, Peaks, PeaksBuilder
from supple_snare.sound.rises import AFTER_S, BEFORE_S, Rises, measure_rises
from supple_snare.sound.starts import rough_starts
from supple_snare.timing.units import SILENCE_DB, FloatArray, amplitude_to_db

_SLOW_RISE_S = 0.006
_SWELL_S = 0.045
_GROWING_S = 0.066
_ROLL_SPAN_S = 0.125
_ROLL_FINDS = 4
_ROLL_ALIKE_DB = 6.0
"""Of a fast part, one stroke lies in that time before and one after; of the bounces of a roll, three or four each."""

_HELD_S = (0.09, 0.14)
_HELD_DB = -0.5
_HELD_FALL_DB = -2.5
"""A note that is as loud some 100 ms after its attack, and has not fallen by more until 250 ms, is held."""

_RINGING_S = (0.06, 0.25)
_RINGING_DB = -11.0
"""A note that falls by less in that time rings like a string; small drums fall by 15 dB and more."""

_PERIOD_S = 0.025
"""A low note stands still twice in each period; over so long it never seems to."""

_HISS_SHARE = 1.4
_FEW_HISSES = 0.08

_SAME_S = 0.012
"""Two finds nearer than this are one attack, whatever the material."""

_MIN_CONTRAST_DB = 5.0
"""An attack rises about this far above what sounded before it, in one view at least."""

_PLAIN_RISE_DB = 9.0
"""What lifts the whole spectrum by so much is an attack of its own."""

_SURE_RISE_DB = 5.0
"""Chance alone lifts no spectrum by so much; a stroke into the ring of a louder one may show in no other way."""

_BOUNCE_RISE_DB = 2.8
"""Bounces blur into one another and lift the spectrum by no more; noise by chance hardly so much."""

_AMID_RISE_DB = 3.0
_AMID_BELOW_DB = 14.0
_AMID_ABOVE_DB = 12.0
_CALM_PERCENT = 20

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
    """What one listening tells.

    Attributes
    ----------
    peaks : Peaks
        In the whole band.
    levels : BandLevels
    attacks : Rises
    material : Material
        What the sound was taken for: as told, or as it goes on.
    rings : bool
        Whether its notes ring on, as strings do and large drums.
    """

    peaks: Peaks
    levels: BandLevels
    attacks: Rises
    material: Material
    rings: bool

    @property
    def is_silent(self) -> bool:
        """Whether nothing at all is heard in the recording."""
        return bool(self.peaks.amplitude().max(initial=0.0) < _DIGITAL_FLOOR)


def analyse(heard: Ear | Recording, progress: Progress | None = None) -> Analysis:
    """Listen twice, in blocks: once for peaks and band levels, once around the candidates.

    A sound whose material is not told is listened to as a whole first; if it turns out to be of a kind that shows in a
    band, once more in that band.

    Parameters
    ----------
    heard : Ear or Recording
    progress : callable, optional
        Called with the share done, 0 to 1; may raise to stop the work.

    Raises
    ------
    RecordingError
        If the file breaks while it is read.
    """
    ear = heard if isinstance(heard, Ear) else Ear.of(heard)
    report = progress or (lambda _share: None)
    analysis = _listen(ear, report)
    if ear.material is None and ear.band_hz is None and PRESETS[analysis.material].band_hz:
        analysis = _listen(replace(ear, material=analysis.material), lambda _share: report(1.0))
    report(1.0)
    return analysis


def _listen(ear: Ear, report: Progress) -> Analysis:
    builder = PeaksBuilder()
    bands = BandLevelsBuilder(ear.rate_hz)
    with EarReader(ear) as reader:
        for start, count in block_spans(ear.frames):
            report(0.6 * start / ear.frames)
            block = reader.read(start, count)
            builder.add(block)
            bands.add(block.mean(axis=1, dtype=np.float32) if ear.hears_plainly else reader.read_mono(start, count))
        levels = bands.finish()
        frames, rise_db = find_candidates(levels)
        parts = []
        centres = frames * levels.hop
        for start, count in block_spans(ear.frames, 4 * BLOCK_FRAMES):
            report(0.6 + 0.4 * start / ear.frames)
            here = (centres >= start) & (centres < start + count)
            if here.any():
                parts.append(_refine_block(reader, centres[here], rise_db[here]))
    peaks = builder.finish(ear.frames, ear.rate_hz)
    found = _standing_out(Rises.joined(parts))
    notes = found[~_inside_rolls(found)]
    later_db, fallen_db = how_notes_go_on(notes, peaks)
    material = ear.material or _material_of_notes(notes, later_db, fallen_db)
    held = PRESETS[material].is_held
    attacks = _real_attacks(notes if held else found, held=held)
    return Analysis(peaks, levels, attacks, material, rings=fallen_db > _RINGING_DB)


def _refine_block(reader: EarReader, centres: NDArray[np.intp], rise_db: NDArray[np.float32]) -> Rises:
    rate = reader.ear.rate_hz
    before, after = round(BEFORE_S * rate), round(AFTER_S * rate)
    first = int(centres[0]) - before
    stretch = reader.read_mono(first, int(centres[-1]) + after - first)
    rows = (centres - before - first)[:, None] + np.arange(before + after)
    return measure_rises(stretch[rows], centres, rise_db, rate_hz=rate)


def _standing_out(found: Rises) -> Rises:
    """Candidates that rise out of what sounds before them, as noise does not."""
    if not len(found):
        return found
    peak = found.peak[:, 0]
    stands_out = _stands_out(found)
    if stands_out.any():
        stands_out |= _amid_ring(found, float(found.level_db[stands_out].max()))
    stands_out &= found.lasting_db > _BROKEN_OFF_DB
    loud_enough = peak > max(_DIGITAL_FLOOR, _FAINTEST_SHARE * float(peak.max()))
    return found[stands_out & loud_enough]


def _real_attacks(found: Rises, *, held: bool) -> Rises:
    """What stands out and is an attack of its own, each once."""
    # Of one attack found twice the plainer one is right; the louder as well, unless a held note is still growing.
    merit = found.rise_db + (0.0 if held else found.level_db)
    found = found[keep_distinct(rough_starts(found), merit)]
    swell = _is_swell(found)
    # A bass drum just after a neighbour's bleed rises slowly too, but it lifts the spectrum.
    found = found[~(swell if held else swell & (found.rise_db < _FAINT_RISE_DB))]
    return found[_stands_alone(found)] if held else found


def _stands_out(found: Rises) -> NDArray[np.bool_]:
    """Whether candidates rise more, in some view or over all bands, than noise does; low noise swells most of all."""
    whole, low, middle, high = found.contrast_db.T
    upper = (middle > 1.1 * _MIN_CONTRAST_DB) | (high > 0.8 * _MIN_CONTRAST_DB)
    plain = np.maximum(whole, low) > 2.2 * _MIN_CONTRAST_DB
    together = (whole > _MIN_CONTRAST_DB) & (np.maximum(middle, high) > 0.5 * _MIN_CONTRAST_DB)
    return np.asarray(upper | plain | together | (found.rise_db > _SURE_RISE_DB))


def _amid_ring(found: Rises, loudest_db: float) -> NDArray[np.bool_]:
    """Candidates about as loud as the loudest stroke, far above what is usually heard: there a smaller rise tells.

    Steady noise lies no higher than what is usually heard.
    """
    calm_db = float(amplitude_to_db(np.percentile(found.quiet[:, 0], _CALM_PERCENT)))
    loud = found.level_db > max(loudest_db - _AMID_BELOW_DB, calm_db + _AMID_ABOVE_DB)
    return np.asarray(loud & (found.rise_db > _AMID_RISE_DB))


def _inside_rolls(found: Rises) -> NDArray[np.bool_]:
    """Candidates that hardly stand out of a dense run of others as loud: bounces of a roll, pulses of a low note."""
    start_s, level_db, plain = rough_starts(found), found.level_db, found.rise_db > _BOUNCE_RISE_DB
    order = np.argsort(start_s, kind="stable")
    start_s, level_db, plain = start_s[order], level_db[order], plain[order]
    count = np.zeros(len(found), dtype=np.int64)
    for apart in range(1, 2 * _ROLL_FINDS + 1):
        near = start_s[apart:] - start_s[:-apart] < _ROLL_SPAN_S
        alike = near & (np.abs(level_db[apart:] - level_db[:-apart]) < _ROLL_ALIKE_DB)
        count[order[apart:]] += alike & plain[:-apart]
        count[order[:-apart]] += alike & plain[apart:]
    return np.asarray((count >= _ROLL_FINDS) & (found.contrast_db.max(axis=1) < 2.0 * _MIN_CONTRAST_DB))


def how_notes_go_on(found: Rises, peaks: Peaks) -> tuple[float, float]:
    """How far notes grow or fall after their attack, in dB: the loudest moment some 100 ms later, and the quietest.

    Medians over the loud attacks; a note that the next one follows soon tells as much as a long one. Silence falls
    farthest.
    """
    from scipy.ndimage import maximum_filter1d

    if not len(found):
        return SILENCE_DB, SILENCE_DB
    bins_per_s = peaks.rate_hz / BIN_FRAMES
    amplitude = maximum_filter1d(peaks.amplitude(), max(1, round(_PERIOD_S * bins_per_s)))
    loud = found[found.level_db > found.level_db.max() - 12.0]
    first = np.rint(loud.crossing_s[:, 0, 0] * bins_per_s).astype(np.int64)

    def around(span_s: tuple[float, float]) -> FloatArray:
        span = np.arange(round(span_s[0] * bins_per_s), round(span_s[1] * bins_per_s))
        return amplitude_to_db(amplitude[np.clip(first[:, None] + span, 0, len(amplitude) - 1)])

    later_db = around(_HELD_S).max(axis=1) - loud.level_db
    fallen_db = around(_RINGING_S).min(axis=1) - loud.level_db
    return float(np.median(later_db)), float(np.median(fallen_db))


def _material_of_notes(found: Rises, later_db: float, fallen_db: float) -> Material:
    """A blown, bowed or sung part if its notes are held, else a drum: what neither says is for the editor to tell."""
    if later_db <= _HELD_DB or fallen_db <= _HELD_FALL_DB:
        return Material.DRUM_CLOSE
    return Material.VOICE if _hisses(found[found.level_db > found.level_db.max() - 12.0]) else Material.BLOWN


def _hisses(loud: Rises) -> bool:
    """Whether some attacks, not all, are nearly all high sound, as consonants are."""
    high = loud.peak[:, 3] > _HISS_SHARE * loud.peak[:, 2]
    return bool(_FEW_HISSES < np.mean(high) < 1.0 - _FEW_HISSES)


def _stands_alone(found: Rises) -> NDArray[np.bool_]:
    """All but the pulses of a low note that is still growing: these stand out in a band, hardly in the whole sound, and
    follow an attack at once."""
    contrast_db = found.contrast_db[:, 0]
    plain = (contrast_db > 2.0 * _MIN_CONTRAST_DB) | (
        (contrast_db > _MIN_CONTRAST_DB) & (found.rise_db > _PLAIN_RISE_DB)
    )
    after_s = np.diff(rough_starts(found), prepend=-np.inf)
    return np.asarray(plain | (after_s > _GROWING_S))


def _is_swell(found: Rises) -> NDArray[np.bool_]:
    """Slow rises just after another attack: the body of a blown or bowed note whose tongue was found already."""
    start_s = rough_starts(found)
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
