"""The tempo of a take from its hits: steady or wandering, with meter, first beat and runners-up."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from supple_snare.timing.bar_signs import bar_signs, first_of_bar
from supple_snare.timing.beat_signs import beat_signs, log_odds, turning
from supple_snare.timing.course import TEMPO_RANGE_BPM, PlayedBeats, following_course, smooth_beats
from supple_snare.timing.drift_path import find_drift
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter
from supple_snare.timing.phase import middle_s
from supple_snare.timing.pulse import Pulses, Track, follow, hear_pulses
from supple_snare.timing.round_tempo import ALIKE_BPM, whole_tempo
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.suggest import LEAST_STROKES, suggest_ruling
from supple_snare.timing.units import FloatArray, IntArray

_CANDIDATES = 8
_APART = 0.045
"""Tempos nearer than this, as a share, are one candidate."""

_SAME = 0.02
"""Tracks nearer than this have come to the same tempo."""

_SHIFTS = (0.0, 0.5, 1.0 / 3.0, 2.0 / 3.0)
"""Where the beat may lie instead: what is played between beats can look just as it does."""

_READINGS = 4
_WAVE_BEATS = 6.0
_REFINE_ROUNDS = 3
_NEAR_BEATS = 0.12
_STEADY_BEATS = 0.15
"""A take whose beats never lie this far off one straight tempo was played to that."""

_FASTEST_DOTTED_BPM = 140.0

_SURE_BAR = 0.8
"""Where bars begin is right in 99 % of takes that are as sure of it (`bench/bars.py`), and in 64 % of others."""


@dataclass(frozen=True)
class TempoFinding:
    """One reading of a take's tempo.

    Attributes
    ----------
    grid : Grid
        Steady, or following the beats found.
    confidence : float
        Share of belief beside those that count other beats, 0 to 1.
    bar_confidence : float
        How sure it is, if this reading is right, that bars begin where it says, 0 to 1.
    wander : float
        Greatest deviation of the smoothed tempo from its mean, as a share.
    parts_bpm : tuple of float
        Tempos, as in `Grid`, of the parts of a take that changes its tempo at once; empty where it has one.
    measured_bpm : float or None
        What the hits alone say, if they did not drift, where a whole number is read instead.
    """

    grid: Grid
    confidence: float
    bar_confidence: float
    wander: float
    parts_bpm: tuple[float, ...] = ()
    measured_bpm: float | None = None

    @property
    def is_bar_unsure(self) -> bool:
        """Whether bars may well begin on another beat."""
        return self.bar_confidence < _SURE_BAR

    @property
    def steady(self) -> bool:
        """Whether one tempo explains the take."""
        return self.grid.played is None and not self.parts_bpm

    @property
    def tempo_bpm(self) -> float:
        """Quarter notes a minute, in the first part of the take."""
        return self.parts_bpm[0] if self.parts_bpm else self.grid.tempo_bpm

    @property
    def felt_bpm(self) -> float:
        """Tempo of what is felt as one beat: of dotted quarters in 6/8."""
        return self.tempo_bpm / self.grid.meter.felt_beats

    @property
    def in_words(self) -> str:
        """Its tempo or tempos, its meter, and how the take keeps to them."""
        tempos = ", then ".join(f"{tempo:.2f} bpm" for tempo in self.parts_bpm or (self.tempo_bpm,))
        manner = "steady" if self.steady else f"followed where it wanders by {100.0 * self.wander:.0f} %"
        instead = f", or {self.measured_bpm:.2f} with no drift" if self.measured_bpm is not None else ""
        return f"{tempos} in {self.grid.meter}, {'each part steady' if self.parts_bpm else manner}{instead}"

    def beats_s(self, start_s: float, end_s: float) -> FloatArray:
        """Felt beats between two moments, every one as played where the tempo wanders."""
        grid, step = self.grid, self.grid.meter.felt_beats
        course = grid.course
        if grid.played is not None:
            course = following_course(replace(grid.played, stiffness=0.0), (), ())
        first, last = float(course.beat_at(start_s)), float(course.beat_at(end_s))
        return course.time_at(step * np.arange(np.ceil(first / step - 1e-6), np.floor(last / step + 1e-6) + 1.0))


def find_tempo(
    time_s: FloatArray,
    level_db: FloatArray,
    lead: IntArray,
    *,
    centre_hz: FloatArray | None = None,
    pulses: Pulses | None = None,
) -> list[TempoFinding]:
    """Find the tempo of a performance.

    Several tempos are followed through the take (see `pulse`); the reading is preferred for which the signs of
    `beat_signs` speak most. Bars begin on the beat for which those of `bar_signs` do.

    Parameters
    ----------
    time_s, level_db : float array, shape (n,)
        Hits of one or several leads, in order of time.
    lead : int array, shape (n,)
    centre_hz : float array, shape (leads,), optional
        Middle of the spectrum of each lead: a bass drum tells where bars begin.
    pulses : Pulses, optional
        Of these hits, if they are known.

    Returns
    -------
    list of TempoFinding
        Most likely first, and last what the hits alone say where the first is a whole number instead; none if too
        little was played.
    """
    if len(time_s) < LEAST_STROKES or time_s[-1] - time_s[0] < 4.0:
        return []
    weight = hit_weights(level_db, lead)
    tracks = [(log_odds(signs), track) for signs, track in followed_tracks(time_s, weight, lead, pulses)]
    scored = sorted(tracks, key=lambda pair: -pair[0])
    kept: list[tuple[float, Track]] = []
    for score, track in scored:
        if all(abs(np.log(track.felt_bpm / other.felt_bpm)) > _APART for _, other in kept):
            kept.append((score, track))
    belief = np.exp(np.array([score for score, _ in kept]) - kept[0][0])
    belief /= belief.sum()
    kept = kept[:_READINGS]
    read = [
        _readings(track, float(share), time_s, weight, lead, centre_hz)
        for (_, track), share in zip(kept, belief, strict=False)
    ]
    return [*(likely for likely, *_ in read), *read[0][1:]]


def followed_tracks(
    time_s: FloatArray, weight: FloatArray, lead: IntArray, pulses: Pulses | None = None
) -> list[tuple[dict[str, float], Track]]:
    """Every tempo that may be meant with every place where its beat may lie, and the signs for each.

    Parameters
    ----------
    time_s, weight : float array, shape (n,)
        Hits in order of time, and how much each counts, by `hit_weights`.
    lead : int array, shape (n,)
    pulses : Pulses, optional
        Of these hits, if they are known.

    Returns
    -------
    list of (dict of str to float, Track)
    """
    pulses = pulses or hear_pulses(time_s, weight)
    followed: list[Track] = []
    for tempo, template in _candidates(pulses):
        track = follow(pulses, tempo, template)
        if all(abs(np.log(track.felt_bpm / other.felt_bpm)) > _SAME for other in followed):
            followed.append(track)
    tracks = [replace(track, beat=track.beat + shift) for track in followed for shift in _SHIFTS]
    return [(beat_signs(track.beat_at(time_s), time_s, weight, lead), track) for track in tracks]


def hit_weights(level_db: FloatArray, lead: IntArray) -> FloatArray:
    """How much each hit counts, shape (n,), by levels and leads of shape (n,).

    Loud hits of each lead count more than its soft ones; a soft lead counts a little less than a loud one.
    """
    weight = np.ones(len(level_db))
    loudest_db = np.percentile(level_db, 95)
    for number in np.unique(lead):
        mine = lead == number
        loud_db = np.percentile(level_db[mine], 90)
        own = 0.6 * np.minimum(level_db[mine] - loud_db, 0.0)
        weight[mine] = 10.0 ** ((own + 0.3 * np.minimum(loud_db - loudest_db, 0.0)) / 20.0)
    return weight


def _candidates(pulses: Pulses) -> list[tuple[int, int]]:
    """Tempos and templates that fit best over all, as indices, no two tempos nearly alike."""
    total = pulses.score.sum(axis=0)
    best = total.max(axis=1)
    chosen: list[tuple[int, int]] = []
    for tempo in np.argsort(-best).tolist():
        if all(abs(np.log(pulses.tempo_bpm[tempo] / pulses.tempo_bpm[other])) > _APART for other, _ in chosen):
            chosen.append((tempo, int(total[tempo].argmax())))
        if len(chosen) == _CANDIDATES:
            break
    return chosen


def _readings(
    track: Track,
    confidence: float,
    time_s: FloatArray,
    weight: FloatArray,
    lead: IntArray,
    centre_hz: FloatArray | None,
) -> list[TempoFinding]:
    """A track made exact: its beats from all hits near lines, and whether one tempo explains them.

    Where that is a whole number, and the hits alone say another, the latter comes second.
    """
    beat = track.beat_at(time_s)
    start = np.floor(beat[0]) - 1.0
    place = beat - start
    beats_s = _whole_beats(place, time_s)
    compound = _is_compound(track, place)
    lines = _lines(place, 60.0 / track.felt_bpm, compound)

    def stands(beats_s: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Place of each hit, that of its line, and how much it counts by its distance from that."""
        place = np.interp(time_s, beats_s, np.arange(len(beats_s)))
        line, away = _nearest_lines(place, lines)
        return place, line, (1.0 - np.minimum(np.abs(away) / _NEAR_BEATS, 1.0) ** 2) ** 2 * weight

    for _ in range(_REFINE_ROUNDS):
        _, line, near = stands(beats_s)
        beats_s = smooth_beats(line, time_s, near + 1e-9, _WAVE_BEATS)
        if np.any(np.diff(beats_s) <= 0.0):  # too little to go by: the track as it was
            beats_s = _whole_beats(beat - start, time_s)
            break
    place, line, near = stands(beats_s)
    meter = _meter(place, weight, lead, compound)
    phase, sure = first_of_bar(bar_signs(place, weight, lead, centre_hz, meter.felt_count))
    one = _first_bar(place, phase, meter.felt_count, beats_s)
    grids, wander = _laid(beats_s, line, lead, time_s, near, meter, one)
    readings = [TempoFinding(grid, confidence, sure, wander) for grid in grids]
    if len(grids) > 1:
        readings[0] = replace(readings[0], measured_bpm=grids[1].tempo_bpm)
    return readings


