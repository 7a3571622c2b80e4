"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare.timing.hits import Hits, Kind


def suggest_leads(hits: Sequence[Hits], close: Sequence[bool]) -> list[int]:
    """Rank tracks as leads.

    A far microphone may be the only one to hear the cymbals, but it hears everything late: it leads only where no close
    one does. The track with the most strokes comes first: its drum carries the time.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.
    close : sequence of bool
        For each track whether its microphone is close to a drum of its own.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    counts = [int(np.count_nonzero(found.kind == Kind.PLAYED)) for found in hits]
    playing = [track for track, count in enumerate(counts) if count]
    leading = [track for track in playing if close[track]] or playing
    return sorted(leading, key=lambda track: -counts[track])
