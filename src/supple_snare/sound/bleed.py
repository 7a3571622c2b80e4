"""Bleed: which attacks in a microphone belong to a neighbour, judged from all tracks of the group together.

For each attack the sources learned from the take (`sources`) tell how much of it the neighbours explain, band by band.
From that, the attack's level, and who hears it first, `judge` tells the odds that it was played into this microphone.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.ear import Ear
from supple_snare.sound.events import Events, gather_events
from supple_snare.sound.judge import alone_odds, judged_odds
from supple_snare.sound.lines import judge_lines
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.overheads import find_overheads, judge_overheads
from supple_snare.sound.ringing import is_struck
from supple_snare.sound.rises import Rises
from supple_snare.sound.shapes import likeness
from supple_snare.sound.sides import in_stereo
from supple_snare.sound.sources import PLAINLY_CLOSE, Sources, lead_of_others_ms, learn_sources, strengths
from supple_snare.sound.starts import rough_starts, settle_beside
from supple_snare.sound.twins import find_drums, groups_without_twins
from supple_snare.sound.verdict import FAR_DOUBT, Verdict, verdict_of
from supple_snare.timing.units import FloatArray, IntArray, amplitude_to_db

_WEIGHTS = {
    "own_share": 0.755,
    "level": -0.048,
    "ahead": 0.003,
    "best_band": -0.013,
    "first": 0.13,
    "closeness": -0.004,
    "rise": 0.136,
    "ahead_close": 0.068,
    "own_level": -0.09,
    "left_over": 0.355,
    "worth": 0.115,
    "like_own": 0.0,
    "like_more_own": 0.0,
    "like_bleed": 0.0,
    "like_more_bleed": 0.0,
}
_BIAS = 2.5
"""Log odds for one unit of each sign, a first guess for `judge`; a logistic regression on 350,000 attacks. The likeness
to other attacks is not in it: the guess chooses these."""

_MOST_RISE_DB = 15.0

SIGNS = tuple(_WEIGHTS)
"""Names of the signs, in the order of `Signs.columns`."""

RELATIVE_SIGNS = [number for number, name in enumerate(SIGNS) if name != "closeness"]
"""Numbers of the signs that differ between the attacks of a track."""

_COVERING_S = np.array([-0.025, 0.004])
"""What was struck in that time around an attack may cover its start; nearest attacks of one drum lie farther apart."""

_AS_LOUD_DB = 6.0
"""An attack that follows at once and is not softer than this would be taken for a part of the one before it."""

_ONLY_FIRST = 3.05
"""A microphone may come so close to a drum only because nobody hears its loudest events earlier (`sources`)."""

_STANDS_OUT_DB = 5.0
"""In a close microphone the own strokes lie so far above what bleeds in."""

_DULL = 1.5
"""dB per ms: half of all close microphones hear their own drum rise faster, wind players hardly ever do."""

_PLAIN = 2.0
"""Log odds, either way, of attacks that others are compared with."""

_AS_LIKE_AS_CAN_BE = 0.95
"""No two strokes of a player are more alike; those of a machine are, and must not be all that counts."""

_HARDLY_FAR = -2.0
"""Closeness of the microphones of toms under heavy bleed, and of some of an idle drum: the strokes found must tell."""

_ENOUGH = 8
_SURELY_OWN, _FAR_ABOVE, _REST_PERCENT = 4.0, 6.0, 90
"""So many strokes, with such log odds in the middle, show a drum of its own whatever else speaks against it; by the
signs alone, before they are judged, if they also lie so far above the rest."""

_LEAST = 1e-4


@dataclass(frozen=True, eq=False)
class Signs:
    """What speaks for an attack having been played into its microphone, arrays of shape (n,).

    Attributes
    ----------
    own_share : float array
        Share of the power that the own source explains, in the bands of this microphone's own drum.
    level : float array
        Level against this microphone's loud strokes, dB.
    ahead : float array
        Level against the other microphones, each relative to its own loud moments, dB.
    best_band : float array
        Level over what other sources explain, in the band that stands out most of those of its own drum, dB.
    first : float array
        How much earlier (negative) another microphone hears it, ms.
    closeness : float array
        Whether this microphone has a drum of its own at all, log odds.
    rise : float array
        How much the whole spectrum rises, dB.
    ahead_close : float array
        Its level here against the other close microphones only, dB: far ones hear whoever else plays in the room.
    own_level : float array
        How much of the own source explains what all microphones hear, dB under its loud strokes.
    left_over : float array
        How much of the own source is in what its microphone hears beyond what the others foretell there, dB.
    worth : float array
        How much worse what all microphones hear would be explained without the own source: a divergence, dB.
    like_own, like_more_own : float array
        Likeness of its waveform to a plain stroke of this microphone's drum, and to several (`shapes.likeness`).
    like_bleed, like_more_bleed : float array
        The same to plain bleed.
    """

    own_share: FloatArray
    level: FloatArray
    ahead: FloatArray
    best_band: FloatArray
    first: FloatArray
    closeness: FloatArray
    rise: FloatArray
    ahead_close: FloatArray
    own_level: FloatArray
    left_over: FloatArray
    worth: FloatArray
    like_own: FloatArray
    like_more_own: FloatArray
    like_bleed: FloatArray
    like_more_bleed: FloatArray

    def columns(self) -> FloatArray:
        """All signs, shape (n, signs), in the order of `_WEIGHTS`."""
        return np.stack([getattr(self, name) for name in _WEIGHTS], axis=1)

    def log_odds(self) -> FloatArray:
        """A first guess: the weighed sum of all signs."""
        odds: FloatArray = self.columns() @ np.array(list(_WEIGHTS.values())) + _BIAS
        return odds

    def alone_log_odds(self) -> FloatArray:
        """The same where there is no other microphone: only how loud it is and how plainly it rises can speak."""
        return alone_odds(self.level, self.rise)

    def with_own_drum_seen(self) -> Signs:
        """Closeness, which is learned from all that is heard, corrected where many attacks are plainly a drum's own."""
        guess = self.log_odds()
        own = guess > _PLAIN
        if self.closeness[0] >= 0.0 or own.all() or not _are_surely_own(guess[own]):
            return self
        if np.median(guess[own]) - np.percentile(guess[~own], _REST_PERCENT) < _FAR_ABOVE:
            return self
        return replace(self, closeness=np.full(len(guess), PLAINLY_CLOSE))


