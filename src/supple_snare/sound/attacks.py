"""Attacks: every start of a sound in one recording, whoever played it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from supple_snare.disk.mapped import release_memory
from supple_snare.sound.ear import Ear, EarReader
from supple_snare.sound.files import BLOCK_FRAMES, AnyArray, Recording, block_spans
from supple_snare.sound.guess import FEATURES, guess_material
from supple_snare.sound.material import PRESETS, Band, Material
from supple_snare.sound.novelty import BandLevels, BandLevelsBuilder, level_spectra, peaks_of_rise, rise_curve
from supple_snare.sound.partials import NewPartials, NewPartialsBuilder, note_frames
from supple_snare.sound.peaks import Peaks, PeaksBuilder
from supple_snare.sound.rises import AFTER_S, BEFORE_S, Rises, measure_rises
from supple_snare.sound.starts import rough_starts
from supple_snare.sound.syllables import find_syllables
from supple_snare.timing.units import SILENCE_DB, FloatArray, amplitude_to_db

_TELLING = 80
"""So many attacks are enough to tell what is played: those that lift the spectrum most."""

_SLOW_RISE_S, _SWELL_S = 0.006, 0.045
"""What rises no faster, so soon after another attack, is its body."""

_SAME_S = 0.012
"""Two finds nearer than this are one attack, whatever the material."""

_MIN_CONTRAST_DB = 5.0
"""An attack rises about this far above what sounded before it, in one view at least."""

_SURE_RISE_DB = 5.15
"""Chance alone lifts no spectrum by so much; a stroke into the ring of a louder one may show in no other way."""

_AMID_RISE_DB = 3.0
_AMID_BELOW_DB, _AMID_ABOVE_DB = 14.0, 12.0
_CALM_PERCENT, _INCESSANT_PER_S = 20, 4.0
"""Amid ring a stroke lifts the spectrum by as much, is at most so much softer than the loudest, and lies so far above
what is usually heard between attacks; where plain ones come so often, there is no between."""

_FAINT_RISE_DB = 6.0
_BROKEN_OFF_DB = -8.0
"""Where so much less sounds after than before, a sound was cut off; nothing was struck."""

_FAINTEST_SHARE = 10.0 ** (-55.0 / 20.0)
"""What lies farther below the loudest attack is the noise of the chain being switched on, not a stroke."""

_DIGITAL_FLOOR = 1e-5
"""Amplitudes below −100 dB are not attacks, whatever they rise from."""

_BROADLY, _CLOSELY = 0.5, 0.6
"""Share of the work after which the broad reading is done, and at which that around the candidates begins."""

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
    note_features : float array, shape (features,)
        What it was taken for that by (`guess.FEATURES`); NaN where the material was told.
    """

    peaks: Peaks
    levels: BandLevels
    attacks: Rises
    material: Material
    note_features: FloatArray

    @property
    def is_silent(self) -> bool:
        """Whether nothing at all is heard in the recording."""
        return self.peaks.loudest < _DIGITAL_FLOOR


def part_of(progress: Progress | None, number: int, total: int) -> Progress | None:
    """Progress of one of several pieces of work, told as progress of all."""
    return None if progress is None else lambda share: progress((number + share) / total)


def analyse(heard: Ear | Recording, progress: Progress | None = None) -> Analysis:
    """Listen in blocks: for peaks and band levels, for new partials if there are notes, then around the candidates.

    Parameters
    ----------
    heard : Ear or Recording
        Where its material is not told, the sound tells.
    progress : callable, optional
        Called with the share done, 0 to 1; may raise to stop the work.

    Raises
    ------
    RecordingError
        If the file breaks while it is read.
    """
    ear = heard if isinstance(heard, Ear) else Ear.of(heard)
    report = progress or (lambda _share: None)
    with EarReader(ear) as reader:
        in_band = _listen_broadly(reader, report)
        if ear.material is None:
            material, note_features = _guess(reader, in_band[ear.heard_hz])
        else:
            material, note_features = ear.material, np.full(len(FEATURES), np.nan)
        reader.ear = replace(ear, material=material)
        broadly = in_band[reader.ear.heard_hz]
        preset = PRESETS[material]
        if material is Material.VOICE:
            attacks = _syllables(reader, broadly, report)
        elif preset.is_pitched:
            attacks = _notes(reader, broadly, report, soft=preset.lands_late)
        else:
            attacks = _strokes(reader, broadly, report)
        report(1.0)
        release_memory()
        return Analysis(broadly.peaks, broadly.levels, attacks, material, note_features)


@dataclass(frozen=True, eq=False)
class _Broadly:
    """What the first reading tells of one band."""

    peaks: Peaks
    levels: BandLevels

    @cached_property
    def rise_db(self) -> NDArray[np.float32]:
        """How much the spectrum rises around each frame of the levels."""
        return rise_curve(self.levels)


def _listen_broadly(reader: EarReader, report: Progress) -> dict[Band, _Broadly]:
    """What every band tells that may be asked for once the material is known: one reading does."""
    ear = reader.ear
    peaks_builder, spectra = PeaksBuilder(), level_spectra(ear.rate_hz)
    levels = {band_hz: BandLevelsBuilder(spectra, ear.rate_hz, band_hz) for band_hz in ear.bands_hz}

    def gather(power: AnyArray) -> None:
        for builder in levels.values():
            builder.add(power)

    for start, count in block_spans(ear.frames):
        report(_BROADLY * start / ear.frames)
        block = reader.read(start, count)
        peaks_builder.add(block)
        gather(spectra.add(block.mean(axis=1, dtype=np.float32)))
    gather(spectra.finish())
    peaks = peaks_builder.finish(ear.frames, ear.rate_hz)
    return {band_hz: _Broadly(peaks, builder.finish()) for band_hz, builder in levels.items()}


