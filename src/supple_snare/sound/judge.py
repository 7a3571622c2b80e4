"""Whether attacks were played into their microphone: the signs weighed against what is usual on the track.

Takes differ in how much bleeds and how far soft strokes fall. So each sign counts as it is and as it lies to a track's
plain strokes and its plain bleed, and small networks (two layers of tanh units, fitted by `bench/bleed.py` to
recordings of many kits, recipes and choices of microphones) tell the odds. The line between played and bleed is then
moved to the emptiest place near it: on a track of strokes and bleed there is a gap between the two.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import msgspec
import numpy as np

from supple_snare.timing.units import FloatArray

DRUMS_FILE, LINES_FILE = (Path(__file__).parent / f"judge_{of}.json" for of in ("drums", "lines"))

_ALONE_LEVEL, _ALONE_RISE, _ALONE_BIAS = 0.304, 0.306, 4.1

_FARTHEST = 4.0
"""Spreads. Some signs are nearly always the same: the odd one that is not would have a word beyond all others."""

_GUESS_WORD = 0.1
PLAIN_ODDS = 2.0
"""First guesses, either way, that are sure enough for others to be learned from and compared with."""

_PLAIN_LEAST = 4
_BLEED_PERCENT = 80
_CLEAR_OF_LINE = 0.5
_ALL = slice(None)

_SHIFTS = np.arange(-5.0, 6.01, 0.1)
_BLUR = 0.5
_USUAL_SHIFT = 3.0
_AS_GOOD_AS_EMPTY = 0.3
"""Log odds, and attacks per unit of them: how far the line may be moved, and how the emptiest place is told."""


class Member(msgspec.Struct, frozen=True):
    """One of the networks: for each layer its weights, by input and then unit, and its biases."""

    weights: list[list[list[float]]]
    biases: list[list[float]]


class Judges(msgspec.Struct, frozen=True):
    """What each of the files holds: networks fitted from different beginnings, whose mean strays less than each does.

    Attributes
    ----------
    mean, spread : list of float
        Of each input.
    members : list of Member
    """

    mean: list[float]
    spread: list[float]
    members: list[Member]

    def scaled(self, inputs: FloatArray) -> FloatArray:
        """Inputs as the networks take them: none farther from the mean than the networks know what to make of."""
        return np.clip((inputs - np.array(self.mean)) / np.array(self.spread), -_FARTHEST, _FARTHEST)

    def odds(self, inputs: FloatArray) -> FloatArray:
        """Log odds for inputs of shape (n, inputs), shape (n,)."""
        scaled = self.scaled(inputs)
        total = np.zeros(len(inputs))
        for member in self.members:
            layer = scaled
            for weights, biases in zip(member.weights[:-1], member.biases[:-1], strict=True):
                layer = np.tanh(layer @ np.array(weights) + np.array(biases))
            total += layer @ np.array(member.weights[-1])[:, 0] + member.biases[-1][0]
        return total / len(self.members)


@cache
def judges(file: Path) -> Judges:
    """Networks that come with the program: those for attacks of drums, or for notes."""
    return msgspec.json.decode(file.read_bytes(), type=Judges)


def judged_odds(signs: FloatArray, guess: FloatArray, by: Judges | None = None, usual: slice = _ALL) -> FloatArray:
    """Log odds of attacks of one track.

    Parameters
    ----------
    signs : float array, shape (n, signs)
    guess : float array, shape (n,)
        Log odds by the signs alone.
    by : Judges, optional
        By default the networks for drums that come with the program.
    usual : slice, optional
        Which of them tell what is usual on the track; by default all.

    Returns
    -------
    float array, shape (n,)
        Above 0 is played.
    """
    if not len(signs):
        return guess
    by = judges(DRUMS_FILE) if by is None else by
    inputs = network_inputs(signs, guess, usual_gap(np.array(by.mean)), usual)
    return weighed(by.odds(inputs), guess, usual)


def alone_odds(level_db: FloatArray, rise_db: FloatArray) -> FloatArray:
    """Log odds where nothing can be compared: by the level against loud ones and by how much the spectrum rises, dB."""
    return _ALONE_LEVEL * level_db + _ALONE_RISE * rise_db + _ALONE_BIAS


def weighed(odds: FloatArray, guess: FloatArray, usual: slice = _ALL) -> FloatArray:
    """Odds by the networks and the guess together, with the line between played and bleed at 0.

    The guess has a say: it knows less, and errs less where a track is like none that the networks were fitted to. Where
    most attacks that speak for themselves are doubted all odds are raised, and no line leaves most of them out.
    """
    odds = odds + _GUESS_WORD * guess
    plain = odds[usual][guess[usual] > PLAIN_ODDS]
    if len(plain) < _PLAIN_LEAST:
        return odds - emptiest_place(odds[usual])
    odds = odds + max(0.0, -float(np.median(plain)))
    most_stay = max(0.0, float(np.median(plain)) - _CLEAR_OF_LINE)
    return odds - min(emptiest_place(odds[usual]), most_stay)


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
    cost = np.log(hollow) + 0.5 * (_SHIFTS / _USUAL_SHIFT) ** 2
    return float(_SHIFTS[np.argmin(cost)])


def _plain(guess: FloatArray) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """Attacks of which the guess is sure, or the few of which it is surest."""
    plain = guess > PLAIN_ODDS
    if np.count_nonzero(plain) < _PLAIN_LEAST:
        plain = np.zeros(len(guess), dtype=bool)
        plain[np.argsort(-guess, kind="stable")[:_PLAIN_LEAST]] = True
    return plain