Weighed = tuple[FloatArray, FloatArray, Signs | None]


def judge_group(ears: Sequence[Ear], analyses: Sequence[Analysis]) -> list[Verdict]:
    """`judge_bleed` of what some ears hear, from all that is known of them."""
    return judge_bleed(analyses, in_stereo(ears), {track for track, ear in enumerate(ears) if ear.material is not None})


def judge_bleed(
    analyses: Sequence[Analysis], stereo: Collection[frozenset[int]] = (), told: Collection[int] = ()
) -> list[Verdict]:
    """Tell played attacks from bleed in all tracks of one group: in those of single drums, of kits, then of notes.

    Parameters
    ----------
    analyses : sequence of Analysis
        One per track. Tracks share one timeline and one rate.
    stereo : collection of frozenset of int
        Numbers of the tracks that are in stereo, as no microphone close to a drum is: one, or the sides of a pair.
    told : collection of int
        Numbers of the tracks whose material somebody said: the group does not gainsay that.

    Returns
    -------
    list of Verdict
        One per track, in the same order.
    """
    ringing = _ringing_drums(analyses, told)
    analyses = [
        replace(each, material=Material.DRUM_CLOSE) if n in ringing else each for n, each in enumerate(analyses)
    ]
    verdicts = judge_drums(analyses)
    alone = {track: _judge_together([analyses[track]])[0] for track in find_overheads(analyses, verdicts, stereo)}
    verdicts |= judge_overheads(analyses, verdicts, alone)
    verdicts |= judge_lines(analyses, verdicts)
    return [replace(verdicts[track], rings=track in ringing) for track in range(len(analyses))]


