"""The musical ruler: a course of tempo, meters, and for each section how its bars are ruled into slots.

Conventions: tempo and positions count quarter notes ("beats"); bars count from 1, bars before the first beat are
0 and below; slots of a bar count from 0. Everything that needs lines works on `Slots`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.course import Course, Pin, PlayedBeats, check_tempo, following_course, steady_course
from supple_snare.timing.meter import Bars, Meter, MeterChange
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.sections import section_of
from supple_snare.timing.units import LONGEST_TAKE_S, FloatArray, IntArray, frozen


@dataclass(frozen=True, eq=False)
class Slots:
    """A run of neighbouring grid lines.

    Attributes
    ----------
    time_s : float array, shape (n,)
        Increasing.
    bar : int array, shape (n,)
        Counted from 1 at the first beat.
    slot : int array, shape (n,)
        Counted from 0 within the bar.
    beat : float array, shape (n,)
        Position within the bar in quarter notes, as laid (swing included).
    place : float array, shape (n,)
        What names the slot whatever the swing: quarter notes from the start of bar 1, swing left out.
    on_count : bool array, shape (n,)
        Whether it is a count of the meter.
    section : int array, shape (n,)
        Number of the section it lies in, from 0.
    strand : int array, shape (n,)
        Which of two note values side by side it belongs to, 1 or 2; 0 for both, and where there is but one.
    """

    time_s: FloatArray
    bar: IntArray
    slot: IntArray
    beat: FloatArray
    place: FloatArray
    on_count: NDArray[np.bool_]
    section: IntArray
    strand: IntArray

    def __len__(self) -> int:
        return len(self.time_s)

    def at(self, place: FloatArray) -> IntArray:
        """Index of the slot nearest to each place, as in `place`; meaningless for NaN."""
        order = np.argsort(self.place, kind="stable")  # swing may carry a note past a triplet beside it
        rising = self.place[order]
        return order[np.searchsorted(0.5 * (rising[1:] + rising[:-1]), place)].astype(np.int64)

    @cached_property
    def gaps_s(self) -> tuple[FloatArray, FloatArray]:
        """Distance of each slot from the one before and from the one after it, each of shape (n,)."""
        gaps = np.diff(self.time_s)
        return frozen(np.insert(gaps, 0, gaps[:1])), frozen(np.append(gaps, gaps[-1:]))

    @cached_property
    def spacing_s(self) -> FloatArray:
        """Mean distance of each slot to its two neighbours, shape (n,)."""
        before, after = self.gaps_s
        return frozen(0.5 * (after + before))


@dataclass(frozen=True)
class RuledSection:
    """How the bars of a section are ruled, from its start as played on."""

    start_s: float
    ruling: Ruling


@dataclass(frozen=True)
class Grid:
    """A grid over a take.

    Attributes
    ----------
    tempo_bpm : float
        Quarter notes a minute; where beats are followed, the tempo that a steady grid would have.
    first_beat_s : float
        Where bar 1 begins, as long as no beats are followed.
    meter : Meter
    ruling : Ruling
    meter_changes : tuple of MeterChange
        In order of bars.
    pins : tuple of Pin
        Places tied to moments by hand.
    played : PlayedBeats or None
        Beats that are followed; None for a steady grid.
    sections : tuple of RuledSection
        In order of time, the first one from the start of the take; empty while the take is one.

    Raises
    ------
    UsageError
        If a value is out of its range, or pins leave no tempo between them.
    """

    tempo_bpm: float = 120.0
    first_beat_s: float = 0.0
    meter: Meter = Meter()
    ruling: Ruling = Ruling()
    meter_changes: tuple[MeterChange, ...] = ()
    pins: tuple[Pin, ...] = ()
    played: PlayedBeats | None = None
    sections: tuple[RuledSection, ...] = ()

    def __post_init__(self) -> None:
        check_tempo(self.tempo_bpm)
        if not abs(self.first_beat_s) <= LONGEST_TAKE_S:
            raise UsageError(f"A first beat at {self.first_beat_s:g} s makes no sense: give seconds from the start.")
        if any(not np.isfinite((pin.beat, pin.time_s)).all() for pin in self.pins):
            raise UsageError("A grid line can only be pinned to a moment of the take.")
        bars = [change.bar for change in self.meter_changes]
        if bars != sorted(set(bars)):
            raise UsageError("Two meters cannot begin in one bar.")
        _ = self.course

    @cached_property
    def course(self) -> Course:
        """Which moment each quarter note from the start of bar 1 falls on."""
        if self.played is None:
            return steady_course(self.tempo_bpm, self.first_beat_s, self.pins)
        return following_course(self.played, self.pins, [section.start_s for section in self.sections[1:]])

    @cached_property
    def bars(self) -> Bars:
        """The count of bars."""
        return Bars(self.meter, self.meter_changes)

    @property
    def bar_s(self) -> float:
        """Length of a usual bar in seconds."""
        return self.meter.bar_beats * 60.0 / self.tempo_bpm

    @property
    def slots_per_bar(self) -> int:
        """Number of slots in a usual bar."""
        return len(self.ruling.positions(self.meter.bar_beats))

    @cached_property
    def first_bars(self) -> IntArray:
        """The bar in which each section begins, shape (sections,); at least one."""
        starts = [section.start_s for section in self.sections[1:]]
        return frozen([1, *np.rint(self.bar_at(starts))], np.int64)

    def ruling_of(self, section: int) -> Ruling:
        """The ruling of a section by its number."""
        return self.sections[section].ruling if self.sections else self.ruling

    def bar_time_s(self, bar: ArrayLike) -> FloatArray:
        """Start of a bar in seconds; a fraction of a bar lies in proportion."""
        return self.course.time_at(self.bars.beat_of(bar))

    def bar_at(self, time_s: ArrayLike) -> FloatArray:
        """Bar number with its fraction at a time: the inverse of `bar_time_s`."""
        return self.bars.bar_of(self.course.beat_at(time_s))

    def tempo_at(self, time_s: ArrayLike) -> FloatArray:
        """Tempo over the quarter note around a moment, in bpm."""
        beat = self.course.beat_at(time_s)
        return 60.0 / (self.course.time_at(beat + 0.5) - self.course.time_at(beat - 0.5))

    def slot_numbers(self, place: FloatArray, near_s: FloatArray) -> tuple[IntArray, IntArray]:
        """Bars and slots of places in quarter notes from bar 1, swing left out; 0 and 0 for NaN.

        Parameters
        ----------
        place, near_s : float array, shape (n,)
            Places, and moments near which they lie.
        """
        if not len(place):
            return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
        slots = self.slots(float(near_s.min()), float(near_s.max()))
        index = slots.at(place)
        known = np.isfinite(place)
        return np.where(known, slots.bar[index], 0), np.where(known, slots.slot[index], 0)

    def slots(self, start_s: float, end_s: float) -> Slots:
        """All slots of the bars that touch a span of time, and of one bar more on either side.

        The spare bars let a stroke near an edge have a slot on both its sides. Bars that a section cuts through are
        ruled by each for its own part.
        """
        first = int(np.floor(self.bar_at(start_s))) - 1
        last = int(np.floor(self.bar_at(max(start_s, end_s)))) + 1
        bars = np.arange(first, last + 1)
        rulings = [section.ruling for section in self.sections] or [self.ruling]
        starts = [section.start_s for section in self.sections] or [0.0]
        each = [self._ruled(bars, ruling) for ruling in dict.fromkeys(rulings)]
        if len(each) > 1:
            which = np.array([list(dict.fromkeys(rulings)).index(ruling) for ruling in rulings])
            each = [_chosen(found, which[section_of(starts, found[0])] == n) for n, found in enumerate(each)]
        joined = [np.concatenate(columns) for columns in zip(*each, strict=True)]
        if len(each) > 1:
            joined = list(_chosen(joined, np.argsort(joined[0], kind="stable")))
        time_s, bar, beat, straight, on_count, strand = joined
        slot = np.arange(len(bar)) - np.searchsorted(bar, bar)
        return Slots(
            time_s=frozen(time_s),
            bar=frozen(bar, np.int64),
            slot=frozen(slot, np.int64),
            beat=frozen(beat),
            place=frozen(self.bars.beat_of(bar) + straight),
            on_count=frozen(on_count, np.bool_),
            section=frozen(section_of(starts, time_s), np.int64),
            strand=frozen(strand, np.int64),
        )

    def _ruled(self, bars: IntArray, ruling: Ruling) -> tuple[NDArray[np.generic], ...]:
        """Columns of the slots of whole bars."""
        number = self.bars.number_of(bars)
        parts = []
        for meter_number in np.unique(number):
            mine = bars[number == meter_number]
            meter = self.bars.meter_of(int(mine[0]))
            beat, straight, strand = ruling.lines(meter.bar_beats)
            counts = straight / meter.unit_beats
            parts.append(
                (
                    np.repeat(mine, len(beat)),
                    np.tile(beat, len(mine)),
                    np.tile(straight, len(mine)),
                    np.tile((np.abs(counts - np.rint(counts)) < 1e-6) & (np.abs(beat - straight) < 1e-6), len(mine)),
                    np.tile(strand, len(mine)),
                )
            )
        bar, beat, straight, on_count, strand = (np.concatenate(columns) for columns in zip(*parts, strict=True))
        time_s = self.course.time_at(self.bars.beat_of(bar) + beat)
        return time_s, bar, beat, straight, on_count, strand


def _chosen(
    columns: Sequence[NDArray[np.generic]], which: NDArray[np.bool_] | IntArray
) -> tuple[NDArray[np.generic], ...]:
    return tuple(column[which] for column in columns)
