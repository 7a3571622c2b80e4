"""Proof: the strokes that want an ear, worst first, and the answers to them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QListView, QListWidget, QListWidgetItem, QPushButton

from supple_snare.desk import answers
from supple_snare.desk.answers import ANSWERED, SEAMS
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, choice, fill_choice, head, number, show_number, soft, words
from supple_snare.desk.entries import EntryDelegate
from supple_snare.desk.hear_around import How, hear_chosen
from supple_snare.desk.in_words import describe_leads, describe_move, describe_place
from supple_snare.desk.seam_tools import (
    LEAST_FADE_MS,
    LONGEST_FADE_MS,
    ahead_ms,
    given_to,
    leave_seam,
    put_seam,
    seam_of,
)
from supple_snare.desk.workspace import Workspace
from supple_snare.session.doubts import Doubt
from supple_snare.session.proof import Question


class ProofCard(Card):
    """A list that gets shorter."""

    title = "Proof"

    def build(self) -> None:
        self._count = words(name="head")
        self.column.addWidget(self._count)
        self.filter = choice("Which doubts are listed: D and Shift+D go through them", self._list_others)
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
        grid = QGridLayout()
        grid.setSpacing(6)
        self._answers: dict[Callable[[Workspace], None], QPushButton] = {}
        for place, (name, hint, act) in enumerate(
            (
                ("Fine", "It may stay as it is planned (Return)", answers.fine),
                ("Hold it", "Keep it as played (H)", answers.hold),
                ("Other slot", "Give it the next best slot (U)", answers.other_slot),
                ("Bring it in", "Past the reach: move it as the others are moved (Shift+I)", answers.bring_in),
                ("Move less", "Only as far as what sounds before it fills the gap (I)", answers.move_less),
                ("Ask again", "Take the answer back", answers.ask),
            )
        ):
            push = button(name, hint, primary=name == "Fine")
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, a=act: a(self.work))
            grid.addWidget(push, place // 3, place % 3)
            self._answers[act] = push
        self.column.addLayout(grid)
        self._seam_head = head("Its seam")
        self._seam_shown_s: float | None = None
        self._lengths_ms = (0.0, 0.0)
        self._ahead = number(0.0, 9_999.0, "How far before the stroke its seam ends", unit=" ms", digits=1, step=0.5)
        self._fade = number(
            LEAST_FADE_MS, LONGEST_FADE_MS, "How long this seam's fade is", unit=" ms", digits=1, step=0.5
        )
        self._own_seam = button("As found", "Leave this seam to the program again")
        self._own_seam.setStyleSheet("padding: 0 10px; min-height: 22px;")
        self._own_seam.clicked.connect(self._leave_seam)
        top, seam = QHBoxLayout(), QHBoxLayout()
        top.addWidget(self._seam_head, 1)
        top.addWidget(self._own_seam)
        self._ahead.valueChanged.connect(lambda ahead: self._put_seam(ahead, self._lengths_ms[1]))
        self._fade.valueChanged.connect(lambda fade: self._put_seam(self._lengths_ms[0], fade))
        for name, box in (("Ahead", self._ahead), ("Fade", self._fade)):
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
        choices += [(f"answered ({len(asked) - len(left)})", ANSWERED)]
        cut, chosen = self.work.seams.cut_of(group), self.work.looks.proofing
        if cut is not None:
            choices += [(f"every seam, in order ({len(answers.seam_strokes(cut))})", SEAMS)]
        if isinstance(chosen, Doubt) and chosen not in reasons:
            choices += [(f"{chosen.word} (none left)", chosen)]
        fill_choice(self.filter, choices, chosen)
        self.list.blockSignals(True)
        shown = answers.listed(self.work)
        if chosen == SEAMS and cut is not None:
            words_of = [_entry(self.work, index, [f"jump {cut.jump_db[index]:.0f} dB"]) for index in shown]
        else:
            words_of = [_question_entry(self.work, question) for question in answers.listed_questions(self.work)]
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

    def _list_others(self) -> None:
        self.work.look(proofing=self.filter.currentData())

    def _show_seam(self) -> None:
        """The seam before the selected stroke, if it has one; while it is looked for, what was said of it."""
        work, stroke = self.work, self.work.selected
        view = work.view
        if view is not None and work.seams.cut_of(view.group) is None and work.looks.selected_s == self._seam_shown_s:
            return  # whoever turns a number goes on turning it
        self._seam_shown_s = work.looks.selected_s
        seam = None if stroke is None else seam_of(work, stroke)
        for part in (self._ahead, self._fade, self._own_seam):
            part.setEnabled(seam is not None)
        if view is None or stroke is None or seam is None:
            self._seam_head.setText("Its seam")
            self._own_seam.setEnabled(False)
            return
        given, ahead = given_to(view, stroke), ahead_ms(work, stroke, seam)
        self._lengths_ms = ahead, seam.fade_ms  # what is not touched stays as it is to the sample
        show_number(self._ahead, ahead)
        show_number(self._fade, seam.fade_ms)
        self._own_seam.setEnabled(given is not None)
        told = ""
        if given is not None:
            wanted = 1000.0 * (float(view.strokes.start_s[stroke]) - given.place_s)
            told = " · put by hand" if abs(wanted - ahead) < 0.1 else " · no room where it was put"
        self._seam_head.setText(f"Its seam{told}")

    def _put_seam(self, ahead: float, fade_ms: float) -> None:
        self._lengths_ms = ahead, fade_ms
        if self.work.selected is not None:
            put_seam(self.work, self.work.selected, ahead, fade_ms)

    def _leave_seam(self) -> None:
        if self.work.selected is not None:
            leave_seam(self.work, self.work.selected)

    def _offer_answers(self) -> None:
        """What can be said of the selected stroke; without a doubt about it there is nothing to agree to."""
        self._show_seam()
        question = answers.question_here(self.work)
        for act, push in self._answers.items():
            push.setEnabled(answers.makes_sense(self.work, act, question))

    def _go(self, row: int) -> None:
        item = self.list.item(row)
        if item is not None:
            time_s = float(item.data(Qt.ItemDataRole.UserRole))
            self.work.look(selected_s=time_s, range_s=None)
            self.work.went.emit(time_s)


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
