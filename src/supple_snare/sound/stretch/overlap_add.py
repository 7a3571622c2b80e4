"""Overlap-add with lags that all tracks share: so much is repeated or left out after which a sound repeats itself.

A change of length is split into a few lags that together make it up. Each is taken where all tracks are most alike to
themselves that much later: lags then follow the period of a note by themselves, and places avoid whatever changes.
(D. Malah, IEEE Trans. Acoustics, Speech and Signal Processing 27(2), 1979; W. Verhelst, M. Roelands, ICASSP 1993.)
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from supple_snare.sound.files import AnyArray
from supple_snare.sound.transforms import fast_length, sound_of, spectrum_of
from supple_snare.timing.units import FloatArray, IntArray

MOST_SPLICES = 4
_STRAY_S = 0.014
"""A lag may be so much more or less than its even part of the change: a period of 70 Hz and up fits in between."""

_PLACES_APART_S = 0.004
_SPLICE_COST = 0.02
"""A further splice has to make the sides more alike by that; 1 stands for sides that have nothing in common."""

_INAUDIBLE = 1e-7
"""Mean squares below that (−70 dB of full scale) are alike whatever they are."""


@dataclass(frozen=True)
class Splice:
    """A place where sound is repeated or left out.

    Attributes
    ----------
    place : int
        Sample of the recording from which the side that comes sounds alone.
    lag : int
        How much is repeated; below zero, how much is left out.
    unlike : float
        How little both sides of the fade have in common, 0 the same, 1 unrelated; of the track where it is most.
    """

    place: int
    lag: int
    unlike: float


def find_splices(sound: AnyArray, change: int, fade: int, rate_hz: int) -> list[Splice]:
    """Split a change of length into splices.

    Parameters
    ----------
    sound : float array, shape (tracks, samples)
        The part of the recordings that may be read for it.
    change : int
        How much longer it shall be, in samples.
    fade : int
        Length of each crossfade.
    rate_hz : int

    Returns
    -------
    list of Splice
        In order of place, counted from the first sample of `sound`; empty if there is no room.
    """
    best: list[Splice] = []
    least = np.inf
    for count in range(1, MOST_SPLICES + 1):
        found = _split(sound, change, fade, rate_hz, count)
        if found is None:
            continue
        cost = sum(each.unlike for each in found) + _SPLICE_COST * count
        if cost < least:
            best, least = found, cost
    return best


def _split(sound: AnyArray, change: int, fade: int, rate_hz: int, count: int) -> list[Splice] | None:
    """The best splices, one in each of `count` equal parts of the sound."""
    even, stray = change / count, round(_STRAY_S * rate_hz) if count > 1 else 0
    lags = np.arange(int(np.floor(even)) - stray, int(np.ceil(even)) + stray + 1) if count > 1 else np.array([change])
    edges = np.linspace(0, sound.shape[1], count + 1).astype(np.int64)
    tables = []
    for begin, end in itertools.pairwise(edges.tolist()):
        places = _places(begin, end, lags, fade, round(_PLACES_APART_S * rate_hz))
        if not len(places):
            return None
        unlike = _unlike(sound, places, lags, fade)
        fits = (places[:, None] + np.maximum(lags, 0) <= end) & (places[:, None] - fade + np.minimum(lags, 0) >= begin)
        unlike = np.where(fits, unlike, np.inf)
        which = np.argmin(unlike, axis=0)
        tables.append((places[which], unlike[which, np.arange(len(lags))]))
    chosen = _summing_to(change, lags, [table[1] for table in tables])
    if chosen is None:
        return None
    return [
        Splice(int(places[lag]), int(lags[lag]), float(unlike[lag]))
        for (places, unlike), lag in zip(tables, chosen, strict=True)
    ]


def _places(begin: int, end: int, lags: IntArray, fade: int, step: int) -> IntArray:
    """Where a splice of the lag nearest to none may stand between two samples."""
    nearest = int(lags[np.argmin(np.abs(lags))])
    return np.arange(end - max(0, nearest), begin + fade - min(0, nearest) - 1, -step)


def _unlike(sound: AnyArray, places: IntArray, lags: IntArray, fade: int) -> FloatArray:
    """How little the sides of a fade have in common, at each place and lag, shape (places, lags)."""
    low, span = int(lags[0]), len(lags)
    around = fade + int(np.abs(lags).max())
    padded = np.pad(sound, ((0, 0), (around, around)))
    first = places + around - fade
    views = np.lib.stride_tricks.sliding_window_view(padded, fade + span - 1, axis=1)
    leaving = views[:, first + low]
    coming = np.lib.stride_tricks.sliding_window_view(padded, fade, axis=1)[:, first]
    size = fast_length(fade + span - 1)
    scale = np.sqrt(size)
    shared = scale * sound_of(spectrum_of(leaving, size) * np.conj(spectrum_of(coming, size)), size)[..., :span]
    running = np.cumsum(np.pad(leaving.astype(np.float64) ** 2, ((0, 0), (0, 0), (1, 0))), axis=-1)
    power_out = running[..., fade : fade + span] - running[..., :span]
    power_in = np.sum(coming.astype(np.float64) ** 2, axis=-1)[..., None]
    rest = np.maximum(power_out + power_in - 2.0 * shared, 0.0)
    total = power_out + power_in
    return np.where(total > _INAUDIBLE * fade, rest / np.maximum(total, 1e-15), 0.0).max(axis=0)


def _summing_to(change: int, lags: IntArray, costs: list[FloatArray]) -> list[int] | None:
    """Which lag to take in each part so that they sum to the change and cost least, by dynamic programming."""
    low = int(lags[0])
    # total[k] is the least cost at which the parts so far sum to k plus as often the lowest lag.
    total, came = costs[0], []
    for cost in costs[1:]:
        longer = np.full(len(total) + len(cost) - 1, np.inf)
        choice = np.zeros(len(longer), dtype=np.int64)
        for number, own in enumerate(cost.tolist()):
            place = slice(number, number + len(total))
            is_less = total + own < longer[place]
            longer[place][is_less] = total[is_less] + own
            choice[place][is_less] = number
        came.append(choice)
        total = longer
    rest = change - low * len(costs)
    if not 0 <= rest < len(total) or not np.isfinite(total[rest]):
        return None
    chosen = []
    for choice in reversed(came):
        number = int(choice[rest])
        chosen.append(number)
        rest -= number
    return [rest, *reversed(chosen)]