def _ringing_drums(analyses: Sequence[Analysis], told: Collection[int]) -> set[int]:
    """Drums that by themselves were taken for notes: judged as drums, beside all that may be one, they are plain."""
    notes = {track for track, each in enumerate(analyses) if PRESETS[each.material].is_pitched}
    perhaps = [track for track in range(len(analyses)) if track not in notes or track not in told]
    if not notes.intersection(perhaps) or len(perhaps) < 2:
        return set()
    together = zip(perhaps, _judge_together([analyses[track] for track in perhaps]), strict=True)
    return {track for track, verdict in together if track in notes and is_struck(analyses[track], verdict)}


def judge_drums(analyses: Sequence[Analysis]) -> dict[int, Verdict]:
    """The verdicts on those tracks of a group that are drums', by their number."""
    drums = [track for track, analysis in enumerate(analyses) if not PRESETS[analysis.material].is_pitched]
    # A drum alone has nobody to be compared with but the lines around it.
    judged = drums if len(drums) != 1 else list(range(len(analyses)))
    found = dict(zip(judged, _judge_together([analyses[track] for track in judged]), strict=True))
    drum = {track: judged[found[track].drum] if len(drums) > 1 else track for track in drums}
    return {track: replace(found[track], drum=drum[track]) for track in drums}


def _judge_together(analyses: Sequence[Analysis]) -> list[Verdict]:
    verdicts, doubts = [], []
    drums, weighed = weigh_signs(analyses)
    for analysis, drum, (settled_s, others, signs) in zip(analyses, drums.tolist(), weighed, strict=True):
        if signs is None:
            log_odds = np.zeros(0)
        elif len(analyses) == 1:
            log_odds = signs.alone_log_odds()
        else:
            log_odds = judged_odds(signs.columns(), signs.log_odds(), RELATIVE_SIGNS)
        verdict = verdict_of(analysis, settled_s, others, log_odds, drum)
        closeness = float(signs.closeness[0]) if signs is not None else 0.0
        is_far = len(analyses) > 1 and _is_far(closeness, verdict)  # a lone track is as close as there is
        verdicts.append(replace(verdict, is_far=is_far))
        doubts.append(FAR_DOUBT if is_far and closeness < 0.0 else 0.0)
    if all(verdict.is_far for verdict in verdicts):
        return verdicts
    # Beside close microphones one that is close to nothing, a far one or that of an idle drum, must be surer.
    return [verdict.doubted(doubt) for verdict, doubt in zip(verdicts, doubts, strict=True)]


def _are_surely_own(log_odds: FloatArray) -> bool:
    """Whether strokes of a microphone are enough, and sure enough, to show a drum of its own."""
    return len(log_odds) >= _ENOUGH and bool(np.median(log_odds) >= _SURELY_OWN)


def _is_far(closeness: float, verdict: Verdict) -> bool:
    """Whether a microphone is close to no drum of its own.

    Closeness was learned before its attacks were judged: so many surely played into it show that it is close, or if it
    seemed hardly far, a few that stand out. Far ones hear other players of the room best of all, whose dull attacks
    stand out of nothing: that is no drum.
    """
    played = verdict.played
    stands_out = verdict.above_rest_db >= _STANDS_OUT_DB
    if closeness < 0.0:
        return not (_are_surely_own(verdict.log_odds[played]) or (closeness >= _HARDLY_FAR and stands_out))
    if closeness > _ONLY_FIRST or played.all() or not played.any():
        return False
    return not stands_out and bool(np.median(verdict.sharpness[played]) < _DULL)


