"""Sources: what each microphone of a group hears of each drum, learned from the take.

Each attack adds some amplitude to every microphone in every band. Over the take a drum shows one pattern of these: much
in its own microphone, less in the others, duller with distance. With one pattern a drum, the whole take is their
non-negative mixture (D. D. Lee and H. S. Seung, "Algorithms for non-negative matrix factorization", NIPS 13, 2000, with
the divergence that counts amplitudes). The patterns begin from the strokes in which one microphone stands out most, so
that each belongs to a microphone from the start; what has no microphone of its own (hats, cymbals) begins from what the
close microphones' sources leave unexplained in the others. An overhead hears a bass drum as loud as anything: a source
that makes up more of another microphone than of its own was learned in the wrong place, and goes where it belongs.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.events import SAME_EVENT_S, Events, rising, steady_lags
from supple_snare.sound.files import AnyArray
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.timing.units import FloatArray, IntArray, amplitude_to_db, frozen

_LEARN_ROUNDS = 12
_FIRST_WORD = 20.0
"""What a pattern begins from counts like so many loud strokes: that of a tom struck nine times would become a hat's."""

_STEADY_DB = 3.0
"""Bleed is as loud from stroke to stroke as the drum itself, within such a spread; what differs more is another player
who strikes along, and counts less."""


_SOLVE_ROUNDS = 60
_ROWS = 384
_TINY = 1e-9
_SILENT = 1e-6
_FAINT = 1e-2
_NEVER = 1e9

_FEWEST = 3
_CLEAREST_SHARE = 0.6
"""A pattern is told by the clearest events that a microphone claims, by so many at least."""

_AS_CLEAR, _CLEAR = 0.6, 2.5
"""What stands out so much less than its clearest events, or than what is clear anyway, is no claim: of what has no
microphone of its own (hats) some microphone is always the nearest, and hears more of it than of a tom struck ten times.
"""

_CLAIMED_LOUD = 0.5
"""What a microphone claims must be so loud in it: of softer events many are hats, which it may hear best by chance."""

_UNEXPLAINED_SHARE = 0.7
"""Where close sources leave so much of what a far microphone hears, something else was struck."""

_PURE_QUANTILE = 0.35
"""Other drums only add: the lower side of what is heard along with a drum is the drum's own."""

_PERHAPS_CLOSE = -5.0
_LIKELY_CLOSE = -2.0
"""Closeness above which a microphone counts as one with a drum of its own while patterns are learned: when little is
known yet (a tom struck eight times is easily overheard), and when they are learned for good."""

_PLAINLY_CLOSE = 3.0
_HARDLY_CLOSE = 2.0
"""A microphone closer than the one keeps a source that seems another's; one less close than the other, looked at once
more, claims none if it still does."""

_SAME_PATTERN = 0.75
_HEARD_SHARE = 0.5
_AS_LOUD_SHARE = 0.9
"""Cosine above which two patterns are one source's; a source belongs to no microphone that hears so little of it, and
one that a microphone hears so loud may be its own."""

_FAR_CLOSENESS = -6.0
"""Of a microphone so far away that its distance shows."""

_PLAINLY_APART_DB = 6.0
_APART_DB = (-5.0, 15.0)
"""Of the drums that a microphone hears, its own stands out by so much at least where that alone shows it; and the least
and most that counts."""

_FIRST_MS, _FIRST_AMONG, _FIRST_LOUDEST, _FIRST_DB = 0.25, 60, 5, (-25.0, 0.0)
"""All others hear a drum so much later than its own microphone; of so many loud events the loudest so heard count."""

_ALONE_DB = 12.0
"""What a microphone without others to compare with is taken to stand above them."""


