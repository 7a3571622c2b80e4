"""Proof: the strokes that want an ear, worst first, and the answers to them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QListView, QListWidget, QListWidgetItem, QPushButton

from supple_snare.desk import stroke_tools
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, choice, fill_choice, head, number, show_number, soft, words
from supple_snare.desk.entries import EntryDelegate
from supple_snare.desk.hear_around import How, hear_chosen
from supple_snare.desk.in_words import describe_leads, describe_move, describe_place
from supple_snare.desk.seam_tools import ahead_ms, given_to, leave_seam, put_seam, seam_of
from supple_snare.desk.workspace import Workspace
from supple_snare.session.doubts import Doubt
from supple_snare.session.edits import give_moves
from supple_snare.session.grid_edits import give_slots
from supple_snare.session.proof import Question, answer_fine, ask_again
from supple_snare.sound.cut import Cut
from supple_snare.timing.tighten import Kept


class ProofCard(Card):
    """A list that gets shorter."""

    title = "Proof"

    def build(self) -> None:
        self._count = words(name="head")
        self.column.addWidget(self._count)
        self.filter = choice("Which doubts are listed", self.refresh)
        self.column.addWidget(self.filter)
        self.list = QListWidget()
        self.list.setAccessibleName("Doubts")
        self.list.setItemDelegate(EntryDelegate(self.list))
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setMinimumHeight(150)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._go)
        self.column.addWidget(self.list, 1)
        self.column.addWidget(head("Hear it, over and over"))
        hear = QGridLayout()
        hear.setSpacing(6)
        ways: tuple[tuple[str, str, How], ...] = (
            ("As played", "Over and over as played (1)", "played"),
            ("Tightened", "Over and over tightened (2)", "tightened"),
            ("In turn", "As played, then tightened, in turn (3)", "turn"),
        )
        for place, (name, hint, how) in enumerate(ways):
            push = button(name, hint)
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, h=how: hear_chosen(self.work, h))
            hear.addWidget(push, 0, place)
        self.column.addLayout(hear)
        self.column.addWidget(head("Answer, and go on"))
        answers = QGridLayout()
        answers.setSpacing(6)
        self._answers: dict[Callable[[Workspace], None], QPushButton] = {}
        for place, (name, hint, act) in enumerate(
            (
                ("Fine", "It may stay as it is planned (Return)", fine),
                ("Hold it", "Keep it as played (H)", hold),
                ("Other slot", "Give it the next best slot (U)", other_slot),
                ("Bring it in", "Past the reach: move it as the others are moved (Shift+I)", bring_in),
                ("Move less", "Only as far as what sounds before it fills the gap (I)", move_less),
                ("Ask again", "Take the answer back", ask),
            )
        ):
            push = button(name, hint, primary=name == "Fine")
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, a=act: a(self.work))
            answers.addWidget(push, place // 3, place % 3)
            self._answers[act] = push
        self.column.addLayout(answers)
        self._seam_head = head("Its seam")
        self._ahead = number(0.0, 500.0, "How far before the stroke its seam ends", unit=" ms", digits=1, step=0.5)
        self._fade = number(0.5, 100.0, "How long this seam's fade is", unit=" ms", digits=1, step=0.5)
        self._own_seam = button("As found", "Leave this seam to the program again")
        self._own_seam.setStyleSheet("padding: 0 10px; min-height: 22px;")
        self._own_seam.clicked.connect(self._leave_seam)
        top, seam = QHBoxLayout(), QHBoxLayout()
        top.addWidget(self._seam_head, 1)
        top.addWidget(self._own_seam)
        for name, box in (("Ahead", self._ahead), ("Fade", self._fade)):
            box.valueChanged.connect(self._put_seam)
            seam.addWidget(soft(name))
            seam.addWidget(box, 1)
        self.column.addLayout(top)
        self.column.addLayout(seam)
        self.column.addWidget(
            words("D and Shift+D go to the next and the one before. Drag its peg or use Alt+←→ to move it yourself.")
        )

    def refresh(self) -> None:
        view, group = self.work.view, self.work.group
        if view is None or group is None:
            self._count.setText("Nothing to proof yet.")
            self.list.clear()
            self._offer_answers()
            return
        asked = self.work.seams.questions_of(group)
        left = [question for question in asked if not question.answered]
        if asked and not left:
            self._count.setText(f"All {len(asked)} doubts are answered: done.")
        else:
            self._count.setText(f"{len(left)} of {len(asked)} left to hear" if asked else "No doubts: done.")
        reasons = sorted({doubt for question in left for doubt in question.reasons})
        choices: list[tuple[str, object]] = [(f"all that are left ({len(left)})", None)]
        choices += [(doubt.word, doubt) for doubt in reasons]
        choices += [(f"answered ({len(asked) - len(left)})", "answered")]
        cut = self.work.seams.cut_of(group)
        if cut is not None:
            choices += [(f"every seam, in order ({len(seam_strokes(cut))})", "seams")]
        fill_choice(self.filter, choices, self.filter.currentData())
        self.list.blockSignals(True)
        if self.filter.currentData() == "seams" and cut is not None:
            shown = seam_strokes(cut)
            words_of = [_entry(self.work, index, [f"jump {cut.jump_db[index]:.0f} dB"]) for index in shown]
        else:
            chosen = shown_questions(asked, self.filter.currentData())
            shown = [question.stroke for question in chosen]
            words_of = [_question_entry(self.work, question) for question in chosen]
        times = [float(view.strokes.time_s[index]) for index in shown]
        if words_of != [self.list.item(row).text() for row in range(self.list.count())]:  # type: ignore[union-attr]
            self.list.clear()
            for text, time_s in zip(words_of, times, strict=True):
                item = QListWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, time_s)
                self.list.addItem(item)
        selected = self.work.looks.selected_s
        self.list.setCurrentRow(times.index(selected) if selected in times else -1)
        self.list.blockSignals(False)
        self._offer_answers()

    def _show_seam(self) -> None:
        """The seam before the selected stroke, if it has one."""
        work, stroke = self.work, self.work.selected
        view, seam = work.view, None if stroke is None else seam_of(work, stroke)
        for part in (self._ahead, self._fade, self._own_seam):
            part.setEnabled(seam is not None)
        if view is None or stroke is None or seam is None:
            self._seam_head.setText("Its seam")
            self._own_seam.setEnabled(False)
            return
        given, ahead = given_to(view, stroke), ahead_ms(work, stroke, seam)
        show_number(self._ahead, ahead)
        show_number(self._fade, seam.fade_ms)
        self._own_seam.setEnabled(given is not None)
        told = ""
        if given is not None:
            wanted = 1000.0 * (float(view.strokes.start_s[stroke]) - given.place_s)
            told = " · put by hand" if abs(wanted - ahead) < 0.1 else " · no room where it was put"
        self._seam_head.setText(f"Its seam{told}")

    def _put_seam(self) -> None:
        work, stroke = self.work, self.work.selected
        seam = None if stroke is None else seam_of(work, stroke)
        if stroke is None or seam is None:
            return
        exact = (ahead_ms(work, stroke, seam), seam.fade_ms)
        typed = (self._ahead.value(), self._fade.value())  # what was not touched stays as it is to the sample
        put_seam(work, stroke, *(was if abs(was - is_) < 0.06 else is_ for was, is_ in zip(exact, typed, strict=True)))

    def _leave_seam(self) -> None:
        if self.work.selected is not None:
            leave_seam(self.work, self.work.selected)

    def _offer_answers(self) -> None:
        """What can be said of the selected stroke; without a doubt about it there is nothing to agree to."""
        self._show_seam()
        question = question_here(self.work)
        for act, push in self._answers.items():
            push.setEnabled(_makes_sense(self.work, act, question))

    def _go(self, row: int) -> None:
        item = self.list.item(row)
        if item is not None:
            time_s = float(item.data(Qt.ItemDataRole.UserRole))
            self.work.look(selected_s=time_s, range_s=None)
            self.work.went.emit(time_s)


def _makes_sense(work: Workspace, act: Callable[[Workspace], None], question: Question | None) -> bool:
    """Whether an answer would change anything about the selected stroke."""
    view, group, stroke = work.view, work.group, work.selected
    if view is None or group is None or stroke is None:
        return False
    if act in (fine, ask):
        return question is not None and question.answered == (act is ask)
    if act is bring_in:
        return bool(view.plan.kept[stroke] == Kept.REACH)
    if act is move_less:
        cut = work.seams.cut_of(group)
        return cut is not None and bool(cut.fits[stroke] != cut.move[stroke])
    return act is not hold or bool(view.plan.kept[stroke] != Kept.HELD)


def seam_strokes(cut: Cut) -> list[int]:
    """Strokes with a seam before them: those that move otherwise than the one before."""
    return np.flatnonzero(np.diff(cut.move, prepend=0)).tolist()


def shown_questions(asked: list[Question], chosen: object) -> list[Question]:
    """The questions of one kind: a reason, the answered ones, or all that are left."""
    if chosen == "answered":
        return [question for question in asked if question.answered]
    left = [question for question in asked if not question.answered]
    return [question for question in left if not isinstance(chosen, Doubt) or chosen in question.reasons]


def _question_entry(work: Workspace, question: Question) -> str:
    told = zip(question.reasons, question.figures, strict=True)
    reasons = [f"{doubt.word}: {figure}" if figure else doubt.word for doubt, figure in told]
    if Doubt.LEADS_APART in question.reasons:
        reasons.append(describe_leads(work, question.stroke))
    entry = _entry(work, question.stroke, reasons)
    return f"✓ {entry}" if question.answered else entry


def _entry(work: Workspace, stroke: int, told: list[str]) -> str:
    """Where a stroke is, what there is to say of it, and what becomes of it."""
    return "\n".join([describe_place(work, stroke), *told, describe_move(work, stroke)])


def question_here(work: Workspace) -> Question | None:
    """The question about the selected stroke."""
    group, selected = work.group, work.selected
    if group is None or selected is None:
        return None
    return next((question for question in work.seams.questions_of(group) if question.stroke == selected), None)


def step_question(work: Workspace, steps: int) -> None:
    """Go to the next or previous stroke that is left, in the order of the list."""
    view, group = work.view, work.group
    if view is None or group is None:
        return
    left = [question.stroke for question in work.seams.questions_of(group) if not question.answered]
    if not left:
        work.tell("No doubts are left.")
        return
    here = left.index(work.selected) if work.selected in left else -1 if steps > 0 else 0
    _select(work, left[(here + steps) % len(left)])


def _select(work: Workspace, stroke: int) -> None:
    assert work.view is not None
    time_s = float(work.view.strokes.time_s[stroke])
    work.look(selected_s=time_s, range_s=None)
    work.went.emit(time_s)


def fine(work: Workspace) -> None:
    """The selected stroke may stay as planned; on to the next."""
    view, question = work.view, question_here(work)
    if view is None or question is None:
        work.tell("Select a doubtful stroke first.")
        return
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
    """Time of the next question after the selected one."""
    group, view, selected = work.group, work.view, work.selected
    if group is None or view is None:
        return None
    left = [question.stroke for question in work.seams.questions_of(group) if not question.answered]
    if selected in left and len(left) > 1:
        return float(view.strokes.time_s[left[(left.index(selected) + 1) % len(left)]])
    return None


def _select_time(work: Workspace, time_s: float) -> None:
    view = work.view
    if view is not None:
        _select(work, int(abs(view.strokes.time_s - time_s).argmin()))
