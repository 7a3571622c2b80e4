"""Meters, and the count of bars when they change."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from supple_snare.errors import UsageError
from supple_snare.timing.units import FloatArray, IntArray


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

    @property
    def is_compound(self) -> bool:
        """Whether three counts are felt as one, as in 6/8."""
        return self.unit >= 8 and self.count % 3 == 0 and self.count > 3

    @property
    def felt_beats(self) -> float:
        """Length of what is felt as one beat in quarter notes: three counts in 6/8, else one count."""
        return self.unit_beats * (3 if self.is_compound else 1)

    @property
    def felt_count(self) -> int:
        """How many beats are felt in a bar: two in 6/8."""
        return round(self.bar_beats / self.felt_beats)

    def __str__(self) -> str:
        return f"{self.count}/{self.unit}"


@dataclass(frozen=True, order=True)
class MeterChange:
    """A meter that holds from a bar on."""

    bar: int
    meter: Meter


class Bars:
    """Bars of changing length: bar numbers to quarter notes from the start of bar 1, and back.

    Parameters
    ----------
    meter : Meter
        Holds where no change says otherwise, and before the first of them.
    changes : sequence of MeterChange
        In order of bars. A bar may be changed before bar 1: a short bar 0 is a pick-up.
    """

    def __init__(self, meter: Meter, changes: Sequence[MeterChange]) -> None:
        self._meters = [meter, *(change.meter for change in changes)]
        self._from_bar = np.array([change.bar for change in changes], dtype=np.float64)
        self._lengths = lengths = np.array([each.bar_beats for each in self._meters])
        self._felt = np.array([each.felt_beats for each in self._meters])
        # Beat at which each change stands, counted from the first of them, then shifted so that bar 1 is at 0.
        self._bars = self._from_bar if len(changes) else np.array([1.0])
        self._beats = np.concatenate([[0.0], np.cumsum(np.diff(self._bars) * lengths[1:-1])])
        self._before, self._after = float(lengths[0]), float(lengths[-1])
        self._beats = self._beats - float(self.beat_of(1.0))

    def beat_of(self, bar: ArrayLike) -> FloatArray:
        """Quarter notes from the start of bar 1 to that of a bar; a fraction of a bar lies in proportion."""
        return through(self._bars, self._beats, bar, self._before, self._after)

    def bar_of(self, beat: ArrayLike) -> FloatArray:
        """Bar number with its fraction: the inverse of `beat_of`."""
        return through(self._beats, self._bars, beat, 1.0 / self._before, 1.0 / self._after)

    def number_of(self, bar: ArrayLike) -> IntArray:
        """Which of the meters holds in each bar: 0 is the first one, n the one of the n-th change."""
        return np.searchsorted(self._from_bar, np.asarray(bar, dtype=np.float64), side="right").astype(np.int64)

    def bar_beats_of(self, bar: ArrayLike) -> FloatArray:
        """Length of each bar in quarter notes."""
        return np.asarray(self._lengths[self.number_of(bar)])

    def felt_beats_of(self, bar: ArrayLike) -> FloatArray:
        """Length of what is felt as one beat in each bar, in quarter notes."""
        return np.asarray(self._felt[self.number_of(bar)])

    def meter_of(self, bar: int) -> Meter:
        """The meter of a bar."""
        return self._meters[int(self.number_of(bar))]

    def place_in_words(self, beat: float) -> str:
        """The bar and the count in it at which a beat lies.

        >>> Bars(Meter(6, 8), []).place_in_words(3.25)
        'bar 2, beat 1.5'
        """
        bar = int(np.floor(float(self.bar_of(beat)) + 1e-6))
        count = (beat - float(self.beat_of(bar))) / self.meter_of(bar).unit_beats + 1.0
        return f"bar {bar}, beat {count:.3g}"


def through(x: FloatArray, y: FloatArray, at: ArrayLike, slope_before: float, slope_after: float) -> FloatArray:
    """The straight lines through points, going on with a slope of their own at either end.

    >>> through(np.array([0.0, 1.0]), np.array([0.0, 2.0]), [-1.0, 0.5, 3.0], 1.0, 10.0).tolist()
    [-1.0, 1.0, 22.0]
    """
    at = np.asarray(at, dtype=np.float64)
    inside = np.interp(at, x, y)
    return inside + np.minimum(at - x[0], 0.0) * slope_before + np.maximum(at - x[-1], 0.0) * slope_after