@dataclass(frozen=True, eq=False)
class Sources:
    """What was learned of a group of m microphones. Source k is the one that microphone k hears best.

    Attributes
    ----------
    distance_s : float array, shape (m,)
        How much later each microphone hears the performance.
    loudness : float array, shape (m,)
        Amplitude of each microphone's loud moments; all else is relative to it.
    pattern : float array, shape (m, BANDS, m)
        Amplitude in each microphone and band for one unit of each source in its own microphone.
    usual_pattern : float array, shape (m, BANDS, m)
        The same, learned from the take at large rather than from the clearest strokes of each source: that makes a
        mixture of a drum that is seldom struck, but tells best how loud the bleed is.
    closeness : float array, shape (m,)
        How plainly each microphone has a drum of its own, as log odds: nobody hears its loudest events earlier, and
        some loud ones all others later; the other sources do not explain them; and no other drum is as loud in it,
        against how loud drums bleed elsewhere. Weights from a logistic regression on 1,800 microphones; that of what is
        heard first was set on 1,300 others.
    """

    distance_s: FloatArray
    loudness: FloatArray
    pattern: FloatArray
    usual_pattern: FloatArray
    closeness: FloatArray

    def heard(
        self, levels: Sequence[BandLevels], time_s: FloatArray, until_s: FloatArray | float = np.inf
    ) -> FloatArray:
        """Relative amplitude that starts in each microphone and band at moments, shape (n, m, BANDS).

        What starts at `until_s` (a number, or one a moment) is not counted.
        """
        return rising(levels, time_s, self.distance_s, until_s) / self.loudness[None, :, None]

    def left_over(self, heard: FloatArray, source: int) -> FloatArray:
        """Amount of a source in what its own microphone hears beyond what the others foretell there, shape (n,)."""
        left = np.maximum(heard[:, source] - _foretold(heard, self.pattern, source, self._rivals(source)), 0.0)
        shape = self.pattern[source, :, source]
        amount: FloatArray = left @ shape / max(float(shape @ shape), _TINY)
        return amount

    def worth(self, heard: FloatArray, strength: FloatArray, source: int) -> FloatArray:
        """How much worse all that is heard would be explained without a source, as a divergence, shape (n,)."""
        rivals = self.pattern[:, :, self._rivals(source)]
        without, whole = _mixed(strengths(heard, rivals), rivals), _mixed(strength, self.pattern)
        return _divergence(heard, without) - _divergence(heard, whole)

    def _rivals(self, source: int) -> IntArray:
        """The other sources, but for the same one learned twice by a microphone that is less plainly close."""
        as_loud = _sizes(self.pattern)[source] > _AS_LOUD_SHARE
        same = as_loud & (_likeness(self.pattern)[source] > _SAME_PATTERN) & (self.closeness < self.closeness[source])
        same[source] = True
        return np.flatnonzero(~same)


def learn_sources(events: Events) -> Sources:
    """Learn the sources of a take from all that starts in its microphones."""
    closeness, claims = _learn_closeness(events)
    first, steadiness = _first_patterns(events, claims > _LIKELY_CLOSE)
    return Sources(
        distance_s=events.distance_s,
        loudness=events.loudness,
        pattern=frozen(_refine(events.heard, first, _FIRST_WORD * steadiness)),
        usual_pattern=frozen(_refine(events.heard, first)),
        closeness=frozen(closeness),
    )


def closeness_of(events: Events) -> FloatArray:
    """`Sources.closeness` alone, which takes a third of the time."""
    return _learn_closeness(events)[0]


