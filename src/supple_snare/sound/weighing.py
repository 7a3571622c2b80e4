"""What speaks for each attack of a group having been played into its microphone, weighed from all tracks together.

For each attack the sources learned from the take (`sources`) tell how much of it the neighbours explain, band by band,
and its waveform, what they leave of it (`bare`): the `signs` by which `judge` tells strokes from bleed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from supple_snare.disk.mapped import release_memory
from supple_snare.sound.attacks import Analysis
from supple_snare.sound.bare import Heard, bare_attacks
from supple_snare.sound.events import Events, gather_events
from supple_snare.sound.rises import VIEWS, Rises
from supple_snare.sound.roles import NOTHING_GIVEN, DrumsGiven, with_given
from supple_snare.sound.signs import Signs, heard_around, signs_of
from supple_snare.sound.sources import Sources, learn_sources, strengths
from supple_snare.sound.starts import rough_starts, settle_beside
from supple_snare.sound.twins import best_hearing, find_drums, groups_without_twins
from supple_snare.timing.units import FloatArray, IntArray

_COVERING_S = np.array([-0.025, 0.004])
"""What was struck in that time around an attack may cover its start; nearest attacks of one drum lie farther apart."""


@dataclass(frozen=True, eq=False)
class Together:
    """What the microphones of a group hear together, no two of which are of one drum.

    Attributes
    ----------
    analyses : sequence of Analysis
    sources : Sources
    heard : sequence of Heard
        The attacks of each, with their settled starts.
    """

    analyses: Sequence[Analysis]
    sources: Sources
    heard: Sequence[Heard]

    def signs_from(self, track: int, start_s: FloatArray, bare: Rises) -> Signs:
        """Signs of a track's attacks, of which there are some, if these started at other moments."""
        starts_s = [start_s if number == track else each.start_s for number, each in enumerate(self.heard)]
        signs = signs_of(self.analyses, self.sources, track, starts_s)
        assert signs is not None
        return signs.beside_plain_ones(replace(self.heard[track], start_s=start_s), bare)


@dataclass(frozen=True, eq=False)
class Weighed:
    """What speaks for each of the n attacks of a track having been played into it.

    Attributes
    ----------
    start_s : float array, shape (n,)
        Settled starts.
    others : float array, shape (n, views)
        Amplitude of all else that sounds at each, in each view.
    signs : Signs or None
        None where there are no attacks.
    bare : Rises
        The attacks without what the neighbours' strokes make of them.
    together : Together or None
    track : int
        What was weighed together, and which of it this is.
    """

    start_s: FloatArray
    others: FloatArray
    signs: Signs | None
    bare: Rises
    together: Together | None = None
    track: int = 0

    @property
    def closeness(self) -> float:
        """Whether the microphone has a drum of its own at all, as log odds (`sources`)."""
        return 0.0 if self.together is None else float(self.together.sources.closeness[self.track])


@dataclass(frozen=True, eq=False)
class WeighedGroup:
    """What speaks for the attacks of all tracks of a group.

    Attributes
    ----------
    drum : int array, shape (tracks,)
        The drum that each hears.
    twin_odds : float array, shape (tracks,)
        Log odds of that, for all but the closest microphone of a drum; infinite for those, and where it was given.
    tracks : sequence of Weighed
    """

    drum: IntArray
    twin_odds: FloatArray
    tracks: Sequence[Weighed]


