"""Where bars begin: which of the beats of a bar the strokes speak for as its first."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.beat_signs import CELLS, blurred_rows, main_leads
from supple_snare.timing.units import FloatArray, IntArray

_NEAR_BEATS = 0.14
"""A hit no farther from a beat is on it."""

_EARLY_BEATS = 1.0 / 12.0
"""A hit that comes so much before a beat belongs to it."""

_PLAIN = 1.0
"""A beat this much stranger than the next one, in standard deviations, is more than chance."""

WEIGHTS: Mapping[str, float] = MappingProxyType(
    {
        "low": 5.56,
        "all": -8.76,
        "low_before": -8.09,
        "first": 1.39,
        "last": 2.15,
        "enters": 3.43,
        "fill_ends": 5.82,
        "strange_before": 1.15,
        "rare_before": 3.84,
    }
)
"""How much each sign counts, in the logarithm of odds; fitted by `bench/bars.py`."""


def bar_signs(
    place: FloatArray, weight: FloatArray, lead: IntArray, centre_hz: FloatArray | None, count: int
) -> dict[str, FloatArray]:
    """Measure what speaks for each beat of the bar as its first.

    Parameters
    ----------
    place : float array, shape (n,)
        Place of each hit, in beats, in order.
    weight : float array, shape (n,)
        How much each hit counts.
    lead : int array, shape (n,)
    centre_hz : float array, shape (leads,), or None
        How low each lead sounds: the middle of its spectrum; None if nobody knows.
    count : int
        Beats a bar.

    Returns
    -------
    dict of str to float array, shape (count,)
        One figure for each of `WEIGHTS`; entry p is about the beats whose number is p modulo `count`:

        ``low``, ``all``
            Share of the hits on beats, of the lowest main lead and of all leads, that fall there.
        ``low_before``
            Share of the hits of the lowest lead that fall into the beat before.
        ``first``, ``last``, ``enters``
            Whether the first hit, the last one, and the first hits of leads fall there.
        ``fill_ends``, ``strange_before``
            How much stranger the beat before is than this one, and the one before that than the next: fills lead into
            a bar.
        ``rare_before``
            Share of the hits of leads that play little, as toms do, that fall into the beat before.
    """
    nearest = np.rint(place).astype(np.int64)
    on_beat = np.abs(place - nearest) < _NEAR_BEATS
    within = np.floor(place + _EARLY_BEATS).astype(np.int64)

    def share(beat: IntArray, of: NDArray[np.bool_]) -> FloatArray:
        told = np.bincount(beat[of] % count, weight[of], count)
        return told / told.sum() if told.any() else np.full(count, 1.0 / count)

    def at(beats: IntArray) -> FloatArray:
        return np.bincount(beats % count, minlength=count) / max(len(beats), 1)

    main = main_leads(lead)
    is_low = np.zeros(len(lead), dtype=bool) if centre_hz is None else lead == main[np.argmin(centre_hz[main])]
    enters = [nearest[on_beat & (lead == number)][:1] for number in main]
    first, strange = _strangeness(place, weight, lead, count)
    number = np.arange(2, max(len(strange) - 1, 2))
    phase = (number + first) % count
    means = np.maximum(np.bincount(phase, minlength=count), 1)
    steps = np.maximum(strange[number - 1] - strange[number] - _PLAIN, 0.0)
    wide = (strange[number - 2] - strange[np.minimum(number + 1, len(strange) - 1)]) * (count > 2)
    return {
        "low": share(nearest, on_beat & is_low),
        "all": share(nearest, on_beat),
        "low_before": share(within + 1, is_low),
        "first": at(nearest[:1]),
        "last": at(nearest[-1:]),
        "enters": at(np.concatenate(enters)),
        "fill_ends": np.bincount(phase, steps, count) / means,
        "strange_before": np.bincount(phase, wide, count) / means,
        "rare_before": share(within + 1, ~np.isin(lead, main)),
    }


def first_of_bar(signs: Mapping[str, FloatArray]) -> tuple[int, float]:
    """The beat of the bar that is most likely its first, and how sure that is, 0 to 1."""
    score = sum(weight * signs[name] for name, weight in WEIGHTS.items())
    odds = np.exp(score - np.max(score))
    return int(odds.argmax()), float(odds.max() / odds.sum())


def _strangeness(place: FloatArray, weight: FloatArray, lead: IntArray, count: int) -> tuple[int, FloatArray]:
    """The first beat, and from it on how unlike the same beat of other bars each one is, in standard deviations."""
    early = 2.0 * _EARLY_BEATS  # hits are blurred
    first, last = (int(np.floor(each + early)) for each in (place[0], place[-1]))
    bars = (last - first) // count + 1
    cells = bars * count * CELLS
    rows = blurred_rows(place - first + early, weight, lead, cells + 1)[:, :cells]
    bar = rows.reshape(len(rows), bars, count * CELLS)
    away = np.abs(bar - bar.mean(axis=1, keepdims=True)).sum(axis=0).reshape(-1, CELLS).sum(axis=1)
    inside = away[1 : last - first]  # in those at the ends the take begins and ends somewhere
    if len(inside) < 2 or not np.ptp(inside):
        return first, np.zeros(len(away))
    away = (away - inside.mean()) / inside.std()
    away[0] = 0.0
    away[last - first :] = 0.0
    return first, away
