"""Material: what kind of sound a track holds, which says how its attacks are looked for.

A track is taken for what its sound and its place in the group suggest until somebody says otherwise: notes with a
pitch are blown or sung if they are held, else plucked; a microphone that is close to no drum hangs overhead.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from supple_snare.timing.kinds import GRACE_MS

Band = tuple[float, float] | None
"""Lowest and highest frequency; None for all of the sound."""


class Material(StrEnum):
    """What the trade calls the source."""

    DRUM_CLOSE = "drum, close"
    DRUM_OVERHEAD = "drums, overhead"
    HAND_PERCUSSION = "hand percussion"
    PLUCKED = "plucked"
    BLOWN = "bowed or blown"
    VOICE = "voice"
    KEYS = "keys"


@dataclass(frozen=True)
class Preset:
    """How attacks of one material are looked for.

    Attributes
    ----------
    band_hz : (float, float) or None
        Where its attacks show; None for everywhere.
    spacing_ms : float
        Nearest two strokes that are told apart; of nearer ones one is a grace note or a bounce of the other.
    is_pitched : bool
        Its notes have partials, and go on: a new one shows by partials that did not sound before.
    lands_late : bool
        Its attacks are soft: the place that should meet the grid lies after the start.
    """

    band_hz: Band = None
    spacing_ms: float = GRACE_MS
    is_pitched: bool = False
    lands_late: bool = False


PRESETS = {
    Material.DRUM_CLOSE: Preset(),
    Material.DRUM_OVERHEAD: Preset(),
    Material.HAND_PERCUSSION: Preset(),
    Material.PLUCKED: Preset(is_pitched=True),
    Material.BLOWN: Preset(band_hz=(100.0, 9_600.0), spacing_ms=60.0, is_pitched=True, lands_late=True),
    Material.VOICE: Preset(band_hz=(120.0, 9_600.0), spacing_ms=70.0, is_pitched=True, lands_late=True),
    Material.KEYS: Preset(spacing_ms=30.0, is_pitched=True),
}
