"""Bleed: which attacks in a microphone belong to a neighbour, judged from all tracks of the group together.

Every event of the performance has a power in every microphone. Over the take each pair of microphones shows a ratio
that it keeps whenever only the one source sounds: the lower edge of all ratios, since other sources can only add.
From these ratios follows how much of each attack its neighbours explain; what they do not explain was played there.
The approach is that of a linear mixture with non-negative sources (D. D. Lee and H. S. Seung, "Learning the parts of
objects by non-negative matrix factorization", Nature 401, 1999), with the mixing read off the take instead of fitted.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.attacks import Attacks, keep_distinct, settle_starts
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.timing.hits import nearest_index
from supple_snare.timing.units import FloatArray, frozen

_SAME_EVENT_S = 0.012
_LATE_S = 0.006
_LISTEN_BEFORE_S = 0.030
_LISTEN_GAP_S = 0.006
_LISTEN_AFTER_S = 0.022
_STRONG_SHARE = 0.06
_PURE_PERCENT = 30
_ONE_SOURCE = 0.08
"""Two microphones explain one another this well (power ratio there × ratio back) only if they hear one source."""

_EXPLAINED_MARGIN_DB = 6.0
"""How far a bleed's level strays from its usual ratio; measured with `bench/hits.py`."""

_FAINT_DB = 27.0
"""Attacks this far below the track's loud strokes are not strokes of its drum."""

_ROUNDS = 8
_ENOUGH = 8
_FARTHEST_S = 0.040
_FAR_S = 0.006
_STEADY_DELAY_S = 0.001
"""One source reaches two microphones with the same delay each time; two players who double a line do not."""


@dataclass(frozen=True, eq=False)
class Verdict:
    """What the group says of one track's attacks, arrays of shape (n,).

    Attributes
    ----------
    time_s : float array
        Starts of the attacks, with the neighbours' bleed taken into account.
    level_db : float array
        Peak levels.
    margin_db : float array
        Level of the attack over what its neighbours, and the track's own faintest strokes, explain; above 0 is played.
    """

    time_s: FloatArray
    level_db: FloatArray
    margin_db: FloatArray

    @property
    def played(self) -> NDArray[np.bool_]:
        """Which attacks were played into this microphone."""
        return self.margin_db > 0.0


def judge_bleed(attacks: Sequence[Attacks], peaks: Sequence[Peaks]) -> list[Verdict]:
    """Tell played attacks from bleed in all tracks of one group.

    Parameters
    ----------
    attacks, peaks : sequences of equal length
        One of each per track. Tracks share one timeline and one rate.

    Returns
    -------
    list of Verdict
        One per track, in the same order.
    """
    if not attacks:
        return []
    heard = [settle_starts(found, 0.0) for found in attacks]
    distance_s = _distances_s(heard)
    heard = [times - distance for times, distance in zip(heard, distance_s, strict=True)]
    events = _merge_events(heard)
    if not len(events):
        return [Verdict(frozen([]), frozen([]), frozen([])) for _ in attacks]
    power = np.stack(
        [_event_power(track, events + distance) for track, distance in zip(peaks, distance_s, strict=True)], axis=1
    )
    explained = _explained_power(power, _mixing(power, _arrival_s(heard, events)))
    verdicts = []
    for track, found in enumerate(attacks):
        mine = _event_of(events, heard[track])
        own = power[mine, track]
        # What comes late in its event may peak after the event was listened to.
        late = heard[track] - events[mine] > _LATE_S
        own = np.where(late, np.maximum(own, found.peak**2 - found.quiet**2), own)
        others = np.maximum(explained[mine, track], 1e-14)
        over_db = 10.0 * np.log10(np.maximum(own, 1e-14) / others) - _EXPLAINED_MARGIN_DB
        if distance_s[track]:
            # A far microphone hears everything late: what others heard at the same event is theirs.
            over_db = np.where(_heard_elsewhere(heard, track), np.minimum(over_db, -_EXPLAINED_MARGIN_DB), over_db)
        margin = np.minimum(over_db, _over_faintest_db(found.level_db, over_db > 0.0))
        time_s = settle_starts(found, np.sqrt(others))
        once = keep_distinct(time_s, found.peak)
        verdicts.append(Verdict(frozen(time_s[once]), frozen(found.level_db[once]), frozen(margin[once])))
    return verdicts


def _heard_elsewhere(heard: list[FloatArray], track: int) -> NDArray[np.bool_]:
    """Which attacks of a track some other track has too, distances taken off."""
    found = np.zeros(len(heard[track]), dtype=bool)
    for number, others in enumerate(heard):
        if number != track and len(others):
            found |= np.abs(others[nearest_index(others, heard[track])] - heard[track]) < _SAME_EVENT_S
    return found


def _over_faintest_db(level_db: FloatArray, candidate: NDArray[np.bool_]) -> FloatArray:
    """Level over the faintest stroke that this track's loud strokes make credible."""
    if not candidate.any():
        return np.full(len(level_db), -np.inf)
    return level_db - (np.percentile(level_db[candidate], 90) - _FAINT_DB)


