"""Events: all that starts in a group of microphones, how loud each hears it in each band, and when."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.novelty import BandLevels
from supple_snare.sound.quantiles import median_of_known
from supple_snare.timing.units import FloatArray, IntArray, frozen

SAME_EVENT_S = 0.012
"""Attacks in several microphones within this time are one event."""

_BEFORE_S = (-0.024, -0.008)
_AFTER_S = (-0.002, 0.016)
_GUARD_S = 0.004
"""A frame centred less than this before an attack hears it already, and another microphone may hear it earlier."""

_LOUD_PERCENT = 98
_ENOUGH = 8
_NEAREST_S, _FARTHEST_S = 0.006, 0.040
_FAR_S = 0.0085
_STEADY_S = 0.002
_ENOUGH_ECHOES, _MORE_THAN_CHANCE, _ECHOED_SHARE = 5, 3.0, 0.3
"""A source reaches a far microphone so much later than another one, to 2 ms: so many attacks must follow by one such
time, against what chance gives, and so many of the far microphone's must follow one."""

_TINY = 1e-9

_LEAST_SIGNS = 3
"""Attacks with so many signs in common can be laid over one another."""

_LOUDEST_SHARE = 0.8
_LOUDEST_COUNT = (6, 30)
"""A microphone's loudest events, beside its loudness, and how many of them are looked at."""


@dataclass(frozen=True, eq=False)
class Events:
    """What starts in any of m microphones, n events.

    Attributes
    ----------
    distance_s : float array, shape (m,)
        How much later each microphone hears the performance; 0 where that is not plain.
    loudness : float array, shape (m,)
        Amplitude of each microphone's loud moments; all else is relative to it.
    heard : float array, shape (n, m, BANDS)
        Relative amplitude that starts with each event in each microphone and band.
    loud : float array, shape (n, m)
        The same over all bands.
    attack : int array, shape (n, m)
        Which attack of each microphone an event is, −1 where it is not heard.
    passed_s : sequence of float arrays, shape (attacks, signs)
        For each microphone, when each of its attacks passes each of some signs, NaN where that is not seen.
    """

    distance_s: FloatArray
    loudness: FloatArray
    heard: FloatArray
    loud: FloatArray
    attack: IntArray
    passed_s: Sequence[FloatArray]

    def behind_s(self, events: IntArray, one: int, other: int) -> FloatArray:
        """How much later another microphone hears some events than one does, shape (events,), NaN where unknown."""
        return later_s(self._passed_s(events, one), self._passed_s(events, other))

    def _passed_s(self, events: IntArray, microphone: int) -> FloatArray:
        passed_s, attack = self.passed_s[microphone], self.attack[events, microphone]
        heard = attack >= 0
        found = np.full((len(events), passed_s.shape[1]), np.nan)
        found[heard] = passed_s[attack[heard]]
        return found

    def loudest(self, microphone: int) -> IntArray:
        """The loudest events of a microphone: its own strokes, if it has a drum of its own."""
        loud = np.count_nonzero(self.loud[:, microphone] > _LOUDEST_SHARE)
        return self.by_level(microphone, int(np.clip(loud, *_LOUDEST_COUNT)))

    def by_level(self, microphone: int, count: int) -> IntArray:
        """So many events, those that a microphone hears loudest first."""
        present = self.attack[:, microphone] >= 0
        return np.argsort(-np.where(present, self.loud[:, microphone], -1.0), kind="stable")[:count]

    def of(self, microphones: Sequence[int]) -> Events:
        """The same without the other microphones, and what only they heard."""
        those = list(microphones)
        kept = (self.attack[:, those] >= 0).any(axis=1)
        return Events(
            distance_s=frozen(self.distance_s[those]),
            loudness=frozen(self.loudness[those]),
            heard=frozen(self.heard[kept][:, those]),
            loud=frozen(self.loud[kept][:, those]),
            attack=frozen(self.attack[kept][:, those], np.int64),
            passed_s=[self.passed_s[microphone] for microphone in those],
        )


def later_s(passed_s: FloatArray, other_s: FloatArray) -> FloatArray:
    """How much later attacks show in another microphone, where each shows its signs as told, both (n, signs).

    Each microphone sees the start of a stroke in its own way: the ring and the bleed before it hide more or less of
    that. So they are laid over one another by the signs that both show; NaN where those are too few.
    """
    apart_s = other_s - passed_s
    known = np.isfinite(apart_s)
    enough = np.count_nonzero(known, axis=1) >= min(_LEAST_SIGNS, apart_s.shape[1])
    return np.where(enough, median_of_known(apart_s, known), np.nan)


def gather_events(
    levels: Sequence[BandLevels], heard_s: Sequence[FloatArray], passed_s: Sequence[FloatArray] | None = None
) -> Events:
    """Join what starts in all microphones.

    Parameters
    ----------
    levels : sequence of BandLevels
        One a microphone.
    heard_s : sequence of float arrays
        Starts of the attacks in each microphone, increasing.
    passed_s : sequence of float arrays, optional
        As in `Events`; by default the starts.
    """
    passed_s = [times[:, None] for times in heard_s] if passed_s is None else passed_s
    distance_s = distances_s([_first_seen_s(*each) for each in zip(heard_s, passed_s, strict=True)])
    common_s = [times - distance for times, distance in zip(heard_s, distance_s, strict=True)]
    events = merged_moments(common_s, SAME_EVENT_S)
    amplitude = rising(levels, events, distance_s)
    total = np.sqrt(np.sum(amplitude**2, axis=2))
    loudness = np.maximum(np.percentile(total, _LOUD_PERCENT, axis=0), _TINY) if len(events) else np.ones(len(levels))
    return Events(
        distance_s=frozen(distance_s),
        loudness=frozen(loudness),
        heard=frozen(amplitude / loudness[None, :, None]),
        loud=frozen(total / loudness),
        attack=frozen(_attacks(common_s, events), np.int64),
        passed_s=passed_s,
    )


