"""The hits of a track: what the group says of its attacks, the rules of each section, then what was mended by hand.

Corrections come last and speak of places in the recording, so that no change of rules undoes one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.session.document import Section, Track
from supple_snare.session.edits import SAME_HIT_S
from supple_snare.sound.alike import alike
from supple_snare.sound.landing import landing_points
from supple_snare.sound.material import Preset
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.hits import Hits, Kind, Origin, nearest_index
from supple_snare.timing.kinds import keep_spacing, mark_ghosts, mark_grace_and_rolls
from supple_snare.timing.sections import section_of
from supple_snare.timing.units import FloatArray, amplitude_to_db, frozen

SNAP_S = 0.015
"""A hit placed by hand jumps to an attack this near."""

_PEAK_SPAN_S = 0.025


def track_hits(track: Track, verdict: Verdict, peaks: Peaks, *, sections: tuple[Section, ...], preset: Preset) -> Hits:
    """Hits of a track.

    Parameters
    ----------
    track : Track
    verdict : Verdict
        What the comparison of all tracks says of its attacks.
    peaks : Peaks
        Of its recording.
    sections : tuple of Section
        Empty while the take is one.
    preset : Preset
        Of its material: whether its attacks land after their start, and how near two of them lie at most.
    """
    starts_s = [section.start_s for section in sections] or [0.0]
    rules = [track.rules_in(section.key) for section in sections] or [track.rules]
    number = section_of(starts_s, verdict.time_s)
    limit_db = np.array([np.nan if own.level_limit_db is None else own.level_limit_db for own in rules])[number]
    by_hand = np.isfinite(limit_db)
    above_db = verdict.level_db - np.where(by_hand, limit_db, 0.0)
    hits = Hits.of(
        verdict.time_s,
        level_db=verdict.level_db,
        sharpness=verdict.sharpness,
        kind=np.where(np.where(by_hand, above_db >= 0.0, verdict.played), Kind.PLAYED, Kind.BLEED),
        confidence=np.where(
            by_hand, 1.0 - 0.5 * np.exp(-np.abs(above_db) / 6.0), 1.0 / (1.0 + np.exp(-np.abs(verdict.log_odds)))
        ),
    )
    placed_s = _once((*track.added_s, *(moved.to_s for moved in track.moved)))
    gone_s = (*track.removed_s, *(moved.from_s for moved in track.moved), *placed_s)
    hits = mark_grace_and_rolls(hits[~near_any(hits.time_s, gone_s)])
    parts = []
    for index, own in enumerate(rules):
        part = hits[section_of(starts_s, hits.time_s) == index]
        part = keep_spacing(part, preset.spacing_ms if own.spacing_ms is None else own.spacing_ms)
        mine = np.array(placed_s)[section_of(starts_s, np.array(placed_s)) == index]
        part = part.merged(_placed(mine, track, verdict, peaks))
        # A soft consonant or tongue is the beginning of a note, however loud that becomes.
        parts.append(part if preset.lands_late else mark_ghosts(part))
    hits = parts[0]
    for part in parts[1:]:
        hits = hits.merged(part)
    return replace(hits, landing_s=frozen(_landings(hits, track, peaks, lands_late=preset.lands_late)))


def snap_to_attack(verdict: Verdict, time_s: float) -> float:
    """The attack nearest to a place chosen by hand, or the place itself if none is near."""
    if not len(verdict.time_s):
        return time_s
    nearest = float(verdict.time_s[np.argmin(np.abs(verdict.time_s - time_s))])
    return nearest if abs(nearest - time_s) <= SNAP_S else time_s


def alike_s(track: Track, verdict: Verdict, time_s: float) -> FloatArray:
    """Times of the attacks that are like one (`sound.alike`) and were not mended by hand, without itself.

    Parameters
    ----------
    track : Track
    verdict : Verdict
        What the comparison of all tracks says of its attacks.
    time_s : float
        Of the one, as it stands among the hits.
    """
    origin_s = next((moved.from_s for moved in track.moved if abs(moved.to_s - time_s) <= SAME_HIT_S), time_s)
    if not len(verdict.time_s):
        return np.zeros(0)
    index = int(np.argmin(np.abs(verdict.time_s - origin_s)))
    if abs(verdict.time_s[index] - origin_s) > SAME_HIT_S:
        return np.zeros(0)
    like = alike(verdict, index)
    like[index] = False
    return np.asarray(verdict.time_s[like & ~near_any(verdict.time_s, track.mended_s)])


def _placed(time_s: FloatArray, track: Track, verdict: Verdict, peaks: Peaks) -> Hits:
    """Hits put there by hand, as loud as the attack they stand at, or as the sound just after them."""
    if not len(time_s):
        return Hits.none()
    amplitude = peaks.amplitude()
    bins_per_s = peaks.rate_hz / BIN_FRAMES
    span = np.arange(round(_PEAK_SPAN_S * bins_per_s))
    first = (time_s * bins_per_s).astype(np.int64)
    level_db = amplitude_to_db(amplitude[np.clip(first[:, None] + span, 0, len(amplitude) - 1)].max(axis=1))
    if len(verdict.time_s):
        nearest = nearest_index(verdict.time_s, time_s)
        known = np.abs(verdict.time_s[nearest] - time_s) <= SAME_HIT_S
        level_db = np.where(known, verdict.level_db[nearest], level_db)
    moved = near_any(time_s, tuple(moved.to_s for moved in track.moved))
    return Hits.of(time_s, level_db=level_db, origin=np.where(moved, Origin.MOVED, Origin.ADDED))


def _landings(hits: Hits, track: Track, peaks: Peaks, *, lands_late: bool) -> FloatArray:
    landing_s = landing_points(peaks, hits.time_s) if lands_late else hits.time_s.copy()
    for landing in track.landings:
        near = np.abs(hits.time_s - landing.time_s) <= SAME_HIT_S
        landing_s[near] = np.maximum(landing.landing_s, hits.time_s[near])
    # A landing past the next one's would turn the order of strokes round.
    return np.minimum.accumulate(landing_s[::-1])[::-1]


def _once(times_s: tuple[float, ...]) -> tuple[float, ...]:
    """Times of which no two are the same hit, in order."""
    kept: list[float] = []
    for time_s in sorted(times_s):
        if not kept or time_s - kept[-1] > SAME_HIT_S:
            kept.append(time_s)
    return tuple(kept)


def near_any(
    time_s: FloatArray, marks_s: Sequence[float] | FloatArray, within_s: float = SAME_HIT_S
) -> NDArray[np.bool_]:
    """Which moments any of some marks is near, shape (n,); by default so near that it stands for the same hit."""
    if not len(marks_s) or not len(time_s):
        return np.zeros(len(time_s), dtype=bool)
    marks = np.sort(np.asarray(marks_s))
    return np.asarray(np.abs(marks[nearest_index(marks, time_s)] - time_s) <= within_s)