def weigh_signs(analyses: Sequence[Analysis]) -> tuple[IntArray, list[Weighed]]:
    """For each track the drum that it hears (`twins.find_drums`), and for its attacks their settled starts, the
    amplitude of all else that sounds at each, and the signs for each; None where it has no attacks. Of two microphones
    of one drum each is judged without the other."""
    if not any(len(analysis.attacks) for analysis in analyses):
        return np.arange(len(analyses)), [(np.zeros(0), np.zeros(0), None) for _ in analyses]
    rough_s = [rough_starts(analysis.attacks) for analysis in analyses]
    events = _events_of(analyses, rough_s)
    drums = find_drums(events)
    weighed: dict[int, Weighed] = {}
    for group in groups_without_twins(drums):
        members = group.tolist()
        those, theirs_s = [analyses[track] for track in members], [rough_s[track] for track in members]
        heard = events if len(members) == len(analyses) else _events_of(those, theirs_s)
        weighed = dict(zip(members, _weigh_group(those, theirs_s, heard), strict=True)) | weighed
    return drums, [weighed[track] for track in range(len(analyses))]


def _events_of(analyses: Sequence[Analysis], rough_s: Sequence[FloatArray]) -> Events:
    return gather_events([analysis.levels for analysis in analyses], rough_s)


def _weigh_group(analyses: Sequence[Analysis], rough_s: Sequence[FloatArray], events: Events) -> list[Weighed]:
    """`weigh_signs` where no two microphones are of one drum."""
    sources = learn_sources(events)
    struck_s = _struck_s(analyses, sources, rough_s)
    starts, others = [], []
    for track, analysis in enumerate(analyses):
        heard, bleed = _likely_bleed(analyses, sources, track, rough_s[track], struck_s)
        settled_s, beside = settle_beside(analysis.attacks, heard, bleed)
        starts.append(settled_s)
        others.append(beside)
    weighed = []
    for track, analysis in enumerate(analyses):
        signs = _signs(analyses, sources, track, starts[track], starts)
        if signs is not None and len(analyses) > 1:  # alone, an attack is not judged by what it is like
            signs = _with_likeness(signs, analysis.attacks, starts[track]).with_own_drum_seen()
        weighed.append((starts[track], others[track], signs))
    return weighed


def _with_likeness(signs: Signs, attacks: Rises, start_s: FloatArray) -> Signs:
    guess = signs.log_odds()
    own, more_own = likeness(attacks, start_s, guess > _PLAIN)
    bleed, more_bleed = likeness(attacks, start_s, guess < -_PLAIN)
    return replace(
        signs,
        like_own=np.minimum(own, _AS_LIKE_AS_CAN_BE),
        like_more_own=np.minimum(more_own, _AS_LIKE_AS_CAN_BE),
        like_bleed=np.minimum(bleed, _AS_LIKE_AS_CAN_BE),
        like_more_bleed=np.minimum(more_bleed, _AS_LIKE_AS_CAN_BE),
    )


def _struck_s(analyses: Sequence[Analysis], sources: Sources, rough_s: Sequence[FloatArray]) -> list[FloatArray | None]:
    """When each source was struck, as far as can be told yet; None for one that has no microphone close to it."""
    struck: list[FloatArray | None] = []
    for track, times in enumerate(rough_s):
        if sources.closeness[track] <= 0.0:
            struck.append(None)
            continue
        signs = _signs(analyses, sources, track, times, rough_s)
        struck.append(np.sort(times[signs.log_odds() > 0.0]) if signs is not None else np.zeros(0))
    return struck


def _likely_bleed(
    analyses: Sequence[Analysis],
    sources: Sources,
    track: int,
    time_s: FloatArray,
    struck_s: Sequence[FloatArray | None],
) -> tuple[FloatArray, FloatArray]:
    """What starts in a track at moments, and how much of it sources make that were struck then, each (n, BANDS)."""
    heard = _heard(analyses, sources, track, time_s)
    strength = strengths(heard, sources.usual_pattern)
    for source, times in enumerate(struck_s):
        if source == track:
            strength[:, source] = 0.0
        elif times is not None:
            strength[:, source] *= np.diff(np.searchsorted(times, time_s[:, None] + _COVERING_S), axis=1)[:, 0] > 0
    return heard[:, track], strength @ sources.usual_pattern[track].T


