"""What a drum's own strokes draw after them: the beater that bounces, the stand that rattles, the wall that answers.

Each comes as late after one stroke as after the next, to a few milliseconds; no player places a soft stroke so evenly.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.units import FloatArray

_SOONEST_S, _LATEST_S = 0.030, 0.350
"""What comes sooner is the stroke itself or its grace, later the next thing played."""

_SOFTER_DB = 4.0
_AS_LATE_S = 0.002
_FEWEST = 4
_BOUNCE_SHARE = 0.5
"""Of 326,000 attacks of three generators more strokes than that drew 297 that were none, and 17 that were."""

_NEXT = 24
"""So many attacks after a stroke are looked at, at most."""


def share_in_wake(start_s: FloatArray, level_db: FloatArray, strokes: NDArray[np.bool_]) -> FloatArray:
    """How many of the other strokes draw a softer attack after them as late as each attack comes after one, shape (n,).

    Parameters
    ----------
    start_s : float array, shape (n,)
        Ascending.
    level_db : float array, shape (n,)
    strokes : bool array, shape (n,)
        Which attacks are plainly strokes of the drum.

    Returns
    -------
    float array
        0 to 1, for the stroke before it that is followed most alike; 0 where none was near, or too few are known.

    Examples
    --------
    Every stroke bounces after 0.1 s, but for the last.

    >>> strokes_s, bounces_s = np.arange(5) * 0.5, np.arange(4) * 0.5 + 0.1
    >>> start_s = np.sort(np.append(strokes_s, bounces_s))
    >>> played = np.isin(start_s, strokes_s)
    >>> share_in_wake(start_s, np.where(played, 0.0, -20.0), played)[:4]
    array([0.  , 0.75, 0.  , 0.75])
    """
    share = np.zeros(len(start_s))
    before = np.flatnonzero(strokes)
    if len(before) < _FEWEST:
        return share
    after = before[:, None] + np.arange(1, _NEXT + 1)
    inside = after < len(start_s)
    after = np.minimum(after, len(start_s) - 1)
    late_s = start_s[after] - start_s[before, None]
    inside &= (late_s > _SOONEST_S) & (late_s < _LATEST_S) & (level_db[after] < level_db[before, None] - _SOFTER_DB)
    after, late_s = after[inside], late_s[inside]
    in_order = np.sort(late_s)
    first, last = (np.searchsorted(in_order, late_s + within_s) for within_s in (-_AS_LATE_S, _AS_LATE_S))
    alike = (last - first - 1) / (len(before) - 1)
    np.maximum.at(share, after, np.minimum(alike, 1.0))
    return share


def without_bounces(log_odds: FloatArray, share: FloatArray) -> FloatArray:
    """Log odds of attacks, those of bounces turned round: what so many strokes draw just as late after them.

    Parameters
    ----------
    log_odds : float array, shape (n,)
        Of being strokes, however they come about.
    share : float array, shape (n,)
        As `share_in_wake` tells it.
    """
    return np.where(share > _BOUNCE_SHARE, -np.abs(log_odds), log_odds)
