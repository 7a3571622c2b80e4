"""Ringing drums: taken for notes when listened to alone, and told as drums by their group.

A tom that sings, a snare that rings, or a bass drum into whose microphone a horn bleeds seems to play notes: something
with a pitch goes on after its strokes. Beside the other tracks it shows that it is struck. What stands far above all
bleed in it is surely its own, and sounds the same each time, or is gone at once, as notes of a line are not.
"""

from __future__ import annotations

import numpy as np

from supple_snare.sound.attacks import Analysis
from supple_snare.sound.events import rising
from supple_snare.sound.guess import how_notes_go_on
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.units import FloatArray

_FEWEST = 4
_SURELY_OWN = 5.0
"""Log odds in the middle: of half of all lines the signs of drums are less sure."""

_ABOVE_DB = 10.0
"""How far the own strokes lie above all else, in the middle."""

_ALIKE, _ALIKE_PERCENT = 0.98, 25
"""Cosine between what a stroke puts into the bands and what strokes usually do: of lines fewer are so alike, unless
they are held."""

_HELD_DB = 0.0
"""Held notes are louder some 100 ms after their start, drums never."""

_GONE_DB = -10.0
"""Notes last: some 100 ms after their start they are louder than that."""

_SELDOM, _FADED_DB, _QUITE_ALIKE = 0.15, -2.0, 0.95
"""Where so few of the attacks are its own (a tom, a small hand drum), and fade, the cosine may be less: there is little
to say what they usually do."""


def is_struck(analysis: Analysis, verdict: Verdict) -> bool:
    """Whether a track that was taken for notes is a drum's, by the verdict on it as a drum among others."""
    own = verdict.played
    if verdict.is_far or verdict.above_rest_db < _ABOVE_DB:
        return False
    if np.count_nonzero(own) < _FEWEST or np.median(verdict.log_odds[own]) < _SURELY_OWN:
        return False
    time_s = verdict.time_s[own]
    later_db, _fallen_db = how_notes_go_on(time_s, verdict.level_db[own], analysis.peaks)
    if later_db < _GONE_DB:
        return True
    alike = np.percentile(_alike(analysis, time_s), _ALIKE_PERCENT)
    seldom = np.mean(own) < _SELDOM and later_db < _FADED_DB
    return later_db < _HELD_DB and bool(alike > (_QUITE_ALIKE if seldom else _ALIKE))


def _alike(analysis: Analysis, time_s: FloatArray) -> FloatArray:
    """Cosines between what starts at each moment, band by band, and what usually does, shape (n,)."""
    heard = rising([analysis.levels], time_s, np.zeros(1))[:, 0]
    shape = heard / np.maximum(np.linalg.norm(heard, axis=1, keepdims=True), 1e-9)
    usual = np.median(shape, axis=0)
    return np.asarray(shape @ usual / max(float(np.linalg.norm(usual)), 1e-9))
