"""The course of the tempo: which moment each beat of the music falls on.

A course is steady, steady between pins, or follows beats as they were played, smoothed as stiffly as one likes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from supple_snare.errors import UsageError
from supple_snare.timing.meter import through
from supple_snare.timing.smooth_row import SmoothRow, wave_penalty
from supple_snare.timing.units import FloatArray, frozen

TEMPO_RANGE_BPM = (20.0, 400.0)

_SHORTEST_BEATS, _LONGEST_BEATS = 2.0, 1200.0
"""Waves of tempo shorter than this are smoothed away, at the least and at the greatest stiffness below 1."""

_STEADY_WEIGHT = 1e9
_PIN_WEIGHT = 1e10
_BEND_WEIGHT = 1e3
"""Each of them in squared distances of beats; a bend's grows with the stiffness, which it has to overcome."""

_JUMP, _JUMP_BEATS, _JUMP_NEAR = 0.07, 6, 0.3
"""By which logarithm beats grow at least, over how many before and after; and as what share of that the two beside the
change may lie off."""

_END_BEATS = 4
"""The tempo before the first and after the last beat is that of so many beats there."""


@dataclass(frozen=True, order=True)
class Pin:
    """A place of the music tied to a moment by hand: quarter notes from the start of bar 1, and seconds."""

    beat: float
    time_s: float


@dataclass(frozen=True, order=True)
class Bend:
    """A tempo asked for by hand over a stretch of the music, in quarter notes from the start of bar 1."""

    from_beat: float
    to_beat: float
    tempo_bpm: float

    def __post_init__(self) -> None:
        check_tempo(self.tempo_bpm)


@dataclass(frozen=True)
class PlayedBeats:
    """Beats as they were played, and how far the course follows them.

    Attributes
    ----------
    time_s : tuple of float
        Increasing, two at least.
    first_beat : float
        Place of the first one, in quarter notes from the start of bar 1.
    step : float
        Quarter notes from one to the next: 1, or 1.5 where dotted quarters are felt.
    stiffness : float
        0 follows every beat as played, 1 keeps one tempo for each section.
    bends : tuple of Bend
    """

    time_s: tuple[float, ...]
    first_beat: float = 0.0
    step: float = 1.0
    stiffness: float = 0.25
    bends: tuple[Bend, ...] = ()

    def __post_init__(self) -> None:
        if len(self.time_s) < 2 or not np.all(np.diff(self.time_s) > 0) or not np.all(np.isfinite(self.time_s)):
            raise UsageError("Beats must follow one another in time, two at least.")
        check_stiffness(self.stiffness)
        if not 0.05 <= self.step <= 16.0:
            raise UsageError(f"Beats of {self.step:g} quarter notes make no sense.")


@dataclass(frozen=True, eq=False)
class Course:
    """Straight lines between places of the music and moments.

    Attributes
    ----------
    beat, time_s : float array, shape (n,)
        Both increasing.
    before_bpm, after_bpm : float
        Tempo outside of them.
    """

    beat: FloatArray
    time_s: FloatArray
    before_bpm: float
    after_bpm: float

    @property
    def tempo_range_bpm(self) -> tuple[float, float]:
        """The slowest and the fastest tempo, to a thousandth: whole numbers of samples leave less than that open."""
        tempos = np.append(60.0 * np.diff(self.beat) / np.diff(self.time_s), self.after_bpm).round(3)
        return float(tempos.min()), float(tempos.max())

    def time_at(self, beat: ArrayLike) -> FloatArray:
        """Seconds at which places of the music fall."""
        return through(self.beat, self.time_s, beat, 60.0 / self.before_bpm, 60.0 / self.after_bpm)

    def beat_at(self, time_s: ArrayLike) -> FloatArray:
        """Place of the music at moments: the inverse of `time_at`."""
        return through(self.time_s, self.beat, time_s, self.before_bpm / 60.0, self.after_bpm / 60.0)


def steady_course(tempo_bpm: float, first_beat_s: float, pins: Sequence[Pin] = ()) -> Course:
    """One tempo throughout, or between pins whatever leads from one to the next, and the tempo after the last.

    Raises
    ------
    UsageError
        If pins are out of order, or so near that no tempo leads from one to the next.
    """
    points = sorted({Pin(0.0, first_beat_s), *(pin for pin in pins if pin.beat != 0.0)})
    beat, time = (np.array(column) for column in zip(*((pin.beat, pin.time_s) for pin in points), strict=True))
    before_bpm = tempo_bpm
    if len(points) > 1:
        with np.errstate(divide="ignore"):
            between = 60.0 * np.diff(beat) / np.diff(time)
        _check_between(between)
        before_bpm = float(between[0])
    return Course(frozen(beat), frozen(time), before_bpm, tempo_bpm)


