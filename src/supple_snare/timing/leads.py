"""Which tracks decide the timing, when nobody has said so: the microphones close to a drum of their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from supple_snare.timing.hits import Hits, Kind

_LOUDEST_SHARE = 0.1
_LOUDEST_LEAST = 4
_OWN_SHARE = 0.6
_STANDS_OUT_DB = 8.0
"""In a close microphone its own drum is this much louder than what bleeds in; in a far one all are alike."""


def suggest_leads(hits: Sequence[Hits], *, close: Sequence[bool | None] | None = None) -> list[int]:
    """Rank tracks as leads.

    A track leads if most of its loudest hits were played into it; what a room or overhead microphone hears loudest
    belongs to others. Where some tracks have their own strokes well above the bleed, only those lead: a far microphone
    may be the only one to hear the cymbals, but it hears them late. The one with the most strokes comes first: its drum
    carries the time.

    Parameters
    ----------
    hits : sequence of Hits
        One per track of the group, bleed marked.
    close : sequence of bool or None, optional
        For each track whether its microphone is close to a drum of its own, as far as somebody has said so.

    Returns
    -------
    list of int
        Indices of the leading tracks, highest rank first; empty if no track has played hits.
    """
    counts = {track: int(np.count_nonzero(found.kind == Kind.PLAYED)) for track, found in enumerate(hits)}
    playing = [track for track, count in counts.items() if count]
    told = dict(enumerate(close)) if close is not None else {}

    def chosen(tracks: list[int], test: Callable[[Hits], bool]) -> list[int]:
        passing = [track for track in tracks if (test(hits[track]) if told.get(track) is None else told[track])]
        return passing or tracks

    leading = chosen(chosen(playing, _leads_by_level), _stands_out)
    return sorted(leading, key=lambda track: -counts[track])


def _leads_by_level(found: Hits) -> bool:
    """Whether most of a track's loudest hits are its own."""
    loudest = np.argsort(-found.level_db)[: max(_LOUDEST_LEAST, round(_LOUDEST_SHARE * len(found)))]
    return bool(np.mean(found.kind[loudest] != Kind.BLEED) >= _OWN_SHARE)


def _stands_out(found: Hits) -> bool:
    """Whether a track's own strokes are well above the bleed in it."""
    bleed = found.kind == Kind.BLEED
    if not bleed.any():
        return True
    return bool(np.median(found.level_db[~bleed]) - np.median(found.level_db[bleed]) > _STANDS_OUT_DB)