def _heard(analyses: Sequence[Analysis], sources: Sources, track: int, time_s: FloatArray) -> FloatArray:
    """What starts in all tracks with the attacks of one, up to its next attack as loud, shape (n, tracks, BANDS)."""
    distance_s, level_db = sources.distance_s[track], analyses[track].attacks.level_db
    next_s, next_db = np.append(time_s, np.inf)[1:], np.append(level_db, -np.inf)[1:]
    until_s = np.where(next_db > level_db - _AS_LOUD_DB, next_s, np.inf)
    levels = [analysis.levels for analysis in analyses]
    return sources.heard(levels, time_s - distance_s, until_s - distance_s)


def _signs(
    analyses: Sequence[Analysis], sources: Sources, track: int, time_s: FloatArray, heard_s: Sequence[FloatArray]
) -> Signs | None:
    if not len(time_s):
        return None
    attacks = analyses[track].attacks
    everywhere = _heard(analyses, sources, track, time_s)
    strength = strengths(everywhere, sources.pattern)
    heard, loud = everywhere[:, track], np.sqrt(np.sum(everywhere**2, axis=2))
    own = strength[:, track, None] * sources.pattern[track, :, track]
    bleed = strength @ sources.pattern[track].T - own
    shape = sources.pattern[track, :, track]
    shape = shape / max(float(shape.max()), _LEAST)
    rivals = np.delete(loud, track, axis=1)
    rival = np.maximum(rivals.max(axis=1), _LEAST) if rivals.size else np.full(len(loud), _LEAST)
    ahead = _db(loud[:, track]) - _db(rival)
    close = np.delete(loud, track, axis=1)[:, np.delete(sources.closeness, track) > 0.0]
    close_rival = np.maximum(close.max(axis=1), _LEAST) if close.size else np.full(len(loud), _LEAST)
    plainly_own = ahead > 0.0
    enough = np.count_nonzero(plainly_own) > 3
    loud_stroke = np.percentile(loud[plainly_own, track], 80) if enough else np.percentile(loud[:, track], 95)
    own_power, bleed_power = (own**2) @ shape, (bleed**2) @ shape
    band_db = _db(heard) - _db(np.maximum(bleed, 1e-3))
    return Signs(
        own_share=own_power / np.maximum(own_power + bleed_power, 1e-12),
        level=np.maximum(_db(loud[:, track]) - _db(loud_stroke), -40.0),
        ahead=np.clip(ahead, -25.0, 12.0),
        best_band=np.clip(np.where(shape > 0.15, band_db, -40.0).max(axis=1), -10.0, 30.0),
        first=lead_of_others_ms(heard_s, track, time_s, farthest_ms=7.0 + 1000.0 * float(sources.distance_s[track])),
        closeness=np.full(len(time_s), float(np.clip(sources.closeness[track], -6.0, 6.0))),
        rise=np.minimum(attacks.rise_db, _MOST_RISE_DB),
        ahead_close=np.clip(_db(loud[:, track]) - _db(close_rival), -25.0, 12.0),
        own_level=np.maximum(_db(strength[:, track]), -40.0),
        left_over=np.maximum(_db(sources.left_over(everywhere, track)), -40.0),
        worth=np.maximum(0.5 * _db(np.maximum(sources.worth(everywhere, strength, track), 0.0)), -20.0),
        **dict.fromkeys(("like_own", "like_more_own", "like_bleed", "like_more_bleed"), np.zeros(len(loud))),
    )


def _db(amplitude: FloatArray | float) -> FloatArray:
    return amplitude_to_db(np.maximum(amplitude, _LEAST))
