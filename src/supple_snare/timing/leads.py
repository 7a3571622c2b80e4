"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.hits import Hits, Kind

_HIGH_HZ = 2_500.0
"""Drums with a head sound lower as a whole, hats, cymbals and shakers higher."""


def suggest_leads(hits: Sequence[Hits], close: Sequence[bool], centre_hz: Sequence[float]) -> list[int]:
    """Rank tracks as leads.

    A far microphone may be the only one to hear the cymbals, but it hears everything late: it leads only where no close
    one does. A drum goes before what sounds high, a hat or a shaker: struck together, the drum is what is heard. Of
    the rest the track with the most strokes comes first: its drum carries the time.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.
    close : sequence of bool
        For each track whether its microphone is close to a drum of its own.
    centre_hz : sequence of float
        For each track the middle of the spectrum of what is played on it.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    counts = [int(np.count_nonzero(found.kind == Kind.PLAYED)) for found in hits]
    playing = [track for track, count in enumerate(counts) if count]
    leading = [track for track in playing if close[track]] or playing
    return sorted(leading, key=lambda track: (centre_hz[track] > _HIGH_HZ, -counts[track]))
