"""What strokes are tightened toward: the grid, their own feel, a groove template, or another performance's strokes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.grid import Grid
from supple_snare.timing.groove import Groove, groove_target_ms
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.pairing import Pairs, reference_deviation_ms
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, frozen


class AimAt(StrEnum):
    """The kinds of aim."""

    GRID = "grid"
    OWN_FEEL = "own-feel"
    GROOVE = "groove"
    REFERENCE = "reference"


class Unpaired(StrEnum):
    """What becomes of a stroke that has no partner in the reference."""

    NEIGHBOURS = "neighbours"
    GRID = "grid"
    STAY = "stay"


@dataclass(frozen=True)
class Aim:
    """What a group is tightened toward.

    Attributes
    ----------
    at : AimAt
    amount : float
        How much of the pattern counts, 0 to 2: of the own feel or, from the grid to the template, of a groove.
    groove : Groove or None
        The template, for a groove.
    by_tempo : bool
        A groove's offsets grow as the tempo falls; else they stay in ms.
    between : bool
        Slots that the groove does not know go along with those on either side; else they keep to the grid.
    reference : str
        Names the group or track that is the reference.
    behind_ms : float
        Wanted offset from the reference, late being positive.
    unpaired : Unpaired
    accents : float
        How much of a groove's accents goes into the velocities of a MIDI part, 0 to 1.

    Raises
    ------
    UsageError
        If a value is out of its range.
    """

    at: AimAt = AimAt.GRID
    amount: float = 1.0
    groove: Groove | None = None
    by_tempo: bool = True
    between: bool = True
    reference: str = ""
    behind_ms: float = 0.0
    unpaired: Unpaired = Unpaired.NEIGHBOURS
    accents: float = 0.0

    def __post_init__(self) -> None:
        if not 0.0 <= self.amount <= 2.0:
            raise UsageError(f"An amount of {self.amount:g} makes no sense: give one from 0 to 2.")
        if not 0.0 <= self.accents <= 1.0:
            raise UsageError(f"Accents of {self.accents:g} make no sense: give a share from 0 to 1.")
        if not abs(self.behind_ms) <= 500.0:
            raise UsageError(f"An offset of {self.behind_ms:g} ms from the reference makes no sense: at most 500.")


@dataclass(frozen=True, eq=False)
class Aimed:
    """Where strokes should go, each array of shape (n,).

    Attributes
    ----------
    target_ms : float array
        Wanted offset from the slot; NaN where there is none.
    deviation_ms : float array
        What the response works on: how far a stroke is from where it should be. NaN for strokes that have no aim of
        their own and move along with their neighbours.
    stays : bool array
        Strokes that keep their place, since they have nothing to aim at.
    """

    target_ms: FloatArray
    deviation_ms: FloatArray
    stays: NDArray[np.bool_]

    @classmethod
    def of(cls, target_ms: FloatArray, deviation_ms: FloatArray, stays: NDArray[np.bool_] | None = None) -> Aimed:
        """Read-only arrays of these."""
        none = np.zeros(len(target_ms), dtype=bool)
        return cls(frozen(target_ms), frozen(deviation_ms), frozen(none if stays is None else stays, np.bool_))


def aim_strokes(
    strokes: Strokes, offsets: Offsets, grid: Grid, aim: Aim, *, keep_drift: float = 0.0, pairs: Pairs | None = None
) -> Aimed:
    """Say where strokes should go.

    target = keep-drift × drift + amount × pattern, deviation = offset − target. With their own feel as the aim, what
    the drift and the feel lose is decided by keep-drift and amount alone: the deviation is the scatter, so that each of
    the three parts has one control. A groove, with amount, is reached from the grid as laid, whose swing it replaces.

    Parameters
    ----------
    strokes : Strokes
    offsets : Offsets
    grid : Grid
    aim : Aim
    keep_drift : float
        Share of the drift that is wanted; a reference brings its own.
    pairs : Pairs, optional
        Partners in the reference.

    Returns
    -------
    Aimed

    Raises
    ------
    UsageError
        If the aim names no template or no reference.
    """
    offset, kept_drift = offsets.offset_ms, keep_drift * offsets.drift_ms
    if aim.at is AimAt.GRID:
        return Aimed.of(kept_drift, offset - kept_drift)
    if aim.at is AimAt.OWN_FEEL:
        return Aimed.of(kept_drift + aim.amount * offsets.feel_ms, offsets.scatter_ms)
    if aim.at is AimAt.GROOVE:
        if aim.groove is None:
            raise UsageError("Choose a groove to aim at.")
        pattern = groove_target_ms(aim.groove, offsets, grid, by_tempo=aim.by_tempo, between=aim.between)
        target = kept_drift + aim.amount * pattern
        return Aimed.of(target, offset - target)
    if pairs is None:
        raise UsageError("Choose a reference to aim at.")
    deviation = reference_deviation_ms(strokes, pairs, behind_ms=aim.behind_ms)
    alone = pairs.partner < 0
    if aim.unpaired is Unpaired.GRID:
        deviation = np.where(alone, offset - kept_drift, deviation)
    return Aimed.of(offset - deviation, deviation, alone & (aim.unpaired is Unpaired.STAY))