def _whole_beats(place: FloatArray, time_s: FloatArray) -> FloatArray:
    """Moments of whole beats between and a little beyond hits at known places, which begin after beat 0."""
    count = int(np.ceil(place[-1])) + 2
    rate = (time_s[-1] - time_s[0]) / (place[-1] - place[0])
    wanted = np.arange(count, dtype=np.float64)
    increasing = np.concatenate([[True], np.diff(place) > 1e-9])
    inside = np.interp(wanted, place[increasing], time_s[increasing])
    return inside + np.minimum(wanted - place[0], 0.0) * rate + np.maximum(wanted - place[-1], 0.0) * rate


def _is_compound(track: Track, place: FloatArray) -> bool:
    """Whether beats are of three throughout: the middle one is played too, so it is no swing, and halves hardly are.

    Beats faster than a band counts dotted ones are plain beats with triplets.
    """
    if not track.template.in_threes or track.felt_bpm > _FASTEST_DOTTED_BPM:
        return False
    inside = place - np.floor(place)
    middle, half, last = (np.count_nonzero(np.abs(inside - where) < 0.07) for where in (1.0 / 3.0, 0.5, 2.0 / 3.0))
    return bool(middle > 0.4 * last and half < 0.3 * (middle + last))


def _lines(place: FloatArray, beat_s: float, compound: bool) -> FloatArray:
    """Lines within a felt beat, as parts of it, in the ruling that explains most; the next beat as well."""
    found = suggest_ruling(place, beat_s, compound=compound, drifting=False)
    length = 1.5 if compound else 1.0
    ruling = found[0].ruling if found else Ruling()
    return np.append(ruling.positions(length) / length, 1.0)


