"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.units import FloatArray

_HIGH_HZ = 2_500.0
"""Drums with a head sound lower as a whole, hats, cymbals and shakers higher."""

_TOGETHER_S = 0.002
_SAME_SHARE = 0.75
"""Tracks of which so many strokes fall together so nearly, each way, hear one drum."""


def suggest_leads(
    hits: Sequence[Hits], close: Sequence[bool], centre_hz: Sequence[float], notes: Sequence[bool]
) -> list[int]:
    """Rank tracks as leads.

    A far microphone may be the only one to hear the cymbals, but it hears everything late: it leads only where no close
    one does. A drum goes before what sounds high, a hat or a shaker: struck together, the drum is what is heard; and
    all of these go before notes, which follow them. Of the rest the track with the most strokes comes first: its drum
    carries the time. Of two microphones of one drum the one that hears it first goes before the other.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.
    close : sequence of bool
        For each track whether its microphone is close to a drum of its own.
    centre_hz : sequence of float
        For each track the middle of the spectrum of what is played on it.
    notes : sequence of bool
        For each track whether it holds notes, not strokes.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    struck_s = [np.sort(found.time_s[found.kind == Kind.PLAYED]) for found in hits]
    playing = [track for track, times in enumerate(struck_s) if len(times)]
    leading = [track for track in playing if close[track]] or playing
    lag_s = {track: {other: _lag_s(struck_s[track], struck_s[other]) for other in leading} for track in leading}

    def rank(track: int) -> tuple[bool, bool, int, float, int]:
        same = [other for other in leading if np.isfinite(lag_s[track][other])]
        return (
            notes[track],
            min(centre_hz[other] for other in same) > _HIGH_HZ,
            -max(len(struck_s[other]) for other in same),
            max(lag_s[track][other] for other in same),
            -len(struck_s[track]),
        )

    return sorted(leading, key=rank)


def _lag_s(struck_s: FloatArray, others_s: FloatArray) -> float:
    """How much later a track hears a drum than another that hears the same one; infinite if it hears another."""
    lags = struck_s - others_s[nearest_index(others_s, struck_s)]
    together = np.abs(lags) < _TOGETHER_S
    same = np.count_nonzero(together) >= _SAME_SHARE * max(len(struck_s), len(others_s))
    return float(np.median(lags[together])) if same else np.inf
