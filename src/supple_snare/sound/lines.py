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
from supple_snare.sound.events import distances_s, rising
from supple_snare.sound.judge import LINES_FILE, alone_odds, emptiest_place, judges
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.sound.starts import rough_starts, settle_beside
from supple_snare.sound.verdict import FAR_DOUBT, Verdict, verdict_of
from supple_snare.timing.hits import nearest_index
from supple_snare.timing.units import FloatArray, amplitude_to_db

_LOUD_PERCENT = 95
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

_ARRIVES_S = (-0.010, 0.016)
"""A neighbour's stroke arrives in that time after it was struck."""

_AFTER_S = (-0.002, 0.016)
_QUIETEST_PERCENT = 5
_PLAIN_SHARE, _COLOURED = 0.003, 10.0
"""Bands that hold so much of the strongest one's power are plain; in none a sound loses so much less than in the one of
these in which it loses most."""

_FEWEST, _SOME = 4, 8
_SOFTEST = 0.03
"""Relative to the loud moments of its track: softer attacks of a neighbour's line are not its own."""

_LOUDEST_SHARE, _FEWEST_LOUDEST = 0.08, 6
_EXPLAINED_DB, _EXPLAINED_SHARE = 6.0, 0.5
"""A far microphone hears its loudest moments from others: so many of them lie no higher above what those may bleed.
They are few, since a line may have few notes and hear much else."""

_SAME_LOUD, _SAME_FARTHEST_S, _SAME_STRAY_S, _SAME_SHARE = 0.3, 0.012, 0.0015, 0.7
"""Two tracks hold one line (a string plugged in, and its amplifier) if so many of the loud notes of each come with one
of the other, by one and the same time."""

_LEAST_POWER = 1e-12


def judge_lines(analyses: Sequence[Analysis], drums: Mapping[int, Verdict]) -> dict[int, Verdict]:
    """Tell notes from bleed in the tracks of a group that are no drums'.

    Parameters
    ----------
    analyses : sequence of Analysis
        One per track of the group.
    drums : mapping of int to Verdict
        What is known of the tracks of drums, by their number.

    Returns
    -------
    dict of int to Verdict
        One for each other track.
    """
    found = {}
    for track, line in hear_lines(analyses, drums).items():
        odds = judges(LINES_FILE).odds(line.signs()) if len(analyses) > 1 else line.alone_log_odds()
        found[track] = line.verdict(odds - FAR_DOUBT if line.is_far else odds)
    return found


def hear_lines(analyses: Sequence[Analysis], drums: Mapping[int, Verdict]) -> dict[int, HeardLine]:
    """What the attacks of each track that is no drum's are like, beside what bleeds into it.

    Parameters
    ----------
    analyses, drums
        As for `judge_lines`.
    """
    if len(drums) == len(analyses):
        return {}
    rough_s = [rough_starts(analysis.attacks) for analysis in analyses]
    distance_s = distances_s(rough_s)
    players = {track: _Player.of(analyses[track].levels, each.time_s[each.played]) for track, each in drums.items()}
    players = {track: player for track, player in players.items() if not drums[track].is_far}
    lines = [track for track in range(len(analyses)) if track not in drums]
    notes = {track: _Player.of(analyses[track].levels, np.sort(rough_s[track])) for track in lines}
    leader = _leaders(notes)

    @cache
    def heard(track: int, later_s: float, without: frozenset[int]) -> _Heard:
        others = [each for number, each in notes.items() if leader[number] != leader[track] and number not in without]
        return _Heard.of(analyses[track], rough_s[track], later_s, [*players.values()], others)

    # A player who lags is no far microphone, though what bleeds into his own comes as late.
    far = frozenset(track for track in lines if heard(track, float(distance_s[track]), frozenset()).is_explained)
    return {
        track: HeardLine(
            heard(track, float(distance_s[track]) if track in far else 0.0, far - {track}), leader[track], track in far
        )
        for track in lines
    }