def _merge_events(times: list[FloatArray]) -> FloatArray:
    """Moments at which something starts in any track, those that belong together joined to their earliest."""
    merged = np.sort(np.concatenate(times))
    if not len(merged):
        return merged
    events = [float(merged[0])]
    for time in merged.tolist():
        # Counted from the event's first moment: a dense passage must not chain into one endless event.
        if time - events[-1] > _SAME_EVENT_S:
            events.append(time)
    return np.array(events)


def _distances_s(heard: list[FloatArray]) -> list[float]:
    """How much later each track hears the performance than the earliest tracks do; 0 where that is not plain.

    A room microphone may stand 15 ms away, which would make an event of its own out of everything it hears.
    """
    distances = []
    for track, times in enumerate(heard):
        others = [other for number, other in enumerate(heard) if number != track and len(other)]
        distance = 0.0
        if len(times) >= _ENOUGH and others:
            everything = np.sort(np.concatenate(others))
            first = np.searchsorted(everything, times - _FARTHEST_S)
            behind = times - everything[np.minimum(first, len(everything) - 1)]
            behind = behind[(behind > 0.0) & (behind <= _FARTHEST_S)]
            if len(behind) > 0.6 * len(times):
                shortest = float(np.percentile(behind, 25))
                distance = shortest if shortest > _FAR_S else 0.0
        distances.append(distance)
    return distances


def _event_of(events: FloatArray, times: FloatArray) -> NDArray[np.intp]:
    """The event that each attack belongs to: the last one that began before it."""
    return np.maximum(np.searchsorted(events, times, side="right") - 1, 0)


def _event_power(peaks: Peaks, events_s: FloatArray) -> FloatArray:
    """Power that each event adds to a track: loudest moment after less loudest before, squared."""
    amplitude = peaks.amplitude()
    bins_per_s = peaks.rate_hz / BIN_FRAMES

    def loudest(first_s: float, last_s: float) -> FloatArray:
        offsets = np.arange(round(first_s * bins_per_s), round(last_s * bins_per_s) + 1)
        index = np.rint(events_s * bins_per_s).astype(np.int64)[:, None] + offsets
        inside = (index >= 0) & (index < len(amplitude))
        heard = np.where(inside, amplitude[np.clip(index, 0, len(amplitude) - 1)], 0.0)
        loud: FloatArray = heard.max(axis=1).astype(np.float64)
        return loud

    after = loudest(-0.003, _LISTEN_AFTER_S)
    before = loudest(-_LISTEN_BEFORE_S, -_LISTEN_GAP_S)
    return np.maximum(after**2 - before**2, 0.0)


def _arrival_s(heard: Sequence[FloatArray], events: FloatArray) -> FloatArray:
    """When each event arrives in each track, NaN where it is not heard; shape (events, tracks)."""
    arrival = np.full((len(events), len(heard)), np.nan)
    for track, times in enumerate(heard):
        arrival[_event_of(events, times), track] = times
    return arrival


def _mixing(power: FloatArray, arrival_s: FloatArray) -> FloatArray:
    """Power in track i per power in track j of a source that is close to j; shape (tracks, tracks), diagonal 0."""
    tracks = power.shape[1]
    ratio = np.zeros((tracks, tracks))
    for j in range(tracks):
        strong = power[:, j] > _STRONG_SHARE * np.percentile(power[:, j], 99.5)
        if np.count_nonzero(strong) < 3:
            continue
        shares = power[strong] / power[strong, j][:, None]
        ratio[:, j] = np.percentile(shares, _PURE_PERCENT, axis=0)
        for i in np.flatnonzero(ratio[:, j] <= 0.0):
            # Its bleed mostly drowns in what rings there anyway: what stood out tells how loud it can get.
            heard = shares[np.isfinite(arrival_s[strong, i]), i]
            if len(heard) >= _ENOUGH:
                ratio[i, j] = np.percentile(heard, _PURE_PERCENT / 2)
    np.fill_diagonal(ratio, 0.0)
    for i in range(tracks):
        for j in range(i + 1, tracks):
            if ratio[i, j] * ratio[j, i] > _ONE_SOURCE:
                delay, strays = _delay_s(arrival_s[:, i], arrival_s[:, j])
                if strays > _STEADY_DELAY_S or delay >= 0.0:
                    ratio[j, i] = 0.0
                if strays > _STEADY_DELAY_S or delay < 0.0:
                    ratio[i, j] = 0.0
    return ratio


def _delay_s(arrival_s: FloatArray, other_s: FloatArray) -> tuple[float, float]:
    """Median of how much later events arrive in one track than in another, and the median distance from it."""
    both = np.isfinite(arrival_s) & np.isfinite(other_s)
    if not both.any():
        return 0.0, np.inf
    delays = (arrival_s - other_s)[both]
    median = float(np.median(delays))
    return median, float(np.median(np.abs(delays - median)))


def _explained_power(power: FloatArray, mixing: FloatArray) -> FloatArray:
    """Power in each track that the sources near the other tracks account for, shape (events, tracks)."""
    source = power.copy()
    for _ in range(_ROUNDS):
        # Half steps: two loud neighbours that explain a little of one another must not swing to and fro.
        source = 0.5 * source + 0.5 * np.maximum(power - source @ mixing.T, 0.0)
    return source @ mixing.T
