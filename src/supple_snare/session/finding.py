"""What the hits of a group say about its grid: tempos, and for each section the slots it is played to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from supple_snare.session.document import Session
from supple_snare.session.stages import GroupView
from supple_snare.timing.grid import Grid
from supple_snare.timing.hidden import hidden_strokes_s
from supple_snare.timing.hits import Kind
from supple_snare.timing.sections import section_of
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.suggest import Candidate, suggest_ruling
from supple_snare.timing.tempo import TempoFinding
from supple_snare.timing.tempo_parts import read_tempo
from supple_snare.timing.units import FloatArray


def tempos_of(view: GroupView, *, of_all: bool = False) -> list[TempoFinding]:
    """Readings of the tempo, most likely first.

    Parameters
    ----------
    view : GroupView
    of_all : bool
        Whether the played hits of all tracks count, or those of the leads only.
    """
    keys = tuple(view.hits) if of_all else view.columns
    lines = _lines(view, keys)
    time_s = np.concatenate([line_s for line_s, _level_db in lines]) if lines else np.zeros(0)
    if not len(time_s):
        return []
    level_db = np.concatenate([line_db for _time_s, line_db in lines])
    lead = np.repeat(np.arange(len(lines)), [len(line_s) for line_s, _level_db in lines])
    order = np.argsort(time_s, kind="stable")
    centre_hz = None if view.part else np.array([view.verdicts[key].centre_hz for key in keys])
    return read_tempo(time_s[order], level_db[order], lead[order], centre_hz=centre_hz)


def _lines(view: GroupView, keys: Sequence[str]) -> list[tuple[FloatArray, FloatArray]]:
    """Times and levels of what is played into each of some tracks, and of what one far from the kit hides."""
    played = {key: view.hits[key].of_kind(Kind.PLAYED) for key in keys}
    closer_s = [hits.landing_s for key, hits in played.items() if not view.verdicts[key].is_wide]
    lines = []
    for key, hits in played.items():
        hidden_s = hidden_strokes_s(hits.landing_s, closer_s) if view.verdicts[key].is_wide else np.zeros(0)
        usual_db = float(np.median(hits.level_db)) if len(hidden_s) else 0.0
        level_db = np.append(hits.level_db, np.full(len(hidden_s), usual_db))
        lines.append((np.append(hits.landing_s, hidden_s), level_db))
    return lines


@dataclass(frozen=True)
class SlotEvidence:
    """What strokes say of the slots they are laid to.

    Attributes
    ----------
    candidates : tuple of Candidate
        Rulings that explain the strokes, best first; the one in force is among them.
    now : Candidate
        The one in force.
    """

    candidates: tuple[Candidate, ...]
    now: Candidate

    @cached_property
    def better(self) -> Candidate | None:
        """The best one, if it explains the strokes plainly better than the one in force."""
        best = self.candidates[0]
        return best if best.is_plainly_better(self.now) else None


def weigh_slots(session: Session, strokes: Strokes, grid: Grid, section: str | None) -> SlotEvidence | None:
    """Weigh the slots of a section, or of the take; None if there are too few strokes to tell.

    Parameters
    ----------
    session : Session
    strokes : Strokes
        Of the group that is to tell.
    grid : Grid
    section : str or None
        Key of the section.
    """
    time_s = strokes.time_s[~strokes.rides]
    if section is not None and session.sections:
        starts = [each.start_s for each in session.sections]
        number = [each.key for each in session.sections].index(section)
        time_s = time_s[section_of(starts, time_s) == number]
    if not len(time_s):
        return None
    felt = grid.meter.felt_beats
    beat_s = felt * 60.0 / float(np.median(grid.tempo_at(time_s)))
    beat = grid.course.beat_at(time_s) / felt
    now = session.ruling_in(section)
    candidates = suggest_ruling(beat, beat_s, compound=grid.meter.is_compound, now=now)
    if not candidates:
        return None
    return SlotEvidence(tuple(candidates), next(each for each in candidates if each.ruling == now))