def _nearest_lines(place: FloatArray, lines: FloatArray) -> tuple[FloatArray, FloatArray]:
    """For each hit the place of the line it stands at, and its distance from it, drift left out, both in beats."""
    whole = np.floor(place)
    around = np.concatenate([lines[-2:-1] - 1.0, lines, lines[1:2] + 1.0])
    offset = (place - whole)[:, None] - around
    unit = max(float(np.median(np.diff(lines))), 0.2)
    drift = find_drift((place - place[0]) / unit, offset / unit, np.zeros_like(offset)) * unit
    away = offset - drift[:, None]
    nearest = np.abs(away).argmin(axis=1)
    return whole + around[nearest], away[np.arange(len(away)), nearest]


def _meter(place: FloatArray, weight: FloatArray, lead: IntArray, compound: bool) -> Meter:
    """The meter by how leads come back: after three beats or after two and four."""
    two, three, four = (float(np.abs(turning(place, weight, lead, period)).sum()) for period in (2.0, 3.0, 4.0))
    if three > max(two, four):
        return Meter(9, 8) if compound else Meter(3, 4)
    return Meter(6, 8) if compound else Meter(4, 4)


def _first_bar(place: FloatArray, phase: int, count: int, beats_s: FloatArray) -> int:
    """The beat that begins bar 1: what is played in the second half of a bar before it is a pick-up."""
    first = float(place[0])
    one = phase + count * int(np.ceil((first - _NEAR_BEATS - phase) / count))
    is_pick_up = one - first <= 0.5 * count + _NEAR_BEATS
    before_s = float(beats_s[0] + (one - count) * (beats_s[1] - beats_s[0]))
    return one if is_pick_up or before_s < 0.0 else one - count


