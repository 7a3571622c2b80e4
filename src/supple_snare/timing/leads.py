"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Sequence
from enum import IntEnum

import numpy as np

from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.units import FloatArray

_HIGH_HZ = 2_500.0
"""Drums with a head sound lower as a whole, hats, cymbals and shakers higher."""

_MANY_DRUMS = 3
"""Where so many drums have a microphone, hardly more than cymbals are left to the overheads."""

_ONE_STROKE_S, _ONE_KIT_SHARE = 0.005, 0.5

_TOGETHER_S = 0.002
_SAME_SHARE = 0.75
"""Tracks of which so many strokes fall together so nearly, each way, hear one drum."""


class Stand(IntEnum):
    """How a track stands to what is played on it; the first goes before the others."""

    CLOSE = 0
    """A microphone at a drum of its own."""
    WIDE = 1
    """One above the kit, or all of it in one file."""
    NOTES = 2
    """It holds notes, not strokes."""
    FAR = 3
    """It hears only what others are closer to."""


def suggest_leads(hits: Sequence[Hits], stands: Sequence[Stand], centre_hz: Sequence[float]) -> list[int]:
    """Rank tracks as leads.

    A far microphone may be the only one to hear the cymbals, but it hears everything late: it leads only where no close
    one does. A drum goes before what sounds high, a hat or a shaker: struck together, the drum is what is heard; then
    come the overheads with what no other microphone is closer to, if few drums have one, of a pair the side that has
    more; and all of these go before notes, which follow them. Of the rest the track with the most strokes comes first:
    its drum carries the time. Of two microphones of one drum the one that hears it first goes before the other.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.
    stands : sequence of Stand
        For each track how it stands to what is played on it.
    centre_hz : sequence of float
        For each track the middle of the spectrum of what is played on it.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    struck_s = [np.sort(found.time_s[found.kind == Kind.PLAYED]) for found in hits]
    playing = [track for track, times in enumerate(struck_s) if len(times)]
    lag_s = {track: {other: _lag_s(struck_s[track], struck_s[other]) for other in playing} for track in playing}
    close = [track for track in playing if stands[track] is Stand.CLOSE]
    drums = sum(not any(np.isfinite(lag_s[track][other]) for other in close if other < track) for track in close)
    following = (Stand.FAR,) if drums < _MANY_DRUMS else (Stand.FAR, Stand.WIDE)
    leading = [track for track in playing if stands[track] not in following] or playing
    for track in sorted(leading, key=lambda track: len(struck_s[track])):
        others = (other for other in leading if other != track and stands[other] is Stand.WIDE)
        if stands[track] is Stand.WIDE and any(_hear_one_kit(struck_s[track], struck_s[other]) for other in others):
            leading.remove(track)

    def rank(track: int) -> tuple[Stand, bool, int, float, int]:
        same = [other for other in leading if np.isfinite(lag_s[track][other])]
        return (
            stands[track],
            min(centre_hz[other] for other in same) > _HIGH_HZ,
            -max(len(struck_s[other]) for other in same),
            max(lag_s[track][other] for other in same),
            -len(struck_s[track]),
        )

    return sorted(leading, key=rank)


def _hear_one_kit(struck_s: FloatArray, others_s: FloatArray) -> bool:
    """Whether most strokes of one overhead are another's, too. Two players are not so exact."""
    apart_s = np.abs(struck_s - others_s[nearest_index(others_s, struck_s)])
    return bool(np.mean(apart_s < _ONE_STROKE_S) > _ONE_KIT_SHARE)


def _lag_s(struck_s: FloatArray, others_s: FloatArray) -> float:
    """How much later a track hears a drum than another that hears the same one; infinite if it hears another."""
    lags = struck_s - others_s[nearest_index(others_s, struck_s)]
    together = np.abs(lags) < _TOGETHER_S
    same = np.count_nonzero(together) >= _SAME_SHARE * max(len(struck_s), len(others_s))
    return float(np.median(lags[together])) if same else np.inf
