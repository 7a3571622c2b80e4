"""Starts of covered attacks: where each most likely began, by all that is seen of its rise.

What covers an attack (the ring of the stroke before, a neighbour's bleed) can make a share of its peak seem passed too
early, never too late. So each sign (a share passed in one view) lies either about as long after the start as it does in
an attack of this track that rises alike, or, where what else sounds may reach that share, anywhere before that. A drum
has several ways to rise: every well-seen attack of the track is one that the others may share, and the way that drums
rise in general stands for those of which the track shows none.

Robust likelihoods (P. J. Huber, "Robust Statistics", 1981): a sign strays as a Cauchy variable does, by more the longer
after the start it comes, and a few say nothing at all.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.arrivals import Arrivals
from supple_snare.sound.beginnings import begins_as_often, begins_at_once, earliest_starts, first_clearance
from supple_snare.sound.rises import CLEARANCE, SHARES, VIEWS, Rises
from supple_snare.timing.units import FloatArray, IntArray

_SIGNS = len(VIEWS) * len(SHARES)

_USUAL_LAG_MS = (
    (0.00, 0.06, 0.27, 1.00, 2.20),
    (0.33, 0.62, 1.07, 2.30, 4.40),
    (-0.04, 0.04, 0.29, 1.20, 2.30),
    (-0.02, 0.02, 0.29, 0.96, 1.60),
)
_STRAY_BEFORE_MS = (
    (0.05, 0.10, 0.25, 0.70, 1.20),
    (0.25, 0.35, 0.60, 1.30, 2.20),
    (0.20, 0.15, 0.30, 0.90, 1.40),
    (0.60, 0.20, 0.30, 0.70, 1.20),
)
_STRAY_AFTER_MS = (
    (0.10, 0.40, 1.30, 2.20, 4.00),
    (0.50, 1.00, 1.90, 2.80, 4.20),
    (0.20, 0.60, 1.50, 1.80, 3.50),
    (0.30, 0.90, 1.40, 1.40, 2.90),
)
"""How long after their start drums pass each share in each view: medians over 200 microphones of 38 kits, and how far
from them a tenth of these lie before and after."""

_STRAY_S, _STRAY_SHARE = 0.0001, 0.12
"""How far signs stray from those of an attack that rises alike, and how much of their time after the start more."""

_SPAN_S = 0.025
_LOST = 0.02
"""Where something covers an attack, its signs may be so much too early; so many say nothing."""

_COVERED_AT, _COVERED_WITHIN = 0.85, 0.22
_COVERED_RANGE = (0.01, 0.97)
"""What else sounds passes a share half of the time where it is so loud against that; as log of the ratio, by a logistic
function of such a width; and the least and most that it does."""

_COMES_IN = 0.5
"""So often that is bleed of which is known when it came in, where some did."""

_WORD = 0.6
"""Signs of one attack stray together: each counts so much."""

_CENTRE_STRAY_S, _CENTRE_WORD, _CENTRE_LOST, _CENTRE_SPAN_S = 0.0015, 0.5, 0.1, 0.040
"""The same of when its spectrum rises most."""

_EXAMPLES = 24
_PLAINEST = 8.0
_LOUD_SHARE = 0.1
_ANY_OTHER = 0.1
"""So many well-seen loud attacks are examples; so likely an attack rises like none of them, but as drums do."""

_FARTHEST_S = 0.020
"""So far before and after a guess an attack may have begun."""

_SOON_S, _PASSED_BEFORE = 0.003, 0.99
"""What is passed so soon after something began, that most likely passed."""

_BEYOND_DOUBT = 2.5
"""How far the first share of an attack stands above all else for its start to be seen beyond doubt."""

_ROWS = 128

_FEW = 12
_SAME_S = 0.0002
_SLIP_S = 0.002
"""So many candidates are looked at closely, and moved no farther by that."""

_Floats = NDArray[np.float32]


@dataclass(frozen=True)
class _Search:
    """Where starts are looked for: so long after a guess, at least and at most; and whether the guess itself was told
    well enough to be one."""

    least_s: float
    most_s: float
    trusts_guess: bool = False


_AT_FIRST = _Search(-_FARTHEST_S, _FARTHEST_S)
_ONCE_MORE = _Search(-_FARTHEST_S, _FARTHEST_S, trusts_guess=True)
_LATER = _Search(_SOON_S, 0.030)
"""A stroke that had no attack of its own begins so long after what had."""


def likeliest_starts(
    rises: Rises, others: FloatArray, guess_s: FloatArray, arrivals: Arrivals | None = None
) -> FloatArray:
    """Where attacks most likely began.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    others : float array, shape (n, views)
        Amplitude of all else that sounds at each attack in each view.
    guess_s : float array, shape (n,)
        Starts as far as can be told otherwise.
    arrivals : Arrivals, optional
        When neighbours' bleed came in near each, if that is known: then starts are told once more, and what was told
        before may be right.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    """
    if not len(rises):
        return guess_s
    clearance = first_clearance(rises, others[:, 0])
    plain = ((clearance > _BEYOND_DOUBT) & begins_at_once(rises)) | begins_as_often(rises)
    start_s = np.where(plain, rises.crossing_s[:, 0, 0], guess_s)
    chosen = _examples(rises, clearance, np.arange(len(rises)))
    signs, search = _Signs.of(rises, others, arrivals), _AT_FIRST if arrivals is None else _ONCE_MORE
    for those in (chosen[~plain[chosen]], np.flatnonzero(~plain)):  # first the examples themselves
        ways = _Ways.of(signs, chosen, start_s, clearance[chosen])
        start_s = _with_likeliest(signs, ways, those, chosen, start_s, search)
    return np.maximum(start_s, np.maximum(earliest_starts(rises, others[:, 0]), 0.0))


def starts_later(rises: Rises, others: FloatArray, start_s: FloatArray, own: NDArray[np.bool_]) -> FloatArray:
    """Where a stroke most likely began, if any, after something else had.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    others : float array, shape (n, views)
        Amplitude of all else that sounds at each attack in each view.
    start_s : float array, shape (n,)
        Starts; of those that are not its own, of what had begun before.
    own : bool array, shape (n,)
        Which attacks are strokes of its drum: this one rises as they do.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds: the same where nothing speaks for a later one.
    """
    rows = np.flatnonzero(~own)
    if not own.any() or not len(rows):
        return start_s
    clearance = first_clearance(rises, others[:, 0])
    chosen = _examples(rises, clearance, np.flatnonzero(own))
    signs = _Signs.of(rises, others, None)
    # What was passed by then, something else passed.
    before = signs.passed_s < (start_s + _SOON_S)[:, None]
    signs = replace(signs, covered=np.where(before, np.float32(_PASSED_BEFORE), signs.covered))
    ways = _Ways.of(signs, chosen, start_s, clearance[chosen])
    later_s = _with_likeliest(signs, ways, rows, chosen, start_s, _LATER)
    return np.where(later_s > start_s + _SLIP_S, later_s, start_s)  # to the sample it may slip without a reason


def _examples(rises: Rises, clearance: FloatArray, among: IntArray) -> IntArray:
    """The loud attacks, of some, that are seen best."""
    peak = rises.peak[among, 0]
    loud = among[peak > _LOUD_SHARE * np.percentile(peak, 95)]
    seen_well = np.minimum(clearance[loud], _PLAINEST) + rises.peak[loud, 0] / peak.max(initial=1e-9)
    return loud[np.argsort(-seen_well, kind="stable")[:_EXAMPLES]]


@dataclass(frozen=True, eq=False)
class _Signs:
    """What is seen of n attacks.

    Attributes
    ----------
    passed_s : float array, shape (n, signs)
        When each share of the peak is passed in each view.
    covered : float array, shape (n, signs)
        How likely something else passed it before.
    covered_then : float array, shape (n, signs)
        How likely that did so just then, a second.
    clear : bool array, shape (n, signs)
        Whether it stands above all else.
    centre_s : float array, shape (n,)
    """

    passed_s: FloatArray
    covered: _Floats
    covered_then: _Floats
    clear: NDArray[np.bool_]
    centre_s: FloatArray

    @classmethod
    def of(cls, rises: Rises, others: FloatArray, arrivals: Arrivals | None) -> _Signs:
        above = (rises.heights() / np.maximum(others, 1e-9)[:, :, None]).reshape(len(rises), _SIGNS)
        least, most = _COVERED_RANGE
        odds = (np.log(np.maximum(above, 1e-9)) + np.log(_COVERED_AT)) / _COVERED_WITHIN
        covered = least + (most - least) / (1.0 + np.exp(np.clip(odds, -50.0, 50.0)))
        passed_s = rises.crossing_s.reshape(len(rises), _SIGNS)
        then = np.full(passed_s.shape, 1.0 / _SPAN_S)
        if arrivals is not None:
            comes_in = np.where(arrivals.any(), _COMES_IN, 0.0)[:, None]
            then = (1.0 - comes_in) * then + comes_in * arrivals.density(passed_s)
        covered, then = covered.astype(np.float32), then.astype(np.float32)
        return cls(passed_s, covered, then, above > CLEARANCE, rises.centre_s)


@dataclass(frozen=True, eq=False)
class _Ways:
    """Ways to rise: of m examples, and last of drums in general.

    Attributes
    ----------
    lag_s : float array, shape (m + 1, signs)
        How long after the start each sign comes.
    before_s, after_s : float32 array, shape (m + 1, signs)
        How far it strays to either side.
    centre_s : float array, shape (m + 1,)
        How long after the start the spectrum rises most.
    word : float array, shape (m + 1,)
        How likely each is, as a logarithm.
    """

    lag_s: FloatArray
    before_s: _Floats
    after_s: _Floats
    centre_s: FloatArray
    word: FloatArray

    def __getitem__(self, which: slice | IntArray) -> _Ways:
        """Some of them."""
        return _Ways(*(getattr(self, field.name)[which] for field in fields(self)))

    @cached_property
    def by_sign(self) -> list[tuple[_Floats, _Floats, _Floats, _Floats]]:
        """Of each sign: lag, how far it strays before and after, and its largest density, a second; all (m + 1,)."""
        sharpness = np.float32(2.0 / np.pi) / (self.before_s + self.after_s)
        every = (self.lag_s.astype(np.float32), self.before_s, self.after_s, sharpness)
        return list(zip(*(np.ascontiguousarray(np.moveaxis(each, -1, 0)) for each in every), strict=True))

    @classmethod
    def of(cls, signs: _Signs, examples: IntArray, start_s: FloatArray, clearance: FloatArray) -> _Ways:
        general_ms = np.array([_USUAL_LAG_MS, _STRAY_BEFORE_MS, _STRAY_AFTER_MS]).reshape(3, _SIGNS)
        usual, before, after = 0.001 * general_ms
        lag_s = signs.passed_s[examples] - start_s[examples, None]
        known = signs.clear[examples] & (np.abs(lag_s) < _FARTHEST_S)
        stray_s = _STRAY_S + _STRAY_SHARE * np.abs(lag_s)
        centre_s = signs.centre_s[examples] - start_s[examples]
        seen = np.clip(0.5 * (clearance - 1.0), 0.02, 1.0) * known.mean(axis=1) + 1e-9
        return cls(
            np.vstack([np.where(known, lag_s, usual), usual]),
            np.vstack([np.where(known, stray_s, before), before]).astype(np.float32),
            np.vstack([np.where(known, stray_s, after), after]).astype(np.float32),
            np.append(centre_s, np.median(centre_s)),
            np.log(np.append((1.0 - _ANY_OTHER) * seen / seen.sum(), _ANY_OTHER)),
        )


def _with_likeliest(
    signs: _Signs, ways: _Ways, rows: IntArray, examples: IntArray, start_s: FloatArray, search: _Search
) -> FloatArray:
    """Starts, those of some attacks the likeliest about what they were: so many attacks at a time."""
    told_s = start_s.copy()
    for first in range(0, len(rows), _ROWS):
        those = rows[first : first + _ROWS]
        told_s[those] = _likeliest(signs, ways, those, examples, start_s[those], search)
    return told_s


def _likeliest(
    signs: _Signs, ways: _Ways, rows: IntArray, examples: IntArray, guess_s: FloatArray, search: _Search
) -> FloatArray:
    """Likeliest start of some attacks of those that each sign tells: by how drums rise, then, of the few likeliest so,
    by all ways, and at last to the sample by the likeliest way."""
    every, passed_s = np.arange(len(rows)), signs.passed_s[rows]
    lags_s = np.vstack([ways.lag_s[-1:], np.median(ways.lag_s, axis=0, keepdims=True)])
    told_s = np.sort(_near(guess_s, (passed_s[:, None, :] - lags_s).reshape(len(rows), -1), search), axis=1)
    again = np.diff(told_s, axis=1, prepend=-np.inf) < _SAME_S
    at_first = np.where(again, -np.inf, _log_odds(signs, rows, told_s, ways[-1:])[:, :, 0])
    few = np.argsort(-at_first, axis=1, kind="stable")[:, :_FEW]
    told_s = np.take_along_axis(told_s, few, axis=1)
    if search.trusts_guess:
        told_s = np.column_stack([guess_s, told_s])
    odds = _log_odds(signs, rows, told_s, ways)
    odds[:, :, :-1] -= np.where(rows[:, None] == examples, np.inf, 0.0)[:, None, :]  # itself tells nothing
    best = np.logaddexp.reduce(odds, axis=2).argmax(axis=1)
    way = odds[every, best].argmax(axis=1)
    told_s = _near(told_s[every, best], passed_s - ways.lag_s[way], _Search(-_SLIP_S, _SLIP_S))
    best = _log_odds(signs, rows, told_s, ways[way[:, None, None]])[:, :, 0].argmax(axis=1)
    return np.asarray(told_s[every, best])


def _near(guess_s: FloatArray, told_s: FloatArray, search: _Search) -> FloatArray:
    """What is told where it is looked for, shape (rows, 1 + told); the guess itself if that lies there or nothing
    does."""
    after_s = told_s - guess_s[:, None]
    inside = (after_s > search.least_s) & (after_s < search.most_s)
    first_s = np.where(inside, told_s, np.inf).min(axis=1)
    else_s = guess_s if search.least_s < 0.0 else np.where(np.isfinite(first_s), first_s, guess_s)
    return np.column_stack([else_s, np.where(inside, told_s, else_s[:, None])])


def _log_odds(signs: _Signs, rows: IntArray, start_s: FloatArray, ways: _Ways) -> FloatArray:
    """How likely what is seen is if attacks began then and rose each way, as logarithms, (rows, candidates, ways)."""
    late_s = signs.centre_s[rows, None, None] - start_s[:, :, None] - ways.centre_s
    centre = (1.0 - _CENTRE_LOST) / (np.pi * _CENTRE_STRAY_S * (1.0 + (late_s / _CENTRE_STRAY_S) ** 2))
    odds = np.asarray(ways.word + _CENTRE_WORD * np.log(centre + _CENTRE_LOST / _CENTRE_SPAN_S))
    after_s = (signs.passed_s[rows, None, :] - start_s[:, :, None]).astype(np.float32)
    for view in range(len(VIEWS)):
        density = np.ones(odds.shape, dtype=np.float32)
        for sign in range(view * len(SHARES), (view + 1) * len(SHARES)):
            covered, then = (each[rows, None, None, sign] for each in (signs.covered, signs.covered_then))
            density *= _density(after_s[:, :, None, sign], covered, then, *ways.by_sign[sign])
        odds += _WORD * np.log(density)
    return odds


def _density(
    after_s: _Floats,
    covered: _Floats,
    then: _Floats,
    lag_s: _Floats,
    before_s: _Floats,
    beyond_s: _Floats,
    sharpness: _Floats,
) -> _Floats:
    """How likely a sign comes so long after the start, a second; in few arrays, since there are many candidates."""
    density: _Floats = after_s - lag_s
    early = density < 0.0
    density /= np.where(early, before_s, beyond_s)
    density *= density
    density += 1.0
    np.divide((1.0 - covered) * np.float32(1.0 - _LOST) * sharpness, density, out=density)
    lost = np.float32(_LOST / _SPAN_S)
    density += np.where(early, covered * then * np.float32(1.0 - _LOST) + lost, lost)
    return density
