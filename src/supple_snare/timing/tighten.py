"""Tightening: what becomes of each stroke's deviation from its aim, and the plan of moves that follows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.aim import Aimed
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_s

NO_REACH_MS = 1e6
"""A reach that no deviation passes. A plain number, so that it survives a file in which infinity has no name."""


MOST_TIMES = 4
"""More leaves nothing of anything."""


class Kept(IntEnum):
    """Why a stroke stays as it was played."""

    NO = 0
    TOLERANCE = 1
    REACH = 2
    HELD = 3
    RIDES = 4
    """It has no aim of its own and moves along with its neighbours."""
    STAYS = 5
    """It has no partner in the reference, and such strokes are to stay."""
    GIVEN = 6
    """It was moved by hand."""

    @property
    def word(self) -> str | None:
        """The word files use: null for a stroke that takes part."""
        if self is Kept.STAYS:
            return Kept.HELD.word
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
    times : int
        How often that is done, each time on what the time before left.

    Raises
    ------
    UsageError
        If a value is out of its range.
    """

    strength: float = 0.8
    tolerance_ms: float = 0.0
    reach_ms: float = NO_REACH_MS
    keep_drift: float = 0.0
    times: int = 1

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
        if not 1 <= self.times <= MOST_TIMES:
            raise UsageError(f"Tightening {self.times} times makes no sense: give 1 to {MOST_TIMES}.")

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
        left = (1.0 - self.strength) ** self.times
        shrunk = np.copysign(self.tolerance_ms + (size - self.tolerance_ms) * left, deviation_ms)
        return np.where((size <= self.tolerance_ms) | (size > self.reach_ms), deviation_ms, shrunk)


@dataclass(frozen=True, eq=False)
class Plan:
    """The move of each stroke, each array of shape (n,).

    Attributes
    ----------
    target_ms : float array
        Wanted offset from the slot; NaN where there is none.
    deviation_ms : float array
        How far from the aim it was played; NaN without an aim.
    move_ms : float array
        New time minus old time.
    unlimited_ms : float array
        The move that the response alone would make of it if there were no reach.
    kept : int8 array
        `Kept` codes.
    tolerance_ms, reach_ms : float array
        The windows that hold for it.
    """

    target_ms: FloatArray
    deviation_ms: FloatArray
    move_ms: FloatArray
    unlimited_ms: FloatArray
    kept: NDArray[np.int8]
    tolerance_ms: FloatArray
    reach_ms: FloatArray

    def __len__(self) -> int:
        return len(self.move_ms)


@dataclass(frozen=True, eq=False)
class ByHand:
    """What a person decided about single strokes, each array of shape (n,).

    Attributes
    ----------
    held : bool array
        They stay as played.
    given_ms : float array
        Moves given by hand; NaN where there is none.
    rides : bool array
        They take no part themselves and move along between their neighbours.
    piece : int array
        With which stroke each travels: the first of its piece, or itself.
    """

    held: NDArray[np.bool_]
    given_ms: FloatArray
    rides: NDArray[np.bool_]
    piece: IntArray

    @classmethod
    def nothing(cls, count: int) -> ByHand:
        """Nothing decided."""
        none = np.zeros(count, dtype=bool)
        return cls(none, np.full(count, np.nan), none, np.arange(count))


def plan_moves(
    strokes: Strokes, offsets: Offsets, response: Response, *, held: NDArray[np.bool_], aimed: Aimed | None = None
) -> Plan:
    """Plan the move of every stroke where one response holds for all.

    Parameters
    ----------
    strokes : Strokes
    offsets : Offsets
        Of the same strokes.
    response : Response
    held : bool array, shape (n,)
        Strokes that stay as played.
    aimed : Aimed, optional
        What they aim at; by default the grid and what is kept of the drift.

    Returns
    -------
    Plan
    """
    if aimed is None:
        kept_drift = response.keep_drift * offsets.drift_ms
        aimed = Aimed.of(kept_drift, offsets.offset_ms - kept_drift)
    by_hand = replace(ByHand.nothing(len(strokes)), held=held)
    return settle_moves(strokes, respond(offsets, response, aimed), by_hand)