def weigh_signs(analyses: Sequence[Analysis], given: DrumsGiven = NOTHING_GIVEN) -> WeighedGroup:
    """What speaks for the attacks of each track. Of two microphones of one drum each is judged without the other.

    Parameters
    ----------
    analyses : sequence of Analysis
    given : mapping of int to int, optional
        Drums given by hand (`roles`).
    """
    if not any(len(analysis.attacks) for analysis in analyses):
        nothing = np.zeros(0)
        others = np.zeros((0, len(VIEWS)))
        weighed_none = [Weighed(nothing, others, None, each.attacks) for each in analyses]
        return WeighedGroup(np.arange(len(analyses)), np.full(len(analyses), np.inf), weighed_none)
    rough_s = [rough_starts(analysis.attacks) for analysis in analyses]
    events = _events_of(analyses, rough_s)
    drums, twin_odds = find_drums(events)
    drums = with_given(drums, given)
    twin_odds[[*given, *np.flatnonzero(drums == np.arange(len(drums)))]] = np.inf
    weighed: dict[int, Weighed] = {}
    for group in groups_without_twins(drums):
        members = group.tolist()
        if weighed:
            members = best_hearing(events, members, [track for track in members if track not in weighed])
        those, theirs_s = [analyses[track] for track in members], [rough_s[track] for track in members]
        heard = events if len(members) == len(analyses) else _events_of(those, theirs_s)
        wanted = [number for number, track in enumerate(members) if track not in weighed]
        found = _weigh_group(those, theirs_s, heard, wanted)
        weighed |= {members[number]: each for number, each in zip(wanted, found, strict=True)}
    return WeighedGroup(drums, twin_odds, [weighed[track] for track in range(len(analyses))])


def _events_of(analyses: Sequence[Analysis], rough_s: Sequence[FloatArray]) -> Events:
    seen_s = [analysis.attacks.seen_s for analysis in analyses]
    return gather_events([analysis.levels for analysis in analyses], rough_s, seen_s)


def _weigh_group(
    analyses: Sequence[Analysis], rough_s: Sequence[FloatArray], events: Events, wanted: Sequence[int]
) -> list[Weighed]:
    """`weigh_signs` of some tracks among those of a group, no two microphones of which are of one drum."""
    sources = learn_sources(events)
    struck_s = _struck_s(analyses, sources, rough_s)
    starts, others = [], []
    for track, analysis in enumerate(analyses):
        heard, bleed = _likely_bleed(analyses, sources, track, rough_s[track], struck_s)
        settled_s, beside = settle_beside(analysis.attacks, heard, bleed)
        starts.append(settled_s)
        others.append(beside)
        release_memory()
    weighed = []
    signs = [signs_of(analyses, sources, track, starts) for track in range(len(analyses))]
    everyone = [
        Heard(analysis.attacks, start_s, each.log_odds() if each is not None else np.zeros(0), bool(close > 0.0))
        for analysis, start_s, each, close in zip(analyses, starts, signs, sources.closeness, strict=True)
    ]
    together = Together(analyses, sources, everyone)
    for track in wanted:
        own = signs[track]
        bare, whole = bare_attacks(everyone, track), own
        if own is not None and len(analyses) > 1:  # alone, an attack is not judged by what it is like
            whole = own.beside_plain_ones(everyone[track], bare)
        weighed.append(Weighed(starts[track], others[track], whole, bare, together, track))
        release_memory()
    return weighed


def _struck_s(analyses: Sequence[Analysis], sources: Sources, rough_s: Sequence[FloatArray]) -> list[FloatArray | None]:
    """When each source was struck, as far as can be told yet; None for one that has no microphone close to it."""
    struck: list[FloatArray | None] = []
    for track, times in enumerate(rough_s):
        if sources.closeness[track] <= 0.0:
            struck.append(None)
            continue
        signs = signs_of(analyses, sources, track, rough_s)
        struck.append(np.sort(times[signs.log_odds() > 0.0]) if signs is not None else np.zeros(0))
    return struck


def _likely_bleed(
    analyses: Sequence[Analysis],
    sources: Sources,
    track: int,
    time_s: FloatArray,
    struck_s: Sequence[FloatArray | None],
) -> tuple[FloatArray, FloatArray]:
    """What starts in a track at moments, and how much of it sources make that were struck then, each (n, BANDS)."""
    heard = heard_around(analyses, sources, track, time_s)
    strength = strengths(heard, sources.usual_pattern)
    for source, times in enumerate(struck_s):
        if source == track:
            strength[:, source] = 0.0
        elif times is not None:
            strength[:, source] *= np.diff(np.searchsorted(times, time_s[:, None] + _COVERING_S), axis=1)[:, 0] > 0
    return heard[:, track], strength @ sources.usual_pattern[track].T
