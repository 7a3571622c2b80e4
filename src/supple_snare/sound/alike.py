"""Starts of covered attacks, told by attacks that rise alike and can be seen from their start.

A drum has several ways to rise: with the stick or the hand, softly or hard, at the rim or in the middle. What lies
between the start and a sign that is seen (a share of the peak passed in one view) differs between these ways far more
than within one. So each attack is laid over others of its track; those that fit best where both can be seen tell when
it began.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.quantiles import median_of_known, weighted_quantile
from supple_snare.sound.rises import SHARES, Rises
from supple_snare.timing.units import FloatArray

_CLEARANCE = 1.2
_SEEN = 1.4
_PLAINLY_SEEN = 1.8
_BEYOND_DOUBT = 4.0
"""How far the first share of an attack stands above all else: enough to see its start, plainly, beyond doubt."""

_LONGEST_STEP_S = 0.006
_SHORTEST_STEP_S = 0.001
_USUAL_PERCENT = 90
"""A step from one share to the next is a long one beyond the first; and also where it takes twice as long as the
longest ones of nine in ten attacks of its track, though never below the second."""


_GUESSED = 4.0
"""The fit of an attack whose start is not seen but guessed counts so many times worse."""

_LOUD_SHARE = 0.1
_SURE_SIGNS = 3
_EXAMPLES = 96
_NEAREST = 7
_LEAST_COMMON = 2
_FEW_COMMON_S = 0.0005
"""Spread over the signs that two attacks have in common: an agreement of few is worth less."""

_AGREE_S = 0.0001
_AROUND_S = 0.002
_OFTEN = 4
_DENSER = 4.0
"""Times agree within the first; one that so many attacks share comes again, if they lie so much denser than around."""

_OTHERS_SHARE = 0.25
"""What else sounds at an attack cannot have made its peak if it is softer than so."""

_REACHED = SHARES.index(0.4)
"""Share up to which a rise is followed."""

_MOST_STRAY_S = 0.002
_GOOD_FIT_S = 0.001
_LEAST_FIT_S = 0.00002
_QUANTILE = 0.6
"""What covers an attack makes its start seem early, never late, so that the later ones of several answers are right."""

_ROWS = 512


def starts_of_alike(rises: Rises, others: FloatArray, guess_s: FloatArray) -> FloatArray:
    """Starts of attacks, each told by those it rises like.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    others : float array, shape (n, views)
        Amplitude of all else that sounds at each attack in each view.
    guess_s : float array, shape (n,)
        Starts as far as can be told otherwise; kept where no attack is alike.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    """
    if not len(rises):
        return guess_s
    heights = rises.heights()
    clear = (heights > _CLEARANCE * others[:, :, None]).reshape(len(rises), -1)
    passed_s = rises.crossing_s.reshape(len(rises), -1)
    doubtful = (heights > _CLEARANCE * rises.quiet[:, :, None]).reshape(len(rises), -1) & ~clear
    clearance = heights[:, 0, 0] / np.maximum(others[:, 0], 1e-9)
    at_once, repeated = begins_at_once(rises), begins_as_often(rises)
    seen = ((clearance > _SEEN) & at_once) | repeated
    begun_s = np.where(seen, passed_s[:, 0], guess_s)
    penalty = np.where(seen, np.maximum(_PLAINLY_SEEN / clearance, 1.0) ** 2, _GUESSED)
    chosen = _examples(rises, seen | clear[:, :_SURE_SIGNS].any(axis=1), penalty)
    start_s = guess_s.copy()
    if not len(chosen):
        return start_s
    for first in range(0, len(rises), _ROWS):
        rows = np.arange(first, min(first + _ROWS, len(rises)))
        told_s, common = _overlay(passed_s[rows], clear[rows], passed_s[chosen] - begun_s[chosen, None], clear[chosen])
        answer_s, fit_s = _middle_answer(told_s, common, doubtful[rows, None, :] & (clear | doubtful)[chosen])
        fit_s *= penalty[chosen]
        fit_s[rows[:, None] == chosen[None, :]] = np.inf
        nearest = np.argsort(fit_s, axis=1, kind="stable")[:, :_NEAREST]
        fit_s = np.take_along_axis(fit_s, nearest, axis=1)
        weight = np.where(np.isfinite(fit_s), np.maximum(fit_s, _LEAST_FIT_S) ** -2.0, 0.0)
        answer_s = weighted_quantile(np.take_along_axis(answer_s, nearest, axis=1), weight, _QUANTILE)
        start_s[rows] = np.where(fit_s.min(axis=1, initial=np.inf) < _GOOD_FIT_S, answer_s, guess_s[rows])
    start_s = np.where(((clearance > _BEYOND_DOUBT) & at_once) | repeated, passed_s[:, 0], start_s)
    return np.maximum(start_s, np.maximum(earliest_starts(rises, others[:, 0]), 0.0))


def earliest_starts(rises: Rises, others: FloatArray) -> FloatArray:
    """Before which attacks cannot have begun, in seconds, shape (n,): there was less to hear than their first share.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    others : float array, shape (n,)
        Amplitude of all else that sounds at each: where it may have made the peak, nothing is known.
    """
    own = others < _OTHERS_SHARE * rises.peak[:, 0]
    return np.where(own, rises.crossing_s[:, 0, 0], 0.0)


def begins_at_once(rises: Rises, share: int = 0) -> NDArray[np.bool_]:
    """Whether attacks go on from one share of their peak (the first if not told) as soon as this track's attacks do.

    Where a step takes long, the shares before it were passed by something else, a neighbour's soft stroke just before.
    """
    steps_s = np.diff(rises.crossing_s[:, 0, share : _REACHED + 1], axis=1)
    if not len(rises):
        return np.zeros(0, dtype=bool)
    most_s = np.clip(2.0 * np.percentile(steps_s.max(axis=1), _USUAL_PERCENT), _SHORTEST_STEP_S, _LONGEST_STEP_S)
    return np.asarray((steps_s <= np.maximum(most_s, 2.0 * np.median(steps_s, axis=0))).all(axis=1))


def begins_as_often(rises: Rises) -> NDArray[np.bool_]:
    """Whether attacks begin out of quiet and go on from the first share as others of their track do, to 0.1 ms.

    Then what passes the first share is the attack itself, even where a neighbour is expected to sound.
    """
    out_of_quiet = rises.heights()[:, 0, 0] > _CLEARANCE * rises.quiet[:, 0]
    again = _repeats(rises.crossing_s[:, 0, _REACHED] - rises.crossing_s[:, 0, 0])
    return np.asarray(out_of_quiet & begins_at_once(rises) & again)


def _repeats(lag_s: FloatArray) -> NDArray[np.bool_]:
    """Whether the time between two signs is one that comes again and again: then both are the drum's own."""
    ordered = np.sort(lag_s)

    def within(span_s: float) -> NDArray[np.intp]:
        return np.searchsorted(ordered, lag_s + span_s, side="right") - np.searchsorted(ordered, lag_s - span_s)

    again, around = within(_AGREE_S) - 1, within(_AROUND_S) - 1
    return np.asarray((again >= _OFTEN) & (again > _DENSER * around * (_AGREE_S / _AROUND_S)))


