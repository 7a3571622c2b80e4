"""The musical ruler: a steady grid of tempo, meter, subdivision and swing.

Conventions: tempo and positions count quarter notes ("beats"); bars count from 1, bars before the first beat are
0 and below; slots of a bar count from 0. Everything that needs lines works on `Slots`, so that later rulers
(sections, a tempo that follows the band) only have to lay other lines.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.units import FloatArray, IntArray, beats_to_s, frozen, s_to_beats

TEMPO_RANGE_BPM = (20.0, 400.0)
SWING_RANGE = (0.5, 0.75)


@dataclass(frozen=True, order=True)
class Meter:
    """A time signature, such as 4/4 or 6/8."""

    count: int = 4
    unit: int = 4

    def __post_init__(self) -> None:
        if not 1 <= self.count <= 32 or self.unit not in (1, 2, 4, 8, 16, 32):
            raise UsageError(f"The meter {self.count}/{self.unit} makes no sense: give one such as 4/4, 3/4 or 6/8.")

    @classmethod
    def parse(cls, text: str) -> Meter:
        """The meter written as "4/4".

        Raises
        ------
        UsageError
            If the text is not a meter.
        """
        match = re.fullmatch(r"\s*(\d{1,2})\s*/\s*(\d{1,2})\s*", text)
        if not match:
            raise UsageError(f"The meter “{text}” is not understood: give one such as 4/4, 3/4 or 6/8.")
        return cls(int(match[1]), int(match[2]))

    @property
    def bar_beats(self) -> float:
        """Length of a bar in quarter notes."""
        return self.count * self.unit_beats

    @property
    def unit_beats(self) -> float:
        """Length of one count in quarter notes."""
        return 4.0 / self.unit

    def __str__(self) -> str:
        return f"{self.count}/{self.unit}"


@dataclass(frozen=True, order=True)
class Subdivision:
    """The note value between neighbouring slots, such as 1/16 or 1/8T (eighth-note triplets)."""

    note: int = 16
    triplet: bool = False

    def __post_init__(self) -> None:
        if self.note not in (4, 8, 16, 32):
            raise UsageError(f"The grid 1/{self.note} is not known: give 1/4, 1/8, 1/16 or 1/32, or 1/8T for triplets.")

    @classmethod
    def parse(cls, text: str) -> Subdivision:
        """The subdivision written as "1/16" or "1/8T".

        Raises
        ------
        UsageError
            If the text is not a subdivision.
        """
        match = re.fullmatch(r"\s*1/(\d{1,2})\s*([tT]?)\s*", text)
        if not match:
            raise UsageError(f"The grid “{text}” is not understood: give one such as 1/8, 1/16 or 1/8T.")
        return cls(int(match[1]), bool(match[2]))

    @property
    def slot_beats(self) -> float:
        """Distance of neighbouring slots in quarter notes, swing left out."""
        return 4.0 / self.note * (2.0 / 3.0 if self.triplet else 1.0)

    def __str__(self) -> str:
        return f"1/{self.note}{'T' if self.triplet else ''}"


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
    """

    time_s: FloatArray
    bar: IntArray
    slot: IntArray
    beat: FloatArray

    def __len__(self) -> int:
        return len(self.time_s)

    @cached_property
    def spacing_s(self) -> FloatArray:
        """Mean distance of each slot to its two neighbours, shape (n,)."""
        gaps = np.diff(self.time_s)
        return frozen(0.5 * (np.append(gaps, gaps[-1:]) + np.insert(gaps, 0, gaps[:1])))


