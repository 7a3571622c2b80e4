"""Overheads: microphones that hear a whole kit, and which of its strokes are theirs since nobody is closer to them.

Among close microphones a drum is told by its likeness to itself and by being loudest at home (`bleed`). A pair above
the kit, or a whole kit in one file, is like no drum, and hears all of them: there every stroke is its own that neither
a closer microphone nor a player of notes accounts for.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.events import commonest, gather_events, lags_s
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.novelty import BandLevels
from supple_snare.sound.players import Player, above_db, heard_beside, to_loud_db
from supple_snare.sound.starts import rough_starts
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.units import FloatArray, amplitude_to_db, frozen

_LOUD_DB = 12.0
_SPREAD, _IN_STEREO, _SPREAD_PERCENT = 2.0, 1.2, (10, 90)
"""Octaves: loud attacks of one drum, even where others bleed in, lie closer together in the spectrum; those of a kit do
not."""

_FEWEST, _SOME = 8, 3

_LATER_S, _STEADY_S, _FOLLOWING_SHARE = (0.005, 0.030), 0.006, 0.3
"""A far microphone hears so many of a closer one's loud strokes later by much the same time: drums stand apart."""

_HEARD_SHARE = 0.15
"""How much later one above the kit hears it is told by so few: what is struck at the same time, but heard first, hides
the rest."""

_ALIKE_DB, _ALIKE_PERCENT, _HEARD_DB = 9.0, (10, 90), -10.0
"""Two microphones that hear a whole kit hear none of its drums louder than the other by so much more than another."""

_FAINT = 1e-2

_NOBODY_ELSE = 3.0
"""Log odds for what is soft in a kit that nobody plays beside: it is a soft stroke, since nothing can bleed."""

_EARLIEST_S = 0.006
"""What a far microphone hears of one drum may come so much before what it hears of most."""

_ACCOUNTED_DB = 5.0
"""What others account for is no louder than so much above what they are proved to bleed; what is struck here lies
far above it."""


def find_overheads(
    analyses: Sequence[Analysis], drums: Mapping[int, Verdict], stereo: Collection[frozenset[int]]
) -> list[int]:
    """Which tracks of drums hear a whole kit from nearby.

    Those that are said to, and those in stereo, if what is loud in them is like no single drum, or if there are no
    others: hardly any drum is recorded in stereo by itself. And all of them if no microphone is close to a single drum.

    Parameters
    ----------
    analyses : sequence of Analysis
        One per track of the group.
    drums : mapping of int to Verdict
        Of the tracks of drums, by their number, as they are told from one another.
    stereo : collection of frozenset of int
        Numbers of the tracks that are in stereo: one by itself, or both sides of a pair.
    """
    if frozenset(drums) in stereo:
        return list(drums)
    heard = {track: _Heard.of(analyses[track]) for track in drums}
    sides = {track: each for each in stereo for track in each}
    wide = {track for track in drums if heard[track].spread > (_IN_STEREO if track in sides else _SPREAD)}
    # One side may hear the hats too softly to tell.
    wide |= {track for track in sides.keys() & drums.keys() if drums[track].is_far and sides[track] & wide}
    near = [track for track in drums if not any(heard[track].follows(heard[other]) for other in wide)]
    # Who has strokes of its own is close to a drum, however late it hears a neighbour's.
    others_far = all(drums[track].is_far for track in drums.keys() - set(near))
    if others_far and wide.issuperset(near) and all(heard[one].is_like(heard[two]) for one, two in pairwise(near)):
        return near
    told = {track for track in near if analyses[track].material is Material.DRUM_OVERHEAD}
    # A side that is taken for notes, loud as the players may be in it, has no say.
    return [track for track in near if track in told or (track in sides and sides[track] & drums.keys() <= wide)]


