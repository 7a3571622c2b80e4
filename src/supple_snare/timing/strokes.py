"""Strokes: the hits of the leads that belong together, with one time for each.

The highest-ranked lead that has a hit in a stroke decides the stroke's time. Grace notes and the inside of a roll
make no strokes of their own: they move along with the stroke they belong to.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_s

TOGETHER_MS = 30.0
"""Hits of different leads nearer than this are one stroke (the design's default)."""

BESIDE_MS = 60.0
"""Strokes nearer than this may be meant for one place, though they are two: players are not that exact."""


@dataclass(frozen=True, eq=False)
class Strokes:
    """Strokes of one group.

    Attributes
    ----------
    time_s : float array, shape (n,)
        What should meet the grid: the landing of the hit that decides. Increasing.
    start_s : float array, shape (n,)
        When its sound starts, before which it may be cut.
    level_db : float array, shape (n,)
        Level of the hit that decides.
    lead : int array, shape (n,)
        Number, from 0, of the lead that decides.
    rank : int array, shape (n,)
        Rank of that lead where the stroke lies, 0 for the highest.
    confidence : float array, shape (n,)
    lead_times_s : float array, shape (n, leads)
        Landing of each lead's own hit in the stroke; NaN where it has none.
    rides : bool array, shape (n,)
        Not timed itself: it moves along between its neighbours.
    """

    time_s: FloatArray
    start_s: FloatArray
    level_db: FloatArray
    lead: IntArray
    rank: IntArray
    confidence: FloatArray
    lead_times_s: FloatArray
    rides: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.time_s)

    def equals(self, other: Strokes) -> bool:
        """Whether these are the same strokes, to the last bit."""
        return all(np.array_equal(mine, theirs, equal_nan=mine.dtype.kind == "f")
                   for mine, theirs in zip(vars(self).values(), vars(other).values(), strict=True))  # fmt: skip

    @classmethod
    def none(cls, leads: int) -> Strokes:
        """No strokes at all."""
        empty, numbers = np.zeros(0), np.zeros(0, dtype=np.int64)
        return cls(empty, empty, empty, numbers, numbers, empty, np.zeros((0, leads)), np.zeros(0, dtype=np.bool_))

    def _with_alone(self, hits: Hits, number: int, rank: int, *, rides: bool) -> Strokes:
        """These strokes and, for each of some hits of a lead, one more."""
        times = np.full((len(hits), self.lead_times_s.shape[1]), np.nan)
        times[:, number] = hits.landing_s
        return self.merged(
            Strokes(
                hits.landing_s, hits.time_s, hits.level_db, np.full(len(hits), number), np.full(len(hits), rank),
                hits.confidence, times, np.full(len(hits), rides),
            )
        )  # fmt: skip

    def merged(self, other: Strokes) -> Strokes:
        """Strokes of both, in order of time."""
        order = np.argsort(np.concatenate([self.time_s, other.time_s]), kind="stable")
        columns = vars(self)
        return Strokes(**{name: np.concatenate([columns[name], getattr(other, name)])[order] for name in columns})

    def hosts(self, guests: NDArray[np.bool_]) -> IntArray:
        """For each of these strokes that is a guest the nearest one that is none, −1 where it is not beside one."""
        host = np.full(len(self), -1, dtype=np.int64)
        others = np.flatnonzero(~guests)
        if len(others) and guests.any():
            near = others[nearest_index(self.time_s[others], self.time_s[guests])]
            beside = np.abs(self.time_s[near] - self.time_s[guests]) < ms_to_s(BESIDE_MS)
            host[guests] = np.where(beside, near, -1)
        return host

    def spread_ms(self) -> FloatArray:
        """How far apart the leads' hits lie inside each stroke, shape (n,)."""
        if not len(self):
            return np.zeros(0)
        return 1000.0 * (np.nanmax(self.lead_times_s, axis=1) - np.nanmin(self.lead_times_s, axis=1))


def gather_strokes(
    leads: Sequence[Hits],
    *,
    riding: Sequence[Hits] | None = None,
    ranks: Sequence[int] | None = None,
    together_ms: float = TOGETHER_MS,
) -> Strokes:
    """Join the hits of ranked leads into strokes.

    Parameters
    ----------
    leads : sequence of Hits
        Only played hits make strokes.
    riding : sequence of Hits, optional
        For each lead the hits that are not timed: alone they make a stroke that rides along, beside a timed hit they
        join its stroke and decide nothing.
    ranks : sequence of int, optional
        Numbers of the leads, highest rank first; those left out make no strokes. All in their order by default.
    together_ms : float
        Hits of two leads at most this far apart are one stroke. Hits of one lead never are.

    Returns
    -------
    Strokes

    Examples
    --------
    >>> strokes = gather_strokes([Hits.of([1.0]), Hits.of([1.01, 2.0])])
    >>> strokes.time_s.tolist(), strokes.lead.tolist()
    ([1.0, 2.0], [0, 1])
    """
    ranks = range(len(leads)) if ranks is None else ranks
    queue = [(rank, number, leads[number], False) for rank, number in enumerate(ranks)]
    if riding is not None:
        queue += [(rank, number, riding[number], True) for rank, number in enumerate(ranks)]
    strokes = Strokes.none(len(leads))
    for rank, number, found, rides in queue:
        hits = found.of_kind(Kind.PLAYED)
        partner = _partners(strokes.time_s, hits.landing_s, together_s=together_ms / 1000.0)
        joined = partner >= 0
        # A lead that has a timed hit in the stroke keeps it; its ghost beside that one tells nothing new.
        free = joined.copy()
        free[joined] = np.isnan(strokes.lead_times_s[partner[joined], number])
        times = strokes.lead_times_s.copy()
        times[partner[free], number] = hits.landing_s[free]
        strokes = replace(strokes, lead_times_s=times)._with_alone(hits[~joined], number, rank, rides=rides)
    return Strokes(**{name: frozen(column, column.dtype) for name, column in vars(strokes).items()})


def _partners(stroke_s: FloatArray, hit_s: FloatArray, *, together_s: float) -> IntArray:
    """Index of the stroke that each hit joins, −1 for none; a stroke takes only the nearest hit of a lead."""
    partner = np.full(len(hit_s), -1, dtype=np.int64)
    if not len(stroke_s) or not len(hit_s):
        return partner
    nearest = nearest_index(stroke_s, hit_s)
    distance = np.abs(stroke_s[nearest] - hit_s)
    close = np.flatnonzero(distance <= together_s)
    by_distance = close[np.argsort(distance[close], kind="stable")]
    _, first = np.unique(nearest[by_distance], return_index=True)
    winners = by_distance[first]
    partner[winners] = nearest[winners]
    return partner
