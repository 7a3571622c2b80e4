"""One player: tracks that hear the same performance, as a direct line, its amplifier and a microphone in the room do.

Whatever one player does, each band of one track lies as far above the same band of another, but for a few dB: one
sound goes two ways. Of two players who bleed into each other's microphones each stands out in his own, so the same
figure strays by twice the isolation. No bleed is looked for between tracks of one player.
"""

from __future__ import annotations

import warnings
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.events import commonest, lags_s, merged_moments
from supple_snare.sound.guess import note_log_odds
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.novelty import BandLevels
from supple_snare.sound.starts import rough_starts
from supple_snare.timing.units import FloatArray, IntArray


@dataclass(frozen=True)
class OnePlayerParams:
    """When two tracks hear one player.

    Attributes
    ----------
    farthest_s : float
        How much later a track may hear him than another: some 10 m.
    steady_s : float
        The commonest lag between starts is looked for to so much.
    same_note_s : float
        What starts in both within this time is one note: the strings of a strum follow one another.
    fewest : int
        Loud notes at least.
    most : int
        Loud notes that are compared, at most.
    loud_db : float
        What lies at most so far below the loud notes of a track is loud.
    heard_db : float
        Bands at most so far below the loudest one of a note tell.
    stray_db : float
        How far 80 % of the notes may stray: one player gives 2 to 7, two who bleed at least 11, two who do not 22.
    """

    farthest_s: float = 0.030
    steady_s: float = 0.003
    same_note_s: float = 0.030
    fewest: int = 8
    most: int = 400
    loud_db: float = 15.0
    heard_db: float = 17.0
    stray_db: float = 9.0


_AFTER_S, _BEFORE_S = (0.0, 0.020), (-0.019, -0.008)
"""A note has its full power so long after its start; a frame nearer before it hears it already."""

_INAUDIBLE, _ABOVE_FLOOR, _FLOOR_FRACTION = 10.0**-4.5, 0.5, 0.1
"""A floor is at least 45 dB below the loudest note; what rises by half of it is heard; a tenth, added on both sides,
keeps ratios of noise small."""

_LOUD_PERCENT = 90
_STRAY_PERCENT = (10, 90)
_TINY = 1e-14


def players_of(analyses: Sequence[Analysis], without: Collection[int] = ()) -> IntArray:
    """For each track the first one that hears the same player, mostly itself, shape (tracks,).

    Drums are left to `twins`, which knows what stands close to what: tracks of which none is heard as notes are each
    their own.

    Parameters
    ----------
    analyses : sequence of Analysis
    without : collection of int
        Numbers of tracks that are known to be drums, whatever they sound like.
    """
    first = np.arange(len(analyses))
    is_notes = [PRESETS[each.material].is_pitched for each in analyses]
    if not any(is_notes):
        return first
    starts_s = [np.sort(rough_starts(each.attacks)) for each in analyses]
    same = {
        (one, other)
        for one, other in combinations([track for track in range(len(analyses)) if track not in without], 2)
        if (is_notes[one] or is_notes[other]) and _is_one_player(analyses, starts_s, one, other)
    }
    for one, other in sorted(same):
        together = [track for track in range(other) if first[track] == first[one]]
        # Each must be like all others: a room that hears two players is like both, and they are not alike.
        if first[other] == other and all((track, other) in same for track in together):
            first[other] = first[one]
    return first


def _is_one_player(analyses: Sequence[Analysis], starts_s: Sequence[FloatArray], one: int, other: int) -> bool:
    params = OnePlayerParams()
    both_s, levels = (starts_s[one], starts_s[other]), (analyses[one].levels, analyses[other].levels)
    lag_s = _lag_s(*both_s, params)
    return lag_s is not None and stray_db(levels, both_s, lag_s, params) < params.stray_db


