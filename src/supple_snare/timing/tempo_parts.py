"""The tempo of takes that change it at once, from one part of a song to the next: each part is read on its own.

Where one tempo followed through the take leaves it wandering, the take may be made of parts. They show in the pulses
(`pulse`): what fits best for a while, then something else. Each part that is steady on its own gets its tempo, and the
grids are joined by pins.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from supple_snare.timing.course import Pin
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.pulse import Pulses, hear_pulses
from supple_snare.timing.suggest import LEAST_STROKES
from supple_snare.timing.tempo import TempoFinding, find_tempo, hit_weights
from supple_snare.timing.units import FloatArray, IntArray

_JUMP_COST = 25.0
_STEP_COST = 1.0
"""Logarithms of likelihood that another tempo must gain over the rest of the part, and for each step of a drift."""

_STEPS = 2
_LEAST_WINDOWS = 3
_APART = 0.06
"""Tempos nearer than this, as a share, are one that wanders."""

_SURE = 0.5
_CELLS = 48
_BLUR_CELLS = 1.0
_STRAY = 0.15
_BESIDE_S = 8.0
"""How far from where the pulses change the change itself is looked for."""

_ON_TIME_S = 0.002
"""A beat that is longer or shorter by less is as long as the others."""


@dataclass(frozen=True, eq=False)
class _Hits:
    """Hits in order of time, arrays of shape (n,)."""

    time_s: FloatArray
    level_db: FloatArray
    lead: IntArray

    def between(self, start_s: float, end_s: float) -> _Hits:
        first, last = np.searchsorted(self.time_s, [start_s, end_s])
        return _Hits(self.time_s[first:last], self.level_db[first:last], self.lead[first:last])


def read_tempo(
    time_s: FloatArray, level_db: FloatArray, lead: IntArray, *, centre_hz: FloatArray | None = None
) -> list[TempoFinding]:
    """Readings of the tempo of a performance, in one part or in several; parameters as for `find_tempo`.

    Returns
    -------
    list of TempoFinding
        Most likely first; none if too little was played.
    """
    if len(time_s) < LEAST_STROKES:
        return []
    pulses = hear_pulses(time_s, hit_weights(level_db, lead))
    readings = find_tempo(time_s, level_db, lead, centre_hz=centre_hz, pulses=pulses)
    changes_s = _changes_s(pulses) if readings else []
    if not changes_s:
        return readings
    parts = _in_parts(_Hits(time_s, level_db, lead), changes_s, centre_hz)
    if parts is None:
        return readings
    left = 1.0 - parts.confidence
    return [parts, *(replace(each, confidence=left * each.confidence) for each in readings[:-1])]


def _in_parts(hits: _Hits, changes_s: list[float], centre_hz: FloatArray | None) -> TempoFinding | None:
    """A reading in parts that begin about at some moments; None if they are not steady, each at its own tempo."""

    def read(edges_s: list[float]) -> list[TempoFinding] | None:
        found = []
        for start_s, end_s in pairwise(edges_s):
            part = hits.between(start_s, end_s)
            first = next(iter(find_tempo(part.time_s, part.level_db, part.lead, centre_hz=centre_hz)), None)
            if first is None or not first.steady or first.confidence < _SURE:
                return None
            found.append(first)
        return found

    rough = read([-np.inf, *changes_s, np.inf])
    if rough is None:
        return None
    edges_s = [-np.inf]
    for number, change_s in enumerate(changes_s):
        beside = hits.between(max(change_s - _BESIDE_S, edges_s[-1]), change_s + _BESIDE_S)
        edges_s.append(_moment_of_change(hits, beside, rough[number].grid, rough[number + 1].grid, change_s))
    found = read([*edges_s, np.inf])
    if found is None or any(abs(np.log(one.felt_bpm / other.felt_bpm)) < _APART for one, other in pairwise(found)):
        return None
    return replace(
        found[0],
        grid=_joined([each.grid for each in found]),
        confidence=min(each.confidence for each in found),
        bar_confidence=min(each.bar_confidence for each in found),
        parts_bpm=tuple(each.grid.tempo_bpm for each in found),
    )


def _changes_s(pulses: Pulses) -> list[float]:
    """Moments at which another tempo begins to fit best, by dynamic programming over all windows."""
    score = pulses.score.max(axis=2)
    windows, tempos = score.shape
    came = np.zeros((windows, tempos), dtype=np.int64)
    total = score[0].copy()
    steps = np.arange(-_STEPS, _STEPS + 1)
    source = np.clip(np.arange(tempos) + steps[:, None], 0, tempos - 1)
    for window in range(1, windows):
        ways = total[source] - _STEP_COST * np.abs(steps)[:, None]
        way = ways.argmax(axis=0)
        best, origin = ways.max(axis=0), np.take_along_axis(source, way[None], axis=0)[0]
        leader = int(total.argmax())
        from_leader = total[leader] - _JUMP_COST
        came[window] = np.where(from_leader > best, leader, origin)
        total = np.maximum(from_leader, best) + score[window]
    path = np.zeros(windows, dtype=np.int64)
    path[-1] = int(total.argmax())
    for window in range(windows - 1, 0, -1):
        path[window - 1] = came[window, path[window]]
    jumps = np.flatnonzero(np.abs(np.diff(path)) > _STEPS) + 1
    lengths = np.diff(np.concatenate([[0], jumps, [windows]]))
    if not len(jumps) or lengths.min() < _LEAST_WINDOWS:
        return []
    return [float(0.5 * (pulses.centre_s[jump - 1] + pulses.centre_s[jump])) for jump in jumps]


def _moment_of_change(hits: _Hits, beside: _Hits, before: Grid, after: Grid, change_s: float) -> float:
    """Where the first hit of the later part falls: hits before it lie as those of one part do, the others as those of
    the other."""
    if len(beside.time_s) < 2:
        return change_s
    early = hits.between(change_s - 4.0 * _BESIDE_S, change_s - 0.5 * _BESIDE_S)
    late = hits.between(change_s + 0.5 * _BESIDE_S, change_s + 4.0 * _BESIDE_S)
    gain = _likelihood(before, early.time_s, beside.time_s) - _likelihood(after, late.time_s, beside.time_s)
    total = np.concatenate([[0.0], np.cumsum(gain)])
    first = int(np.argmax(total))
    edges_s = np.concatenate([[beside.time_s[0] - 1e-3], beside.time_s, [beside.time_s[-1] + 1e-3]])
    return float(0.5 * (edges_s[first] + edges_s[first + 1]))


def _likelihood(grid: Grid, known_s: FloatArray, time_s: FloatArray) -> FloatArray:
    """Logarithm of likelihood of hits, by where in a beat others of their part lie, shape (n,)."""
    from scipy.ndimage import gaussian_filter1d

    def cell(moments_s: FloatArray) -> IntArray:
        beat = grid.course.beat_at(moments_s) / grid.meter.felt_beats
        return np.rint(beat * _CELLS).astype(np.int64) % _CELLS

    counted = np.bincount(cell(known_s), minlength=_CELLS).astype(np.float64)
    density = gaussian_filter1d(counted, _BLUR_CELLS, mode="wrap") * _CELLS / max(len(known_s), 1)
    return np.asarray(np.log((1.0 - _STRAY) * density + _STRAY)[cell(time_s)])


def _joined(grids: list[Grid]) -> Grid:
    """One grid that goes through the grids of parts that follow one another.

    Bars are counted on. A part begins on the count of the one before that is nearest, which lasts as long as it takes;
    if that count is no whole bar, the last bar is a shorter one.
    """
    pins: list[Pin] = []
    changes: list[MeterChange] = []
    now, bar, beat, start_s = grids[0], 1, 0.0, float(grids[0].bar_time_s(1))
    for following in grids[1:]:
        meter, join_s = now.meter, float(following.bar_time_s(1))
        unit, unit_s = meter.unit_beats, 60.0 * meter.unit_beats / now.tempo_bpm
        counts = max(round((join_s - start_s) / unit_s), 1)
        last_s = start_s + (counts - 1) * unit_s
        if abs(join_s - last_s - unit_s) > _ON_TIME_S and counts > 1:
            pins.append(Pin(beat + (counts - 1) * unit, last_s))
        bars, left = divmod(counts, meter.count)
        bar += bars
        if left:
            changes.append(MeterChange(bar, Meter(left, meter.unit)))
            bar += 1
        if left or following.meter != meter:
            changes.append(MeterChange(bar, following.meter))
        beat += counts * unit
        pins.append(Pin(beat, join_s))
        now, start_s = following, join_s
    first = grids[0]
    return replace(first, tempo_bpm=now.tempo_bpm, meter_changes=tuple(changes), pins=tuple(pins))