def respond(offsets: Offsets, response: Response, aimed: Aimed) -> Plan:
    """What a response makes of each stroke by itself.

    The response says what remains of the deviation from the aim; past the reach a stroke stays where it was played.
    """
    deviation = aimed.deviation_ms
    size = np.abs(deviation)
    has_aim = np.isfinite(deviation)
    # Without a slot the offset is not known, but the deviation from a partner is.
    unwanted = np.where(offsets.placed, offsets.offset_ms - aimed.target_ms - deviation, 0.0)
    left = replace(response, reach_ms=NO_REACH_MS).kept_deviation_ms(deviation)
    unlimited = np.where(has_aim & ~aimed.stays, left - deviation - unwanted, 0.0)
    move = np.where(size > response.reach_ms, 0.0, unlimited)
    kept = np.select(
        [aimed.stays, ~has_aim, size <= response.tolerance_ms, size > response.reach_ms],
        [Kept.STAYS, Kept.RIDES, Kept.TOLERANCE, Kept.REACH],
        Kept.NO,
    )
    windows = (np.full(len(move), value) for value in (response.tolerance_ms, response.reach_ms))
    return Plan(aimed.target_ms, deviation, move, unlimited, kept.astype(np.int8), *windows)


def chosen(plans: Sequence[Plan], which: IntArray) -> Plan:
    """Each stroke as one of several plans has it, by number."""
    rows = np.arange(len(which))
    return Plan(*(np.stack([getattr(plan, field.name) for plan in plans])[which, rows] for field in fields(Plan)))


def settle_moves(strokes: Strokes, wanted: Plan, by_hand: ByHand, *, join_ms: float = 0.0) -> Plan:
    """The plan, once strokes have to get along with each other.

    What a person decided comes first; pieces made by hand move as their first stroke does. Strokes without an aim of
    their own take the move of the stroke they are beside, else of their neighbours in proportion to their place between
    them. No stroke passes another. Neighbours whose moves are nearly alike travel together.

    Parameters
    ----------
    strokes : Strokes
    wanted : Plan
        What each would do by itself.
    by_hand : ByHand
    join_ms : float
        How much a move may be changed so that neighbours make one piece.

    Returns
    -------
    Plan
    """
    given = np.isfinite(by_hand.given_ms) & ~by_hand.held
    piece = np.where(given | by_hand.held, np.arange(len(strokes)), by_hand.piece)
    travels = piece != np.arange(len(strokes))
    rides = (by_hand.rides | (wanted.kept == Kept.RIDES)) & ~given & ~by_hand.held & ~travels
    kept = np.select([by_hand.held, given, rides | travels], [Kept.HELD, Kept.GIVEN, Kept.RIDES], wanted.kept)
    move = np.where(given, by_hand.given_ms, np.where(by_hand.held, 0.0, wanted.move_ms))[piece]
    anchors = ~rides & ~rides[piece]
    if rides.any():
        along = np.interp(strokes.time_s[rides], strokes.time_s[anchors], move[anchors]) if anchors.any() else 0.0
        move[rides] = along
        # Cut from the stroke beside it, it would lose that one its attack.
        host = strokes.hosts(~anchors)
        with_host = rides & (host >= 0)
        move[with_host] = move[host[with_host]]
        move = move[piece]
    ordered = _in_order(strokes.time_s, move)
    kept[(ordered != move) & (kept == Kept.NO)] = Kept.REACH
    free = (kept == Kept.NO) | (kept == Kept.RIDES) | (kept == Kept.TOLERANCE)
    joined = ordered
    if join_ms > 0.0:
        joined = _in_order(strokes.time_s, _joined(ordered, np.where(free, join_ms, 0.0)))
    return replace(wanted, move_ms=frozen(joined), kept=frozen(kept, np.int8))


def _joined(move_ms: FloatArray, by_ms: FloatArray) -> FloatArray:
    """As few different moves as can be, each stroke's changed by no more than allowed; none at all where that will do.

    Runs are made as long as they go (each is the longest whose windows still share a move), which makes them fewest.
    """
    joined = move_ms.copy()
    low, high, first = -np.inf, np.inf, 0
    windows = zip((move_ms - by_ms).tolist(), (move_ms + by_ms).tolist(), strict=True)

    def close(last: int) -> None:
        middle = float(np.median(move_ms[first:last]))
        joined[first:last] = 0.0 if low <= 0.0 <= high else min(max(middle, low), high)

    for index, (bottom, top) in enumerate(windows):
        if max(low, bottom) > min(high, top):
            close(index)
            low, high, first = bottom, top, index
        else:
            low, high = max(low, bottom), min(high, top)
    if len(move_ms):
        close(len(move_ms))
    return joined


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