def judge_overheads(
    analyses: Sequence[Analysis], drums: Mapping[int, Verdict], alone: Mapping[int, Verdict]
) -> dict[int, Verdict]:
    """Tell what is struck from what others account for in tracks that hear a whole kit.

    Parameters
    ----------
    analyses : sequence of Analysis
    drums : mapping of int to Verdict
        As for `find_overheads`.
    alone : mapping of int to Verdict
        On those tracks, as if there were no others.

    Returns
    -------
    dict of int to Verdict
        One for each of them.
    """
    if not alone:
        return {}
    close = [track for track, verdict in drums.items() if track not in alone and not verdict.is_far]
    players = [Player.of(analyses[track].levels, drums[track].time_s[drums[track].played]) for track in close]
    pitched = [analysis for analysis in analyses if PRESETS[analysis.material].is_pitched]
    lines = [Player.of(each.levels, np.sort(rough_starts(each.attacks))) for each in pitched]
    surer = _NOBODY_ELSE if len(alone) == len(analyses) else 0.0
    found = {}
    for track, verdict in alone.items():
        later_s = _later_s(verdict.time_s, players)
        heard = heard_beside(analyses[track].levels, verdict.time_s, max(later_s - _EARLIEST_S, 0.0), players, lines)
        log_odds = np.minimum(verdict.log_odds + surer, above_db(*heard) - _ACCOUNTED_DB)
        own = log_odds > 0.0
        found[track] = replace(
            verdict,
            log_odds=frozen(log_odds),
            is_far=not own.any(),
            is_wide=True,
            later_s=later_s,
            drum=drums[track].drum,
        )
    return found


def _later_s(time_s: FloatArray, players: Sequence[Player]) -> float:
    """How much later a track hears what is played into close microphones; 0 where it hears little of that."""
    struck_s = np.sort(np.concatenate([player.time_s for player in players])) if players else np.zeros(0)
    lag_s = _steady_lags_s(np.sort(time_s), struck_s, (0.0, _LATER_S[1]))
    return float(np.median(lag_s)) if len(lag_s) > max(_SOME, _HEARD_SHARE * len(struck_s)) else 0.0


@dataclass(frozen=True, eq=False)
class _Heard:
    """What starts in a track, and of that what is loud: about when, in order."""

    levels: BandLevels
    time_s: FloatArray
    loud_s: FloatArray

    @classmethod
    def of(cls, analysis: Analysis) -> _Heard:
        time_s, is_loud = rough_starts(analysis.attacks), to_loud_db(analysis.attacks.level_db) > -_LOUD_DB
        return cls(analysis.levels, np.sort(time_s), np.sort(time_s[is_loud]))

    @property
    def spread(self) -> float:
        """How wide apart what is loud lies in the spectrum, octaves: a bass drum and a snare lie far apart."""
        if len(self.time_s) < _FEWEST:
            return 0.0
        low, high = np.percentile(np.log2(self.levels.centre_hz(self.loud_s)), _SPREAD_PERCENT)
        return float(high - low)

    def follows(self, near: _Heard) -> bool:
        """Whether it hears much of what is loud in another track, later by much the same time."""
        if min(len(self.time_s), len(near.time_s)) < _FEWEST:
            return False
        return len(_steady_lags_s(self.time_s, near.loud_s, _LATER_S)) > _FOLLOWING_SHARE * len(near.loud_s)

    def is_like(self, other: _Heard) -> bool:
        """Whether it hears the same drums as another track, and each about as loud against the rest."""
        events = gather_events([self.levels, other.levels], [self.time_s, other.time_s])
        level_db = amplitude_to_db(np.maximum(events.loud, _FAINT))
        apart_db = np.diff(level_db[level_db.max(axis=1) > _HEARD_DB], axis=1)
        low, high = np.percentile(apart_db, _ALIKE_PERCENT) if len(apart_db) else (-np.inf, np.inf)
        return bool(high - low < _ALIKE_DB)


def _steady_lags_s(time_s: FloatArray, other_s: FloatArray, within_s: tuple[float, float]) -> FloatArray:
    """Of all lags in a range by which moments come after others, each in order, those that lie closest together."""
    return commonest(lags_s(time_s, other_s, *within_s)[1], _STEADY_S)
