"""Grace notes and rolls: hits that belong to the stroke beside them and are not timed themselves."""

from __future__ import annotations

import numpy as np

from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.units import FloatArray

GRACE_MS = 40.0
"""A flam's grace note lies at most this far before its main hit; two strokes of a fast part lie farther apart."""

_GRACE_BELOW_DB = 2.5

ROLL_GAP_MS = 58.0
"""Bounces of a roll come faster than this; sixteenths at 240 bpm come every 62 ms."""

_ROLL_HITS = 5


def mark_grace_and_rolls(hits: Hits) -> Hits:
    """Tell flams and rolls from strokes among the played hits of one track.

    A soft hit just before a louder one is its grace note. Of five or more hits in very quick succession the first
    times the roll, the others are its inside.

    Parameters
    ----------
    hits : Hits

    Returns
    -------
    Hits
        The same hits; some that were played have become grace or roll.
    """
    played = np.flatnonzero(hits.kind == Kind.PLAYED)
    if len(played) < 2:
        return hits
    kind = hits.kind.copy()
    gap_ms = 1000.0 * np.diff(hits.time_s[played])
    for first, last in _runs(gap_ms, ROLL_GAP_MS):
        if last - first + 1 >= _ROLL_HITS:
            kind[played[first + 1 : last + 1]] = Kind.ROLL
    softer = np.diff(hits.level_db[played]) > _GRACE_BELOW_DB
    grace = (gap_ms <= GRACE_MS) & softer
    outside = (kind[played[:-1]] == Kind.PLAYED) & (kind[played[1:]] == Kind.PLAYED)
    kind[played[:-1][grace & outside]] = Kind.GRACE
    return hits.with_kind(kind)


def _runs(gap_ms: FloatArray, limit_ms: float) -> list[tuple[int, int]]:
    """First and last index of each run of hits whose gaps stay below a limit."""
    close = np.concatenate([[False], gap_ms < limit_ms, [False]])
    edges = np.flatnonzero(np.diff(close.astype(np.int8)))
    return [(int(first), int(last)) for first, last in zip(edges[::2], edges[1::2], strict=True)]
