"""Bleed: which attacks in a microphone belong to a neighbour, judged from all tracks of the group together.

For each attack the sources learned from the take (`sources`) tell how much of it the neighbours explain, band by band,
and its waveform, what they leave of it (`bare`). From these and other `signs` `judge` tells the odds that it was a
stroke of this microphone's drum, and `own_drum` whether there is such a drum; `masked` looks once more at what bleeds
in.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np

from supple_snare.disk.mapped import release_memory
from supple_snare.sound.arrivals import find_arrivals
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.ear import Ear
from supple_snare.sound.judge import judged_odds
from supple_snare.sound.likeliest import likeliest_starts
from supple_snare.sound.lines import judge_lines
from supple_snare.sound.masked import find_masked
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.one_player import players_of, shared_materials
from supple_snare.sound.overheads import find_overheads, judge_overheads
from supple_snare.sound.own_drum import own_drum_odds
from supple_snare.sound.ringing import is_struck
from supple_snare.sound.roles import NO_DRUM, NOTHING_GIVEN, DrumsGiven, given_among, with_given
from supple_snare.sound.sides import in_stereo
from supple_snare.sound.signs import networks
from supple_snare.sound.verdict import Verdict, verdict_of
from supple_snare.sound.wake import without_bounces
from supple_snare.sound.weighing import Weighed, weigh_signs
from supple_snare.timing.units import FloatArray, IntArray

_SURELY_ODDS = 2.0
"""What is as unlikely a stroke as that, as log odds, surely bleeds in."""

_CERTAINLY = 16.0
"""Log odds of what a person says."""


def judge_group(ears: Sequence[Ear], analyses: Sequence[Analysis], given: DrumsGiven = NOTHING_GIVEN) -> list[Verdict]:
    """`judge_bleed` of what some ears hear, from all that is known of them.

    Tracks of one player that by themselves sound like something else than he does are listened to once more.

    Raises
    ------
    RecordingError
        If such a file vanished or breaks while it is read.
    """
    ringing = _ringing_drums(analyses, {track for track, ear in enumerate(ears) if ear.material is not None})
    players = with_given(players_of(analyses, ringing), given)
    shared = shared_materials(analyses, players)
    heard = [
        analyse(replace(ears[track], material=shared[track])) if track in shared else each
        for track, each in enumerate(analyses)
    ]
    is_drum = dict.fromkeys(ringing, Material.DRUM_CLOSE)
    heard = [replace(each, material=is_drum.get(track, each.material)) for track, each in enumerate(heard)]
    verdicts = judge_bleed(heard, in_stereo(ears), players, given)
    return [replace(each, material=(shared | is_drum).get(track)) for track, each in enumerate(verdicts)]


def _ringing_drums(analyses: Sequence[Analysis], told: Collection[int]) -> set[int]:
    """Drums that by themselves were taken for notes: judged as drums, beside all that may be one, they are plain. Where
    nothing sounds like a drum, players of notes keep theirs."""
    notes = {track for track, each in enumerate(analyses) if PRESETS[each.material].is_pitched}
    perhaps = [track for track in range(len(analyses)) if track not in notes or track not in told]
    if not notes.intersection(perhaps) or len(perhaps) < 2 or len(notes) == len(analyses):
        return set()
    together = zip(perhaps, _judge_together([analyses[track] for track in perhaps]), strict=True)
    return {track for track, verdict in together if track in notes and is_struck(analyses[track], verdict)}


def judge_bleed(
    analyses: Sequence[Analysis],
    stereo: Collection[frozenset[int]] = (),
    players: IntArray | None = None,
    given: DrumsGiven = NOTHING_GIVEN,
) -> list[Verdict]:
    """Tell played attacks from bleed in all tracks of one group: in those of single drums, of kits, then of notes.

    Parameters
    ----------
    analyses : sequence of Analysis
        One per track. Tracks share one timeline and one rate.
    stereo : collection of frozenset of int
        Numbers of the tracks that are in stereo, as no microphone close to a drum is: one, or the sides of a pair.
    players : int array, shape (tracks,), optional
        For each track the first one that hears the same player (`one_player`); by default each hears its own.
    given : mapping of int to int, optional
        Drums and players given by hand (`roles`).

    Returns
    -------
    list of Verdict
        One per track, in the same order.
    """
    players = np.arange(len(analyses)) if players is None else players
    verdicts = judge_drums(analyses, given)
    wide = [track for track in find_overheads(analyses, verdicts, stereo) if track not in given]
    verdicts |= judge_overheads(analyses, verdicts, {track: _judge_together([analyses[track]])[0] for track in wide})
    lines = judge_lines(analyses, verdicts, players)
    idle = [track for track in lines if given.get(track) == NO_DRUM]
    verdicts |= lines | {track: lines[track].if_also(-_CERTAINLY) for track in idle}
    return [verdicts[track] for track in range(len(analyses))]


def judge_drums(analyses: Sequence[Analysis], given: DrumsGiven = NOTHING_GIVEN) -> dict[int, Verdict]:
    """The verdicts on those tracks of a group that are drums', by their number; arguments as for `judge_bleed`."""
    drums = [track for track, analysis in enumerate(analyses) if not PRESETS[analysis.material].is_pitched]
    # What has no attacks tells nothing of the others.
    silent = [track for track in drums if not len(analyses[track].attacks)]
    drums = [track for track in drums if track not in silent]
    # A drum alone has nobody to be compared with but the lines around it.
    judged = drums if len(drums) != 1 else [track for track, each in enumerate(analyses) if len(each.attacks)]
    together = _judge_together([analyses[track] for track in judged], given_among(given, judged))
    found = dict(zip(judged, together, strict=True))
    drum = {track: judged[found[track].drum] if len(drums) > 1 else track for track in drums}
    verdicts = {track: replace(found[track], drum=drum[track]) for track in drums}
    return verdicts | {track: replace(_judge_together([analyses[track]])[0], drum=track) for track in silent}


