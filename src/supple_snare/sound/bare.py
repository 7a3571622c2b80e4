"""Attacks bared: the waveform of each without what the neighbours' strokes put into its microphone.

From one drum to a neighbour's microphone the sound takes the same ways at every stroke, so that one short filter turns
what the drum's own microphone hears into what the neighbour hears (B. Widrow et al., "Adaptive noise cancelling:
principles and applications", Proc. IEEE 63, 1975). It is learned from the strokes that surely only bleed in, and what
it foretells of any other is taken off. Under the bleed of a bass drum a ghost note comes out, which no level tells.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.judge import PLAIN_ODDS
from supple_snare.sound.rises import SHAPE_RATE_HZ, SHAPE_SAMPLES, Rises, packed
from supple_snare.timing.hits import nearest_index
from supple_snare.timing.units import FloatArray, IntArray, frozen

_TAPS = round(0.0096 * SHAPE_RATE_HZ)
"""Length of the filters: the straight way from drum to drum takes 1 to 5 ms, by the nearest walls a little more."""

_TOGETHER_S = 0.012
"""Attacks in two microphones no farther apart are one stroke's, as far as may be."""

_ALONE_S = 0.02
"""Filters are learned from strokes that have no third drum so near."""

_EXAMPLES, _FEWEST = 32, 4
_BEFORE, _AFTER = round(0.003 * SHAPE_RATE_HZ), round(0.018 * SHAPE_RATE_HZ)
"""What of an attack is foretold while filters are learned, around its start."""

_ALL, _NONE, _EVEN_ONES, _ODD_ONES = slice(None), slice(0), slice(0, None, 2), slice(1, None, 2)
_LEARNED = ((_ALL, _NONE), (_ODD_ONES, _EVEN_ONES), (_EVEN_ONES, _ODD_ONES))
"""From which examples each filter is learned, and which of them it foretells; by the first, all that is no example."""

_MOST_LEFT = 0.8
"""If so much of the power of examples is left that a filter was not learned from, it foretells nothing: what was taken
for bleed were strokes."""

_RIDGE = 1e-2
_EVEN = 0.1
"""Strokes count alike, but for those far below the usual one."""

_ROWS = 256
_ROOM = 280
_PADDED = SHAPE_SAMPLES + 2 * _ROOM


@dataclass(frozen=True, eq=False)
class Heard:
    """What one microphone of a group hears.

    Attributes
    ----------
    rises : Rises
        n attacks.
    start_s : float array, shape (n,)
    guess : float array, shape (n,)
        Log odds of having been played into this microphone.
    is_close : bool
        Whether it has a drum of its own.
    """

    rises: Rises
    start_s: FloatArray
    guess: FloatArray
    is_close: bool


