"""Proofing: the doubts of a group in words and figures, and a person's answers to them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from supple_snare.session.document import Answer, Group, Session
from supple_snare.session.doubts import Doubt, leads_apart_ms, stroke_doubts
from supple_snare.session.edits import change_group
from supple_snare.session.stages import SAME_STROKE_S, GroupView
from supple_snare.sound.cut import Cut
from supple_snare.timing.assign import CLOSE_MARGIN
from supple_snare.timing.units import FloatArray

SAME_MOVE_MS = 0.5
"""An answer holds while the stroke's move stays within this of what it was."""


@dataclass(frozen=True)
class Question:
    """A stroke that a person should hear.

    Attributes
    ----------
    stroke : int
    reasons : tuple of Doubt
        Worst first.
    figures : tuple of str
        To each reason a figure or a few words.
    answered : bool
    """

    stroke: int
    reasons: tuple[Doubt, ...]
    figures: tuple[str, ...]
    answered: bool


def questions(
    session: Session, view: GroupView, cut: Cut | None, doubts: Sequence[tuple[Doubt, ...]] | None = None
) -> list[Question]:
    """All doubtful strokes, worst reason first, then by how bad it is; answered ones with them.

    `doubts` are those of `stroke_doubts`, where they are known already.
    """
    found, apart = [], leads_apart_ms(view.strokes)
    for stroke, mine in enumerate(stroke_doubts(view, cut) if doubts is None else doubts):
        if mine:
            figures = tuple(_figure(session, view, cut, apart, stroke, doubt) for doubt in mine)
            found.append(Question(stroke, mine, figures, _is_answered(view, stroke, mine)))
    return sorted(found, key=lambda question: (question.reasons[0], -_badness(view, question), question.stroke))


def answer_fine(session: Session, view: GroupView, question: Question) -> Session:
    """Let a stroke be, as it is planned now."""
    time_s = float(view.strokes.time_s[question.stroke])
    place = float(view.offsets.place[question.stroke])
    answer = Answer(
        time_s,
        tuple(doubt.word for doubt in question.reasons),
        float(view.plan.move_ms[question.stroke]),
        place if np.isfinite(place) else None,
    )
    kept = _others(view.group, time_s)
    return change_group(session, view.group.key, answers=tuple(sorted((*kept, answer), key=lambda each: each.time_s)))


def ask_again(session: Session, view: GroupView, stroke: int) -> Session:
    """Take an answer back."""
    return change_group(session, view.group.key, answers=tuple(_others(view.group, float(view.strokes.time_s[stroke]))))


def _others(group: Group, time_s: float) -> list[Answer]:
    return [answer for answer in group.answers if abs(answer.time_s - time_s) > SAME_STROKE_S]


def _is_answered(view: GroupView, stroke: int, doubts: tuple[Doubt, ...]) -> bool:
    """Whether somebody said that just this is fine: no new reason, the same slot, the same move."""
    time_s, move_ms = float(view.strokes.time_s[stroke]), float(view.plan.move_ms[stroke])
    place = float(view.offsets.place[stroke])
    for answer in view.group.answers:
        if abs(answer.time_s - time_s) <= SAME_STROKE_S:
            same_place = (answer.place is None and not np.isfinite(place)) or answer.place == place
            same_move = abs(answer.move_ms - move_ms) <= SAME_MOVE_MS
            return same_place and same_move and {doubt.word for doubt in doubts} <= set(answer.reasons)
    return False


def _badness(view: GroupView, question: Question) -> float:
    """Among strokes of one reason, the farther off first."""
    deviation = float(view.plan.deviation_ms[question.stroke])
    return abs(deviation) if np.isfinite(deviation) else 0.0


def _figure(session: Session, view: GroupView, cut: Cut | None, apart_ms: FloatArray, stroke: int, doubt: Doubt) -> str:
    """A figure that says how bad it is."""
    offsets, plan, bars = view.offsets, view.plan, session.grid.bars
    runner_up = float(offsets.runner_up[stroke])
    figures: dict[Doubt, Callable[[], str]] = {
        Doubt.PAST_REACH: lambda: f"{abs(plan.deviation_ms[stroke]):.0f} ms from its aim",
        Doubt.CLOSE_CALL: lambda: f"{_odds(float(offsets.margin[stroke]))}, else {bars.place_in_words(runner_up)}",
        Doubt.LEADS_APART: lambda: f"{apart_ms[stroke]:.0f} ms",
        Doubt.UNSURE_HIT: lambda: f"{100 * view.strokes.confidence[stroke]:.0f} % sure",
    }
    if cut is not None:
        fits_ms = 1000.0 * float(cut.fits[stroke]) / session.rate_hz
        figures[Doubt.TAIL_EXTENDED] = lambda: f"moved {plan.move_ms[stroke]:+.0f} ms, up to {fits_ms:+.0f} fits"
        moved_ms = 1000.0 * float(cut.move[stroke]) / session.rate_hz
        figures[Doubt.MOVE_LIMITED] = lambda: f"{moved_ms:+.0f} ms in place of {plan.move_ms[stroke]:+.0f}"
        figures[Doubt.STRETCHED_FAR] = lambda: f"to {cut.ratio[stroke]:.0%} of its length"
        figures[Doubt.RING_BREAKS] = lambda: f"{1.0 - cut.unlike[stroke]:.0%} in common"
        figures[Doubt.LEVEL_JUMPS] = lambda: f"{cut.jump_db[stroke]:.0f} dB"
    return figures.get(doubt, str)().replace("-", "−")


def _odds(margin: float) -> str:
    """How much likelier a slot is than the next best; where by far, it asks for what it lies near to."""
    return f"{np.exp(margin):.0f} to 1" if margin < CLOSE_MARGIN else "leans to the next line"
