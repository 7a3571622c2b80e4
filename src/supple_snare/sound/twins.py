"""Twins: microphones of one drum, above and under a snare, inside and before a bass drum.

Each explains all that the other hears, so that side by side one of them would be left with nothing of its own. They are
told by their loudest events, which are the same, reach them by one short delay, differ between them always alike, and
stand out in both of what else is played; and by each having a drum of its own once the other is away. A microphone of a
drum that never plays hears its neighbour's strokes best, too, but everything else as well; those of two toms hear each
other's strokes, but each its own louder.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.events import Events
from supple_snare.sound.sources import closeness_of
from supple_snare.timing.units import FloatArray, IntArray, amplitude_to_db

_STRAY_MS = 0.4
_FARTHEST_MS = 4.0
_SOFTEST_DB = -40.0
_LOUD, _SOFT = 0.4, 0.35
_WITH_EITHER_DB = -20.0
_FEWEST = 4

_WEIGHTS = {
    "lag_ms": -2.83,
    "together": 3.91,
    "level_db": 0.35,
    "above_db": 0.47,
    "spread_db": -0.32,
    "stray": -2.0,
    "closeness": 0.11,
}
_BIAS = -1.5
_LEAST_CLOSE, _MOST_CLOSE = 0.0, 6.0
"""Log odds that two microphones are twins: a logistic regression on pairs of 144 takes, 300 of them twins; the word of
`stray` and the bias were set on 9,000 pairs with 25 kits, 400 of them twins. The bias lies below the regression's own:
a drum that never plays must not be given the strokes of its neighbour."""

_MOST_BESIDE = 16
"""More microphones than most kits have."""

_MANY_TWINS = 8
"""More than kits have: two microphones on the bass drum, the snare, the hat and some toms."""

_FAINTEST, _USUAL_STRAY_DB = 1e-3, 0.5
"""Twins mostly stray less, in decibels."""


def find_drums(events: Events) -> tuple[IntArray, FloatArray]:
    """Which microphones of a group hear one drum, and how sure that is.

    Parameters
    ----------
    events : Events
        What starts in any of m microphones.

    Returns
    -------
    drum : int array, shape (m,)
        For each microphone the number of the one that is closest to its drum: its own, if it has no twin.
    log_odds : float array, shape (m,)
        Of a twin being one; infinite for all others.
    """
    drum, log_odds = np.arange(len(events.distance_s)), np.full(len(events.distance_s), np.inf)
    pairs = combinations(np.flatnonzero(events.distance_s == 0.0).tolist(), 2)
    alike = {pair: _alike(events, *pair) for pair in pairs}
    alike = {pair: odds for pair, odds in alike.items() if odds + _WEIGHTS["closeness"] * _MOST_CLOSE > 0.0}
    closeness = _Closeness(events)
    while alike:  # a third microphone of a drum is heard as one where the second is away
        closeness.here = np.unique(drum).tolist()
        odds, closer, twin = _likeliest_twins(closeness, alike)
        if odds < 0.0:
            break
        drum[drum == twin] = closer
        log_odds[twin] = odds
        alike = {pair: odds for pair, odds in alike.items() if twin not in pair}
    return drum, log_odds


def groups_without_twins(drum: IntArray) -> list[IntArray]:
    """Microphones to be judged together, one of every drum: the closest of each, then their twins in turn.

    Each twin is judged beside the closest microphones of the other drums; where there are many twins, beside those of
    the other drums whose turn it is, so that the work grows with the number of microphones and not with its square.
    """
    closest = np.unique(drum)
    twins = np.flatnonzero(drum != np.arange(len(drum)))
    if len(twins) <= _MANY_TWINS:
        return [closest, *(np.sort(np.append(closest[closest != drum[twin]], twin)) for twin in twins)]
    of_drum = [twins[drum[twins] == own] for own in closest]
    turns = range(max(map(len, of_drum)))
    return [
        closest,
        *(
            np.sort([each[turn] if turn < len(each) else own for own, each in zip(closest, of_drum, strict=True)])
            for turn in turns
        ),
    ]


def _alike(events: Events, one: int, other: int) -> float:
    """What speaks for two microphones being twins while both are there, log odds."""
    pair = [one, other]
    loud = events.loud[:, pair]
    level_db = amplitude_to_db(np.maximum(loud, 1e-2))
    loudest = [events.loudest(number) for number in pair]
    either = np.union1d(*loudest)
    lead_ms = 1000.0 * events.behind_s(either, one, other)
    lead_ms = lead_ms[np.abs(lead_ms) < _FARTHEST_MS]
    if len(lead_ms) < _FEWEST:
        return -np.inf
    lag_ms = float(np.median(lead_ms))
    elsewhere = np.delete(events.loud, pair, axis=1).max(axis=1, initial=0.0) > _LOUD
    others = np.flatnonzero(elsewhere & (loud.min(axis=1) < _SOFT))
    rest_db = np.median(level_db[others], axis=0) if len(others) >= _FEWEST else np.full(2, _SOFTEST_DB)
    both_db = level_db[level_db.max(axis=1) > _WITH_EITHER_DB]
    own = [np.isin(either, those) for those in loudest]
    signs = {
        "lag_ms": abs(lag_ms),
        "together": np.count_nonzero(np.abs(lead_ms - lag_ms) < _STRAY_MS) / len(either),
        "level_db": max(min(np.median(level_db[loudest[0], 1]), np.median(level_db[loudest[1], 0])), -12.0),
        "above_db": np.clip((np.median(level_db[either], axis=0) - rest_db).min(), -6.0, 14.0),
        "spread_db": min(float(np.subtract(*np.percentile(np.diff(both_db, axis=1), [80, 20]))), 15.0),
        "stray": np.log(max(_stray_db(events.heard[either][:, pair], own) / _USUAL_STRAY_DB, 1.0)),
    }
    return _BIAS + float(sum(_WEIGHTS[name] * value for name, value in signs.items()))


def _stray_db(heard: FloatArray, own: Sequence[NDArray[np.bool_]]) -> float:
    """How far two microphones differ from how they usually do in the loudest events of either, shape (n, 2, BANDS): in
    those of the one, or of the other, whichever differ more."""
    heard = np.maximum(heard, _FAINTEST)
    ahead_db = amplitude_to_db(heard[:, 0]) - amplitude_to_db(heard[:, 1])
    stray_db = np.abs(ahead_db - np.median(ahead_db, axis=0))
    mean_db = np.average(stray_db, axis=1, weights=np.sqrt(heard.prod(axis=1)))
    return max(float(np.median(mean_db[those])) for those in own)


def best_hearing(events: Events, members: list[int], tracks: list[int], also: Sequence[int] = ()) -> list[int]:
    """Of many microphones those that hear the loudest events of some tracks best, with these and others that are named.

    All of them where they are no more than most kits have. Of more, the rest hear such events no louder than any, and
    would make the work grow with the cube of their number.
    """
    if len(members) <= _MOST_BESIDE:
        return members
    loudest = np.concatenate([events.loudest(track) for track in tracks])
    heard = np.median(events.loud[loudest][:, members], axis=0)
    best = np.argsort(-heard, kind="stable")[:_MOST_BESIDE]
    return sorted({members[number] for number in best.tolist()} | (set(tracks) & set(members)) | set(also))


class _Closeness:
    """How plainly microphones have a drum of their own among those that are here, where one of them is away."""

    def __init__(self, events: Events) -> None:
        self._events = events
        self.here: list[int] = []
        self._known: dict[tuple[int, ...], dict[int, float]] = {}

    def of(self, number: int, *, away: int) -> float:
        """Log odds of a microphone having a drum of its own while another is away."""
        others = [other for other in self.here if other != away]
        key = tuple(best_hearing(self._events, others, [away], also=[number]))
        if key not in self._known:
            found = closeness_of(self._events.of(key))
            self._known[key] = dict(zip(key, found.tolist(), strict=True))
        return self._known[key][number]


def _likeliest_twins(closeness: _Closeness, alike: dict[tuple[int, int], float]) -> tuple[float, int, int]:
    """The two microphones that are most likely twins: log odds, the closer one, the other.

    How close a microphone is takes long to tell, and adds so much to the odds at most: pairs are asked in the order of
    what speaks for them already, until no other can be likelier.
    """
    best = (-np.inf, -1, -1)
    for pair, odds in sorted(alike.items(), key=lambda each: -each[1]):
        if odds + _WEIGHTS["closeness"] * _MOST_CLOSE < best[0]:
            break
        own = {one: closeness.of(one, away=other) for one, other in (pair, pair[::-1])}
        closer, twin = sorted(pair, key=lambda number: -own[number])
        if own[twin] > _LEAST_CLOSE:
            best = max(best, (odds + _WEIGHTS["closeness"] * min(own[twin], _MOST_CLOSE), closer, twin))
    return best