def _learn_closeness(events: Events) -> tuple[FloatArray, FloatArray]:
    """How plainly each microphone has a drum of its own, and how plainly it may claim a source, log odds, (m,)."""
    heard, loud, distance_s = events.heard, events.loud, events.distance_s
    loudest = [events.loudest(microphone) for microphone in range(len(distance_s))]
    # Who hears it first is a matter of real time: a far microphone's distance is not taken off.
    loud_ones = [events.by_level(number, _FIRST_AMONG) for number in range(len(distance_s))]
    behind_ms = [_behind_ms(events, those, number) for number, those in enumerate(loud_ones)]
    earlier = np.array([_share_earlier(each[: len(those)]) for each, those in zip(behind_ms, loudest, strict=True)])
    heard_loud = [loud[those, number] for number, those in enumerate(loud_ones)]
    first_db = np.array([_first_db(*each) for each in zip(heard_loud, behind_ms, strict=True)])
    standing_db = np.array([_standing_db(loud[those], number) for number, those in enumerate(loudest)])
    closeness = np.where(distance_s > 0.0, _FAR_CLOSENESS, standing_db - 7.5 * earlier + 2.5)
    microphones, astray = np.arange(len(distance_s)), np.zeros(len(distance_s), dtype=bool)
    while True:  # where one of two overheads no longer claims the bass drum, the other may
        first, _steadiness = _first_patterns(events, closeness > _PERHAPS_CLOSE)
        pattern = _refine(heard, first)
        owner = _owners(heard, pattern)
        strayed = (owner != microphones) & (closeness < _PLAINLY_CLOSE) & ~astray
        if not strayed.any():
            break
        astray |= strayed
        claimed = np.isin(microphones, owner[strayed]) & (distance_s == 0.0)
        closeness = np.where(claimed, np.maximum(closeness, 0.0), np.where(strayed, _FAR_CLOSENESS, closeness))
    # With patterns at hand there is a better sign: what a drum adds to its own microphone no other source explains.
    above_db = np.array([_above_others_db(heard[those], pattern, owner, mic) for mic, those in enumerate(loudest)])
    likely = np.flatnonzero(closeness > _PERHAPS_CLOSE)
    apart_db = np.array([_apart_db(loud, loudest, np.setdiff1d(likely, mic), mic) for mic in range(len(loudest))])
    bleed = _of_the_others(apart_db, np.flatnonzero(distance_s == 0.0))
    weighed = 0.92 * above_db - 5.1 * earlier + 0.2 * first_db + 0.48 * apart_db - 0.6 * bleed - 1.3
    # Two players who double a line explain one another, but neither is heard with a steady delay by the other.
    doubled = 3.0 - 20.0 * earlier - 2.0 * np.maximum(_PLAINLY_APART_DB - apart_db, 0.0)
    closeness = np.where(distance_s > 0.0, _FAR_CLOSENESS, np.maximum(weighed, doubled))
    lost = astray & (owner != microphones) & (closeness < _HARDLY_CLOSE)
    claims = np.where(lost, _FAR_CLOSENESS, closeness)
    return closeness, claims


def strengths(heard: FloatArray, pattern: FloatArray) -> FloatArray:
    """Amounts of sources with some patterns, (m, BANDS, sources), that explain what is heard, (n, m, BANDS)."""
    if not pattern.shape[2]:
        return np.zeros((len(heard), 0))
    flat = pattern.reshape(-1, pattern.shape[2]) + _TINY
    return _solve(heard.reshape(len(heard), len(flat)), flat, _SOLVE_ROUNDS)


def _standing_db(loud: FloatArray, microphone: int) -> float:
    """How far a microphone stands above all others in its loudest events, of which it must in a quarter."""
    others = np.delete(loud, microphone, axis=1)
    if not others.size:
        return _ALONE_DB
    ahead_db = amplitude_to_db(loud[:, microphone]) - amplitude_to_db(np.maximum(others.max(axis=1), 1e-3))
    return float(np.percentile(ahead_db, 75))


def _above_others_db(heard: FloatArray, pattern: FloatArray, owner: IntArray, microphone: int) -> float:
    """How far a microphone's loudest events lie above what the other microphones' sources make of the rest.

    A source that makes up more of this microphone than of its own does not count as another's.
    """
    others = np.delete(np.arange(pattern.shape[0]), microphone)
    sources = others[owner[others] != microphone]
    if not len(others) or not len(heard):
        return _ALONE_DB
    expected = _foretold(heard, pattern, microphone, sources)
    size = np.sqrt(np.sum(heard[:, microphone] ** 2, axis=1))
    above = amplitude_to_db(size) - amplitude_to_db(np.maximum(np.sqrt(np.sum(expected**2, axis=1)), 1e-3))
    return float(np.percentile(above, 90))


def _apart_db(loud: FloatArray, loudest: Sequence[IntArray], rivals: IntArray, microphone: int) -> float:
    """How far a microphone's loudest events lie above the loudest ones of any other microphone, as it hears them.

    That of a drum which never plays hears what has no microphone of its own first and best, and all else as loud.
    """
    level_db = amplitude_to_db(np.maximum(loud[:, microphone], _FAINT))
    own_db = np.median(level_db[loudest[microphone]]) if len(loudest[microphone]) else 0.0
    theirs = [np.setdiff1d(loudest[rival], loudest[microphone]) for rival in rivals]
    apart_db = [own_db - np.median(level_db[those]) for those in theirs if len(those) >= _FEWEST]
    return float(np.clip(min(apart_db, default=_APART_DB[1]), *_APART_DB))


