"""Grace notes, rolls and ghost notes: hits that belong to the stroke beside them, or are far softer than the others."""

from __future__ import annotations

from bisect import bisect
from dataclasses import replace

import numpy as np

from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.units import FloatArray, frozen

GRACE_MS = 40.0
"""A flam's grace note lies at most this far before its main hit; two strokes of a fast part lie farther apart."""

_GRACE_BELOW_DB = 2.5

ROLL_GAP_MS = 58.0
"""Bounces of a roll come faster than this; sixteenths at 240 bpm come every 62 ms."""

_ROLL_HITS, _ROLL_CORE = 5, 3
"""Hits that make a roll, and how many of them at least follow one another without a bounce that was not found."""

_MISSED_BEFORE, _MISSED_AFTER = 2.3, 2.9
"""Where one bounce was not found the next is twice as far, and more where the roll dies away and slows down."""

_ACCENT_DB = 5.0
"""A hit after a roll that is so much louder than its bounces is a stroke of its own."""

GHOST_BELOW_DB = 12.0
"""A ghost note is softer than the accents by at least this; ordinary dynamics of a loose take span some 8 dB."""

_ACCENTS_PERCENT = 75
_FEWEST_ACCENTS = 4


def mark_grace_and_rolls(hits: Hits) -> Hits:
    """Tell flams and rolls from strokes among the played hits of one track.

    A soft hit just before a louder one is its grace note. Of five or more hits in very quick succession the first
    times the roll, the others are its inside; here and there one of its bounces may not have been found.

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
        if last - first + 1 >= _ROLL_CORE:
            begin, end = _whole_roll(gap_ms, hits.level_db[played], first, last)
            if end - begin + 1 >= _ROLL_HITS:
                kind[played[begin + 1 : end + 1]] = Kind.ROLL
    softer = np.diff(hits.level_db[played]) > _GRACE_BELOW_DB
    grace = (gap_ms <= GRACE_MS) & softer
    outside = (kind[played[:-1]] == Kind.PLAYED) & (kind[played[1:]] == Kind.PLAYED)
    kind[played[:-1][grace & outside]] = Kind.GRACE
    return hits.with_kind(kind)


def mark_ghosts(hits: Hits) -> Hits:
    """Tell ghost notes from the other played hits of one track: those far below its accents.

    Parameters
    ----------
    hits : Hits

    Returns
    -------
    Hits
        The same hits with `ghost` set. None is one where hardly anything was played.
    """
    played = hits.kind == Kind.PLAYED
    if np.count_nonzero(played) < _FEWEST_ACCENTS:
        return replace(hits, ghost=frozen(np.zeros(len(hits)), np.bool_))
    accents_db = np.percentile(hits.level_db[played], _ACCENTS_PERCENT)
    return replace(hits, ghost=frozen(played & (hits.level_db < accents_db - GHOST_BELOW_DB), np.bool_))


def keep_spacing(hits: Hits, spacing_ms: float) -> Hits:
    """Let no two played hits of a track count that are nearer than a limit: of such the louder does.

    A softer one before it becomes its grace note, one after it moves along as the inside of a roll does. Of two about
    as loud the first counts: what follows is a bounce.
    """
    played = np.flatnonzero(hits.kind == Kind.PLAYED)
    if len(played) < 2:
        return hits
    kind = hits.kind.copy()
    near = 1000.0 * np.diff(hits.time_s[played]) < spacing_ms
    crowded = played[np.append(near, False) | np.append(False, near)]
    taken: list[int] = []
    for index in crowded[np.argsort(-hits.level_db[crowded], kind="stable")].tolist():
        at = bisect(taken, index)
        before = taken[at - 1] if at else None
        after = taken[at] if at < len(taken) else None
        if before is not None and _apart_ms(hits, before, index) < spacing_ms:
            kind[index] = Kind.ROLL
        elif after is None or _apart_ms(hits, index, after) >= spacing_ms:
            taken.insert(at, index)
        elif hits.level_db[after] - hits.level_db[index] > _GRACE_BELOW_DB:
            kind[index] = Kind.GRACE
        else:
            kind[after], taken[at] = Kind.ROLL, index
    return hits.with_kind(kind)


def _apart_ms(hits: Hits, first: int, second: int) -> float:
    return 1000.0 * float(hits.time_s[second] - hits.time_s[first])


def _whole_roll(gap_ms: FloatArray, level_db: FloatArray, first: int, last: int) -> tuple[int, int]:
    """First and last hit of a roll of which some are known, those beyond a bounce that was not found included."""
    usual_ms = float(np.median(gap_ms[first:last]))
    softer_db = float(np.median(level_db[first + 1 : last + 1])) + _ACCENT_DB
    while first > 0 and gap_ms[first - 1] < _MISSED_BEFORE * usual_ms:
        first -= 1
    while last < len(gap_ms) and gap_ms[last] < _MISSED_AFTER * usual_ms and level_db[last + 1] < softer_db:
        last += 1
    return first, last


def _runs(gap_ms: FloatArray, limit_ms: float) -> list[tuple[int, int]]:
    """First and last index of each run of hits whose gaps stay below a limit."""
    close = np.concatenate([[False], gap_ms < limit_ms, [False]])
    edges = np.flatnonzero(np.diff(close.astype(np.int8)))
    return [(int(first), int(last)) for first, last in zip(edges[::2], edges[1::2], strict=True)]
