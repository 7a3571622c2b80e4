"""Feels of a session, laid out to be seen: of the take, a section, a lead, a selection, or another group."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import UsageError
from supple_snare.session.document import Session
from supple_snare.session.stages import GroupView
from supple_snare.timing.groove import Groove, take_groove
from supple_snare.timing.sections import section_of
from supple_snare.timing.units import FloatArray, frozen


@dataclass(frozen=True)
class FeelOf:
    """Whose feel is meant.

    Attributes
    ----------
    kind : str
        "take", "section", "lead", "range", "group" or "groove".
    key : str
        Key of the section, lead or group; path of a groove.
    """

    kind: str = "take"
    key: str = ""


@dataclass(frozen=True, eq=False)
class FeelSeen:
    """A feel and the strokes behind it.

    Attributes
    ----------
    name : str
        Whose it is, in words.
    groove : Groove
    place_beats, offset_ms : float array, shape (strokes,)
        Where in the cycle each stroke was meant, and how far from the straight slot it lies, drift left out.
    time_s : float array, shape (strokes,)
        When it was played.
    """

    name: str
    groove: Groove
    place_beats: FloatArray
    offset_ms: FloatArray
    time_s: FloatArray

    @classmethod
    def of_template(cls, groove: Groove) -> FeelSeen:
        """A template by itself."""
        nothing = frozen([])
        return cls(groove.name, groove, nothing, nothing, nothing)


def feel_name(session: Session, of: FeelOf) -> str:
    """Whose feel it is, in words."""
    if of.kind == "section":
        return next((section.name for section in session.sections if section.key == of.key), "a section")
    return {"take": "the whole take", "range": "the selection"}.get(of.kind) or session.name_of(of.key)


def strokes_of(session: Session, view: GroupView, of: FeelOf, range_s: tuple[float, float] | None) -> NDArray[np.bool_]:
    """Which strokes of a group are meant."""
    which = view.offsets.placed.copy()
    if of.kind == "section":
        starts = [section.start_s for section in session.sections]
        number = [section.key for section in session.sections].index(of.key)
        which &= section_of(starts, view.strokes.time_s) == number
    elif of.kind == "lead":
        which &= view.strokes.lead == view.columns.index(of.key)
    elif of.kind == "range" and range_s is not None:
        which &= (view.strokes.time_s >= range_s[0] - 1e-6) & (view.strokes.time_s <= range_s[1] + 1e-6)
    return which


def see_feel(
    session: Session,
    view: GroupView,
    of: FeelOf,
    *,
    range_s: tuple[float, float] | None = None,
    centred: bool = True,
    name: str | None = None,
) -> FeelSeen:
    """The feel of some strokes of a group, as a template with the strokes behind it.

    Raises
    ------
    UsageError
        If none of them has a slot, nothing is selected, or the section or lead is gone.
    """
    if of.kind == "range" and range_s is None:
        raise UsageError("Drag over a range on the page first.")
    if of.kind == "section" and all(section.key != of.key for section in session.sections):
        raise UsageError("This section is no longer there.")
    if of.kind == "lead" and of.key not in view.columns:
        raise UsageError("This track leads nothing any more.")
    which = strokes_of(session, view, of, range_s)
    called = feel_name(session, of)
    grid, offsets = session.grid, view.offsets
    source = f"{session.name}, {view.group.name}, {called}"
    groove = take_groove(view.strokes, offsets, grid, which, name=name or called, centred=centred, source=source)
    index = np.flatnonzero(which)
    section = int(offsets.section[index[0]])
    cycle = offsets.cycles[section]
    place = cycle.places(grid, offsets.place[index], offsets.bar[index], int(grid.first_bars[section]))
    straight_s = grid.course.time_at(offsets.place[index])
    rest_ms = 1000.0 * (offsets.grid_s[index] - straight_s) + offsets.offset_ms[index] - offsets.drift_ms[index]
    inside = place < groove.cycle_beats - 1e-9
    return FeelSeen(called, groove, frozen(place[inside]), frozen(rest_ms[inside]),
                    frozen(view.strokes.time_s[index][inside]))  # fmt: skip