def _first_seen_s(time_s: FloatArray, passed_s: FloatArray) -> FloatArray:
    """When attacks show their first signs, in order: how long before that they began is guessed, often wrongly in a
    microphone that hears several drums alike."""
    first_s = passed_s.min(axis=1, initial=np.inf, where=np.isfinite(passed_s))
    return np.sort(np.where(np.isfinite(first_s), first_s, time_s))


def rising(
    levels: Sequence[BandLevels], time_s: FloatArray, distance_s: FloatArray, until_s: FloatArray | float = np.inf
) -> FloatArray:
    """Amplitude that starts in each track and band at moments, shape (n, tracks, BANDS)."""
    rises = []
    first_s, latest_s = _AFTER_S
    last_s: FloatArray = np.clip(until_s - time_s - _GUARD_S, first_s, latest_s)
    for track, distance in zip(levels, distance_s, strict=True):
        after = track.loudest(time_s + distance, first_s, last_s)
        before = track.loudest(time_s + distance, *_BEFORE_S)
        rises.append(np.sqrt(np.maximum(after - before, 0.0)))
    return np.stack(rises, axis=1)


def merged_moments(times: Sequence[FloatArray], within_s: float) -> FloatArray:
    """Moments at which something starts in any track, those that belong together joined to their earliest."""
    merged = np.sort(np.concatenate(times))
    moments: list[float] = []
    for time in merged.tolist():
        # Counted from the first moment: a dense passage must not chain into one endless event.
        if not moments or time - moments[-1] > within_s:
            moments.append(time)
    return np.array(moments)


def distances_s(heard_s: Sequence[FloatArray]) -> FloatArray:
    """How much later each track hears the performance than the earliest tracks do; 0 where that is not plain.

    A room microphone may stand 15 ms away, which would make an event of its own out of everything it hears. A player
    who lags behind the others as much does not do so by the same time again and again.
    """
    distances = np.zeros(len(heard_s))
    for track, times in enumerate(heard_s):
        others = [other for number, other in enumerate(heard_s) if number != track and len(other)]
        if len(times) < _ENOUGH or not others:
            continue
        everything = np.sort(np.concatenate(others))
        first = np.searchsorted(everything, times - _FARTHEST_S)
        behind = times - everything[np.minimum(first, len(everything) - 1)]
        behind = behind[(behind > 0.0) & (behind <= _FARTHEST_S)]
        if len(behind) <= 0.6 * len(times):
            continue
        shortest = float(np.percentile(behind, 25))
        if shortest > _FAR_S and _echoed(times, others).mean() > _ECHOED_SHARE:
            distances[track] = shortest
    return distances


def lags_s(time_s: FloatArray, other_s: FloatArray, least_s: float, most_s: float) -> tuple[IntArray, FloatArray]:
    """Every lag within a range by which moments, in order, come after others: after which of the others, and the lag.

    >>> lags_s(np.array([1.0, 1.25, 2.0]), np.array([1.0, 1.75]), 0.125, 0.5)
    (array([0, 1]), array([0.25, 0.25]))
    """
    first = np.searchsorted(time_s, other_s + least_s)
    count = np.searchsorted(time_s, other_s + most_s) - first
    which = np.repeat(np.arange(len(other_s)), count)
    within = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    return which, time_s[np.repeat(first, count) + within] - other_s[which]


def commonest(values: FloatArray, within: float) -> FloatArray:
    """Of some values those that lie closest together, no farther apart than so, in order.

    >>> commonest(np.array([5.0, 1.0, 5.5, 3.0, 5.25]), 0.5)
    array([5.  , 5.25, 5.5 ])
    """
    ordered = np.sort(values)
    last = np.searchsorted(ordered, ordered + within, side="right")
    first = int(np.argmax(last - np.arange(len(ordered)))) if len(ordered) else 0
    return ordered[first : last[first]] if len(ordered) else ordered


def steady_lags(lags: FloatArray, within: float, span: float) -> tuple[FloatArray, float]:
    """Of some lags those that lie closest together, in order, and how many would lie so close by chance, were they
    spread evenly over a span.

    >>> steady_lags(np.array([5.0, 1.0, 5.5, 3.0, 5.25]), 0.5, 5.0)
    (array([5.  , 5.25, 5.5 ]), 0.5)
    """
    return commonest(lags, within), len(lags) * within / span


def _echoed(time_s: FloatArray, others: Sequence[FloatArray]) -> NDArray[np.bool_]:
    """Which moments follow one of another track by a time by which many others do: the same source, heard later."""
    echoed = np.zeros(len(time_s), dtype=bool)
    for other in others:
        which, ahead = lags_s(other, time_s, -_FARTHEST_S, -_NEAREST_S)
        behind = -ahead
        steady, by_chance = steady_lags(behind, _STEADY_S, _FARTHEST_S - _NEAREST_S)
        if len(steady) > max(_ENOUGH_ECHOES, _MORE_THAN_CHANCE * by_chance):
            echoed[which[(behind >= steady[0]) & (behind <= steady[-1])]] = True
    return echoed


def _attacks(heard_s: Sequence[FloatArray], events: FloatArray) -> IntArray:
    """Which attack of each track an event is, −1 where it is not heard; shape (events, tracks)."""
    attack = np.full((len(events), len(heard_s)), -1, dtype=np.int64)
    for track, times in enumerate(heard_s):
        if len(times):
            event = np.maximum(np.searchsorted(events, times, side="right") - 1, 0)
            attack[event[::-1], track] = np.arange(len(times))[::-1]  # the first of several in one event counts
    return attack