def _of_the_others(values: FloatArray, counted: IntArray) -> FloatArray:
    """The median of all other values that count, for each value; of one that has no others, itself."""
    others = [counted[counted != number] for number in range(len(values))]
    return np.array([np.median(values[those if len(those) else [number]]) for number, those in enumerate(others)])


def _behind_ms(events: Events, those: IntArray, microphone: int) -> FloatArray:
    """How much later than a microphone all others hear some events, shape (those, m), NaN where unknown."""
    behind_s = np.stack([events.behind_s(those, microphone, other) for other in range(len(events.distance_s))], axis=1)
    behind_s[:, microphone] = np.nan
    return 1000.0 * behind_s


def _first_db(loud: FloatArray, behind_ms: FloatArray) -> float:
    """How loud a microphone hears what it hears before all others do, against its loudness: its own drum.

    Of events in order of loudness how loud each is, and how much later all others hear it.
    """
    known = np.isfinite(behind_ms)
    first = known.any(axis=1) & (np.where(known, behind_ms, np.inf).min(axis=1, initial=np.inf) > _FIRST_MS)
    level_db = amplitude_to_db(np.maximum(loud[first][:_FIRST_LOUDEST], _FAINT))
    return float(np.clip(np.median(level_db), *_FIRST_DB)) if len(level_db) >= _FEWEST else _FIRST_DB[0]


def _share_earlier(behind_ms: FloatArray) -> float:
    """Share of events that some other microphone hears earlier."""
    return float(_earlier_elsewhere(behind_ms).mean()) if len(behind_ms) else 1.0


def _earlier_elsewhere(behind_ms: FloatArray) -> NDArray[np.bool_]:
    """Which events some other microphone hears earlier, by the same time again and again, shape (events,).

    One source reaches two microphones with a steady delay; two players who strike together do not.
    """
    found = np.zeros(len(behind_ms), dtype=bool)
    for lag_ms in behind_ms.T:
        earlier = np.isfinite(lag_ms) & (lag_ms < -0.4) & (lag_ms > -1000.0 * SAME_EVENT_S)
        if np.count_nonzero(earlier) < 3:
            continue
        steady_ms, by_chance = steady_lags(lag_ms[earlier], 0.6, 11.6)
        enough = max(3.0, 0.25 * np.count_nonzero(earlier), 0.12 * len(behind_ms))
        if len(steady_ms) >= enough and len(steady_ms) > 3.0 * by_chance:
            found |= earlier & (lag_ms >= steady_ms[0] - 0.1) & (lag_ms <= steady_ms[0] + 0.7)
    return found


def _first_patterns(events: Events, is_close: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray]:
    """Patterns to begin from, shape (m, BANDS, m), and how steady each is in each microphone, from 0 to 1, (m, m).

    A close microphone's is told by the events in which it stands out most; a far one's by those of which the close ones
    explain little, cymbals mostly.
    """
    heard, loud, microphones = events.heard, events.loud, len(is_close)
    pattern, steadiness = np.zeros((microphones, BANDS, microphones)), np.zeros((microphones, microphones))
    close = np.flatnonzero(is_close)
    close = close if len(close) else np.arange(microphones)
    if not len(heard):
        return pattern, steadiness
    for own in close.tolist():
        rivals = close[close != own]
        rival = loud[:, rivals].max(axis=1) if len(rivals) else np.full(len(loud), 0.1)
        ahead = loud[:, own] / np.maximum(rival, 1e-3)
        claimed = _claimed(events, own, ahead)
        pattern[:, :, own], steadiness[:, own] = _pure_pattern(heard, loud[:, own], claimed, ahead)
    rest = _unexplained(heard, pattern[:, :, close])
    rest_size = np.sqrt(np.sum(rest**2, axis=2))
    for own in np.setdiff1d(np.arange(microphones), close):
        share = rest_size[:, own] / np.maximum(loud[:, own], _TINY)
        claimed = np.flatnonzero((share > _UNEXPLAINED_SHARE) & (loud[:, own] > 0.03))
        if len(claimed) >= _FEWEST:
            pattern[:, :, own], steadiness[:, own] = _pure_pattern(rest, rest_size[:, own], claimed, share)
    return pattern, steadiness


