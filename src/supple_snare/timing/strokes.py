"""Strokes: the hits of the leads that belong together, with one time for each.

The highest-ranked lead that has a hit in a stroke decides the stroke's time. Grace notes and the inside of a roll
make no strokes of their own: they move along with the stroke they belong to.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.units import FloatArray, IntArray, frozen

TOGETHER_MS = 30.0
"""Hits of different leads nearer than this are one stroke (the design's default)."""


@dataclass(frozen=True, eq=False)
class Strokes:
    """Strokes of one group.

    Attributes
    ----------
    time_s : float array, shape (n,)
        Increasing.
    level_db : float array, shape (n,)
        Level of the hit that decides.
    lead : int array, shape (n,)
        Rank, from 0, of the lead that decides.
    confidence : float array, shape (n,)
    lead_times_s : float array, shape (n, leads)
        Time of each lead's own hit in the stroke; NaN where it has none.
    """

    time_s: FloatArray
    level_db: FloatArray
    lead: IntArray
    confidence: FloatArray
    lead_times_s: FloatArray

    def __len__(self) -> int:
        return len(self.time_s)

    def spread_ms(self) -> FloatArray:
        """How far apart the leads' hits lie inside each stroke, shape (n,)."""
        if not len(self):
            return np.zeros(0)
        return 1000.0 * (np.nanmax(self.lead_times_s, axis=1) - np.nanmin(self.lead_times_s, axis=1))


def gather_strokes(leads: Sequence[Hits], *, together_ms: float = TOGETHER_MS) -> Strokes:
    """Join the hits of ranked leads into strokes.

    Parameters
    ----------
    leads : sequence of Hits
        Highest rank first. Only played hits make strokes.
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
    played = [hits.of_kind(Kind.PLAYED) for hits in leads]
    times = np.full((0, len(played)), np.nan)
    rank = np.zeros(0, dtype=np.int64)
    hit_index = np.zeros(0, dtype=np.int64)
    stroke_s = np.zeros(0)
    for number, hits in enumerate(played):
        partner = _partners(stroke_s, hits.time_s, together_s=together_ms / 1000.0)
        joined = partner >= 0
        times[partner[joined], number] = hits.time_s[joined]
        alone = np.flatnonzero(~joined)
        added = np.full((len(alone), len(played)), np.nan)
        added[:, number] = hits.time_s[alone]
        stroke_s = np.concatenate([stroke_s, hits.time_s[alone]])
        order = np.argsort(stroke_s, kind="stable")
        stroke_s = stroke_s[order]
        times = np.concatenate([times, added])[order]
        rank = np.concatenate([rank, np.full(len(alone), number)])[order]
        hit_index = np.concatenate([hit_index, alone])[order]
    level, confidence = np.zeros(len(stroke_s)), np.zeros(len(stroke_s))
    for number, hits in enumerate(played):
        mine = rank == number
        level[mine] = hits.level_db[hit_index[mine]]
        confidence[mine] = hits.confidence[hit_index[mine]]
    return Strokes(
        time_s=frozen(stroke_s),
        level_db=frozen(level),
        lead=frozen(rank, np.int64),
        confidence=frozen(confidence),
        lead_times_s=frozen(times),
    )


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
