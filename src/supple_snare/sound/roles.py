"""Roles given by hand: which drum or player a track hears, whatever its sound says.

A track is given the number of another whose drum it hears too, its own number for a drum that nobody else hears
closer, or `NO_DRUM` for none: then nothing was played into it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import numpy as np

from supple_snare.timing.units import IntArray

NO_DRUM = -1

DrumsGiven = Mapping[int, int]
"""By the number of a track in its group; tracks that are not named are told by their sound."""

NOTHING_GIVEN: DrumsGiven = MappingProxyType({})


def with_given(drum: IntArray, given: DrumsGiven) -> IntArray:
    """Drums, or players, as told by the sound and then by hand.

    Parameters
    ----------
    drum : int array, shape (tracks,)
        For each track the number of a track that stands for what it hears, mostly itself.
    given : mapping of int to int

    >>> with_given(np.array([0, 0, 2]), {1: 1, 2: 0}).tolist()
    [0, 1, 0]
    """
    drum = drum.copy()
    for track in given:
        others = np.flatnonzero((drum == drum[track]) & (np.arange(len(drum)) != track))
        if drum[track] == track and len(others):
            drum[others] = others[0]
        drum[track] = track
    for track, other in sorted(given.items(), key=lambda each: each[1] in given):
        if other != NO_DRUM:
            drum[track] = drum[other]
    return drum


def given_among(given: DrumsGiven, tracks: Sequence[int]) -> dict[int, int]:
    """The same for some tracks, by their places among these. The drum of a track that is not there is its own."""
    place = {track: number for number, track in enumerate(tracks)}
    return {
        place[track]: other if other == NO_DRUM else place.get(other, place[track])
        for track, other in given.items()
        if track in place
    }