@dataclass(frozen=True, eq=False)
class _Player:
    """What was played into a track: when, shape (n,), increasing, the power that starts with it, shape (n, BANDS), and
    the amplitude of its loud moments."""

    time_s: FloatArray
    power: FloatArray
    loud: float

    @classmethod
    def of(cls, levels: BandLevels, time_s: FloatArray) -> _Player:
        power = _starting(levels, time_s)
        return cls(time_s, power, _loud(power))

    @property
    def size(self) -> FloatArray:
        """Amplitude over all bands, shape (n,)."""
        return np.asarray(np.sqrt(self.power.sum(axis=1)))

    def leading(self, heard: BandLevels, later_s: float, loud: float) -> _Player:
        """Only what is louder here than in a track it may bleed into, each against its loud moments."""
        there = np.sqrt(_starting(heard, self.time_s + later_s).sum(axis=1)) / max(loud, _LEAST_POWER)
        here = self.size / max(self.loud, _LEAST_POWER)
        kept = (here > there) & (here > _SOFTEST)
        return replace(self, time_s=self.time_s[kept], power=self.power[kept])

    def bleed_power(self, heard: BandLevels, later_s: float, time_s: FloatArray) -> FloatArray:
        """The most power of what this player does that may start at moments in a track, which hears all so much later,
        shape (n, BANDS)."""
        if len(self.time_s) < _FEWEST:
            return np.zeros((len(time_s), BANDS))
        last = np.searchsorted(self.time_s, time_s - later_s - _ARRIVES_S[0]) - 1
        struck = (last >= 0) & (time_s - later_s - self.time_s[np.maximum(last, 0)] < _ARRIVES_S[1])
        power = self._arriving(heard, later_s) * self.power[np.maximum(last, 0)]
        return np.where(struck[:, None], power, 0.0)

    def _arriving(self, heard: BandLevels, later_s: float) -> FloatArray:
        """The most of each band's power that may arrive in a track, shape (BANDS,)."""
        telling = self.size >= np.median(self.size) if len(self.size) > _SOME else np.ones(len(self.size), dtype=bool)
        own = self.power[telling]
        there = heard.loudest(self.time_s[telling] + later_s, *_AFTER_S)
        share = np.percentile(there / np.maximum(own, _LEAST_POWER), _QUIETEST_PERCENT, axis=0)
        # A sound is coloured on its way, but not so much: where it is plain, least arrives of it.
        usual = np.median(own, axis=0)
        plain = usual > _PLAIN_SHARE * usual.max()
        return np.minimum(share, _COLOURED * share[plain].min(initial=np.inf))


@dataclass(frozen=True, eq=False)
class _Heard:
    """What starts with the attacks of one track, and what its neighbours may make of it: power, shape (n, BANDS)."""

    analysis: Analysis
    power: FloatArray
    bleed: FloatArray

    @classmethod
    def of(
        cls,
        analysis: Analysis,
        time_s: FloatArray,
        later_s: float,
        players: Sequence[_Player],
        lines: Sequence[_Player],
    ) -> _Heard:
        levels = analysis.levels
        power = _starting(levels, time_s)
        neighbours = [*players, *(line.leading(levels, later_s, _loud(power)) for line in lines)]
        bleed = [each.bleed_power(levels, later_s, time_s) for each in neighbours]
        return cls(analysis, power, np.sum(bleed, axis=0) if bleed else np.zeros(power.shape))

    @property
    def is_explained(self) -> bool:
        """Whether what is loudest in the track is mostly its neighbours'."""
        if not len(self.power):
            return False
        level_db = self.analysis.attacks.level_db
        loudest = np.argsort(-level_db, kind="stable")[: max(_FEWEST_LOUDEST, round(_LOUDEST_SHARE * len(level_db)))]
        above_db = _ratio_db(self.power.sum(axis=1), self.bleed.sum(axis=1))
        return bool(np.mean(above_db[loudest] < _EXPLAINED_DB) > _EXPLAINED_SHARE)


