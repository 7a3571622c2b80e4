"""Gaps between pieces that move by different amounts, and what joins the pieces: seams."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

from supple_snare.errors import UsageError
from supple_snare.sound.stretch.ways import Way


@dataclass(frozen=True)
class CutSettings:
    """Lengths in ms.

    Attributes
    ----------
    lead_in_ms : float
        How far before the earliest arrival of an attack its seam ends.
    fade_ms : float
        Length of a seam's crossfade.
    attack_ms : float
        How much of an attack no seam may touch.
    room_tone : bool
        A gap longer than the sustain is filled with room tone; else the tail is extended.

    Raises
    ------
    UsageError
        If a length makes no sense.
    """

    lead_in_ms: float = 4.0
    fade_ms: float = 5.0
    attack_ms: float = 30.0
    room_tone: bool = False

    def __post_init__(self) -> None:
        for name, value, most in (
            ("lead-in", self.lead_in_ms, 50.0),
            ("fade", self.fade_ms, 100.0),
            ("attack", self.attack_ms, 200.0),
        ):
            if not 0.2 <= value <= most:
                raise UsageError(f"A {name} of {value:g} ms makes no sense: give one from 0.2 to {most:g}.")


class Seam(NamedTuple):
    """A piece of an edit list: where it begins in the result, how far it is shifted, and the fade that ends there.

    A stretched piece ends where the next one begins, and brings its fades with it.
    """

    at: int
    shift: int
    fade: int
    is_stretched: bool = False


class Told(NamedTuple):
    """Where a person wants a seam: the place from which its coming side sounds alone, and the fade before that."""

    place: int
    fade: int | None = None


@dataclass(frozen=True)
class Gap:
    """Two neighbouring pieces whose moves differ, in samples: all that the seams between them follow from.

    Attributes
    ----------
    starts : tuple of int
        Arrivals of attacks in any track, from that of the piece before on.
    stop : int
        Earliest arrival of the piece after.
    before, after : int
        By how much they move.
    earliest : int
        The seam before this gap, as a place of the piece before: none may stand before that.
    told : Told or None
    way : Way
        How it is made longer or shorter.
    """

    starts: tuple[int, ...]
    stop: int
    before: int
    after: int
    earliest: int
    told: Told | None = None
    way: Way = Way.CUT

    @property
    def width(self) -> int:
        """How much has to be filled; below zero, how much must go."""
        return self.after - self.before

    def sustains(self, attack: int, lead_in: int) -> Iterator[tuple[int, int]]:
        """What sounds between neighbouring arrivals without their attacks, the last first; it may be nothing."""
        edges = (*self.starts, self.stop)
        for end, begin in zip(edges[:0:-1], edges[-2::-1], strict=True):
            yield begin + attack, end - lead_in


@dataclass(frozen=True)
class Joined:
    """What came of a gap: its seams, how the piece after really moves, and how the seams stand.

    Attributes
    ----------
    seams : tuple of Seam
    move : int
    extended : bool
        What rings before sounds more than once, to fill the gap.
    near : bool
        A seam stands closer to the attack before than is comfortable.
    jump_db : float
        How much the level changes, in the track where it changes most.
    fits : int
        The move that what rings before would fill by itself.
    ratio : float
        How many times as long the stretched part is as it was played; 1 where nothing is stretched.
    unlike : float
        How little the end of the stretched part has in common with what follows, 0 the same, 1 unrelated.
    is_short : bool
        It was cut, since there was too little to be stretched.
    """

    seams: tuple[Seam, ...]
    move: int
    fits: int
    extended: bool = False
    near: bool = False
    jump_db: float = 0.0
    ratio: float = 1.0
    unlike: float = 0.0
    is_short: bool = False
