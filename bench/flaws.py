"""What a cut has done to the sound of a track: attacks spoilt, levels that waver or jump. For 48 kHz."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from supple_snare.sound.editlist import EditList

Sound = NDArray[np.float64]

_RATE_HZ = 48_000
ATTACK = round(0.030 * _RATE_HZ)
_LEVEL = round(0.010 * _RATE_HZ)
_SUDDEN = round(0.015 * _RATE_HZ)
_FLOOR_DB = -70.0


def render(edits: EditList, sound: Sound) -> Sound:
    """A track after the cut."""
    pad = _RATE_HZ
    padded = np.pad(sound, (pad, pad))[:, None]
    read = lambda start, count: padded[start + pad : start + pad + count]  # noqa: E731
    return edits.render(read, 0, len(sound))[:, 0]


def attack(sound: Sound, result: Sound, source: np.ndarray, fading: np.ndarray, at: int) -> str:
    """What became of one attack in one track."""
    there = np.flatnonzero(source == at)
    there = there[~fading[there]]
    if not len(there):
        return "lost"
    if len(there) > 1:
        return "twice"
    to = int(there[0])
    before = round(0.0005 * _RATE_HZ)
    if not np.array_equal(sound[at - before : at + ATTACK], result[to - before : to + ATTACK]):
        return "inexact"
    return "whole"


def _level_db(power: Sound) -> Sound:
    """Level over 10 ms."""
    return 10.0 * np.log10(np.maximum(uniform_filter1d(power, _LEVEL), 10 ** (_FLOOR_DB / 10)))


def levels(sound: Sound, result: Sound, edits: EditList) -> tuple[list[float], float, int]:
    """Around every seam: distance from what either side has there; worst sudden change, how many over 12 dB.

    A change counts as sudden where neither side of the seam changes so by itself, in all that the levels before and
    after it hear: an attack right behind the seam is no flaw of the seam.
    """
    own = _level_db(sound**2)
    away = _away_db(sound, result, edits)
    dips: list[float] = []
    swell, many = 0.0, 0
    frames = len(sound)
    for place, fade, coming, leaving in zip(
        edits.at[1:], edits.fade[1:], edits.shift[1:], edits.shift[:-1], strict=True
    ):
        low, high = int(place - fade), int(place)
        if low < _SUDDEN or high > frames - _SUDDEN:
            continue
        amid = away[low - _LEVEL // 2 : high + _LEVEL // 2]
        dips.append(float(amid[np.argmax(np.abs(amid))]))
        change = float(own[np.clip(high - coming, 0, frames - 1)] - own[np.clip(low - leaving, 0, frames - 1)])
        usual = [
            float(own[np.clip(high - s, 0, frames - 1)] - own[np.clip(low - s - _LEVEL, 0, frames - 1)])
            for s in (coming, leaving)
        ]
        change -= float(np.clip(change, min(0.0, *usual), max(0.0, *usual)))  # what a side does by itself is no flaw
        swell = max(swell, change, key=abs)
        many += abs(change) > 12.0
    return dips, swell, many


def _away_db(sound: Sound, result: Sound, edits: EditList) -> Sound:
    """How far the level of each sample lies from that of what is played there: one piece, then the next.

    Powers are those of the pieces where each of them sounds, one giving way to the other through a fade; what a piece
    has where it is not heard, an attack right behind the seam say, is nobody's level.
    """
    piece = lambda at, shift: sound[np.clip(at - shift, 0, len(sound) - 1)] ** 2  # noqa: E731
    source = edits.source_of(np.arange(len(result)))
    played = sound[np.clip(source, 0, len(sound) - 1)] ** 2
    for at, fade, coming, leaving in zip(
        edits.at[1:].tolist(), edits.fade[1:].tolist(), edits.shift[1:], edits.shift[:-1], strict=True
    ):
        amid = np.arange(max(0, at - fade), min(at, len(played)))
        place = (amid - (at - fade) + 1.0) / (fade + 1.0)
        rising, falling = ((0.5 - sign * 0.5 * np.cos(np.pi * place)) ** 2 for sign in (1.0, -1.0))
        played[amid] = (falling * piece(amid, leaving) + rising * piece(amid, coming)) / (falling + rising)
    return _level_db(result**2) - _level_db(played)
