"""Seams moved by hand, in the loupe or by number, and left to the program again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.cutting import cut_settings
from supple_snare.session.document import SeamGiven, Slide
from supple_snare.session.edits import SAME_HIT_S, give_seam, slide_range
from supple_snare.session.stages import GroupView
from supple_snare.sound.editlist import EditList
from supple_snare.timing.units import s_to_samples

LEAST_FADE_MS, LONGEST_FADE_MS = 0.5, 100.0
_SAME_MS = 0.05


@dataclass(frozen=True)
class SeamSeen:
    """A seam of the group on the page.

    Attributes
    ----------
    place_s : float
        From which moment of the recording the coming side sounds alone.
    start_s, end_s : float
        Its fade in the tightened version.
    """

    place_s: float
    start_s: float
    end_s: float

    @property
    def fade_ms(self) -> float:
        """How long its fade is."""
        return 1000.0 * (self.end_s - self.start_s)


def seams_between(work: Workspace, start_s: float, end_s: float) -> list[SeamSeen]:
    """Seams of the tightened version whose fades touch a stretch of it."""
    if work.view is None:
        return []
    edits, rate = work.seams.edits_of(work.view.group), work.session.rate_hz
    ends, starts = edits.at / rate, (edits.at - edits.fade) / rate
    touching = np.flatnonzero((ends > start_s) & (starts < end_s) & (edits.fade > 0))
    return [_seen(edits, index, rate) for index in touching.tolist()]


def _seen(edits: EditList, index: int, rate_hz: int) -> SeamSeen:
    at, shift, fade = (int(column[index]) for column in (edits.at, edits.shift, edits.fade))
    return SeamSeen((at - shift) / rate_hz, (at - fade) / rate_hz, at / rate_hz)


def seam_of(work: Workspace, stroke: int) -> SeamSeen | None:
    """The last seam before a stroke, if it is known and the stroke moves otherwise than the one before it."""
    view = work.view
    cut = None if view is None else work.seams.cut_of(view.group)
    if view is None or cut is None or not cut.has_seam[stroke]:
        return None
    rate = work.session.rate_hz
    heard = s_to_samples(view.strokes.start_s[stroke], rate) + cut.move[stroke]
    return _seen(cut.edits, int(cut.edits.piece_at(heard)), rate)


def ahead_ms(work: Workspace, stroke: int, seam: SeamSeen) -> float:
    """How far before its stroke a seam ends."""
    assert work.view is not None
    return 1000.0 * (float(work.view.strokes.start_s[stroke]) - seam.place_s)


def given_to(view: GroupView, stroke: int) -> SeamGiven | None:
    """What was said by hand of the seam before a stroke."""
    time_s = float(view.strokes.time_s[stroke])
    return next((each for each in view.group.seams_given if abs(each.time_s - time_s) <= SAME_HIT_S), None)


def put_seam(work: Workspace, stroke: int, ahead: float, fade_ms: float) -> None:
    """Let the seam before a stroke end so many ms before it, with a fade so long: its own, unless the group has it."""
    view = work.view
    if view is None or work.group is None:
        return
    time_s, place_s = float(view.strokes.time_s[stroke]), float(view.strokes.start_s[stroke]) - ahead / 1000.0
    fade_ms = min(max(fade_ms, LEAST_FADE_MS), LONGEST_FADE_MS)
    is_of_group = abs(fade_ms - cut_settings(view).fade_ms) < _SAME_MS
    given = give_seam(work.session, work.group.key, time_s, place_s, None if is_of_group else fade_ms)
    work.do("Change a seam", given)


def leave_seam(work: Workspace, stroke: int) -> None:
    """Leave the seam before a stroke to the program again."""
    if work.view is not None and work.group is not None:
        time_s = float(work.view.strokes.time_s[stroke])
        work.do("Leave a seam to the program", give_seam(work.session, work.group.key, time_s, None))


def drag_seam(work: Workspace, seam: SeamSeen, by_s: float) -> None:
    """Move a seam; it belongs to the stroke whose piece comes after it, or to what slides."""
    view = work.view
    if view is None or work.group is None:
        return
    if (slide := _slide_at(view, seam.place_s, work.session.rate_hz)) is not None:
        _move_end(work, slide, seam.place_s, by_s)
    elif (stroke := _stroke_after(work, seam)) is not None:
        put_seam(work, stroke, ahead_ms(work, stroke, seam) - 1000.0 * by_s, seam.fade_ms)


def drag_fade(work: Workspace, seam: SeamSeen, fade_ms: float) -> None:
    """Make one seam's fade longer or shorter: it begins elsewhere and ends where it did."""
    view = work.view
    if view is None:
        return
    if _slide_at(view, seam.place_s, work.session.rate_hz) is not None:
        work.tell("The cuts of slid sound have the fade of the group: set it in Tighten.")
    elif (stroke := _stroke_after(work, seam)) is not None:
        put_seam(work, stroke, ahead_ms(work, stroke, seam), fade_ms)


def leave_seen(work: Workspace, seam: SeamSeen) -> None:
    """Leave this seam to the program again."""
    if work.view is not None and (stroke := _stroke_after(work, seam)) is not None:
        leave_seam(work, stroke)


def _stroke_after(work: Workspace, seam: SeamSeen) -> int | None:
    """The stroke that a seam belongs to; says so where there is none."""
    assert work.view is not None
    after = int(np.searchsorted(work.view.strokes.start_s, seam.place_s - 1e-6))
    if after < len(work.view.strokes):
        return after
    work.tell("After the last stroke the sound comes back to its place by itself.")
    return None


def _slide_at(view: GroupView, place_s: float, rate_hz: int) -> Slide | None:
    """The slide that starts or ends at a place."""
    ends = (min(abs(slide.start_s - place_s), abs(slide.end_s - place_s)) for slide in view.group.slides)
    return next((slide for slide, away in zip(view.group.slides, ends, strict=True) if away < 1.5 / rate_hz), None)


def _move_end(work: Workspace, slide: Slide, place_s: float, by_s: float) -> None:
    """Let a slide start or end elsewhere."""
    assert work.group is not None
    at_start = abs(slide.start_s - place_s) < abs(slide.end_s - place_s)
    span = (slide.start_s + by_s, slide.end_s) if at_start else (slide.start_s, slide.end_s + by_s)
    without = slide_range(work.session, work.group.key, slide.start_s, slide.end_s, -slide.move_ms)
    try:
        work.do("Move a cut", slide_range(without, work.group.key, *span, slide.move_ms))
    except SnareError as error:
        work.tell_problem(str(error))
