"""What is asked of the strokes that want an ear, which of it is listed, and the answers."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from supple_snare.desk import stroke_tools
from supple_snare.desk.workspace import Workspace
from supple_snare.session.doubts import Doubt
from supple_snare.session.edits import give_moves
from supple_snare.session.grid_edits import give_slots
from supple_snare.session.proof import Question, answer_fine, ask_again
from supple_snare.sound.cut import Cut
from supple_snare.timing.tighten import Kept

ANSWERED, SEAMS = "answered", "seams"
"""What can be listed besides what is left to hear, all or of one reason."""


def seam_strokes(cut: Cut) -> list[int]:
    """Strokes with a seam before them, in order."""
    return np.flatnonzero(cut.has_seam).tolist()


def listed_questions(work: Workspace) -> list[Question]:
    """The questions of the kind that is listed: a reason, the answered ones, or all that are left."""
    chosen, group = work.looks.proofing, work.group
    asked = [] if group is None else work.seams.questions_of(group)
    if chosen == ANSWERED:
        return [question for question in asked if question.answered]
    left = [question for question in asked if not question.answered]
    return [question for question in left if not isinstance(chosen, Doubt) or chosen in question.reasons]


def listed(work: Workspace) -> list[int]:
    """The strokes that are listed, in the order of the list."""
    cut = None if work.group is None else work.seams.cut_of(work.group)
    if work.looks.proofing == SEAMS and cut is not None:
        return seam_strokes(cut)
    return [question.stroke for question in listed_questions(work)]


def question_here(work: Workspace) -> Question | None:
    """The question about the selected stroke."""
    group, selected = work.group, work.selected
    if group is None or selected is None:
        return None
    return next((question for question in work.seams.questions_of(group) if question.stroke == selected), None)


def step_question(work: Workspace, steps: int) -> None:
    """Go to the next or previous stroke of the list."""
    if work.view is None or work.group is None:
        return
    strokes = listed(work)
    if not strokes:
        nothing = "No doubts are left." if work.looks.proofing is None else "Nothing is left in this list."
        work.tell(nothing)
        return
    here = strokes.index(work.selected) if work.selected in strokes else -1 if steps > 0 else 0
    _select(work, strokes[(here + steps) % len(strokes)])


def _select(work: Workspace, stroke: int) -> None:
    assert work.view is not None
    time_s = float(work.view.strokes.time_s[stroke])
    work.look(selected_s=time_s, range_s=None)
    work.went.emit(time_s)


def fine(work: Workspace) -> None:
    """The selected stroke may stay as planned; on to the next. A seam nobody asked about needs no answer."""
    view, question = work.view, question_here(work)
    if view is None or (question is None and work.looks.proofing != SEAMS):
        work.tell("Select a doubtful stroke first.")
    elif question is None or question.answered:
        step_question(work, 1)
    else:
        answered = answer_fine(work.session, view, question)
        _go_on_after(work, lambda work: work.do("Fine", answered))


def hold(work: Workspace) -> None:
    """Keep the selected stroke as played; on to the next."""
    _go_on_after(work, stroke_tools.hold_selection)


def bring_in(work: Workspace) -> None:
    """Move the selected stroke although it lies past the reach; on to the next."""
    _go_on_after(work, stroke_tools.bring_in_selection)


def other_slot(work: Workspace) -> None:
    """Give the selected stroke its runner-up."""
    view, group, selected = work.view, work.group, work.selected
    if view is None or group is None or selected is None:
        work.tell("Select a stroke first.")
        return
    index = [selected]
    changed = give_slots(work.session, group.key, view.strokes.time_s[index], view.offsets.runner_up[index])
    work.do("The other slot", changed)


def move_less(work: Workspace) -> None:
    """Move the selected stroke only as far as the sound before it reaches."""
    view, group, stroke = work.view, work.group, work.selected
    cut = None if group is None else work.seams.cut_of(group)
    if view is None or group is None or stroke is None or cut is None:
        work.tell("Select a stroke first.")
        return
    fits_ms = 1000.0 * float(cut.fits[stroke]) / work.session.rate_hz
    if cut.fits[stroke] == cut.move[stroke]:
        work.tell("What sounds before this stroke fills its gap already.")
        return
    work.do("Move less", give_moves(work.session, group.key, {float(view.strokes.time_s[stroke]): fits_ms}))


def ask(work: Workspace) -> None:
    """Take the answer to the selected stroke back."""
    if work.view is not None and work.selected is not None:
        work.do("Ask again", ask_again(work.session, work.view, work.selected))


def _go_on_after(work: Workspace, answer: Callable[[Workspace], object]) -> None:
    """Answer, and select the question that was next before: the answer takes this one off the list."""
    following = _following(work)
    answer(work)
    if following is not None:
        _select_time(work, following)


def _following(work: Workspace) -> float | None:
    """Time of the stroke listed after the selected one."""
    view, selected, strokes = work.view, work.selected, listed(work)
    if view is not None and selected in strokes and len(strokes) > 1:
        return float(view.strokes.time_s[strokes[(strokes.index(selected) + 1) % len(strokes)]])
    return None


def _select_time(work: Workspace, time_s: float) -> None:
    view = work.view
    if view is not None:
        _select(work, int(abs(view.strokes.time_s - time_s).argmin()))


def makes_sense(work: Workspace, act: Callable[[Workspace], None], question: Question | None) -> bool:
    """Whether an answer would change anything about the selected stroke."""
    view, group, stroke = work.view, work.group, work.selected
    if view is None or group is None or stroke is None:
        return False
    if act is fine and work.looks.proofing == SEAMS:
        return True
    if act in (fine, ask):
        return question is not None and question.answered == (act is ask)
    if act is bring_in:
        return bool(view.plan.kept[stroke] == Kept.REACH)
    if act is move_less:
        cut = work.seams.cut_of(group)
        return cut is not None and bool(cut.fits[stroke] != cut.move[stroke])
    return act is not hold or bool(view.plan.kept[stroke] != Kept.HELD)
