"""The cycle over which a feel repeats: some beats or some bars, and what the offsets say of it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from supple_snare.errors import UsageError
from supple_snare.timing.grid import Grid
from supple_snare.timing.split import shrunk_means
from supple_snare.timing.units import FloatArray, IntArray

_PARTS = 960
"""Places in a cycle are told apart to this part of a quarter note; triplets and 32nds fall on whole numbers."""

_SURE = 1.7
"""A longer cycle must foretell better by this many standard errors: one chance in twenty."""

_LEAST_TURNS = 3
"""A cycle that was not played through so often is not believed."""


@dataclass(frozen=True, order=True)
class Cycle:
    """One to eight bars, or some felt beats of a bar.

    Raises
    ------
    UsageError
        If there is no such cycle.
    """

    count: int = 1
    of_bars: bool = True

    def __post_init__(self) -> None:
        if not 1 <= self.count <= 64:
            raise UsageError(f"A cycle of {self.count} makes no sense: give 1 to 64.")

    @classmethod
    def parse(cls, text: str) -> Cycle:
        """The cycle written as "1 beat" or "2 bars".

        Raises
        ------
        UsageError
            If the text is not a cycle.
        """
        match = re.fullmatch(r"\s*(\d{1,2})\s*(beat|bar)s?\s*", text)
        if not match:
            raise UsageError(f"The cycle “{text}” is not understood: give one such as 1 beat, 1 bar or 2 bars.")
        return cls(int(match[1]), match[2] == "bar")

    def beats(self, grid: Grid) -> float:
        """Its length in quarter notes in the grid's usual meter."""
        return self.count * (grid.meter.bar_beats if self.of_bars else grid.meter.felt_beats)

    def places(self, grid: Grid, place: FloatArray, bar: IntArray, first_bar: IntArray | int) -> FloatArray:
        """Where in the cycle slots lie.

        Parameters
        ----------
        grid : Grid
        place : float array, shape (n,)
            Quarter notes from the start of bar 1, swing left out.
        bar : int array, shape (n,)
        first_bar : int or int array, shape (n,)
            A bar in which a cycle begins.

        Returns
        -------
        float array, shape (n,)
            Quarter notes from the start of the cycle.
        """
        inside = place - grid.bars.beat_of(bar)
        if not self.of_bars:
            felt = self.count * grid.bars.felt_beats_of(bar)
            return _rounded(inside - felt * np.floor(inside / felt + 1e-6))
        return _rounded((bar - first_bar) % self.count * grid.bars.bar_beats_of(bar) + inside)

    def __str__(self) -> str:
        return f"{self.count} {'bar' if self.of_bars else 'beat'}{'s' if self.count > 1 else ''}"


CYCLES = (Cycle(1, False), Cycle(2, False), Cycle(1), Cycle(2), Cycle(4), Cycle(8))
"""What is looked for, shortest first."""


def cells_of(cycle_place: FloatArray, *apart: IntArray) -> IntArray:
    """Numbers, from 0, of what repeats together: the same place in the cycle and the same of everything else."""
    columns = [np.rint(cycle_place * _PARTS).astype(np.int64), *apart]
    key = np.zeros(len(cycle_place), dtype=np.int64)
    for column in columns:
        key = key * (int(column.max(initial=0)) + 1) + column
    return np.unique(key, return_inverse=True)[1].astype(np.int64)


def find_cycle(rest_ms: FloatArray, cells: Sequence[IntArray], turns: Sequence[float]) -> int:
    """The cycle over which offsets repeat.

    Each is judged by how well the other strokes of a cell foretell one that is left out (M. Stone, "Cross-validatory
    choice and assessment of statistical predictions", J. R. Stat. Soc. B 36, 1974). Up to a bar the best one is taken:
    too long a cycle costs a little noise, too short a one the feel itself. A longer one must be clearly better.

    Parameters
    ----------
    rest_ms : float array, shape (n,)
        Offsets without drift.
    cells : sequence of int array, each of shape (n,)
        Numbers of the cells under each of `CYCLES`.
    turns : sequence of float
        How often each cycle was played through.

    Returns
    -------
    int
        Index of the cycle.
    """
    usual = CYCLES.index(Cycle())
    spread = 1.4826 * float(np.median(np.abs(rest_ms - np.median(rest_ms)))) if len(rest_ms) else 0.0
    if spread <= 0.0:
        return usual
    limit = 4.0 * spread
    values = np.clip(rest_ms, -limit, limit)  # wild strokes foretell nothing
    weight = np.ones(len(values))
    errors = [(values - shrunk_means(values, cell, weight, without_own=True)) ** 2 for cell in cells]
    best = min(range(usual, -1, -1), key=lambda number: float(errors[number].mean()))
    for number in range(usual + 1, len(cells)):
        gain = errors[best] - errors[number]
        sure = _SURE * float(gain.std()) / np.sqrt(len(gain))
        if turns[number] >= _LEAST_TURNS and float(gain.mean()) > max(sure, 1e-9):
            best = number
    return best


def _rounded(place: FloatArray) -> FloatArray:
    return np.rint(place * _PARTS) / _PARTS