def _listen_for_partials(reader: EarReader, report: Progress) -> NewPartials:
    partials = NewPartialsBuilder(reader.ear.rate_hz, reader.ear.heard_hz)
    for start, count in block_spans(reader.ear.frames):
        report(_BROADLY + (_CLOSELY - _BROADLY) * start / reader.ear.frames)
        partials.add(reader.read_whole(start, count))
    return partials.finish()


def _guess(reader: EarReader, broadly: _Broadly) -> tuple[Material, FloatArray]:
    """What the attacks that lift the spectrum most tell of the material."""
    frames = peaks_of_rise(broadly.rise_db)
    plainest = frames[np.sort(np.argsort(-broadly.rise_db[frames], kind="stable")[:_TELLING])]
    found = _refine(reader, plainest, broadly, lambda _share: None)
    return guess_material(_begun(found), broadly.peaks, broadly.levels, reader.read_each)


def _notes(reader: EarReader, broadly: _Broadly, report: Progress, *, soft: bool) -> Rises:
    """Notes, each once: of one found twice the plainer is right, since it goes on growing."""
    frames = note_frames(broadly.levels, broadly.rise_db, _listen_for_partials(reader, report), soft=soft)
    found = _begun(_refine(reader, frames, broadly, report))
    return found[keep_distinct(rough_starts(found), found.rise_db)]


def _syllables(reader: EarReader, broadly: _Broadly, report: Progress) -> Rises:
    """Syllables of a voice: their vowels rise as is measured, and they begin where their consonants do."""
    found = find_syllables(broadly.levels)
    rises = _refine(reader, found.vowel, broadly, report)
    later_s = (rough_starts(rises) - found.start_s)[:, None, None]
    rises = replace(rises, crossing_s=rises.crossing_s - later_s, rise_db=np.maximum(rises.rise_db, found.rise_db))
    return _begun(rises)


def _strokes(reader: EarReader, broadly: _Broadly, report: Progress) -> Rises:
    """Attacks of drums, each once: of one found twice the plainer and louder is right."""
    found = _begun(_refine(reader, peaks_of_rise(broadly.rise_db), broadly, report))
    found = found[_stands_out(found)]
    found = found[keep_distinct(rough_starts(found), found.rise_db + found.level_db)]
    # A bass drum just after a neighbour's bleed rises slowly too, but it lifts the spectrum.
    return found[~(_is_swell(found) & (found.rise_db < _FAINT_RISE_DB))]


def _refine(reader: EarReader, frames: NDArray[np.intp], broadly: _Broadly, report: Progress) -> Rises:
    """How what seems to start at frames of the levels rises."""
    parts = []
    centres, rise_db = frames * broadly.levels.hop, broadly.rise_db[frames]
    for start, count in block_spans(reader.ear.frames, 4 * BLOCK_FRAMES):
        report(_CLOSELY + (1.0 - _CLOSELY) * start / reader.ear.frames)
        here = (centres >= start) & (centres < start + count)
        if here.any():
            parts.append(_refine_block(reader, centres[here], rise_db[here]))
    return Rises.joined(parts)


def _refine_block(reader: EarReader, centres: NDArray[np.intp], rise_db: NDArray[np.float32]) -> Rises:
    rate = reader.ear.rate_hz
    before, after = round(BEFORE_S * rate), round(AFTER_S * rate)
    return measure_rises(reader.read_each(centres - before, before + after), centres, rise_db, rate_hz=rate)


def _begun(found: Rises) -> Rises:
    """Candidates loud enough at which something begins, not one at which something was broken off."""
    peak = found.peak[:, 0]
    loud_enough = peak > max(_DIGITAL_FLOOR, _FAINTEST_SHARE * float(peak.max(initial=0.0)))
    return found[loud_enough & (found.lasting_db > _BROKEN_OFF_DB)]


def _stands_out(found: Rises) -> NDArray[np.bool_]:
    """Whether candidates rise more, in some view or over all bands, than noise does; low noise swells most of all."""
    whole, low, middle, high = found.contrast_db.T
    upper = (middle > 1.1 * _MIN_CONTRAST_DB) | (high > 0.8 * _MIN_CONTRAST_DB)
    plain = np.maximum(whole, low) > 2.2 * _MIN_CONTRAST_DB
    together = (whole > _MIN_CONTRAST_DB) & (np.maximum(middle, high) > 0.5 * _MIN_CONTRAST_DB)
    stands_out = upper | plain | together | (found.rise_db > _SURE_RISE_DB)
    return np.asarray(stands_out | _amid_ring(found, stands_out))


def _amid_ring(found: Rises, plain: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Candidates about as loud as the loudest stroke, far above what is usually heard: there a smaller rise tells.

    Steady noise lies no higher than what is usually heard; and where plain strokes follow one another all the time,
    what is usually heard is their ring.
    """
    if not plain.any():
        return plain
    calm_db = float(amplitude_to_db(np.percentile(found.quiet[:, 0], _CALM_PERCENT)))
    if np.count_nonzero(plain) > _INCESSANT_PER_S * (found.centre_s[-1] - found.centre_s[0]):
        calm_db = SILENCE_DB
    loud = found.level_db > max(float(found.level_db[plain].max()) - _AMID_BELOW_DB, calm_db + _AMID_ABOVE_DB)
    return np.asarray(loud & (found.rise_db > _AMID_RISE_DB))


def _is_swell(found: Rises) -> NDArray[np.bool_]:
    """Slow rises just after another attack: the body of what was found already."""
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