def following_course(played: PlayedBeats, pins: Sequence[Pin], breaks_s: Sequence[float]) -> Course:
    """A smooth course along played beats.

    Squared distances from the beats plus a penalty on changes of tempo, by how stiff it is; pins and bends outweigh
    the beats near them (E. T. Whittaker, "On a new method of graduation", Proc. Edinburgh Math. Soc. 41, 1923, with
    second differences). At the start of each section, and where the beats go to another tempo at once, the tempo may
    change freely.

    Parameters
    ----------
    played : PlayedBeats
    pins : sequence of Pin
    breaks_s : sequence of float
        Starts of sections.

    Raises
    ------
    UsageError
        If pins ask for what no tempo gives.
    """
    found = np.array(played.time_s)
    count = len(found)
    place = np.arange(count)
    beat = played.first_beat + played.step * place
    penalty = _penalty(played.stiffness)
    if penalty == 0.0 and not pins and not played.bends:
        laid = found
    else:
        # Distances from a straight course are small numbers, which keeps the weights below from eating the digits.
        line = np.polynomial.Polynomial.fit(place, found, 1)
        system = SmoothRow(found - line(place))
        system.smooth(penalty, broken=sorted({*_broken(found, breaks_s), *_jumps(found)}))
        at = (np.array([pin.beat for pin in pins]) - played.first_beat) / played.step
        system.tie(at, np.array([pin.time_s for pin in pins]) - line(at), np.full(len(pins), _PIN_WEIGHT))
        for bend in played.bends:
            inside = np.flatnonzero((beat[:-1] >= bend.from_beat - 1e-6) & (beat[1:] <= bend.to_beat + 1e-6))
            gap = played.step * 60.0 / bend.tempo_bpm - (line(1.0) - line(0.0))
            system.space(inside, float(gap), _BEND_WEIGHT * (1.0 + penalty))
        laid = system.solved() + line(place)
    tempo = 60.0 * played.step / np.diff(laid)
    _check_between(tempo)
    ends = min(_END_BEATS, count - 1)
    return Course(frozen(beat), frozen(laid), float(np.mean(tempo[:ends])), float(np.mean(tempo[-ends:])))


def smooth_beats(place: FloatArray, time_s: FloatArray, weight: FloatArray, wave_beats: float) -> FloatArray:
    """Moments of whole beats that go smoothly through strokes at known places.

    Parameters
    ----------
    place : float array, shape (n,)
        Places of strokes in beats, from 0.
    time_s, weight : float array, shape (n,)
    wave_beats : float
        Waves of tempo shorter than this are smoothed away.

    Returns
    -------
    float array, shape (beats,)
        From beat 0 to the last one that any place touches.
    """
    count = max(int(np.ceil(float(place.max()))) + 1, 3)
    slope, start = np.polynomial.polynomial.polyfit(place, time_s, 1, w=np.sqrt(weight))[::-1]
    line = start + slope * np.arange(count)
    system = SmoothRow(np.zeros(count), weight=1e-6)
    system.smooth(wave_penalty(wave_beats), broken=())
    system.tie(place, time_s - (start + slope * place), weight)
    return system.solved() + line


def check_tempo(tempo_bpm: float) -> None:
    """Whether a tempo makes sense.

    Raises
    ------
    UsageError
        If not.
    """
    low, high = TEMPO_RANGE_BPM
    if not low <= tempo_bpm <= high:
        raise UsageError(f"A tempo of {tempo_bpm:g} bpm makes no sense: give one from {low:g} to {high:g}.")


def check_stiffness(stiffness: float) -> None:
    """Whether a stiffness makes sense.

    Raises
    ------
    UsageError
        If not.
    """
    if not 0.0 <= stiffness <= 1.0:
        raise UsageError(f"A stiffness of {stiffness:g} makes no sense: give one from 0 to 1.")


def _check_between(tempo: FloatArray) -> None:
    low, high = TEMPO_RANGE_BPM
    wrong = ~((tempo > 0.5 * low) & (tempo < 2.0 * high))
    if wrong.any():
        raise UsageError("Lines pinned so near each other, or out of order, leave no tempo between them.")


def _penalty(stiffness: float) -> float:
    """Weight of second differences that lets waves of tempo pass from a length on."""
    if stiffness <= 0.0:
        return 0.0
    wave_beats = _SHORTEST_BEATS * (_LONGEST_BEATS / _SHORTEST_BEATS) ** stiffness
    return _STEADY_WEIGHT if stiffness >= 1.0 else wave_penalty(wave_beats)


def _broken(found: FloatArray, breaks_s: Sequence[float]) -> list[int]:
    """Second differences that reach over the start of a section."""
    nearest = [int(np.argmin(np.abs(found - start))) for start in breaks_s]
    return [index - 1 for index in nearest if 0 < index < len(found) - 1]


def _jumps(found: FloatArray) -> list[int]:
    """Second differences at which beats go from one tempo to another for good, with or without an odd one between."""
    length = np.log(np.diff(found))
    if len(length) < 2 * _JUMP_BEATS:
        return []
    usual = np.median(np.lib.stride_tricks.sliding_window_view(length, _JUMP_BEATS), axis=1)
    jumps: list[int] = []
    for odd in (0, 1):
        begin = np.arange(_JUMP_BEATS, len(length) - _JUMP_BEATS - odd + 1)
        before, after = usual[begin - _JUMP_BEATS], usual[begin + odd]
        near = _JUMP_NEAR * np.abs(after - before)
        at_once = (np.abs(length[begin - 1] - before) < near) & (np.abs(length[begin + odd] - after) < near)
        is_odd = np.minimum(np.abs(length[begin] - before), np.abs(length[begin] - after)) > near
        here = begin[(np.abs(after - before) > _JUMP) & at_once & (is_odd == bool(odd))]
        jumps += np.concatenate([here + by for by in range(-1, odd)]).tolist()
    return jumps
