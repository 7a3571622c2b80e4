"""Where sound can be joined to itself: places at which both sides of a seam are alike, in waveform and in level."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from supple_snare.sound.crossfade import fade_gains, rising_side
from supple_snare.sound.files import BLOCK_FRAMES, AnyArray, BlockReader, Recording
from supple_snare.timing.units import FloatArray, IntArray, ms_to_samples

_SEARCH_MS = 120.0
_STEP_MS = 0.0625
_UNLIKE_WEIGHT = 1.0

_LEVEL_MS, _INAUDIBLE = 10.0, 1e-7
"""Levels are taken over that much, down to −70 dB of full scale."""

_CALM_DB, _SWELL_WEIGHT = 4.0, 2.0
"""A change of level up to that is no flaw; each as much again weighs like a seam whose sides have nothing in common."""

_EVEN_DB, _EVEN_WEIGHT, _MOST_TRIED = 1.6, 2.0, 12
"""A fade may leave the level of its sides by so much; each as much again weighs the same. So many places are tried."""


@dataclass(frozen=True)
class Join:
    """One seam: where in the recording the coming side sounds alone, by how much it is shifted, and how it fits."""

    place: int
    gap: int
    change_db: float


class Matcher:
    """Compares the two sides of a seam on all tracks, reading each recording once from front to back."""

    def __init__(self, recordings: Sequence[Recording]) -> None:
        self._readers = [ForwardReader(recording) for recording in recordings]
        self._search = ms_to_samples(_SEARCH_MS, recordings[0].rate_hz)
        self._step = max(1, ms_to_samples(_STEP_MS, recordings[0].rate_hz))
        self._level = ms_to_samples(_LEVEL_MS, recordings[0].rate_hz)

    def __enter__(self) -> Matcher:
        return self

    def __exit__(self, *_error: object) -> None:
        for reader in self._readers:
            reader.close()

    def sound(self, start: int, count: int) -> AnyArray:
        """Samples of all tracks, each as mono, shape (tracks, count), float32."""
        return np.stack([reader.read(start, count) for reader in self._readers])

    def best(self, region: tuple[int, int], gap: int, fade: int) -> Join:
        """The seam in a region at which the sides differ least, counted on every track."""
        step, high = self._step, region[1]
        steps = (high - max(region[0], high - self._search)) // step
        wide = self._level
        whole = self._sides(high - steps * step - fade - wide, steps * step + fade + 2 * wide, gap)
        # Sums of squares over steps are all that the costs need.
        long = max(1, round(fade / step))
        begin = wide + fade - long * step
        coming, leaving = (side[:, begin : begin + (steps + long) * step] for side in whole)
        powers = [_in_steps(side**2, step) for side in (coming, leaving)]
        rest = _running_sum(_in_steps((coming - leaving) ** 2, step), long)
        energy = _running_sum(powers[0] + powers[1], long)
        # Relative to the loudest stretch of the region: a mismatch matters where it can be heard.
        loudest = np.maximum(energy.max(axis=1, keepdims=True), 1e-12)
        cost = np.sqrt(rest / loudest)
        total = cost.mean(axis=0) + cost.max(axis=0)
        # And for itself: where the sides of a quiet track have nothing in common, its level wavers through the fade.
        unlike = np.where(energy > _INAUDIBLE * fade, rest / np.maximum(energy, 1e-15), 0.0)
        total = total + _UNLIKE_WEIGHT * unlike.max(axis=0)
        change_db = self._change_db(powers, long)
        total = total + _SWELL_WEIGHT * np.maximum(change_db / _CALM_DB - 1.0, 0.0)
        latest_first = np.arange(steps, -1, -1)
        best = _evenest(latest_first * step, total[::-1], partial(_away_db, *whole, fade, wide, step), fade)
        return Join(high - best * step, gap, float(change_db[::-1][best]))

    def _change_db(self, powers: Sequence[FloatArray], long: int) -> FloatArray:
        """How much the level changes through the fade at each place, in the track where it changes most.

        From the level of what leaves where the fade begins to that of what comes where it ends; what either of them
        does by itself, from a window before the fade on, is no flaw. `powers` are sums of squares over steps of what
        comes and what leaves, each of shape (tracks, steps); `long` is the fade's length in steps.
        """
        window = max(2, self._level // self._step)
        beyond = window + window // 2  # levels begin one window before the fade of the first place
        coming, leaving = (
            10.0 * np.log10(_running_sum(around, window) / (window * self._step) + _INAUDIBLE)
            for around in (np.pad(power, ((0, 0), (beyond, window - window // 2)), mode="reflect") for power in powers)
        )
        begins, ends = slice(window, -long), slice(window + long, None)
        change = coming[:, ends] - leaving[:, begins]
        alone = [side[:, ends] - side[:, : -window - long] for side in (coming, leaving)]
        change -= np.clip(change, np.minimum(0.0, np.minimum(*alone)), np.maximum(0.0, np.maximum(*alone)))
        return np.asarray(np.abs(change).max(axis=0))

    def _sides(self, start: int, count: int, gap: int) -> tuple[FloatArray, FloatArray]:
        """What comes and what leaves over a stretch, each of shape (tracks, count), as float32."""
        first = start + min(0, gap)
        stretch = self.sound(first, count + abs(gap))
        return stretch[:, start - first :][:, :count], stretch[:, start + gap - first :][:, :count]


def _evenest(places: IntArray, cost: FloatArray, away_db: Callable[[int], float], fade: int) -> int:
    """Number of the cheapest place; where its fade would waver, the cheapest of some others with that counted in."""
    best, least = 0, np.inf
    cost = cost.copy()
    for _ in range(_MOST_TRIED):
        tried = int(np.argmin(cost))
        if cost[tried] >= least:
            break
        place = int(places[tried])
        whole = float(cost[tried]) + _EVEN_WEIGHT * max(away_db(place) / _EVEN_DB - 1.0, 0.0)
        if whole < least:
            best, least = tried, whole
        cost[np.abs(places - place) <= fade // 4] = np.inf
    return best


def _away_db(coming: FloatArray, leaving: FloatArray, fade: int, wide: int, step: int, place: int) -> float:
    """How far the level amid a fade lies from that of what is played there, in the track where it does most.

    Parameters
    ----------
    coming, leaving : float arrays, shape (tracks, length)
    fade, wide : int
        Length of the fade, and over how much a level is taken.
    step : int
        Levels are compared that far apart.
    place : int
        Where the fade begins, counted from `wide` on.
    """
    before, after = (side[:, place : place + fade + 2 * wide] for side in (leaving, coming))
    inside = slice(wide, wide + fade)
    gain_out, gain_in = (gain[..., 0] for gain in fade_gains(before[:, inside, None], after[:, inside, None]))
    mixed = np.concatenate(
        [before[:, :wide], before[:, inside] * gain_out + after[:, inside] * gain_in, after[:, -wide:]], axis=1
    )
    rising = np.concatenate([np.zeros(wide), rising_side(fade), np.ones(wide)])
    share = rising**2 / (rising**2 + (1.0 - rising) ** 2)
    result, played = (
        _running_sum(_in_steps(power, step), wide // step) / wide + _INAUDIBLE
        for power in (mixed**2, (1.0 - share) * before**2 + share * after**2)
    )
    return float(np.abs(10.0 * np.log10(result / played)).max())


def _in_steps(values: FloatArray, step: int) -> FloatArray:
    """Sums over each `step` columns; what is left at the end has no say."""
    steps = values.shape[1] // step
    return np.asarray(np.einsum("tks->tk", values[:, : steps * step].reshape(len(values), steps, step)))


def _running_sum(values: FloatArray, length: int) -> FloatArray:
    """Sums of `length` neighbouring columns; column k sums values k to k + length."""
    from scipy.ndimage import uniform_filter1d

    means = uniform_filter1d(values, length, axis=1)[:, length // 2 :]
    return np.maximum(means[:, : values.shape[1] - length + 1], 0.0) * length


class ForwardReader:
    """Mono reading with one block kept, for places that move forward through the file."""

    def __init__(self, recording: Recording) -> None:
        self._reader = BlockReader(recording, "float32")
        self._start = 0
        self._block: AnyArray = np.zeros(0, dtype=np.float32)

    def read(self, start: int, count: int) -> AnyArray:
        if start < self._start or start + count > self._start + len(self._block):
            self._start = start
            self._block = self._reader.read_mono(start, max(count, BLOCK_FRAMES))
        return self._block[start - self._start : start - self._start + count]

    def close(self) -> None:
        self._reader.close()
