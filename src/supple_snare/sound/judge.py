"""Whether attacks were played into their microphone: the signs weighed against what is usual on the track.

Takes differ in how much bleeds and how far soft strokes fall. So each sign counts as it is and as it lies to a track's
plain strokes and its plain bleed, and small networks (`models/attacks.json`, fitted by `bench/bleed.py` to recordings
of three generators) tell the odds. The line between played and bleed is then moved to the emptiest place near it: on a
track of strokes and bleed there is a gap between the two.
"""

from __future__ import annotations

import numpy as np

from supple_snare.sound.fitted import Fitted
from supple_snare.timing.units import FloatArray

_ALONE_LEVEL, _ALONE_RISE, _ALONE_BIAS = 0.304, 0.306, 4.1

SUFFIXES = ("", "_to_strokes", "_to_bleed")
"""Of the features of the networks: a sign as it is, less what is usual for plain strokes, and for plain bleed."""

_GUESS_WEIGHT = 0.1
"""Of the first guess in the odds: it knows less than the networks, and errs less where a track is like none they were
fitted to."""

PLAIN_ODDS = 2.0
"""First guesses, either way, that are sure enough for others to be learned from and compared with."""

_PLAIN_LEAST = 4
_BLEED_PERCENT = 80
_ALL = slice(None)

_SHIFTS = np.arange(-5.0, 6.01, 0.1)
_BLUR = 0.5
_AS_GOOD_AS_EMPTY = 0.3
"""Log odds, and attacks per unit of them: how far the line may be moved, and how the emptiest place is told."""

_USUALLY_UP, _USUALLY_DOWN = 1.0, 3.0
"""Standard deviations, in log odds, of how far the line of a take lies above and below even odds. Above, another gap
lies often, between ghost notes and loud strokes, and a line there loses all ghosts."""


def judged_odds(signs: FloatArray, guess: FloatArray, by: Fitted, usual: slice = _ALL) -> FloatArray:
    """Log odds of attacks of one track.

    Parameters
    ----------
    signs : float array, shape (n, signs)
    guess : float array, shape (n,)
        Log odds by the signs alone.
    by : Fitted
        Networks whose features are the signs with each of `SUFFIXES`.
    usual : slice, optional
        Which of them tell what is usual on the track; by default all.

    Returns
    -------
    float array, shape (n,)
        Above 0 is played.
    """
    if not len(signs):
        return guess
    inputs = network_inputs(signs, guess, usual_gap(np.array(by.mean)), usual)
    odds = by.of_columns(inputs) + _GUESS_WEIGHT * guess
    return odds - emptiest_place(odds[usual])


def alone_odds(level_db: FloatArray, rise_db: FloatArray) -> FloatArray:
    """Log odds where nothing can be compared: by the level against loud ones and by how much the spectrum rises, dB."""
    return _ALONE_LEVEL * level_db + _ALONE_RISE * rise_db + _ALONE_BIAS


def network_inputs(signs: FloatArray, guess: FloatArray, gap: FloatArray | float, usual: slice = _ALL) -> FloatArray:
    """The signs, and each less what is usual for plain strokes and for bleed, shape (n, 3 · signs).

    Plain strokes lie at least by a gap, one a sign, above the bleed where next to nothing bleeds.
    """
    those, by = signs[usual], guess[usual]
    own = np.median(those[_plain(by)], axis=0)
    bleed = np.percentile(those[_plain(-by)], _BLEED_PERCENT, axis=0)
    if np.count_nonzero(by < -PLAIN_ODDS) < _PLAIN_LEAST:
        # Where nothing bleeds, the likeliest bleed is made of strokes: it must not be told from itself.
        bleed = np.minimum(bleed, own - gap)
    return np.concatenate([signs, signs - own, signs - bleed], axis=1)


def usual_gap(mean: FloatArray) -> FloatArray:
    """By how much plain strokes and bleed differ in each sign where the inputs of the networks have such a mean."""
    _signs, to_own, to_bleed = mean.reshape(3, -1)
    return np.asarray(to_bleed - to_own)


def emptiest_place(odds: FloatArray) -> float:
    """Log odds near 0 at which the fewest attacks lie, against those on either side.

    >>> round(emptiest_place(np.array([-6.0, -5.5, -5.0, -4.8, 1.9, 2.0, 2.2, 3.0, 3.4])), 1) <= 1.0
    True
    """
    # What lies beyond the shifts counts at their edge: it makes a gap a gap.
    inside = np.clip(odds, _SHIFTS[0], _SHIFTS[-1])
    near = np.exp(-0.5 * ((_SHIFTS[:, None] - inside[None, :]) / _BLUR) ** 2)
    density = near.sum(axis=1) / (_BLUR * np.sqrt(2.0 * np.pi))
    below = np.maximum.accumulate(density)
    above = np.maximum.accumulate(density[::-1])[::-1]
    hollow = (density + _AS_GOOD_AS_EMPTY) / (np.minimum(below, above) + _AS_GOOD_AS_EMPTY)
    usual = np.where(_SHIFTS > 0.0, _USUALLY_UP, _USUALLY_DOWN)
    cost = np.log(hollow) + 0.5 * (_SHIFTS / usual) ** 2
    return float(_SHIFTS[np.argmin(cost)])


def _plain(guess: FloatArray) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """Attacks of which the guess is sure, or the few of which it is surest."""
    plain = guess > PLAIN_ODDS
    if np.count_nonzero(plain) < _PLAIN_LEAST:
        plain = np.zeros(len(guess), dtype=bool)
        plain[np.argsort(-guess, kind="stable")[:_PLAIN_LEAST]] = True
    return plain