def _laid(
    beats_s: FloatArray,
    line: FloatArray,
    lead: IntArray,
    time_s: FloatArray,
    near: FloatArray,
    meter: Meter,
    one: int,
) -> tuple[list[Grid], float]:
    """Grids of a reading, steady where a straight line through the hits is never far from the beats; and the wander.

    There are two where a whole number is likelier than the tempo of that line.
    """
    felt = meter.felt_beats
    numbers = np.arange(len(beats_s))
    played = (numbers >= line.min()) & (numbers <= line.max())
    start, beat_s = _straight(line, time_s, near)
    away_beats = np.abs(beats_s - (start + beat_s * numbers))[played] / beat_s
    tempo = 60.0 * felt / beat_s
    wide = smooth_beats(line, time_s, near + 1e-9, 16.0)
    wander = float(np.max(np.abs(beat_s / np.diff(wide) - 1.0)))
    low, high = TEMPO_RANGE_BPM
    if away_beats.max() <= _STEADY_BEATS or not low < tempo < high:
        likely = whole_tempo(tempo, beat_s, line, time_s - (start + beat_s * line), near)
        tempos = [likely, tempo] if abs(likely - tempo) > ALIKE_BPM else [likely]
        return [_steady(each, line, lead, time_s, near, meter, one) for each in tempos], wander
    beats = PlayedBeats(tuple(beats_s.tolist()), first_beat=-one * felt, step=felt)
    return [Grid(tempo, float(following_course(beats, (), ()).time_at(0.0)), meter, played=beats)], wander


def _steady(
    tempo: float,
    line: FloatArray,
    lead: IntArray,
    time_s: FloatArray,
    weight: FloatArray,
    meter: Meter,
    one: int,
) -> Grid:
    """The grid of that tempo which lies best on the hits."""
    beat_s = 60.0 * meter.felt_beats / tempo
    place = np.round(line - one, 6) % meter.felt_count
    start_s = middle_s(time_s - beat_s * line, weight, place, lead)
    return Grid(float(np.clip(tempo, *TEMPO_RANGE_BPM)), start_s + beat_s * one, meter)


def _straight(line: FloatArray, time_s: FloatArray, weight: FloatArray) -> tuple[float, float]:
    """Moment of beat 0 and length of a beat: a straight line that wild strokes do not bend."""
    own = weight.copy()
    for _ in range(4):
        start, beat_s = np.polynomial.polynomial.polyfit(line, time_s, 1, w=np.sqrt(own))
        rest = time_s - (start + beat_s * line)
        spread = 1.4826 * np.median(np.abs(rest[weight > 0.0])) + 1e-6
        own = weight * np.clip(1.0 - (rest / (4.7 * spread)) ** 2, 0.0, 1.0) ** 2 + 1e-12
    return float(start), float(beat_s)
