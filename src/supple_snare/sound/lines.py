"""Notes of a group: which were played into their microphone, and which attacks are a neighbour's bleed.

Patterns like those of drums (`sources`) do not hold of notes: each pitch has its own, and a line that goes along with
the drums would be explained by them. Here a neighbour explains no more than it is proved to bleed: of each of its
strokes the same share arrives, so it is no more than what the track holds at the quietest of them. What rises above
that, in all or in some band, and goes on as the line's loud notes do is a note of the line itself: small networks
(`judge`, fitted by `bench/lines.py`) weigh the signs.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.events import distances_s
from supple_snare.sound.fitted import fitted
from supple_snare.sound.judge import alone_odds, emptiest_place
from supple_snare.sound.players import Player, above_db, heard_beside, ratio_db, to_loud_db
from supple_snare.sound.starts import rough_starts, settle_beside
from supple_snare.sound.verdict import Verdict, verdict_of
from supple_snare.timing.units import FloatArray, IntArray

_NOTE_ODDS = 1.5
_RISES_DB = (8.0, 15.0)
"""Alone, notes are judged by how loud they grow and how they rise as a drum is, but that they span more dynamics, and
may rise out of one another as little as they like."""

_GAP_WORD = 0.5
"""How far the line between notes and the rest is then moved toward the emptiest place near it: where a line is played
evenly, there is a gap between the two."""

_ABOVE_DB, _MOST_DB = (-10.0, 30.0), 60.0
_BEFORE_S, _FIRST_S = (-0.040, -0.007), (0.0, 0.013)
_LATER_S = ((0.030, 0.050), (0.050, 0.070), (0.070, 0.090), (0.090, 0.110))
"""A note goes on in all of these; an attack that follows it soon, or bleed, is loud in some only."""

_LOUDEST_SHARE, _FEWEST_LOUDEST = 0.08, 6
_EXPLAINED_DB, _EXPLAINED_PERCENT = 12.0, 75
"""A far microphone, or that of a drum which never plays, hears its loudest moments from others: so many of them lie no
higher above what those may bleed. They are few, since a line may have few notes and hear much else."""

_FAR_DOUBT = 8.0
"""Log odds by which what seems played into such a microphone must be surer."""


def judge_lines(analyses: Sequence[Analysis], drums: Mapping[int, Verdict], players: IntArray) -> dict[int, Verdict]:
    """Tell notes from bleed in the tracks of a group that are no drums'.

    Parameters
    ----------
    analyses : sequence of Analysis
        One per track of the group.
    drums : mapping of int to Verdict
        What is known of the tracks of drums, by their number.
    players : int array, shape (tracks,)
        For each track the first one that hears the same player (`one_player`).

    Returns
    -------
    dict of int to Verdict
        One for each other track.
    """
    found = {}
    for track, line in hear_lines(analyses, drums, players).items():
        is_alone = (players == players[track]).all()
        odds = line.alone_log_odds() if is_alone else fitted("lines", FEATURES).of_columns(line.signs())
        found[track] = line.verdict(odds - _FAR_DOUBT if line.is_far else odds)
    return found


def hear_lines(analyses: Sequence[Analysis], drums: Mapping[int, Verdict], players: IntArray) -> dict[int, HeardLine]:
    """What the attacks of each track that is no drum's are like, beside what bleeds into it.

    Parameters
    ----------
    analyses, drums, players
        As for `judge_lines`.
    """
    if len(drums) == len(analyses):
        return {}
    rough_s = [rough_starts(analysis.attacks) for analysis in analyses]
    distance_s = distances_s(rough_s)
    strikers = {track: Player.of(analyses[track].levels, each.time_s[each.played]) for track, each in drums.items()}
    strikers = {track: player for track, player in strikers.items() if not drums[track].is_far}
    lines = [track for track in range(len(analyses)) if track not in drums]
    notes = {track: Player.of(analyses[track].levels, np.sort(rough_s[track])) for track in lines}

    @cache
    def heard(track: int, later_s: float, without: frozenset[int]) -> HeardLine:
        others = [each for number, each in notes.items() if players[number] != players[track] and number not in without]
        return HeardLine.of(analyses[track], rough_s[track], later_s, [*strikers.values()], others)

    # A player who lags is no far microphone, though what bleeds into his own comes as late.
    far = frozenset(track for track in lines if heard(track, float(distance_s[track]), frozenset()).is_explained)
    found = {}
    for track in lines:
        line = heard(track, float(distance_s[track]) if track in far else 0.0, far - {track})
        found[track] = replace(line, drum=int(players[track]), is_far=track in far)
    return found


FEATURES = (
    "above_db",
    "above_in_band_db",
    "may_bleed",
    "level_db",
    "rise_db",
    "first_db",
    "first_above_before_db",
    "later_db",
    "later_above_before_db",
)
"""What tells of an attack that it is a note of the line: by how much more starts than its neighbours may make of it, in
all and in the band where it is most, and whether they may make any; how loud it grows against the loud ones, and how
its spectrum rises; how loud it is at first and some time later, each against the loud ones and against what sounded
before."""


@dataclass(frozen=True, eq=False)
class HeardLine:
    """The n attacks of a track of notes.

    Attributes
    ----------
    analysis : Analysis
    time_s : float array, shape (n,)
        About when they start.
    power, bleed : float array, shape (n, BANDS)
        What starts with them, and the most that the neighbours may make of it.
    drum : int
        The first track that holds the same line, mostly itself.
    is_far : bool
        Whether its loudest moments are its neighbours'.
    """

    analysis: Analysis
    time_s: FloatArray
    power: FloatArray
    bleed: FloatArray
    drum: int = 0
    is_far: bool = False

    @classmethod
    def of(
        cls,
        analysis: Analysis,
        time_s: FloatArray,
        later_s: float,
        players: Sequence[Player],
        lines: Sequence[Player],
    ) -> HeardLine:
        """What is heard where all is heard so much later, beside players and other lines."""
        return cls(analysis, time_s, *heard_beside(analysis.levels, time_s, later_s, players, lines))

    @property
    def above_db(self) -> FloatArray:
        """By how much more starts than the neighbours may make of it, shape (n,)."""
        return above_db(self.power, self.bleed)

    @property
    def is_explained(self) -> bool:
        """Whether what is loudest in the track is mostly its neighbours'."""
        if not len(self.power):
            return False
        level_db = self.analysis.attacks.level_db
        loudest = np.argsort(-level_db, kind="stable")[: max(_FEWEST_LOUDEST, round(_LOUDEST_SHARE * len(level_db)))]
        return bool(np.percentile(self.above_db[loudest], _EXPLAINED_PERCENT) < _EXPLAINED_DB)

    def signs(self) -> FloatArray:
        """`FEATURES` of each attack, shape (n, features)."""
        attacks = self.analysis.attacks
        most_above_db = ratio_db(self.power, self.bleed).max(axis=1)
        before, first, *later = self.analysis.levels.mean_db(self.time_s, (_BEFORE_S, _FIRST_S, *_LATER_S)).T
        goes_on = np.min(later, axis=0)
        signs = [np.clip(self.above_db, *_ABOVE_DB), np.clip(most_above_db, *_ABOVE_DB), self.bleed.any(axis=1)]
        signs += [to_loud_db(attacks.level_db), attacks.rise_db]
        signs += [to_loud_db(first), first - before, to_loud_db(goes_on), goes_on - before]
        return np.clip(np.stack(signs, axis=1), -_MOST_DB, _MOST_DB)

    def alone_log_odds(self) -> FloatArray:
        """Log odds where there is no other track, shape (n,)."""
        attacks = self.analysis.attacks
        odds = alone_odds(to_loud_db(attacks.level_db), np.clip(attacks.rise_db, *_RISES_DB)) + _NOTE_ODDS
        return odds - _GAP_WORD * emptiest_place(odds)

    def verdict(self, log_odds: FloatArray) -> Verdict:
        """Which of the attacks are notes of this line, by their odds, shape (n,)."""
        settled_s, others = settle_beside(self.analysis.attacks, np.sqrt(self.power), np.sqrt(self.bleed))
        return replace(verdict_of(self.analysis, settled_s, others[:, 0], log_odds, self.drum), is_far=self.is_far)