def bare_attacks(heard: Sequence[Heard], track: int) -> Rises:
    """The attacks of one microphone with their waveforms bared; where nothing can be foretold they stay as they are.

    Parameters
    ----------
    heard : sequence of Heard
        One a microphone, on one timeline; no two of one drum.
    track : int
    """
    mine = heard[track]
    drums = [each for number, each in enumerate(heard) if number != track and each.is_close]
    ways = [_Way(each, mine) for each in drums if np.any(each.guess > 0.0)] if len(mine.start_s) else []
    alone = np.sum([way.near for way in ways], axis=0) == 1
    known = [way for way in ways if way.learn(np.flatnonzero(way.plain & alone & (mine.guess < -PLAIN_ODDS)))]
    if not known:
        return mine.rises
    shape, peak = mine.rises.shape.copy(), mine.rises.shape_peak.copy()
    for rows in np.array_split(np.arange(len(shape)), -(-len(shape) // _ROWS)):
        shape[rows], peak[rows] = packed(mine.rises.waves(rows) - sum(way.foretold(rows) for way in known))
    return replace(mine.rises, shape=frozen(shape, np.int8), shape_peak=frozen(peak))


class _Way:
    """The way by which the sound of a neighbour's drum comes into a microphone."""

    def __init__(self, drum: Heard, mine: Heard) -> None:
        own = np.flatnonzero(drum.guess > 0.0)
        self._drum, self._mine = drum, mine
        self._stroke = own[nearest_index(drum.start_s[own], mine.start_s)]
        apart_s = np.abs(drum.start_s[self._stroke] - mine.start_s)
        self._together = apart_s < _TOGETHER_S
        # Which attacks sound near one of its strokes, and with a plain one.
        self.near: NDArray[np.bool_] = apart_s < _ALONE_S
        self.plain: NDArray[np.bool_] = self._together & (drum.guess[self._stroke] > PLAIN_ODDS)
        self._filters = np.zeros((3, _PADDED // 2 + 1), dtype=np.complex128)
        self._filter_of = np.zeros(len(mine.start_s), dtype=np.int64)

    def learn(self, examples: IntArray) -> bool:
        """Learn it from attacks that are this drum's alone; whether they are enough."""
        rises = self._mine.rises
        first = np.rint(rises.place_in_shape(self._mine.start_s)).astype(np.int64) - _BEFORE
        is_whole = (first >= 0) & (first + _BEFORE + _AFTER <= SHAPE_SAMPLES)
        examples = examples[is_whole[examples]]
        examples = examples[np.argsort(-rises.shape_peak[examples], kind="stable")[:_EXAMPLES]]
        if len(examples) < _FEWEST:
            return False
        place = first[examples, None] + np.arange(_BEFORE + _AFTER)
        heard = np.take_along_axis(rises.waves(examples), place, axis=1)
        sound = np.fft.irfft(self._spectra(examples), _PADDED, axis=1)
        lagged = np.lib.stride_tricks.sliding_window_view(sound, _TAPS, axis=1)[:, :, ::-1]
        played = lagged[np.arange(len(examples))[:, None], _ROOM + 1 - _TAPS + place]
        power = np.mean(played[:, :, 0] ** 2, axis=1)
        even = 1.0 / np.sqrt(power + _EVEN * np.median(power) + 1e-20)
        played, heard = played * even[:, None, None], heard * even[:, None]
        left = np.zeros(len(examples))
        for number, (those, foretold) in enumerate(_LEARNED):
            taps = _least_squares(played[those].reshape(-1, _TAPS), heard[those].reshape(-1))
            self._filters[number] = np.fft.rfft(taps, _PADDED)
            left[foretold] = np.mean((heard[foretold] - played[foretold] @ taps) ** 2, axis=1)
            self._filter_of[examples[foretold]] = number
        return bool(np.median(left / np.maximum(np.mean(heard**2, axis=1), 1e-20)) <= _MOST_LEFT)

    def foretold(self, attacks: IntArray) -> FloatArray:
        """What the drum makes of some attacks, shape (n, SHAPE_SAMPLES); nothing of those without its strokes."""
        made = np.zeros((len(attacks), SHAPE_SAMPLES))
        mine = self._together[attacks]
        spectra = self._spectra(attacks[mine]) * self._filters[self._filter_of[attacks[mine]]]
        made[mine] = np.fft.irfft(spectra, _PADDED, axis=1)[:, _ROOM : _ROOM + SHAPE_SAMPLES]
        return made

    def _spectra(self, attacks: IntArray) -> NDArray[np.complex128]:
        """What the drum's own microphone hears with some attacks, moved to where their waveforms begin."""
        rises, strokes = self._drum.rises, self._stroke[attacks]
        waves = np.pad(rises.waves(strokes), ((0, 0), (_ROOM, _ROOM)))
        later = (rises.centre_s[strokes] - self._mine.rises.centre_s[attacks]) * SHAPE_RATE_HZ
        turn = np.exp(-2j * np.pi * np.fft.rfftfreq(_PADDED) * np.clip(later, -_ROOM, _ROOM)[:, None])
        return np.asarray(np.fft.rfft(waves, axis=1) * turn)


def _least_squares(columns: FloatArray, values: FloatArray) -> FloatArray:
    """How much of each column makes the values best, drawn a little to zero."""
    squares = columns.T @ columns
    doubt = _RIDGE * np.trace(squares) / len(squares) + 1e-12
    return np.asarray(np.linalg.solve(squares + doubt * np.eye(len(squares)), columns.T @ values))