def _examples(rises: Rises, known: NDArray[np.bool_], penalty: FloatArray) -> NDArray[np.intp]:
    """Attacks that others are laid over: loud ones, first those whose start is seen best."""
    loud = rises.peak[:, 0] > _LOUD_SHARE * np.percentile(rises.peak[:, 0], 95)
    usable = np.flatnonzero(known & loud)
    return np.sort(usable[np.argsort(penalty[usable], kind="stable")[:_EXAMPLES]])


def _overlay(
    passed_s: FloatArray, clear: NDArray[np.bool_], lag_s: FloatArray, example_clear: NDArray[np.bool_]
) -> tuple[FloatArray, NDArray[np.bool_]]:
    """Start of each attack by each sign of each example, and which signs both show, (n, examples, signs)."""
    return passed_s[:, None, :] - lag_s[None], clear[:, None, :] & example_clear[None]


def _middle_answer(
    told_s: FloatArray, common: NDArray[np.bool_], doubtful: NDArray[np.bool_]
) -> tuple[FloatArray, FloatArray]:
    """Start of each attack by each example, the median over signs, and how badly the signs agree, (n, examples).

    A doubtful sign may belong to what covers the attack. Where it tells the same as the others it speaks for the
    example, else it says nothing.
    """
    count = np.count_nonzero(common, axis=2)
    enough = count >= _LEAST_COMMON
    middle = np.where(enough, median_of_known(told_s, common), 0.0)
    stray = np.where(common, np.minimum(np.abs(told_s - middle[..., None]), _MOST_STRAY_S), 0.0)
    agreeing = np.count_nonzero(doubtful & (np.abs(told_s - middle[..., None]) < _AGREE_S), axis=2)
    return middle, np.where(enough, (stray.sum(axis=2) + _FEW_COMMON_S) / np.maximum(count + agreeing, 1), np.inf)
