"""Straight notes and triplets side by side: of which kind each beat is, and which strokes are at odds with that.

Such lines are for music that changes between the two, and there a beat is of one kind.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.grid import Slots
from supple_snare.timing.habits import around
from supple_snare.timing.units import FloatArray, IntArray

_OF_A_KIND, _SURE = 4.0, 6.0
"""Cost of a triplet in a beat with a sixteenth, or the reverse, and the margin that makes a stroke sure of its kind."""

_SPOKEN_FOR = 0.5
"""Strokes beside it in its own beat that make up this much of a sure one of its kind speak for a stroke."""

_BARS_SAY, _AT_ODDS = 5.0, 0.95
"""The bars around are at odds with a stroke if they say so much, and so great a share of it is against it."""

_KIND = np.array([0.0, -1.0, 1.0])
"""What a slot of each strand says: −1 straight, 1 triplet."""


class BeatKinds:
    """Of which of two note values each beat is, as far as the strokes placed so far tell.

    Parameters
    ----------
    slots : Slots
    lead : int array, shape (n,)
        Number, from 0, of the lead that played each stroke.
    """

    def __init__(self, slots: Slots, lead: IntArray) -> None:
        self._slots, self._lead = slots, lead
        self._bar = slots.bar - slots.bar[0]
        self._count = np.floor(slots.beat + 1e-6).astype(np.int64)  # which quarter note of its bar
        self._beat = self._bar * (int(self._count.max()) + 1) + self._count
        self._slot = np.zeros(len(lead), dtype=np.int64)
        self._told = np.zeros(len(lead))

    def tell(self, chosen: IntArray, margin: FloatArray) -> None:
        """Strokes speak for the kind of the slots they have, −1 for none, the more the surer these are."""
        self._slot = np.maximum(chosen, 0)
        told = _KIND[self._slots.strand[self._slot]] * np.minimum(margin / _SURE, 1.0)
        self._told = np.where(chosen >= 0, told, 0.0)

    def costs(self, near: IntArray) -> FloatArray:
        """Cost of slots that each stroke may have by what the other strokes of their beats are, shape (n, width)."""
        strand, beat = self._slots.strand[near], self._beat[near]
        kinds = _OF_A_KIND * self._others_of(beat)
        return np.clip(np.where(strand == 1, kinds, np.where(strand == 2, -kinds, 0.0)), 0.0, _OF_A_KIND)

    def belied(self, away_s: FloatArray) -> NDArray[np.bool_]:
        """Which strokes, alone of their kind in their beat, the same beat of the bars around speaks against.

        Parameters
        ----------
        away_s : float array, shape (n,)
            How far each lies after its slot. Those that lean to a line of the other kind might be meant there, and
            where a lead does so in bar after bar, its own habit speaks for the wrong one.
        """
        kind = _KIND[self._slots.strand[self._slot]]
        beside = np.clip(self._slot + np.where(away_s > 0.0, 1, -1), 0, len(self._slots) - 1)
        leans = _KIND[self._slots.strand[beside]] == -kind
        alone = kind * self._others_of(self._beat[self._slot][:, None])[:, 0] < _SPOKEN_FOR
        says, said = self._bars_around(self._told), self._bars_around(np.abs(self._told))
        at_odds = (said >= _BARS_SAY) & (-kind * says >= _AT_ODDS * said)
        return (kind != 0.0) & leans & alone & at_odds

    def _others_of(self, beat: IntArray) -> FloatArray:
        """What strokes of each of these beats say but for the stroke itself, shape (n, width)."""
        own_beat = self._beat[self._slot]
        total = np.bincount(own_beat, self._told, int(self._beat[-1]) + 1).astype(np.float64)
        return total[beat] - np.where(own_beat[:, None] == beat, self._told[:, None], 0.0)

    def _bars_around(self, said: FloatArray) -> FloatArray:
        """Sum of what is said in the same beat of the bars around, at other places of it or by other leads."""
        bar, count = self._bar[self._slot], self._count[self._slot]
        own_place = self._lead * (int(self._slots.slot.max()) + 1) + self._slots.slot[self._slot]
        return _of_other_bars(count, bar, said) - _of_other_bars(own_place, bar, said)


def _of_other_bars(row: IntArray, bar: IntArray, said: FloatArray) -> FloatArray:
    """Sum of what is said in each stroke's row of the bars around but not in its own bar, shape (n,)."""
    rows, bars = int(row.max()) + 1, int(bar.max()) + 1
    table = np.bincount(row * bars + bar, said, rows * bars).reshape(rows, bars, 1).astype(np.float32)
    return (around(table, 1) - table)[row, bar, 0]