def _claimed(events: Events, own: int, ahead: FloatArray) -> IntArray:
    """Events that a close microphone takes for its own drum's: those that it hears loud, plainly louder than others do,
    and no later than they."""
    loud = events.loud[:, own]
    claimed = np.flatnonzero((ahead > 1.0) & (loud > _CLAIMED_LOUD))
    if len(claimed) < _FEWEST:
        return np.argsort(-ahead * (loud > 0.1))[:_FEWEST]
    clear = ahead[claimed] > _AS_CLEAR * min(np.sort(ahead[claimed])[-_FEWEST], _CLEAR)
    plainly = claimed[clear & ~_earlier_elsewhere(_behind_ms(events, claimed, own))]
    return plainly if len(plainly) >= _FEWEST else claimed


def _unexplained(heard: FloatArray, pattern: FloatArray) -> FloatArray:
    """What sources of some patterns leave of what is heard, shape (events, m, BANDS)."""
    rest: FloatArray = np.maximum(heard - _mixed(strengths(heard, pattern), pattern), 0.0)
    return rest


def _pure_pattern(
    heard: FloatArray, own: FloatArray, claimed: IntArray, merit: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """What is heard for one unit in the own microphone, from the claimed events of most merit, shape (m, BANDS), and
    how steady that is in each microphone, (m,)."""
    events = claimed[np.argsort(-merit[claimed])][: max(_FEWEST, int(_CLEAREST_SHARE * len(claimed)))]
    shares = heard[events] / np.maximum(own[events], 1e-6)[:, None, None]
    pure = _quantile_of_positive(shares, _PURE_QUANTILE)
    level_db = amplitude_to_db(np.maximum(np.sqrt(np.sum(shares**2, axis=2)), 1e-3))
    spread_db = np.subtract(*np.percentile(level_db, [75, 25], axis=0))
    return pure, 1.0 / (1.0 + (spread_db / _STEADY_DB) ** 2)


def _quantile_of_positive(shares: FloatArray, quantile: float) -> FloatArray:
    """Over the first axis; 0 where nothing is positive.

    Nothing seems to start where the microphone's own drum still rings: that tells nothing.
    """
    ordered, count = np.sort(np.where(shares > 0.0, shares, _NEVER), axis=0), np.count_nonzero(shares > 0.0, axis=0)
    last = np.maximum(count - 1, 0)
    below = (quantile * last).astype(np.intp)
    low, high = (
        np.take_along_axis(ordered, which[None], axis=0)[0] * (count > 0)
        for which in (below, np.minimum(below + 1, last))
    )
    return low + (quantile * last - below) * (high - low)


def _refine(heard: FloatArray, pattern: FloatArray, word: FloatArray | float = 0.0) -> FloatArray:
    """Patterns that explain the whole take; each with unit amplitude in its own microphone.

    What they begin from has a word like so many strokes in each microphone, (m, sources): a gamma prior (A. T. Cemgil,
    "Bayesian inference for nonnegative matrix factorisation models", Computational Intelligence and Neuroscience,
    2009).
    """
    microphones = pattern.shape[0]
    first = flat = pattern.reshape(-1, microphones) + 1e-7
    prior = np.repeat(np.broadcast_to(word, (microphones, microphones)), BANDS, axis=0)
    mixture = heard.reshape(len(heard), len(flat))
    if len(heard):
        strength = _solve(mixture, flat, 30)
        for _ in range(_LEARN_ROUNDS):
            strength = _step(mixture, flat, strength)
            ratio = mixture / (strength @ flat.T + _TINY)
            counted = prior * first + flat * (ratio.T @ strength)
            flat = counted / (prior + strength.sum(axis=0) + _TINY)
            flat = _own_loudest(flat.reshape(pattern.shape)).reshape(flat.shape)
    refined = _own_loudest(flat.reshape(pattern.shape))
    own = np.sqrt(np.einsum("kbk,kbk->k", refined, refined))
    scaled: FloatArray = refined / np.maximum(own, _TINY)
    return scaled


def _owners(heard: FloatArray, pattern: FloatArray) -> IntArray:
    """The microphone of which each source makes up most, shape (m,): its own, if it was learned where it belongs.

    An overhead hears a bass drum as loud as anything else, but much else as well. Sources of much the same pattern are
    one, learned twice.
    """
    microphones = pattern.shape[0]
    power = np.einsum("nk,jbk->jk", strengths(heard, pattern) ** 2, pattern**2)
    share = power / np.maximum(power.sum(axis=1, keepdims=True), _TINY)
    share = share @ (_likeness(pattern) > _SAME_PATTERN)
    size = _sizes(pattern)
    share = np.where(size > _HEARD_SHARE * np.diagonal(size), share, 0.0)
    return np.where(np.diagonal(share) < share.max(axis=0), np.argmax(share, axis=0), np.arange(microphones))


def _sizes(pattern: FloatArray) -> FloatArray:
    """How loud each microphone hears each source over all bands, shape (m, sources)."""
    return np.asarray(np.sqrt(np.sum(pattern**2, axis=1)))


def _likeness(pattern: FloatArray) -> FloatArray:
    """Cosines between the patterns of all sources, shape (sources, sources)."""
    flat = pattern.reshape(-1, pattern.shape[2])
    flat = flat / np.maximum(np.sqrt(np.sum(flat**2, axis=0)), _TINY)
    likeness: FloatArray = flat.T @ flat
    return likeness


def _own_loudest(pattern: FloatArray) -> FloatArray:
    """Patterns in which no microphone hears a source louder, by its own measure, than the one it belongs to."""
    size = _sizes(pattern)
    most = np.diagonal(size)[None, :]
    limited: FloatArray = pattern * np.minimum(1.0, most / np.maximum(size, _TINY))[:, None, :]
    return limited


def _foretold(heard: FloatArray, pattern: FloatArray, microphone: int, sources: IntArray) -> FloatArray:
    """What some sources put into a microphone, as far as all the others tell their strengths, shape (n, BANDS)."""
    others = np.delete(np.arange(pattern.shape[0]), microphone)
    foretold: FloatArray = (
        strengths(heard[:, others], pattern[others][:, :, sources]) @ pattern[microphone][:, sources].T
    )
    return foretold


def _mixed(strength: FloatArray, pattern: FloatArray) -> FloatArray:
    """What is heard of such amounts of sources, shape (n, m, BANDS)."""
    mixed: FloatArray = np.einsum("nk,jbk->njb", strength, pattern)
    return mixed


def _divergence(heard: FloatArray, made: FloatArray) -> FloatArray:
    """The divergence that `_step` lessens, from what is heard to what is made of it, shape (n,)."""
    fit = heard * np.log((heard + _SILENT) / (made + _SILENT))
    return np.asarray(np.sum(fit - heard + made, axis=(1, 2)))


def _solve(mixture: FloatArray, pattern: FloatArray, rounds: int) -> FloatArray:
    """Strengths after so many steps; some rows at a time, which stay in the processor's cache for all of these."""
    strength: FloatArray = np.maximum(mixture @ pattern / np.maximum(np.sum(pattern**2, axis=0), _TINY), _TINY)
    coarse = pattern.astype(np.float32)  # each step brings the strengths nearer: what one rounds the next makes good
    for first in range(0, len(mixture), _ROWS):
        rows = slice(first, first + _ROWS)
        heard, some = mixture[rows].astype(np.float32), strength[rows].astype(np.float32)
        for _ in range(rounds):
            some = _step(heard, coarse, some)
        strength[rows] = some
    return strength


def _step(mixture: AnyArray, pattern: AnyArray, strength: AnyArray) -> AnyArray:
    """One multiplicative step toward the strengths that explain a mixture."""
    ratio = strength @ pattern.T
    ratio += _TINY
    np.divide(mixture, ratio, out=ratio)
    stepped: AnyArray = ratio @ pattern
    stepped *= strength
    stepped /= pattern.sum(axis=0) + _TINY
    return stepped