@dataclass(frozen=True)
class Grid:
    """A steady grid.

    Attributes
    ----------
    tempo_bpm : float
        Quarter notes a minute.
    first_beat_s : float
        Where bar 1 begins.
    meter : Meter
    subdivision : Subdivision
    swing : float
        Of each pair of neighbouring slots the second stands at this share of the pair (0.5 is straight).

    Raises
    ------
    UsageError
        If a value is out of its range, or the subdivision does not fill the bar evenly.
    """

    tempo_bpm: float = 120.0
    first_beat_s: float = 0.0
    meter: Meter = Meter()
    subdivision: Subdivision = Subdivision()
    swing: float = 0.5

    def __post_init__(self) -> None:
        low, high = TEMPO_RANGE_BPM
        if not low <= self.tempo_bpm <= high:
            raise UsageError(f"A tempo of {self.tempo_bpm:g} bpm makes no sense: give one from {low:g} to {high:g}.")
        if not abs(self.first_beat_s) <= 86_400:
            raise UsageError(f"A first beat at {self.first_beat_s:g} s makes no sense: give seconds from the start.")
        low, high = SWING_RANGE
        if not low <= self.swing <= high:
            raise UsageError(f"A swing of {self.swing:g} makes no sense: give one from {low:g} to {high:g}.")
        if abs(self.slots_per_bar * self.subdivision.slot_beats - self.meter.bar_beats) > 1e-9:
            raise UsageError(f"The grid {self.subdivision} does not fill a bar of {self.meter} evenly.")

    @property
    def slots_per_bar(self) -> int:
        """Number of slots in one bar."""
        return round(self.meter.bar_beats / self.subdivision.slot_beats)

    @property
    def bar_s(self) -> float:
        """Length of one bar in seconds."""
        return float(beats_to_s(self.meter.bar_beats, self.tempo_bpm))

    def bar_positions(self) -> FloatArray:
        """Slot positions within a bar in quarter notes, swing included; shape (slots_per_bar,).

        A last slot that has no partner in the bar stays straight.

        >>> Grid(subdivision=Subdivision(8), swing=0.75, meter=Meter(2, 4)).bar_positions().tolist()
        [0.0, 0.75, 1.0, 1.75]
        """
        positions: FloatArray = np.arange(self.slots_per_bar, dtype=np.float64) * self.subdivision.slot_beats
        positions[1::2] += (self.swing - 0.5) * 2.0 * self.subdivision.slot_beats
        return positions

    def bar_time_s(self, bar: ArrayLike) -> FloatArray:
        """Start of a bar in seconds; a fraction of a bar lies in proportion."""
        bars = np.asarray(bar, dtype=np.float64) - 1.0
        return self.first_beat_s + beats_to_s(bars * self.meter.bar_beats, self.tempo_bpm)

    def bar_at(self, time_s: ArrayLike) -> FloatArray:
        """Bar number with its fraction at a time: the inverse of `bar_time_s`."""
        beats = s_to_beats(np.asarray(time_s, dtype=np.float64) - self.first_beat_s, self.tempo_bpm)
        return 1.0 + beats / self.meter.bar_beats

    def slots(self, start_s: float, end_s: float) -> Slots:
        """All slots of the bars that touch a span of time, and of one bar more on either side.

        The spare bars let a stroke near an edge have a slot on both its sides.
        """
        first = int(np.floor(self.bar_at(start_s))) - 1
        last = int(np.floor(self.bar_at(max(start_s, end_s)))) + 1
        bars = np.arange(first, last + 1)
        positions = self.bar_positions()
        bar = np.repeat(bars, len(positions))
        beat = np.tile(positions, len(bars))
        beats_from_first = (bar - 1) * self.meter.bar_beats + beat
        return Slots(
            time_s=frozen(self.first_beat_s + beats_to_s(beats_from_first, self.tempo_bpm)),
            bar=frozen(bar, np.int64),
            slot=frozen(np.tile(np.arange(len(positions)), len(bars)), np.int64),
            beat=frozen(beat),
        )


def is_on_count(beat: FloatArray, meter: Meter) -> NDArray[np.bool_]:
    """Whether positions within a bar fall on a count of the meter."""
    counts = beat / meter.unit_beats
    return np.abs(counts - np.rint(counts)) < 1e-6
