"""Strokes to slots by one best path: it keeps their order, follows the drift and the habits of the surrounding bars.

Every choice is weighed: how far the stroke lies from the line once the slow drift is taken out, how often that place
of the bar is played nearby, above all by the same lead, and that a slot takes one stroke. What the second best choice
would cost tells how sure the best one is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.beat_kinds import BeatKinds
from supple_snare.timing.drift_path import find_drift, slow_part
from supple_snare.timing.grid import Slots
from supple_snare.timing.habits import bar_habits
from supple_snare.timing.ordered_path import ordered_path
from supple_snare.timing.strokes import BESIDE_MS
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_s

_WINDOW = 6
"""Slots around a stroke, drift taken out, that may be its own."""

_ROUNDS = 3
"""The habits of the bars are learned from the round before; where beats are of two kinds, those take one round more."""

_SKIP_COST = 7.0
"""Cost of leaving a stroke without a slot: more than that of a place where nobody ever plays, as in a fill."""

_COMPANY, _COMPANY_ONCE = 4.0, 3.0
"""So much less it costs for the lower of two leads that come close to one another, if they keep doing so and if they
hardly ever do: one line is meant, and the higher one has it. The lower one does not tell the drift either."""

_CLOSE, _CLOSE_ONCE = 0.5, 0.35
"""How close that is, in units, beside `BESIDE_MS`."""

_OFTEN, _OFTEN_SHARE = 4, 0.1
"""How often they keep doing so, and in what share of the strokes of the one that plays less."""

_WILD_SHARE, _WILD_WIDTH = 0.1, 0.3
"""A tenth of strokes may lie anywhere about their line; width in units."""

_WIDTH_RANGE = (0.04, 0.16)
"""Usual distance of strokes from their lines, in units, as far as it is believed."""

_SMOOTH_UNITS, _WILD = 4.0, 0.35
CLOSE_MARGIN = 3.0
"""A choice that is less likely than this against the next best, as a natural logarithm, is a close call."""

_FARTHEST = 0.8
"""No stroke belongs to a line, drift left out, that it is farther from than this, in parts of the way to the next
line: one that comes after another on the same line has no slot of its own."""

_FARTHEST_IN_COMPANY = 0.5
"""The same of one that comes close to a higher lead: halfway, for the line before is likelier meant by both."""

_BETWEEN = 0.36
"""A stroke this far off its line, in parts of the way between lines, might belong to the next one."""


@dataclass(frozen=True, eq=False)
class Placement:
    """Which slot each stroke has.

    Attributes
    ----------
    slot_index : int array, shape (n,)
        Index into the slots; −1 for a stroke that has no slot of its own.
    runner_up : int array, shape (n,)
        Index of the next best slot.
    margin : float array, shape (n,)
        How much likelier the choice is than the next best, as a natural logarithm; infinite where it was fixed.
    close : bool array, shape (n,)
        Whether another choice is almost as good.
    """

    slot_index: IntArray
    runner_up: IntArray
    margin: FloatArray
    close: NDArray[np.bool_]


def assign_slots(
    time_s: FloatArray,
    slots: Slots,
    *,
    lead: IntArray | None = None,
    rank: IntArray | None = None,
    fixed: IntArray | None = None,
    cost: FloatArray | None = None,
) -> Placement:
    """Lay strokes to slots.

    Parameters
    ----------
    time_s : float array, shape (n,)
        Stroke times, increasing.
    slots : Slots
        Must cover the strokes with a bar to spare on either side, as `Grid.slots` does.
    lead : int array, shape (n,), optional
        Number, from 0, of the lead that played each stroke.
    rank : int array, shape (n,), optional
        Rank of that lead, 0 for the highest; its number by default.
    fixed : int array, shape (n,), optional
        Slot given by hand, −1 where the path decides.
    cost : float array, shape (slots,), optional
        What else speaks against each slot, as a natural logarithm.

    Returns
    -------
    Placement
        Chosen slots increase strictly from stroke to stroke.
    """
    count = len(time_s)
    if not count:
        return Placement(frozen([], np.int64), frozen([], np.int64), frozen([]), frozen([], np.bool_))
    lead = np.zeros(count, dtype=np.int64) if lead is None else lead
    fixed = np.full(count, -1) if fixed is None else fixed
    cost = np.zeros(len(slots)) if cost is None else cost
    rank = lead if rank is None else rank
    return _Path(np.asarray(time_s, dtype=np.float64), slots, lead, rank, fixed, cost).placement()


class _Path:
    """The rounds of one placement. All distances in units: the usual distance of lines where a stroke lies."""

    def __init__(
        self,
        time_s: FloatArray,
        slots: Slots,
        lead: IntArray,
        rank: IntArray,
        fixed: IntArray,
        cost: FloatArray,
    ) -> None:
        self._time, self._slots, self._lead, self._fixed, self._cost = time_s, slots, lead, fixed, cost
        line_unit = _units(slots)
        self._unit = line_unit[np.clip(np.searchsorted(slots.time_s, time_s), 0, len(slots) - 1)]
        line_place = np.concatenate([[0.0], np.cumsum(np.diff(slots.time_s) / line_unit[1:])])
        self._place = np.interp(time_s, slots.time_s, line_place)
        self._habit = np.tile(cost, (int(lead.max()) + 1, 1))
        self._width = 0.12  # usual distance of strokes from their lines
        self._kinds = BeatKinds(slots, lead) if slots.strand.any() else None
        self._company = _company(time_s, lead, rank, self._unit)

    def placement(self) -> Placement:
        chosen = np.full(len(self._time), -1)
        drift = np.zeros(len(self._time))
        last = _ROUNDS + (self._kinds is not None) - 1
        for number in range(last + 1):
            drift = self._fine_drift(self._drift() if number < last else drift)
            before = chosen
            chosen, runner_up, margin = self._choice(drift)
            if self._kinds is not None:
                self._kinds.tell(chosen, margin)
            if number == last or np.array_equal(before, chosen):
                break
            habitual = np.where(self._company > 0.0, -1, chosen)  # who lags, and leads only then, tells no habit
            self._habit = bar_habits(habitual, self._lead, self._slots) + self._cost
        away_s = self._rest(chosen, drift) * self._unit
        close = (margin < CLOSE_MARGIN) | (np.abs(away_s) > _BETWEEN * self._slots.spacing_s[np.maximum(chosen, 0)])
        if self._kinds is not None:
            close |= self._kinds.belied(away_s)
        close &= (self._fixed < 0) & (chosen >= 0)
        return Placement(frozen(chosen, np.int64), frozen(runner_up, np.int64), frozen(margin), frozen(close, np.bool_))

    def _rest(self, chosen: IntArray, drift: FloatArray) -> FloatArray:
        """What remains of the offset without the drift."""
        return (self._time - self._slots.time_s[np.maximum(chosen, 0)]) / self._unit - drift

    def _window(self, time_s: FloatArray) -> IntArray:
        first = np.searchsorted(self._slots.time_s, time_s) - _WINDOW // 2
        return np.maximum.accumulate(np.clip(first, 0, max(len(self._slots) - _WINDOW, 0)))

    def _costs(self, first: IntArray) -> tuple[IntArray, FloatArray, FloatArray]:
        """Slots of each window, distances from them, and what habit says of them."""
        near = first[:, None] + np.arange(min(_WINDOW, len(self._slots)))
        offset = (self._time[:, None] - self._slots.time_s[near]) / self._unit[:, None]
        habit = self._habit[self._lead[:, None], near]
        return near, offset, habit if self._kinds is None else habit + self._kinds.costs(near)

    def _drift(self) -> FloatArray:
        _, offset, habit = self._costs(self._window(self._time))
        tells = self._company == 0.0
        drift = find_drift(self._place[tells], offset[tells, 1:-1], habit[tells, 1:-1] - habit.min())
        return np.interp(self._place, self._place[tells], drift)

    def _choice(self, drift: FloatArray) -> tuple[IntArray, IntArray, FloatArray]:
        """Best slot, next best slot, and how much worse the next best choice is."""
        first = self._window(self._time - drift * self._unit)
        near, offset, habit = self._costs(first)
        away = offset - drift[:, None]
        usual = (1.0 - _WILD_SHARE) / self._width * np.exp(-0.5 * (away / self._width) ** 2)
        wild = _WILD_SHARE / _WILD_WIDTH * np.exp(-0.5 * (away / _WILD_WIDTH) ** 2)
        cost = habit - np.log((usual + wild) / np.sqrt(2.0 * np.pi))
        skip = _SKIP_COST - self._company
        cost[self._is_past_the_next(near, away)] += 2.0 * _SKIP_COST
        told = self._fixed >= 0
        cost[told] = np.where(near[told] == self._fixed[told, None], 0.0, np.inf)
        skip[told & np.isfinite(cost).any(axis=1)] = np.inf
        costs = ordered_path(cost, first, skip)
        rows = np.arange(len(cost))
        best = costs.through.argmin(axis=1)
        through = costs.through.copy()
        placed = through[rows, best] <= costs.without
        best_cost = np.minimum(through[rows, best], costs.without)
        through[rows[placed], best[placed]] = np.inf
        next_best = through.argmin(axis=1)
        other = np.minimum(through[rows, next_best], np.where(placed, costs.without, np.inf))
        with np.errstate(invalid="ignore"):
            margin = np.where(told, np.inf, other - best_cost)
        chosen = np.where(placed, near[rows, best], -1)
        return _in_order(chosen), near[rows, next_best], margin

    def _is_past_the_next(self, near: IntArray, away: FloatArray) -> NDArray[np.bool_]:
        """Whether a stroke lies as good as on the next line, or past it, shape (n, width)."""
        before, after = self._slots.gaps_s
        way = np.where(away > 0.0, after[near], before[near]) / self._unit[:, None]
        farthest = np.where(self._company > 0.0, _FARTHEST_IN_COMPANY, _FARTHEST)
        return np.abs(away) > farthest[:, None] * np.maximum(way, 1.0)

    def _fine_drift(self, drift: FloatArray) -> FloatArray:
        """The drift with the slow part of what remains of each stroke's likeliest line, where enough of them tell."""
        _, offset, habit = self._costs(self._window(self._time - drift * self._unit))
        away = offset - drift[:, None]
        likeliest = np.argmin(0.5 * (away / self._width) ** 2 + habit, axis=1)
        rest = np.where(self._company > 0.0, _WILD, away[np.arange(len(away)), likeliest])
        told = np.abs(rest) < _WILD
        if told.any():
            self._width = float(np.clip(1.4826 * np.median(np.abs(rest[told])), *_WIDTH_RANGE))
        return drift + slow_part(self._place, rest, width=_SMOOTH_UNITS, wild=_WILD, doubt=0.7)


