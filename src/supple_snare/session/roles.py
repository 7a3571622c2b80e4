"""The role of each track in its group: what its microphone hears, how sure that is, and whose strokes bleed into it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from supple_snare.session.stages import GroupView
from supple_snare.sound.material import PRESETS
from supple_snare.timing.hits import Kind
from supple_snare.timing.units import FloatArray

_ARRIVES_S = (-0.003, 0.015)
"""Bleed starts in that time after the stroke: sound takes 15 ms for five metres, and both starts may err a little."""

_HEARD_FRACTION, _MOST_HEARD = 0.3, 3
"""A track hears another if it has bleed with so many of that one's strokes; no more are named."""


class RoleKind(StrEnum):
    """What a microphone may be to the group."""

    CLOSE = "close to a drum of its own"
    SECOND = "second microphone"
    NOTES = "holds notes"
    KIT = "hears the whole kit"
    FAR = "close to no drum that is struck"


@dataclass(frozen=True)
class Role:
    """The role of one track.

    Attributes
    ----------
    kind : RoleKind
    same_as : tuple of str
        Keys of the other tracks that hear the same drum or player.
    probability : float or None
        That it is right; None where nothing was weighed, or where it was given by hand.
    is_given : bool
        Whether it was given by hand.
    hears : tuple of str
        Keys of the tracks whose strokes bleed into it, those first of which most do; none for one that hears them all.
    """

    kind: RoleKind
    same_as: tuple[str, ...]
    probability: float | None
    is_given: bool
    hears: tuple[str, ...]


def role_of(view: GroupView, key: str) -> Role:
    """The role of a track of a group."""
    verdict = view.verdicts[key]
    track = next(track for track in view.tracks if track.key == key)
    if PRESETS[view.materials[key]].is_pitched:
        kind = RoleKind.NOTES
    elif verdict.is_wide:
        kind = RoleKind.KIT
    elif verdict.is_far or not len(verdict.time_s):
        kind = RoleKind.FAR
    else:
        kind = RoleKind.SECOND if math.isfinite(verdict.twin_odds) or track.drum not in (None, key) else RoleKind.CLOSE
    log_odds = min(abs(verdict.own_odds), verdict.twin_odds)
    is_weighed = kind in (RoleKind.CLOSE, RoleKind.SECOND, RoleKind.FAR) and math.isfinite(log_odds)
    return Role(
        kind=kind,
        same_as=tuple(other.key for other in view.same_drum(key)),
        probability=1.0 / (1.0 + math.exp(-log_odds)) if is_weighed and track.drum is None else None,
        is_given=track.drum is not None,
        hears=() if kind is RoleKind.KIT else _heard_by(view, key),
    )


def _heard_by(view: GroupView, key: str) -> tuple[str, ...]:
    """Tracks with many of whose strokes something bleeds into this one."""
    bleed_s = view.hits[key].of_kind(Kind.BLEED).time_s
    fraction = {
        other.key: _fraction_heard(bleed_s, view.hits[other.key].of_kind(Kind.PLAYED).time_s)
        for other in view.tracks
        if view.verdicts[other.key].drum != view.verdicts[key].drum
    }
    heard = [other for other, part in fraction.items() if part >= _HEARD_FRACTION]
    return tuple(sorted(heard, key=lambda other: -fraction[other])[:_MOST_HEARD])


def _fraction_heard(bleed_s: FloatArray, strokes_s: FloatArray) -> float:
    if not len(strokes_s):
        return 0.0
    first, last = np.searchsorted(bleed_s, strokes_s[:, None] + np.array(_ARRIVES_S)).T
    return float(np.mean(last > first))
