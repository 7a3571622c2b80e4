"""Hits and strokes in words and numbers: under the mouse, in the loupe, and where they are listed."""

from __future__ import annotations

import numpy as np

from supple_snare.desk import theme
from supple_snare.desk.stretch_tools import describe_gap
from supple_snare.desk.workspace import Workspace
from supple_snare.session.roles import RoleKind, role_of
from supple_snare.timing.hits import Kind, Origin
from supple_snare.timing.tighten import Kept

_APART_MS = 5.0
"""Leads that lie farther apart inside one stroke are said to disagree."""


def describe_hit(work: Workspace, key: str, index: int) -> str:
    """A hit in words and numbers."""
    view = work.view
    assert view is not None
    hits = view.hits[key]
    kind = Kind(int(hits.kind[index]))
    what = "ghost note" if hits.ghost[index] else kind.word if kind is not Kind.ROLL else "inside a roll"
    origin = Origin(int(hits.origin[index]))
    if origin is Origin.FOUND:
        sure = f"{100.0 * float(hits.confidence[index]):.0f} % sure"
    else:
        sure = f"{origin.name.lower()} by hand"
    level = theme.signed(float(hits.level_db[index]), 1)
    words = f"{work.session.track(key).name} · {level} dB · {what}, {sure}"
    if hits.sharpness[index] > 0.0:
        words += f" · rises {float(hits.sharpness[index]):.0f} dB a ms"
    late_ms = 1000.0 * float(hits.landing_s[index] - hits.time_s[index])
    return words + (f" · lands {late_ms:.1f} ms after its start" if late_ms > 0.05 else "")


def describe_role(work: Workspace, key: str) -> str:
    """What a track is taken for, how sure that is, and what else it hears, in a sentence or two."""
    view = work.view
    assert view is not None
    role, later_s = role_of(view, key), view.verdicts[key].later_s
    same = theme.listed([work.session.name_of(other) for other in role.same_as])
    words = {
        RoleKind.CLOSE: "Close to a drum of its own" + (f", which {same} hears too" if same else ""),
        RoleKind.SECOND: f"Second microphone of {same}",
        RoleKind.NOTES: f"Holds the same line as {same}" if same else "Holds a line of notes",
        RoleKind.KIT: "Hears the whole kit",
        RoleKind.FAR: "Close to no drum that is struck",
    }[role.kind]
    if role.is_given:
        words += " (set by hand)"
    elif role.probability is not None:
        words += f" ({min(100.0 * role.probability, 99.0):.0f} % sure)"
    if later_s:
        words += f", {1000.0 * later_s:.1f} ms late: its strokes are timed by so much earlier"
    if role.hears:
        words += f"; also hears {theme.listed([work.session.name_of(other) for other in role.hears])}"
    return words + "."


def describe_leads(work: Workspace, stroke: int) -> str:
    """Which lead times a stroke, and by how much the others disagree."""
    view = work.view
    assert view is not None
    own = float(view.strokes.time_s[stroke])
    apart = []
    for number, key in enumerate(view.columns):
        other_s = float(view.strokes.lead_times_s[stroke, number])
        apart_ms = 1000.0 * (other_s - own)
        if np.isfinite(other_s) and key != view.lead_of(stroke) and abs(apart_ms) >= _APART_MS:
            apart.append(f"{work.session.name_of(key)} {abs(apart_ms):.1f} ms {'earlier' if apart_ms < 0 else 'later'}")
    return f"{work.session.name_of(view.lead_of(stroke))} decides; {', '.join(apart)}" if apart else ""


def describe_stroke(work: Workspace, index: int) -> str:
    """All there is to say of a stroke, in one line."""
    view = work.view
    assert view is not None
    told = [describe_place(work, index), describe_move(work, index)]
    if view.offsets.fixed[index]:
        told.append("slot given by hand")
    elif view.offsets.close_call[index]:
        told.append(f"or {work.session.grid.bars.place_in_words(float(view.offsets.runner_up[index]))}")
    if view.pairs is not None and view.pairs.partner[index] >= 0:
        apart_ms = 1000.0 * float(view.strokes.time_s[index] - view.pairs.partner_s[index])
        told.append(f"played {theme.signed(apart_ms, 1)} ms from its partner")
    elif view.group.has_pattern and work.looks.shows_moves:
        told.append(f"aims at {theme.signed(float(view.plan.target_ms[index]), 1)} ms")
    told += [describe_gap(work, index), describe_leads(work, index)]
    return " · ".join(words for words in told if words)


def describe_place(work: Workspace, index: int) -> str:
    """Who played a stroke, and at which place."""
    view, grid = work.view, work.session.grid
    assert view is not None
    lead = work.session.name_of(view.lead_of(index))
    place = float(view.offsets.place[index])
    if np.isfinite(place):
        return f"{lead} · {grid.bars.place_in_words(place)}"
    return f"{lead} · in bar {np.floor(float(grid.bar_at(view.strokes.time_s[index]))):.0f}"


def describe_move(work: Workspace, index: int) -> str:
    """How far a stroke lies off, and what becomes of it."""
    view = work.view
    assert view is not None
    offset_ms, move_ms = float(view.offsets.offset_ms[index]), float(view.plan.move_ms[index])
    if not np.isfinite(offset_ms):
        return "no slot of its own, moves along with its neighbours"
    fate = {
        Kept.NO: f"moves by {theme.signed(move_ms, 1)} ms",
        Kept.TOLERANCE: "stays: inside the tolerance",
        Kept.REACH: "stays: past the reach",
        Kept.HELD: "held",
        Kept.RIDES: "moves along",
        Kept.STAYS: "stays: no partner in the reference",
        Kept.GIVEN: f"moved by {theme.signed(move_ms, 1)} ms by hand",
    }[Kept(int(view.plan.kept[index]))]
    return f"{abs(offset_ms):.1f} ms {'early' if offset_ms < 0 else 'late'} · {fate}"
