"""Starts on which strokes of one shape agree.

A start that something covers is told from what can be seen of the rise (`starts`, `alike`), and now and then wrongly:
the click of a bass drum lies under a neighbour's bleed, a hat was struck just before. But strokes of one drum sound
alike, and two waveforms can be laid over one another far more exactly than a covered rise can be read. So each stroke
is laid over others of its track; each tells where this one starts by where it starts itself, and what most of them say
is believed.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.alike import begins_at_once, weighted_quantile
from supple_snare.sound.rises import SHAPE_RATE_HZ, SHAPE_SAMPLES, Rises
from supple_snare.timing.units import FloatArray

_BEFORE = round(0.002 * SHAPE_RATE_HZ)
_LENGTH = round(0.014 * SHAPE_RATE_HZ)
_FARTHEST = round(0.009 * SHAPE_RATE_HZ)
"""What is laid over one another, from before the start on, and how far it is shifted either way."""

_SEEN = 1.2
_PLAINLY_SEEN = 3.0
"""How far the first share of a stroke's peak stands above all else for its start to tell, and to tell in full."""

_LEAST_LIKENESS = 0.75
_LIKENESS_POWER = 3
_OWN_WORD = 0.1
"""What a stroke's own start counts although something covers it."""

_AGREE_S = 0.0003
_MOST_OF_ALL = 0.5
_LEAST_WORD = 0.1
_SURE_LIKENESS = 0.88
_SLIP_S = 0.002
"""A tone laid over itself a period later looks alike too: so far only what looks very much alike is believed."""

_LEAST_MOVE_S = 0.0004
"""Less than this is within what strokes of one drum differ by."""

_EXAMPLES = 64
_ROWS = 64


def agreed_starts(rises: Rises, start_s: FloatArray, others: FloatArray, played: NDArray[np.bool_]) -> FloatArray:
    """Starts of the strokes of one track, set right where strokes of the same shape say otherwise.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    start_s : float array, shape (n,)
        Their starts as far as each rise tells.
    others : float array, shape (n,)
        Amplitude of all else that sounds at each attack.
    played : bool array, shape (n,)
        Which attacks are strokes of this track's own drum; the others keep their starts.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    """
    first = np.rint((start_s - rises.shape_s) * SHAPE_RATE_HZ).astype(np.int64) - _BEFORE
    whole = (first >= _FARTHEST) & (first + _LENGTH + _FARTHEST <= SHAPE_SAMPLES)
    clearance = rises.heights()[:, 0, 0] / np.maximum(others, 1e-9)
    word = np.where(begins_at_once(rises), np.clip((clearance - 1.0) / (_PLAINLY_SEEN - 1.0), 0.0, 1.0), 0.0)
    examples = np.flatnonzero(played & whole & (word > 0.0) & (clearance > _SEEN))
    loud = rises.peak[:, 0] / rises.peak[:, 0].max(initial=1e-9)
    examples = examples[np.argsort(-np.minimum(clearance, 8.0)[examples] - loud[examples], kind="stable")[:_EXAMPLES]]
    agreed = start_s.copy()
    if not len(examples):
        return agreed
    cut = np.lib.stride_tricks.sliding_window_view(rises.shape, _LENGTH, axis=1)
    patterns = _at_one_loudness(cut[examples, first[examples]])
    on_grid_s = rises.shape_s + (first + _BEFORE) / SHAPE_RATE_HZ
    beside_s = (start_s - on_grid_s)[examples]
    strokes = np.flatnonzero(played & whole)
    shifts = np.arange(-_FARTHEST, _FARTHEST + 1)
    for begin in range(0, len(strokes), _ROWS):
        rows = strokes[begin : begin + _ROWS]
        laid = _at_one_loudness(cut[rows[:, None], first[rows, None] + shifts])
        likeness, shift_s = _best_shift(laid @ patterns.T)
        told_s = on_grid_s[rows, None] + shift_s + beside_s
        weight = word[examples] * np.clip((likeness - _LEAST_LIKENESS) / (1.0 - _LEAST_LIKENESS), 0.0, 1.0) ** (
            _LIKENESS_POWER
        )
        weight[rows[:, None] == examples[None, :]] = 0.0
        told_s = np.column_stack([told_s, start_s[rows]])
        weight = np.column_stack([weight, word[rows] + _OWN_WORD])
        answer_s, support = _most_say(told_s, weight)
        away_s = np.abs(answer_s - start_s[rows])
        best = np.where(weight[:, :-1] > 0.0, likeness, 0.0).max(axis=1)
        believed = (support >= np.maximum(_MOST_OF_ALL * weight.sum(axis=1), _LEAST_WORD)) & (away_s > _LEAST_MOVE_S)
        believed &= (away_s <= _SLIP_S) | (best >= _SURE_LIKENESS)
        agreed[rows] = np.where(believed, answer_s, start_s[rows])
    return np.maximum(agreed, 0.0)


def _at_one_loudness(cuts: NDArray[np.float32]) -> NDArray[np.float32]:
    energy = np.sqrt(np.sum(cuts**2, axis=-1, keepdims=True))
    return np.asarray(cuts / np.maximum(energy, 1e-9), dtype=np.float32)


def _best_shift(likeness: NDArray[np.float32]) -> tuple[FloatArray, FloatArray]:
    """Greatest likeness over the shifts and where it lies, in seconds and between samples, each (n, examples)."""
    best = np.argmax(likeness, axis=1)
    inner = np.clip(best, 1, likeness.shape[1] - 2)[:, None, :]
    around = [np.take_along_axis(likeness, inner + by, axis=1)[:, 0].astype(np.float64) for by in (-1, 0, 1)]
    bend = around[0] - 2.0 * around[1] + around[2]  # of the parabola through the three
    beside = np.clip(0.5 * (around[0] - around[2]) / np.minimum(bend, -1e-9), -1.0, 1.0)
    return likeness.max(axis=1).astype(np.float64), (inner[:, 0] + beside - _FARTHEST) / SHAPE_RATE_HZ


def _most_say(told_s: FloatArray, weight: FloatArray) -> tuple[FloatArray, FloatArray]:
    """What most of the answers in each row lie around, and how much weight speaks for it, each (n,)."""
    apart_s = np.abs(told_s[:, :, None] - told_s[:, None, :])
    support = np.einsum("nj,nij->ni", weight, np.exp(-apart_s / _AGREE_S))
    best = np.argmax(np.where(weight > 0.0, support, -1.0), axis=1)
    rows = np.arange(len(told_s))
    near = np.where(apart_s[rows, best] < 2.0 * _AGREE_S, weight, 0.0)
    return weighted_quantile(told_s, near, 0.5), support[rows, best]
