"""Attacks laid over one another: which of them sound alike, and what that says of their starts.

Strokes of one drum sound alike, and two waveforms can be laid over one another far more exactly than a covered rise can
be read. So a ghost note under a neighbour's bleed is told by the strokes that it is like (`likeness`), and a start
that something covers, by those of other strokes (`agreed_starts`): the click of a bass drum lies under a neighbour's
bleed, a hat was struck just before.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.beginnings import begins_as_often, begins_at_once, earliest_starts, first_clearance
from supple_snare.sound.quantiles import weighted_quantile
from supple_snare.sound.rises import SHAPE_RATE_HZ, SHAPE_SAMPLES, Rises
from supple_snare.timing.units import FloatArray, IntArray

_BEFORE = round(0.002 * SHAPE_RATE_HZ)
_LENGTH = round(0.014 * SHAPE_RATE_HZ)
"""What is laid over one another, from before the start on."""

_EXAMPLES = 64
_ROWS = 64

_NEAR_S = 0.002
_MORE = 3
"""A likeness to one example can be chance; to so many more it is none."""

_FAR_S = 0.012
_BEYOND_S = 0.004
"""Starts may be so far off; the last of it is looked at even where the waveform that is kept ends before."""

_SEEN = 1.2
_PLAINLY_SEEN = 3.0
"""How far the first share of a stroke's peak stands above all else for its start to tell, and to tell in full."""

_LEAST_LIKENESS = 0.6
_LESS_ALIKE = 0.05
"""An example this much less like a stroke than the likest one counts a third: a drum has several ways to rise, and the
few examples of a stroke's own way must not be outvoted by many of another."""

_OWN_SHARE, _OWN_WORD = 0.6, 0.05
"""What a stroke's own start counts beside that of others seen as well, and although something covers it."""

_AGREE_S = 0.0003
_MOST_OF_ALL = 0.5
_LEAST_WORD = 0.05
_SLIP_S = 0.002
_BESIDE_S = 0.001
_LEAST_DISTINCT, _LEAST_AGREE = 0.15, 2
"""A tone laid over itself a period later looks alike too: so far off only that place is believed where a stroke is so
much more alike, as a correlation, than anywhere else farther from it than the second; one example may be by chance."""

_LEAST_MOVE_S = 0.0004
"""Less than this is within what strokes of one drum differ by."""


