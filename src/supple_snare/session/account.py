"""An account of what was done, in plain words, to lie beside the files that were handed over."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from supple_snare import __version__
from supple_snare.session.document import Session
from supple_snare.session.handover import Written
from supple_snare.session.proof import questions
from supple_snare.session.stages import GroupView
from supple_snare.sound.cut import Cut
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.tighten import Kept, Response

ACCOUNT_NAME = "what was done.txt"


def account(session: Session, groups: Sequence[tuple[GroupView, Cut | None]], written: Written) -> str:
    """What was done to each group, with figures."""
    lines = [f"{session.name}: tightened with Supple Snare {__version__}", *_of_grid(session)]
    for view, cut in groups:
        lines += ["", *_of_group(session, view, cut)]
    lines += ["", "Files:", *(f"  {path.name}" for path in written.files)]
    if written.left_out:
        lines += ["", "Held by the recordings besides their sound, and not in these files:"]
        lines += [f"  {each}" for each in written.left_out]
    return "\n".join(lines) + "\n"


def _of_grid(session: Session) -> list[str]:
    """Tempo, meters and slots; sections with slots of their own below."""
    grid = session.grid
    slowest, fastest = grid.course.tempo_range_bpm
    tempo = f"{slowest:.6g} bpm" if slowest == fastest else f"{slowest:.4g} to {fastest:.4g} bpm"
    if grid.played is not None:
        tempo = f"following the band, {tempo}"
    meters = [str(grid.meter), *(f"{change.meter} from bar {change.bar}" for change in grid.meter_changes)]
    own = [f"  {section.name}: {section.ruling}" for section in session.ruled_apart]
    return [f"Grid: {tempo}; {', '.join(meters)}; {grid.ruling}", *own]


def _of_group(session: Session, view: GroupView, cut: Cut | None) -> list[str]:
    group, plan = view.group, view.plan
    moved = np.abs(plan.move_ms) > 1e-6
    lines = [f"{group.name}", f"  {_settings(session, group.response, group.aim)}"]
    for own in group.section_settings:
        name = next((section.name for section in session.sections if section.key == own.section), "a section")
        lines.append(f"  {name}: {_settings(session, own.response, own.aim)}")
    median = float(np.median(np.abs(plan.move_ms[moved]))) if moved.any() else 0.0
    most = float(np.abs(plan.move_ms).max(initial=0.0))
    far = f"half of them by less than {median:.1f} ms, none by more than {most:.1f} ms"
    lines.append(f"  {int(moved.sum())} of {len(plan)} strokes moved, {far}")
    kept = {kind: int(np.count_nonzero(plan.kept == kind)) for kind in Kept}
    by_hand = f"{kept[Kept.HELD]} held, {kept[Kept.GIVEN]} moved by hand"
    lines.append(f"  {by_hand}, {kept[Kept.REACH]} left alone past the reach")
    if cut is not None:
        seams = f"{np.count_nonzero(cut.edits.fade)} seams"
        gaps = int(np.count_nonzero(cut.ratio != 1.0))
        if gaps:
            span = [f"{100.0 * (ratio - 1.0):+.1f} %" for ratio in (cut.ratio.min(), cut.ratio.max())]
            seams += f", {gaps} gaps stretched, {span[0]} to {span[1]}"
        lines.append(f"  {seams}, the same in every track")
    asked = questions(session, view, cut)
    left = sum(not question.answered for question in asked)
    lines.append(f"  {len(asked)} doubts, {left} of them not answered")
    return lines


def _settings(session: Session, response: Response, aim: Aim) -> str:
    toward = {
        AimAt.GRID: "the grid",
        AimAt.OWN_FEEL: f"its own feel ({aim.amount:.0%})",
        AimAt.GROOVE: f"the groove “{aim.groove.name if aim.groove else ''}” ({aim.amount:.0%})",
        AimAt.REFERENCE: f"{_reference(session, aim)}, {aim.behind_ms:+g} ms",
    }[aim.at]
    reach = f"{response.reach_ms:g} ms" if response.has_reach else "no limit"
    times = f" {response.times} times over" if response.times > 1 else ""
    return (
        f"toward {toward}; strength {response.strength:.0%}{times}, tolerance {response.tolerance_ms:g} ms, "
        f"reach {reach}, drift kept {response.keep_drift:.0%}"
    )


def _reference(session: Session, aim: Aim) -> str:
    return session.name_of(aim.reference) if session.reference_group(aim) is not None else "nothing"