def _company(time_s: FloatArray, lead: IntArray, rank: IntArray, unit: FloatArray) -> FloatArray:
    """How much less it costs each stroke to stay without a slot since one of a higher lead is close, shape (n,)."""
    one, other = lead[:-1], lead[1:]
    gap_s = np.where(one != other, np.diff(time_s), np.inf)
    close, closer = (gap_s < np.minimum(part * unit[1:], ms_to_s(BESIDE_MS)) for part in (_CLOSE, _CLOSE_ONCE))
    strokes = np.bincount(lead)
    pair = np.minimum(one, other) * len(strokes) + np.maximum(one, other)
    times = np.bincount(pair[close], minlength=len(strokes) ** 2)
    often = times >= np.maximum(_OFTEN_SHARE * np.minimum(strokes[:, None], strokes).ravel(), _OFTEN)
    less = np.where(close & often[pair], _COMPANY, np.where(closer, _COMPANY_ONCE, 0.0))
    below = rank[1:] > rank[:-1]
    return np.maximum(np.append(np.where(below, 0.0, less), 0.0), np.insert(np.where(below, less, 0.0), 0, 0.0))


def _units(slots: Slots) -> FloatArray:
    """Usual distance of lines at each line: that of its section."""
    gaps = np.diff(slots.time_s, append=2.0 * slots.time_s[-1] - slots.time_s[-2])
    units = np.empty(len(slots))
    for section in np.unique(slots.section):
        here = slots.section == section
        units[here] = np.median(gaps[here])
    return units


def _in_order(chosen: IntArray) -> IntArray:
    """Of strokes that, where two choices are exactly equal, took one slot or crossed, the later one goes without."""
    placed = np.flatnonzero(chosen >= 0)
    highest = np.maximum.accumulate(chosen[placed])
    crossed = placed[1:][chosen[placed][1:] <= highest[:-1]]
    chosen[crossed] = -1
    return chosen
