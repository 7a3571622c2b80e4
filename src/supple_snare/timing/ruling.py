"""How a bar is ruled into slots: note values, mixtures of them, and swing."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from supple_snare.errors import UsageError
from supple_snare.timing.units import FloatArray, IntArray

SWING_RANGE = (0.5, 0.75)
_SAME_BEATS = 1e-6
_SAME_SWING = 0.003
_LONG_BEATS = 12.0
"""A whole number of every note value."""


@dataclass(frozen=True, order=True)
class Subdivision:
    """The note value between neighbouring slots: 1/16, 1/8T (eighth-note triplets) or 1/8D (dotted eighths)."""

    note: int = 16
    triplet: bool = False
    dotted: bool = False

    def __post_init__(self) -> None:
        if self.note not in (4, 8, 16, 32) or (self.triplet and self.dotted):
            raise UsageError(
                f"The grid {self} is not known: give 1/4, 1/8, 1/16 or 1/32, 1/8T for triplets, 1/8D for dotted notes."
            )

    @classmethod
    def parse(cls, text: str) -> Subdivision:
        """The subdivision written as "1/16", "1/8T" or "1/8D".

        Raises
        ------
        UsageError
            If the text is not a subdivision.
        """
        match = re.fullmatch(r"\s*1/(\d{1,2})\s*([tTdD]?)\s*", text)
        if not match:
            raise UsageError(f"The grid “{text}” is not understood: give one such as 1/8, 1/16, 1/8T or 1/16+1/8T.")
        return cls(int(match[1]), match[2] in ("t", "T"), match[2] in ("d", "D"))

    @property
    def slot_beats(self) -> float:
        """Distance of neighbouring slots in quarter notes, swing left out."""
        return 4.0 / self.note * (2.0 / 3.0 if self.triplet else 1.5 if self.dotted else 1.0)

    def __str__(self) -> str:
        return f"1/{self.note}{'T' if self.triplet else 'D' if self.dotted else ''}"


@dataclass(frozen=True)
class Ruling:
    """The slots of a bar.

    Attributes
    ----------
    subdivision : Subdivision
    also : Subdivision or None
        Laid beside the first one, for music that mixes straight notes and triplets.
    swing : float
        Of each pair of notes the second stands at this share of the pair (0.5 is straight).
    swing_note : int or None
        Which notes make the pairs: 8 for swung eighths under slots of any kind; None for the slots themselves.

    Raises
    ------
    UsageError
        If a value is out of its range.
    """

    subdivision: Subdivision = Subdivision()
    also: Subdivision | None = None
    swing: float = 0.5
    swing_note: int | None = None

    def __post_init__(self) -> None:
        low, high = SWING_RANGE
        if not low <= self.swing <= high:
            raise UsageError(f"A swing of {self.swing:g} makes no sense: give one from {low:g} to {high:g}.")
        if self.swing_note not in (None, 8, 16):
            raise UsageError(f"A swing of 1/{self.swing_note} notes is not known: give 1/8 or 1/16.")

    @classmethod
    def parse(cls, text: str, *, swing: float = 0.5, swing_note: int | None = None) -> Ruling:
        """The ruling written as "1/16" or, for a mixture, "1/16+1/8T".

        Raises
        ------
        UsageError
            If the text is not a ruling.
        """
        first, plus, second = text.partition("+")
        return cls(Subdivision.parse(first), Subdivision.parse(second) if plus else None, swing, swing_note)

    @property
    def swing_of(self) -> str | None:
        """The notes that make the pairs, as they are written; None for the slots themselves."""
        return f"1/{self.swing_note}" if self.swing_note else None

    @property
    def pair_beats(self) -> float:
        """Length of the pairs that swing, in quarter notes."""
        return 8.0 / self.swing_note if self.swing_note else 2.0 * self.subdivision.slot_beats

    def positions(self, bar_beats: float) -> FloatArray:
        """Slots within a bar of that many quarter notes, in quarter notes from its start: increasing, from 0.

        The ruling starts anew with each bar. A pair that the bar cuts off stays straight.

        >>> Ruling(Subdivision(8), swing=0.75).positions(2.0).tolist()
        [0.0, 0.75, 1.0, 1.75]
        """
        return self.lines(bar_beats)[0]

    def lines(self, bar_beats: float) -> tuple[FloatArray, FloatArray, IntArray]:
        """The same, and beside each slot two things more.

        Where it would stand without swing, which names it when the swing changes; and which of two note values side by
        side it belongs to: 1 for the first alone, 2 for the other alone, 0 for both.
        """
        straight = _every(self.subdivision.slot_beats, bar_beats)
        laid = _swung(straight, self.pair_beats, self.swing, bar_beats)
        strand = np.zeros(len(laid), dtype=np.int64)
        if self.also is not None:
            more = _every(self.also.slot_beats, bar_beats)
            shared = np.abs(more[:, None] - laid) < _SAME_BEATS
            strand[~shared.any(axis=0)] = 1
            more = more[~shared.any(axis=1)]
            laid, straight = np.concatenate([laid, more]), np.concatenate([straight, more])
            strand = np.append(strand, np.full(len(more), 2))
            order = np.argsort(laid)
            laid, straight, strand = laid[order], straight[order], strand[order]
        return laid, straight, strand

    def swung(self, straight: FloatArray, bar_beats: float) -> FloatArray:
        """Where the swing puts places of a bar, whether they are slots or not."""
        return _swung(straight, self.pair_beats, self.swing, bar_beats)

    def has_all_of(self, other: Ruling) -> bool:
        """Whether every slot of another ruling is one of this one.

        >>> Ruling.parse("1/16").has_all_of(Ruling.parse("1/8")), Ruling.parse("1/16").has_all_of(Ruling.parse("1/8T"))
        (True, False)
        """
        own = self.positions(_LONG_BEATS)
        away = np.abs(other.positions(_LONG_BEATS)[:, None] - own).min(axis=1)
        return bool((away < _SAME_BEATS).all())

    def is_like(self, other: Ruling) -> bool:
        """Whether nobody could tell the slots of another ruling from these.

        >>> Ruling(swing=0.6).is_like(Ruling(swing=0.601)), Ruling(swing=0.6).is_like(Ruling(swing=0.6, swing_note=8))
        (True, False)
        """
        same_pairs = self.pair_beats == other.pair_beats or self.swing == other.swing == 0.5
        return str(self) == str(other) and same_pairs and abs(self.swing - other.swing) < _SAME_SWING

    def is_denser_than(self, other: Ruling) -> bool:
        """Whether it has more slots than another ruling in the same time.

        >>> Ruling.parse("1/16").is_denser_than(Ruling(swing=0.6)), Ruling.parse("1/16T").is_denser_than(Ruling())
        (False, True)
        """
        return len(self.positions(_LONG_BEATS)) > len(other.positions(_LONG_BEATS))

    @property
    def in_words(self) -> str:
        """The ruling with its swing.

        >>> Ruling(Subdivision(8), swing=0.62).in_words, Ruling(Subdivision(16), swing=0.6, swing_note=8).in_words
        ('1/8 swung 62.0 %', '1/16, 1/8 swung 60.0 %')
        """
        if self.swing == 0.5:
            return str(self)
        pairs = f", {self.swing_of}" if self.swing_of else ""
        return f"{self}{pairs} swung {100.0 * self.swing:.1f} %"

    def __str__(self) -> str:
        return str(self.subdivision) if self.also is None else f"{self.subdivision}+{self.also}"


def _every(step: float, length: float) -> FloatArray:
    return np.arange(int(np.ceil(length / step - _SAME_BEATS)), dtype=np.float64) * step


def _swung(straight: FloatArray, pair: float, swing: float, bar_beats: float) -> FloatArray:
    """Positions moved by swing: the first half of each pair is stretched, the second half squeezed."""
    number = np.floor(straight / pair + _SAME_BEATS)
    inside = straight / pair - number
    moved = np.where(inside < 0.5 - _SAME_BEATS, inside * 2.0 * swing, swing + (inside - 0.5) * 2.0 * (1.0 - swing))
    whole = (number + 1.0) * pair <= bar_beats + _SAME_BEATS
    return np.where(whole, (number + moved) * pair, straight)