def _judge_together(analyses: Sequence[Analysis], given: DrumsGiven = NOTHING_GIVEN) -> list[Verdict]:
    group = weigh_signs(analyses, given)
    judged = [_judge(each, alone=len(analyses) == 1) for each in group.tracks]
    for track, drum in given.items():
        judged[track] = judged[track][0], -_CERTAINLY if drum == NO_DRUM else _CERTAINLY
    starts = _starts_of_strokes(group.drum, group.tracks, judged)
    verdicts = []
    for track, (each, (odds, own_drum)) in enumerate(zip(group.tracks, judged, strict=True)):
        has_drum = own_drum > 0.0 and len(analyses) > 1
        start_s, log_odds = find_masked(each, starts[track], odds) if has_drum else (starts[track], odds)
        bare = replace(analyses[track], attacks=each.bare)
        verdict = verdict_of(bare, start_s, each.others[:, 0], log_odds, int(group.drum[track]))
        twin_odds = float(group.twin_odds[track])
        verdicts.append(replace(verdict, is_far=own_drum < 0.0, own_odds=own_drum, twin_odds=twin_odds))
        release_memory()
    # Beside close microphones nothing is played into one that has no drum.
    some_close = not all(verdict.is_far for verdict in verdicts)
    return [
        verdict.if_also(verdict.own_odds) if verdict.is_far and (some_close or track in given) else verdict
        for track, verdict in enumerate(verdicts)
    ]


def _judge(weighed: Weighed, *, alone: bool) -> tuple[FloatArray, float]:
    """Log odds of a track's attacks being strokes of its drum, if it has one, and of its having one."""
    signs = weighed.signs
    if signs is None:
        return np.zeros(0), np.inf
    if alone:  # it is as close as there is
        return signs.alone_log_odds(), np.inf
    odds = judged_odds(signs.columns(), signs.log_odds(), networks())
    log_odds = without_bounces(odds, signs.in_wake)
    return log_odds, own_drum_odds(weighed.closeness, signs, log_odds)


def _starts_of_strokes(
    drums: IntArray, weighed: Sequence[Weighed], judged: Sequence[tuple[FloatArray, float]]
) -> list[FloatArray]:
    """Starts of each track's attacks, those of its own strokes told once more, now that it is known which these are:
    they rise as one another do, not as bleed does, and it comes in when a neighbour was struck."""
    own = [odds > 0.0 if own_drum > 0.0 else np.zeros(len(odds), bool) for odds, own_drum in judged]
    struck_s = [np.sort(each.start_s[mine]) for each, mine in zip(weighed, own, strict=True)]
    starts = []
    for track, (each, mine) in enumerate(zip(weighed, own, strict=True)):
        start_s = each.start_s.copy()
        bleed_s = np.sort(start_s[judged[track][0] < -_SURELY_ODDS])
        neighbours_s = [struck_s[other] for other in np.flatnonzero(drums != drums[track])]
        arrivals = find_arrivals(start_s[mine], bleed_s, neighbours_s)
        start_s[mine] = likeliest_starts(each.bare[mine], each.others[mine], start_s[mine], arrivals)
        starts.append(start_s)
    return starts