def likeness(rises: Rises, start_s: FloatArray, of: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray]:
    """How much attacks sound like the loudest of some attacks of their track.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    start_s : float array, shape (n,)
        Their starts, to a millisecond or two.
    of : bool array, shape (n,)
        The examples. None is compared with itself.

    Returns
    -------
    float array, shape (n,)
        Correlation with the example that it is most like; 0 where there is none.
    float array, shape (n,)
        The same with one that it is less like than three others; of fewer than eight examples, than the better half.
    """
    shapes = _Shapes(rises, start_s, _NEAR_S)
    examples = np.flatnonzero(of & shapes.whole)
    examples = examples[np.argsort(-rises.peak[examples, 0], kind="stable")[:_EXAMPLES]]
    most, more = np.zeros(len(rises)), np.zeros(len(rises))
    if len(examples) > 1:
        # Of few examples the third best would be one of another kind.
        rank = min(_MORE, (len(examples) - 2) // 2)
        for rows, curves in shapes.laid_over(np.flatnonzero(shapes.whole), examples):
            ranked = np.sort(np.where(rows[:, None] == examples[None, :], -1.0, curves.max(axis=1)), axis=1)
            most[rows], more[rows] = ranked[:, -1], ranked[:, -1 - rank]
    return most, more


def loudness(rises: Rises, start_s: FloatArray) -> FloatArray:
    """Amplitude of the waveforms of attacks over what `likeness` compares, shape (n,)."""
    first = np.rint(rises.place_in_shape(start_s)).astype(np.int64) - _BEFORE
    cuts = np.lib.stride_tricks.sliding_window_view(rises.shape, _LENGTH, axis=1)
    first = np.clip(first, 0, cuts.shape[1] - 1)
    cut = cuts[np.arange(len(rises)), first].astype(np.float64)
    return np.asarray(np.sqrt(np.mean(cut**2, axis=1)) * rises.shape_peak / 127.0)


def agreed_starts(rises: Rises, start_s: FloatArray, others: FloatArray, played: NDArray[np.bool_]) -> FloatArray:
    """Starts of the strokes of one track, set right where strokes of the same shape say otherwise.

    Each stroke is laid over others of its track; each of these tells where this one starts by where it starts itself,
    and what most of them say is believed.

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
    shapes = _Shapes(rises, start_s, _FAR_S, beyond_s=_BEYOND_S)
    clearance = first_clearance(rises, others)
    plain = np.zeros(len(rises), dtype=bool)
    plain[played] = begins_as_often(rises[played])
    plain &= np.abs(start_s - rises.crossing_s[:, 0, 0]) < _AGREE_S
    clearance = np.where(plain, np.maximum(clearance, _PLAINLY_SEEN), clearance)
    at_once = begins_at_once(rises) | plain
    word = np.where(at_once, np.clip((clearance - 1.0) / (_PLAINLY_SEEN - 1.0), 0.0, 1.0), 0.0)
    examples = np.flatnonzero(played & shapes.whole & (word > 0.0) & (clearance > _SEEN))
    loud = rises.peak[:, 0] / rises.peak[:, 0].max(initial=1e-9)
    examples = examples[np.argsort(-np.minimum(clearance, 8.0)[examples] - loud[examples], kind="stable")[:_EXAMPLES]]
    earliest_s = earliest_starts(rises, others)
    agreed = start_s.copy()
    if not len(examples):
        return agreed
    for rows, curves in shapes.laid_over(np.flatnonzero(played & shapes.whole & ~plain), examples):
        highest, at = _highest(curves)
        shift_s = shapes.shift_s(rows, examples, at)
        found = np.where(rows[:, None] == examples[None, :], 0.0, highest)
        alike = np.clip((found - _LEAST_LIKENESS) / (1.0 - _LEAST_LIKENESS), 0.0, 1.0) ** 2
        alike *= np.exp((found - found.max(axis=1, keepdims=True)) / _LESS_ALIKE)
        weight = word[examples] * alike
        weight[start_s[rows, None] + shift_s < earliest_s[rows, None] - _AGREE_S] = 0.0
        told_s = np.column_stack([start_s[rows, None] + shift_s, start_s[rows]])
        weight = np.column_stack([weight, _OWN_SHARE * word[rows] + _OWN_WORD])
        answer_s, support, near = _most_say(told_s, weight)
        away_s = np.abs(answer_s - start_s[rows])
        believed = (support >= np.maximum(_MOST_OF_ALL * weight.sum(axis=1), _LEAST_WORD)) & (away_s > _LEAST_MOVE_S)
        far = np.flatnonzero(believed & (away_s > _SLIP_S))
        believed[far] = _is_plainly_there(curves[far], highest[far], at[far], agree=near[far, :-1])
        agreed[rows] = np.where(believed, answer_s, start_s[rows])
    return np.maximum(agreed, 0.0)


class _Shapes:
    """The waveforms of attacks from just before their starts on, and the same shifted a little either way."""

    def __init__(self, rises: Rises, start_s: FloatArray, farthest_s: float, beyond_s: float = 0.0) -> None:
        self._farthest, beyond = round(farthest_s * SHAPE_RATE_HZ), round(beyond_s * SHAPE_RATE_HZ)
        place = rises.place_in_shape(start_s)
        self._first = np.rint(place).astype(np.int64) - _BEFORE + beyond
        self._beside_s = (place - np.rint(place)) / SHAPE_RATE_HZ
        last = self._first + _LENGTH + self._farthest
        self.whole: NDArray[np.bool_] = (self._first >= self._farthest) & (last <= SHAPE_SAMPLES + 2 * beyond)
        self._padded = np.pad(rises.shape, ((0, 0), (beyond, beyond))) if beyond else rises.shape

    def laid_over(self, attacks: IntArray, examples: IntArray) -> Iterator[tuple[IntArray, NDArray[np.float32]]]:
        """Some attacks at a time: which, and their correlation with each example, shifted by more and more, of shape
        (rows, shifts, examples)."""
        patterns = self._kept(examples, 0)
        patterns /= _energy(patterns)
        for begin in range(0, len(attacks), _ROWS):
            rows = attacks[begin : begin + _ROWS]
            kept = self._kept(rows, self._farthest)
            shifted = np.lib.stride_tricks.sliding_window_view(kept, _LENGTH, axis=1)
            laid = (shifted.reshape(-1, _LENGTH) @ patterns.T).reshape(*shifted.shape[:2], len(examples))
            laid /= _energy(kept)[:, :, None]
            yield rows, laid

    def _kept(self, attacks: IntArray, farthest: int) -> NDArray[np.float32]:
        """What is laid over one another, and so many samples more to either side, shape (n, samples)."""
        samples = np.arange(-farthest, _LENGTH + farthest)
        return self._padded[attacks[:, None], self._first[attacks, None] + samples].astype(np.float32)

    def shift_s(self, attacks: IntArray, examples: IntArray, at: FloatArray) -> FloatArray:
        """By how much later than it was thought attacks start, as examples do, laid over them at some of the shifts;
        shape (attacks, examples)."""
        beside_s = self._beside_s[examples] - self._beside_s[attacks, None]
        return np.asarray((at - self._farthest) / SHAPE_RATE_HZ + beside_s)


def _energy(kept: NDArray[np.float32]) -> NDArray[np.float32]:
    """Root of the energy of each `_LENGTH` samples of waveforms that follow one another, shape (n, shifts); of whole
    numbers as they are kept (`Rises.shape`), so that the sums are exact."""
    until = np.cumsum(np.pad(kept, ((0, 0), (1, 0))) ** 2, axis=1)
    return np.maximum(np.sqrt(until[:, _LENGTH:] - until[:, :-_LENGTH]), np.float32(1e-6))


def _highest(curves: NDArray[np.float32]) -> tuple[FloatArray, FloatArray]:
    """Highest value of each curve, shape (n, points, examples), and where between its points it lies."""
    top = np.argmax(curves, axis=1)[:, None, :]
    inner = np.clip(top, 1, curves.shape[1] - 2)
    around = [np.take_along_axis(curves, inner + by, axis=1)[:, 0].astype(np.float64) for by in (-1, 0, 1)]
    bend = around[0] - 2.0 * around[1] + around[2]  # of the parabola through the three
    beside = np.clip(0.5 * (around[0] - around[2]) / np.minimum(bend, -1e-9), -1.0, 1.0)
    return np.take_along_axis(curves, top, axis=1)[:, 0].astype(np.float64), inner[:, 0] + beside


def _is_plainly_there(
    curves: NDArray[np.float32], highest: FloatArray, at: FloatArray, agree: FloatArray
) -> NDArray[np.bool_]:
    """Whether attacks are far more like the examples that agree (by how much weight) where they are most like them than
    anywhere else, farther from there than a little: curves of shape (n, points, examples), all else (n, examples)."""
    beside = np.abs(np.arange(curves.shape[1])[:, None] - at[:, None, :]) <= _BESIDE_S * SHAPE_RATE_HZ
    elsewhere = np.where(beside, -1.0, curves).max(axis=1)
    distinct = np.sum(agree * (highest - elsewhere), axis=1) / np.maximum(agree.sum(axis=1), 1e-9)
    return np.asarray((distinct >= _LEAST_DISTINCT) & (np.count_nonzero(agree, axis=1) >= _LEAST_AGREE))


def _most_say(told_s: FloatArray, weight: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """What most of the answers in each row lie around, how much weight speaks for it, each (n,), and of which."""
    apart_s = np.abs(told_s[:, :, None] - told_s[:, None, :])
    support = np.einsum("nj,nij->ni", weight, np.exp(-apart_s / _AGREE_S))
    best = np.argmax(np.where(weight > 0.0, support, -1.0), axis=1)
    rows = np.arange(len(told_s))
    near = np.where(apart_s[rows, best] < 2.0 * _AGREE_S, weight, 0.0)
    return weighted_quantile(told_s, near, 0.5), support[rows, best], near