@dataclass(frozen=True, eq=False)
class HeardLine:
    """The attacks of a track of notes.

    Attributes
    ----------
    drum : int
        The first track that holds the same line, mostly itself.
    is_far : bool
        Whether its loudest moments are its neighbours'.
    """

    _heard: _Heard
    drum: int
    is_far: bool

    def signs(self) -> FloatArray:
        """What tells of each of n attacks that it is a note of the line, all in dB, shape (n, 9).

        By how much more starts than its neighbours may make of it, in all and in the band where it is most, and whether
        they may make any; how loud it grows against the loud ones, and how its spectrum rises; how loud it is at first
        and some time later, each against the loud ones and against what sounded before.
        """
        power, bleed, attacks = self._heard.power, self._heard.bleed, self._heard.analysis.attacks
        if not len(attacks):
            return np.zeros((0, 9))
        above_db = np.clip(_ratio_db(power.sum(axis=1), bleed.sum(axis=1)), *_ABOVE_DB)
        most_above_db = np.clip(_ratio_db(power, bleed).max(axis=1), *_ABOVE_DB)
        spans = (_BEFORE_S, _FIRST_S, *_LATER_S)
        before, first, *later = self._heard.analysis.levels.mean_db(rough_starts(attacks), spans).T
        goes_on = np.min(later, axis=0)
        bleeds = bleed.any(axis=1).astype(np.float64)
        signs = [above_db, most_above_db, bleeds, _to_loud(attacks.level_db), attacks.rise_db]
        signs += [_to_loud(first), first - before, _to_loud(goes_on), goes_on - before]
        return np.clip(np.stack(signs, axis=1), -_MOST_DB, _MOST_DB)

    def alone_log_odds(self) -> FloatArray:
        """Log odds where there is no other track, shape (n,)."""
        attacks = self._heard.analysis.attacks
        if not len(attacks):
            return np.zeros(0)
        odds = alone_odds(_to_loud(attacks.level_db), np.clip(attacks.rise_db, *_RISES_DB)) + _NOTE_ODDS
        return odds - _GAP_WORD * emptiest_place(odds)

    def verdict(self, log_odds: FloatArray) -> Verdict:
        """Which of the attacks are notes of this line, by their odds, shape (n,)."""
        analysis, heard = self._heard.analysis, self._heard
        settled_s, others = settle_beside(analysis.attacks, np.sqrt(heard.power), np.sqrt(heard.bleed))
        return replace(verdict_of(analysis, settled_s, others, log_odds, self.drum), is_far=self.is_far)


def _to_loud(level_db: FloatArray) -> FloatArray:
    return np.asarray(level_db - np.percentile(level_db, _LOUD_PERCENT))


def _starting(levels: BandLevels, time_s: FloatArray) -> FloatArray:
    """Power that starts in a track at moments, shape (n, BANDS)."""
    return np.asarray(rising([levels], time_s, np.zeros(1))[:, 0] ** 2)


def _loud(power: FloatArray) -> float:
    """Amplitude of loud moments, of power of shape (n, BANDS)."""
    return float(np.percentile(np.sqrt(power.sum(axis=1)), _LOUD_PERCENT)) if len(power) else 0.0


def _ratio_db(power: FloatArray, bleed: FloatArray) -> FloatArray:
    return amplitude_to_db(np.sqrt((power + 0.01 * _LEAST_POWER) / (bleed + _LEAST_POWER)))


def _leaders(notes: Mapping[int, _Player]) -> dict[int, int]:
    """For each track of notes the first one that holds the same line: mostly itself."""
    leader = {track: track for track in notes}
    for track in notes:
        for earlier in notes:
            if earlier < track and leader[track] == track and _is_same_line(notes[earlier], notes[track]):
                leader[track] = leader[earlier]
    return leader


def _is_same_line(one: _Player, other: _Player) -> bool:
    lags = [_lags_s(one, other), -_lags_s(other, one)]
    if min(map(len, lags)) < _SOME:
        return False
    lag_s = float(np.median(np.concatenate(lags)))
    if not np.isfinite(lag_s):
        return False
    return all(np.mean(np.abs(each - lag_s) < _SAME_STRAY_S) > _SAME_SHARE for each in lags)


def _lags_s(one: _Player, other: _Player) -> FloatArray:
    """How much later the other track has each loud note of one; what it does not have counts as farthest away."""
    loud_s = one.time_s[one.size > _SAME_LOUD * one.loud]
    if not len(other.time_s):
        return np.full(len(loud_s), np.inf)
    lag_s = other.time_s[nearest_index(other.time_s, loud_s)] - loud_s
    return np.where(np.abs(lag_s) < _SAME_FARTHEST_S, lag_s, np.inf)
