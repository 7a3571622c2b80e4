"""Rhythms as drummers write them down, for performances unlike those drawn at random in `playing.py`.

One character a slot: `x` loud, `o` softer, `g` a ghost note, `.` nothing. Each row belongs to one drum; the hat may
have no microphone and so no hits. Tempos are those of the quarter note, of the dotted quarter in 6/8.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.meter import Meter

AMPLITUDE = {"x": 1.0, "o": 0.5, "g": 0.13, ".": 0.0}


@dataclass(frozen=True)
class Groove:
    """A written rhythm: rows of slots for low drum, snare and hat, and the tempos it is played at."""

    feel: str
    low: str
    snare: str
    hat: str
    tempo_bpm: tuple[float, float]
    meter: Meter = Meter()

    def lines(self, hat: bool) -> dict[str, str]:
        """What each drum that plays has to play."""
        texts = {"low": self.low, "snare": self.snare} | ({"hat": self.hat} if hat else {})
        return {drum: text for drum, text in texts.items() if text.strip(".")}

    def rows(self, hat: bool) -> list[NDArray[np.float64]]:
        """Amplitudes, one row a drum that plays."""
        return [np.array([AMPLITUDE[mark] for mark in text]) for text in self.lines(hat).values()]


_THREE, _SIX, _TWO = Meter(3, 4), Meter(6, 8), Meter(2, 4)

GROOVES = {
    "rock": Groove("straight 16", "x.......x.x.....", "....x.......x...", "x.o.x.o.x.o.x.o.", (85, 150)),
    "slow": Groove("straight 16", "x.....o.x.......", "....x.......x...", "xoooxoooxoooxooo", (62, 88)),
    "four to the floor": Groove("straight 16", "x...x...x...x...", "....x.......x...", "..x...x...x...x.", (108, 140)),
    "funk": Groove("straight 16", "x.x...o...x..o..", "....x..g.g..x..g", "xoxoxoxoxoxoxoxo", (86, 116)),
    "fast": Groove("straight 8", "xo.xxo.x", "..x...x.", "xxxxxxxx", (150, 200)),
    "march": Groove("straight 16", "x.......x.......", "x.oox.o.xgoox.oo", "................", (96, 124)),
    "street": Groove("swung 16", "x..x..x...x..x..", "x.gx.gx.xg.xg.xg", "x...x...x...x...", (88, 116)),
    "samba": Groove("straight 16", "x..xo..xx..xo..x", "xggxggxgxggxgxgg", "xoooxoooxoooxooo", (92, 122)),
    "clave": Groove("straight 16", "x..xx..xx..xx..x", "x..x..x...x..x..", "xoxoxoxoxoxoxoxo", (64, 90)),
    "train": Groove("straight 16", "x...x...x...x...", "ggxgggxgggxgggxg", "................", (96, 136)),
    "one drop": Groove("straight 16", "........x.......", "........x.....g.", "x.x.x.x.x.x.x.xo", (64, 82)),
    "double bass drum": Groove("straight 16", "xxxxxxxxxxxxxxxx", "....x.......x...", "x...x...x...x...", (84, 124)),
    "waltz": Groove("straight 8", "x.....", "..o.o.", "x.x.x.", (84, 180), _THREE),
    "waltz in eighths": Groove("straight 8", "x..x..", "..x.x.", "xoxoxo", (80, 150), _THREE),
    "three with a back beat": Groove("straight 16", "x.....o.....", "........x...", "x.o.x.o.x.o.", (80, 140), _THREE),
    "slow six": Groove("straight 8", "x...o.", "...x..", "xooxoo", (42, 76), _SIX),
    "six in sixteenths": Groove("straight 16", "x.....o.o...", "......x....g", "x.ooo.x.ooo.", (42, 70), _SIX),
    "jig": Groove("straight 8", "x..x..", "xooxox", "......", (96, 126), _SIX),
    "shuffle": Groove("triplet", "x.....x.o...", "...x.....x..", "x.ox.ox.ox.o", (88, 150)),
    "ride": Groove("triplet", "o.......o...", "..g..g...g.o", "x..x.ox..x.o", (110, 196)),
    "slow twelve": Groove("triplet", "x....ox.....", "...x.....x..", "xooxooxooxoo", (48, 78)),
    "lazy": Groove("swung 16", "x..o..x...x.....", "....x.......x..g", "x.x.x.x.x.x.x.xo", (76, 104)),
    "swung eighths": Groove("swung 8", "x..ox...", "..x...x.", "xoxoxoxo", (84, 150)),
    "polka": Groove("straight 8", "x.x.", ".x.x", "....", (100, 132), _TWO),
    "slow dance": Groove("straight 16", "x..xx.x.", "...o..o.", "xoooxooo", (54, 70), _TWO),
    "toms": Groove("straight 16", "x.o.x.oox.o.x.oo", "....x.......x..x", "................", (90, 150)),
}
