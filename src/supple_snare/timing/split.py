"""The robust split of offsets into drift (slow), feel (what repeats every cycle) and scatter (the rest)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from supple_snare.timing.smooth_row import SmoothRow, wave_penalty
from supple_snare.timing.units import FloatArray, IntArray, frozen

_ROUNDS = 8
_FEEL_ROUNDS = 4
_OUTLIER = 4.7
"""Bisquare cut-off in robust standard deviations (P. J. Huber, "Robust Statistics", 1981: 95 % efficiency)."""

_PLACES_A_WAVE = 12
"""The drift is carried by places so close that the straight lines between them follow its wave."""

_PENALTY = wave_penalty(_PLACES_A_WAVE)

_WAVES_BARS = (3.0, 4.5, 6.5, 10.0, 15.0, 22.0, 33.0, 50.0, 75.0)
"""Lengths of waves among which the stiffness of the drift is chosen: quicker ones are feel or scatter."""

_LEAST_SPREAD_MS = 1e-3


@dataclass(frozen=True, eq=False)
class Split:
    """Parts of each offset in ms, shape (n,): offset = drift + feel + scatter."""

    drift_ms: FloatArray
    feel_ms: FloatArray
    scatter_ms: FloatArray


def split_offsets(
    offset_ms: FloatArray, time_s: FloatArray, cell: IntArray, *, bar_s: float, block: IntArray | None = None
) -> Split:
    """Split offsets into drift, feel and scatter.

    Drift is a smoothing spline over time whose stiffness is chosen by generalised cross-validation (P. Craven and
    G. Wahba, "Smoothing noisy data with spline functions", Numer. Math. 31, 1979). Feel is the mean of what is left in
    each cell, shrunk by how uncertain it is beside how much cells differ at all (C. N. Morris, "Parametric empirical
    Bayes inference", J. Am. Stat. Assoc. 78, 1983), and centred so that it never shifts the whole. Both are found in
    turn, with bisquare weights, so that a few wild strokes bend neither.

    Parameters
    ----------
    offset_ms, time_s : float array, shape (n,)
        Offsets and times of strokes, in order of time; offsets must be finite.
    cell : int array, shape (n,)
        What repeats together: place in the cycle, of one section and, where leads are told apart, of one lead.
    bar_s : float
        Length of a bar in seconds, the measure of what is slow.
    block : int array, shape (n,), optional
        Strokes whose feel has a mean of zero; all of them if None.

    Returns
    -------
    Split
    """
    count = len(offset_ms)
    if not count:
        return Split(frozen([]), frozen([]), frozen([]))
    block = np.zeros(count, dtype=np.int64) if block is None else block
    curve = _Drift(time_s / bar_s)
    weight = np.ones(count)
    feel = np.zeros(count)
    drift = np.zeros(count)
    wave = _WAVES_BARS[len(_WAVES_BARS) // 2]
    for number in range(_ROUNDS):
        if number == 2:  # the feel is roughly out of the way
            wave = curve.best_wave(offset_ms - feel, weight, _WAVES_BARS)
        elif number == 4:  # wild strokes are known
            near = _WAVES_BARS.index(wave)
            wave = curve.best_wave(offset_ms - feel, weight, _WAVES_BARS[max(near - 1, 0) : near + 2])
        drift = curve.fitted(offset_ms - feel, weight, wave)
        feel = shrunk_means(offset_ms - drift, cell, weight)
        feel -= _block_means(feel, block, weight)
        # A stroke alone in its cell agrees with itself: what counts is what the others foretell of it.
        foretold = shrunk_means(offset_ms - drift, cell, weight, without_own=True)
        weight = robust_weights(offset_ms - drift - foretold)
    return Split(frozen(drift), frozen(feel), frozen(offset_ms - drift - feel))


def robust_feel(rest_ms: FloatArray, cell: IntArray) -> tuple[FloatArray, FloatArray]:
    """The feel of each value's cell, and the weight each value had in it; rests are offsets without drift."""
    weight = np.ones(len(rest_ms))
    for _ in range(_FEEL_ROUNDS):
        weight = robust_weights(rest_ms - shrunk_means(rest_ms, cell, weight, without_own=True))
    return shrunk_means(rest_ms, cell, weight), weight


def robust_weights(rest: FloatArray) -> FloatArray:
    """Bisquare weights: near 1 for what lies like most, nothing to speak of for what is wild."""
    spread = 1.4826 * float(np.median(np.abs(rest - np.median(rest)))) if len(rest) else 0.0
    if spread < _LEAST_SPREAD_MS:
        return np.where(np.abs(rest) <= _LEAST_SPREAD_MS * _OUTLIER, 1.0, 1e-9)
    return np.asarray(np.clip(1.0 - (rest / (_OUTLIER * spread)) ** 2, 0.0, 1.0) ** 2 + 1e-9)


def shrunk_means(values: FloatArray, cell: IntArray, weight: FloatArray, *, without_own: bool = False) -> FloatArray:
    """Mean of each cell, drawn to zero as far as it is uncertain, given back for each value.

    Parameters
    ----------
    values, weight : float array, shape (n,)
    cell : int array, shape (n,)
    without_own : bool
        Leave each value out of the mean it is given: what the others would have foretold of it.

    Returns
    -------
    float array, shape (n,)
    """
    total = np.bincount(cell, weights=weight)
    sums = np.bincount(cell, weights=weight * values)
    heard = np.maximum(total, 1e-12)
    rest = values - (sums / heard)[cell]
    used = np.count_nonzero(total > 1e-6)
    noise = float(np.sum(weight * rest**2)) / max(float(weight.sum()) - used, 1.0)
    # How much cells differ beyond what noise alone would make of them.
    differ = max((float(np.sum(sums**2 / heard)) - used * noise) / max(float(weight.sum()), 1e-12), 0.0)
    doubt = noise / differ if differ > 0.0 else np.inf
    if without_own:
        foretold: FloatArray = (sums[cell] - weight * values) / np.maximum(total[cell] - weight + doubt, 1e-12)
        return foretold
    means: FloatArray = (sums / (heard + doubt))[cell]
    return means


def _block_means(values: FloatArray, block: IntArray, weight: FloatArray) -> FloatArray:
    """Weighted mean of each block, given back for each value; 0 where nothing has weight."""
    total, weights = np.bincount(block, weight * values), np.bincount(block, weight)
    means: FloatArray = np.divide(total, weights, out=np.zeros_like(total), where=weights > 0.0)[block]
    return means


class _Drift:
    """A smooth curve through values at moments counted in bars."""

    def __init__(self, bars: FloatArray) -> None:
        self._bars = bars - bars[0]

    def fitted(self, values: FloatArray, weight: FloatArray, wave_bars: float) -> FloatArray:
        """The curve at the moments of the values."""
        place, count = self._laid(wave_bars)
        row = SmoothRow(np.zeros(count), weight=1e-9)
        row.smooth(float(weight.sum()) / count * _PENALTY, broken=())
        row.tie(place, values, weight)
        return np.interp(place, np.arange(count), row.solved())

    def best_wave(self, values: FloatArray, weight: FloatArray, waves: Sequence[float]) -> float:
        """Of some stiffnesses the one that foretells best, by generalised cross-validation."""
        scores = []
        total = float(weight.sum())
        for wave in waves:
            # Freedom of the curve, as if the values lay evenly.
            _, count = self._laid(wave)
            bend = (2.0 - 2.0 * np.cos(np.pi * np.arange(count) / count)) ** 2
            freedom = float(np.sum(1.0 / (1.0 + _PENALTY * bend)))
            rest = values - self.fitted(values, weight, wave)
            left = max(1.0 - 1.2 * freedom / total, 1e-3)
            scores.append(float(np.sum(weight * rest**2)) / total / left**2)
        return waves[int(np.argmin(scores))]

    def _laid(self, wave_bars: float) -> tuple[FloatArray, int]:
        """Where the values lie among the places of a wave, and how many of those there are."""
        place = self._bars * (_PLACES_A_WAVE / wave_bars)
        return place, int(place[-1]) + 3
