"""How attacks begin: whether what passes the first share of an attack's peak is plainly the attack itself."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.rises import SHARES, Rises
from supple_snare.timing.units import FloatArray

_CLEARANCE = 1.2
"""A share this much above what was heard just before is out of quiet."""

_LONGEST_STEP_S = 0.006
_SHORTEST_STEP_S = 0.001
_USUAL_PERCENT = 90
"""A step from one share to the next is a long one beyond the first; and also where it takes twice as long as the
longest ones of nine in ten attacks of its track, though never below the second."""

_TIMES_AS_LONG = 4.0
_LOUD_SHARE, _LOUD_PERCENT = 0.25, 95
"""A first step longer than so many times what loud attacks need for it, or for the rest of their rise, is a long one,
too."""

_AGREE_S = 0.0001
_NEARLY_S = 0.0005
_AROUND_S = 0.002
_OFTEN, _AGAIN = 4, 2
_DENSER = 4.0
"""Times agree within the first, and nearly within the second; one that so many other attacks share comes again, if they
lie so much denser than around, within the third; of attacks out of quiet fewer will do."""

_OTHERS_SHARE = 0.25
"""What else sounds at an attack cannot have made its peak if it is softer than so."""

_REACHED = SHARES.index(0.4)
"""Share up to which a rise is followed."""


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


def first_clearance(rises: Rises, others: FloatArray) -> FloatArray:
    """How many times as loud as all else that sounds the first share of each attack's peak is; both of shape (n,)."""
    return np.asarray(rises.heights()[:, 0, 0] / np.maximum(others, 1e-9))


def begins_at_once(rises: Rises, share: int = 0) -> NDArray[np.bool_]:
    """Whether attacks go on from one share of their peak (the first if not told) as soon as this track's attacks do.

    Where a step takes long, the shares before it were passed by something else, a neighbour's soft stroke just before.
    Where nearly all attacks are covered all first steps are long: then one that is, against how the attacks go on, must
    come again out of quiet. So must one that is long beside the others, of a drum that goes on slowly.
    """
    steps_s = np.diff(rises.crossing_s[:, 0, share : _REACHED + 1], axis=1)
    if not len(rises):
        return np.zeros(0, dtype=bool)
    most_s = np.clip(2.0 * np.percentile(steps_s.max(axis=1), _USUAL_PERCENT), _SHORTEST_STEP_S, _LONGEST_STEP_S)
    as_usual = (steps_s <= np.maximum(most_s, 2.0 * np.median(steps_s, axis=0))).all(axis=1)
    loud = rises.peak[:, 0] >= _LOUD_SHARE * np.percentile(rises.peak[:, 0], _LOUD_PERCENT)
    usual_s = min(np.median(steps_s[loud, 0]), np.median(steps_s[loud, 1:].sum(axis=1)))
    soon = steps_s[:, 0] < _SHORTEST_STEP_S + _TIMES_AS_LONG * usual_s
    return np.asarray(as_usual & (soon | _repeats(steps_s.sum(axis=1), _out_of_quiet(rises, share), _AGAIN)))


def begins_as_often(rises: Rises) -> NDArray[np.bool_]:
    """Whether attacks begin out of quiet and go on from the first share as others of their track do, to 0.1 ms, by way
    of shares between that they pass as others do, nearly.

    Then what passes the first share is the attack itself, even where a neighbour is expected to sound.
    """
    among = np.ones(len(rises), dtype=bool)
    between_s = (rises.crossing_s[:, 0, 1:_REACHED] - rises.crossing_s[:, 0, :1]).T
    nearly = np.all([_around(lag_s, among, _NEARLY_S) >= _OFTEN for lag_s in between_s], axis=0)
    again = nearly & _repeats(rises.crossing_s[:, 0, _REACHED] - rises.crossing_s[:, 0, 0], among, _OFTEN)
    return np.asarray(_out_of_quiet(rises) & begins_at_once(rises) & again)


def _out_of_quiet(rises: Rises, share: int = 0) -> NDArray[np.bool_]:
    """Whether a share of each attack's peak is louder than what was heard just before."""
    return np.asarray(rises.heights()[:, 0, share] > _CLEARANCE * rises.quiet[:, 0])


def _repeats(lag_s: FloatArray, among: NDArray[np.bool_], often: int) -> NDArray[np.bool_]:
    """Whether the time between two signs is one that comes so often again in some attacks: then both are the drum's."""
    again, around = _around(lag_s, among, _AGREE_S), _around(lag_s, among, _AROUND_S)
    return np.asarray((again >= often) & (again > _DENSER * around * (_AGREE_S / _AROUND_S)))


def _around(lag_s: FloatArray, among: NDArray[np.bool_], within_s: float) -> NDArray[np.intp]:
    """How many of the lags of some attacks lie so near to each, itself not counted."""
    ordered = np.sort(lag_s[among])
    first = np.searchsorted(ordered, lag_s - within_s)
    return np.asarray(np.searchsorted(ordered, lag_s + within_s, side="right") - first - among)
