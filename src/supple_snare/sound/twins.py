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

_FAINTEST, _USUAL_STRAY_DB = 1e-3, 0.5
"""Twins mostly stray less, in decibels."""


def find_drums(events: Events) -> IntArray:
    """Which microphones of a group hear one drum.

    Parameters
    ----------
    events : Events
        What starts in any of m microphones.

    Returns
    -------
    int array, shape (m,)
        For each microphone the number of the one that is closest to its drum: its own, if it has no twin.
    """
    drum = np.arange(len(events.distance_s))
    pairs = combinations(np.flatnonzero(events.distance_s == 0.0).tolist(), 2)
    alike = {pair: _alike(events, *pair) for pair in pairs}
    alike = {pair: odds for pair, odds in alike.items() if odds + _WEIGHTS["closeness"] * _MOST_CLOSE > 0.0}
    while alike:  # a third microphone of a drum is heard as one where the second is away
        found = {pair: _with_closeness(events, np.unique(drum).tolist(), pair, odds) for pair, odds in alike.items()}
        odds, closer, twin = max(found.values())
        if odds < 0.0:
            break
        drum[drum == twin] = closer
        alike = {pair: odds for pair, odds in alike.items() if twin not in pair}
    return drum


def groups_without_twins(drum: IntArray) -> list[IntArray]:
    """Microphones to be judged together, one of every drum: the closest of each, then their twins in turn."""
    closest = np.unique(drum)
    twins = np.flatnonzero(drum != np.arange(len(drum)))
    return [closest, *(np.sort(np.append(closest[closest != drum[twin]], twin)) for twin in twins)]


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


def _with_closeness(events: Events, here: list[int], pair: tuple[int, int], alike: float) -> tuple[float, int, int]:
    """Log odds that two microphones are twins, among those that are here; the closer one, and the other."""
    closeness = {}
    for number, twin in (pair, pair[::-1]):
        kept = [other for other in here if other != twin]
        closeness[number] = float(closeness_of(events.of(kept))[kept.index(number)])
    closer, twin = sorted(pair, key=lambda number: -closeness[number])
    least = closeness[twin]
    odds = alike + _WEIGHTS["closeness"] * min(least, _MOST_CLOSE) if least > _LEAST_CLOSE else -np.inf
    return odds, closer, twin
