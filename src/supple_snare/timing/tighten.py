"""Tightening: what becomes of each stroke's deviation from its aim, and the plan of moves that follows."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, frozen, ms_to_s

NO_REACH_MS = 1e6
"""A reach that no deviation passes. A plain number, so that it survives a file in which infinity has no name."""


class Kept(IntEnum):
    """Why a stroke stays as it was played."""

    NO = 0
    TOLERANCE = 1
    REACH = 2
    HELD = 3
    RIDES = 4
    """It has no slot of its own and moves along with its neighbours."""

    @property
    def word(self) -> str | None:
        """The word files use: null for a stroke that takes part."""
        return self.name.lower() if self in (Kept.TOLERANCE, Kept.REACH, Kept.HELD) else None


@dataclass(frozen=True)
class Response:
    """How much of a deviation goes.

    Attributes
    ----------
    strength : float
        Share of the deviation beyond the tolerance that goes, 0 to 1.
    tolerance_ms : float
        Deviations up to this stay.
    reach_ms : float
        Deviations past this stay too, and are reported; `NO_REACH_MS` for no limit.
    keep_drift : float
        Share of the drift that counts as wanted, 0 to 1.

    Raises
    ------
    UsageError
        If a value is out of its range.
    """

    strength: float = 0.8
    tolerance_ms: float = 0.0
    reach_ms: float = NO_REACH_MS
    keep_drift: float = 0.0

    def __post_init__(self) -> None:
        if not 0.0 <= self.strength <= 1.0:
            raise UsageError(f"A strength of {self.strength:g} makes no sense: give one from 0 to 1.")
        if not 0.0 <= self.tolerance_ms <= 1000.0:
            raise UsageError(f"A tolerance of {self.tolerance_ms:g} ms makes no sense: give one from 0 to 1000.")
        if not 0.0 < self.reach_ms <= NO_REACH_MS:
            raise UsageError(f"A reach of {self.reach_ms:g} ms makes no sense: give one above 0.")
        if self.tolerance_ms > self.reach_ms:
            raise UsageError(
                f"The tolerance of {self.tolerance_ms:g} ms is larger than the reach of {self.reach_ms:g} ms: "
                "no stroke would move."
            )
        if not 0.0 <= self.keep_drift <= 1.0:
            raise UsageError(f"A keep-drift of {self.keep_drift:g} makes no sense: give one from 0 to 1.")

    @property
    def has_reach(self) -> bool:
        """Whether there is a limit at all."""
        return self.reach_ms < NO_REACH_MS

    def kept_deviation_ms(self, deviation_ms: FloatArray) -> FloatArray:
        """What remains of each deviation; continuous at the tolerance.

        >>> Response(strength=0.5, tolerance_ms=4, reach_ms=40).kept_deviation_ms(np.array([3.0, -10.0, 50.0])).tolist()
        [3.0, -7.0, 50.0]
        """
        size = np.abs(deviation_ms)
        shrunk = np.copysign(self.tolerance_ms + (size - self.tolerance_ms) * (1.0 - self.strength), deviation_ms)
        return np.where((size <= self.tolerance_ms) | (size > self.reach_ms), deviation_ms, shrunk)


@dataclass(frozen=True, eq=False)
class Plan:
    """The move of each stroke, each array of shape (n,).

    Attributes
    ----------
    deviation_ms : float array
        Offset minus its target, as played; NaN without a slot.
    move_ms : float array
        New time minus old time.
    kept : int8 array
        `Kept` codes.
    """

    deviation_ms: FloatArray
    move_ms: FloatArray
    kept: NDArray[np.int8]

    def __len__(self) -> int:
        return len(self.move_ms)


def plan_moves(strokes: Strokes, offsets: Offsets, response: Response, *, held: NDArray[np.bool_]) -> Plan:
    """Plan the move of every stroke.

    target = keep-drift × drift; deviation = offset − target; the response says what remains of it. Strokes without a
    slot of their own take the move of their neighbours, in proportion to their place between them.

    Parameters
    ----------
    strokes : Strokes
    offsets : Offsets
        Of the same strokes.
    response : Response
    held : bool array, shape (n,)
        Strokes that stay as played.

    Returns
    -------
    Plan
    """
    placed = offsets.placed
    deviation = offsets.offset_ms - response.keep_drift * offsets.drift_ms
    move = np.where(placed, response.kept_deviation_ms(deviation) - deviation, 0.0)
    size = np.abs(deviation)
    kept = np.select(
        [held, ~placed, size <= response.tolerance_ms, size > response.reach_ms],
        [Kept.HELD, Kept.RIDES, Kept.TOLERANCE, Kept.REACH],
        Kept.NO,
    )
    move[held] = 0.0
    anchors = placed | held
    rides = ~anchors
    if rides.any() and anchors.any():
        move[rides] = np.interp(strokes.time_s[rides], strokes.time_s[anchors], move[anchors])
    ordered = _in_order(strokes.time_s, move)
    kept[(ordered != move) & (kept == Kept.NO)] = Kept.REACH
    return Plan(frozen(deviation), frozen(ordered), frozen(kept, np.int8))


def _in_order(time_s: FloatArray, move_ms: FloatArray) -> FloatArray:
    """Moves limited so that no stroke passes the one before it (a held or far stroke may stand in the way)."""
    new_s = time_s + ms_to_s(move_ms)
    gap = np.diff(new_s)
    if not len(gap) or gap.min() > 0:
        return move_ms
    # Only a crossing pair is touched: both stay as played, which always keeps the order between them.
    limited = move_ms.copy()
    while True:
        crossing = np.flatnonzero(np.diff(time_s + ms_to_s(limited)) <= 0)
        crossing = crossing[(limited[crossing] != 0) | (limited[crossing + 1] != 0)]
        if not len(crossing):
            return limited
        limited[crossing] = 0.0
        limited[crossing + 1] = 0.0