def _lag_s(one_s: FloatArray, other_s: FloatArray, params: OnePlayerParams) -> float | None:
    """How much later another track hears what both hear; None if that is too little."""
    steady = commonest(lags_s(other_s, one_s, -params.farthest_s, params.farthest_s)[1], params.steady_s)
    return float(np.median(steady)) if len(steady) >= params.fewest else None


def stray_db(
    levels: Sequence[BandLevels], starts_s: Sequence[FloatArray], lag_s: float, params: OnePlayerParams
) -> float:
    """How far the level of notes in one track strays against another's, band by band; infinite if few are heard.

    Parameters
    ----------
    levels : sequence of two BandLevels
    starts_s : sequence of two float arrays
        When the attacks of each start.
    lag_s : float
        How much later the second hears all.
    params : OnePlayerParams
    """
    later_s = np.array([max(-lag_s, 0.0), max(lag_s, 0.0)])
    notes_s = merged_moments([each - late for each, late in zip(starts_s, later_s, strict=True)], params.same_note_s)
    notes_s = notes_s[np.unique(np.linspace(0, len(notes_s) - 1, min(len(notes_s), params.most)).astype(int))]
    heard = [_rise_and_floor(each, notes_s + late) for each, late in zip(levels, later_s, strict=True)]
    rise, floor = (np.stack(each, axis=1) for each in zip(*heard, strict=True))
    loudness = rise.sum(axis=2)
    loud = (loudness > _power(-params.loud_db) * np.percentile(loudness, _LOUD_PERCENT, axis=0)).any(axis=1)
    rise, floor = rise[loud], floor[loud]
    plain = rise > np.maximum(_ABOVE_FLOOR * floor, _power(-params.heard_db) * rise.max(axis=2, keepdims=True))
    apart_db = np.diff(10.0 * np.log10(rise + _FLOOR_FRACTION * floor), axis=1)[:, 0]
    apart_db[~plain.any(axis=1)] = np.nan
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # bands and notes of which nothing is plain
        strays_db = np.nanmedian(apart_db - np.nanmedian(apart_db, axis=0), axis=1)
    strays_db = strays_db[np.isfinite(strays_db)]
    return float(np.ptp(np.percentile(strays_db, _STRAY_PERCENT))) if len(strays_db) >= params.fewest else np.inf


def _rise_and_floor(levels: BandLevels, time_s: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Power that starts in each band at moments, and what it starts on, both (n, BANDS)."""
    after, before = levels.loudest(time_s, *_AFTER_S), levels.loudest(time_s, *_BEFORE_S)
    return np.maximum(after - before, 0.0), before + _INAUDIBLE * after.max(axis=0, initial=_TINY)


def _power(level_db: float) -> float:
    return float(10.0 ** (level_db / 10.0))


def shared_materials(analyses: Sequence[Analysis], players: IntArray) -> dict[int, Material]:
    """What those tracks should be taken for that by themselves sound like something else than their player.

    If a track of the player was told to hold notes, all do. Else the log odds of all his tracks add up, and where these
    speak for notes, all are what the sharpest of those is that sound like notes.

    Parameters
    ----------
    analyses : sequence of Analysis
    players : int array, shape (tracks,)
        As `players_of` tells them.

    Returns
    -------
    dict of int to Material
        By the number of the track. Tracks whose material was told are not among them.
    """
    found: dict[int, Material] = {}
    for player in np.unique(players):
        tracks = np.flatnonzero(players == player).tolist()
        log_odds = {track: note_log_odds(analyses[track].note_features) for track in tracks}
        guessed = [track for track in tracks if not np.isnan(log_odds[track])]
        notes = [track for track in tracks if PRESETS[analyses[track].material].is_pitched]
        told = [track for track in notes if track not in guessed]
        if not told and (not notes or sum(log_odds[track] for track in guessed) <= 0.0):
            continue
        sharpest = max(told or notes, key=lambda track: float(np.median(analyses[track].attacks.sharpness)))
        wanted = analyses[sharpest].material
        found |= {track: wanted for track in guessed if analyses[track].material is not wanted}
    return found
