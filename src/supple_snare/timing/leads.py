"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.hits import Hits, Kind

_LOUDEST_SHARE = 0.1
_LOUDEST_LEAST = 4
_OWN_SHARE = 0.6


def suggest_leads(hits: Sequence[Hits]) -> list[int]:
    """Rank tracks as leads.

    A track leads if most of its loudest hits were played into it; what a room or overhead microphone hears loudest
    belongs to others. The one with the most strokes comes first: its drum carries the time.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    counts = {}
    for track, found in enumerate(hits):
        played = found.kind != Kind.BLEED
        if not played.any():
            continue
        loudest = np.argsort(-found.level_db)[: max(_LOUDEST_LEAST, round(_LOUDEST_SHARE * len(found)))]
        if played[loudest].mean() >= _OWN_SHARE:
            counts[track] = int(np.count_nonzero(found.kind == Kind.PLAYED))
    if not counts and hits:
        counts = {track: int(np.count_nonzero(found.kind == Kind.PLAYED)) for track, found in enumerate(hits)}
    return sorted((track for track, count in counts.items() if count), key=lambda track: -counts[track])
