"""Tighten: the response curve and its three controls."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QMenu, QToolButton, QWidget

from supple_snare.desk import stroke_tools
from supple_snare.desk.cards.aim import AimControls, PartControls
from supple_snare.desk.cards.base import Card
from supple_snare.desk.cards.method import MethodControls
from supple_snare.desk.controls import (
    NumberSlider,
    button,
    choice,
    fill_choice,
    head,
    number,
    show_number,
    soft,
    words,
)
from supple_snare.desk.response_curve import ResponseCurve
from supple_snare.desk.seam_tools import LEAST_FADE_MS, LONGEST_FADE_MS
from supple_snare.desk.slot_advice import SlotAdvice
from supple_snare.errors import UsageError
from supple_snare.session.cutting import cut_settings
from supple_snare.session.edits import change_group, follow_take
from supple_snare.timing.tighten import MOST_TIMES, NO_REACH_MS, Kept, Response

_LONGEST_REACH_MS = 120.0
"""At its right end the slider means no limit."""

_CHOICES = {
    "A touch": Response(strength=0.5, tolerance_ms=6.0, reach_ms=45.0),
    "Most of it": Response(strength=0.8, tolerance_ms=4.0, reach_ms=45.0),
    "Only the worst": Response(strength=0.9, tolerance_ms=15.0, reach_ms=70.0),
    "All of it": Response(strength=1.0, tolerance_ms=0.0, reach_ms=NO_REACH_MS),
}


class TightenCard(Card):
    """How much of each deviation goes."""

    title = "Tighten"

    def build(self) -> None:
        self.column.setSpacing(5)
        self.scope = choice("What the settings hold for: the whole take, or one section", self._choose_scope)
        self.follow = button("As the take", "Drop what this section has of its own")
        self.follow.setFixedHeight(28)
        self.follow.clicked.connect(self._follow_take)
        self._scopes = QWidget()
        row = QHBoxLayout(self._scopes)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.scope, 1)
        row.addWidget(self.follow)
        self.column.addWidget(self._scopes)
        self.column.addWidget(SlotAdvice(self.work))
        self._curve = ResponseCurve(self.work)
        self.column.addWidget(self._curve)
        self._result = words(name="head")
        self.column.addWidget(self._result)
        self._kept = soft()
        self.column.addWidget(self._kept)
        self._build_response()
        self.aim = AimControls(self.work)
        self.column.addWidget(self.aim)
        self.method = MethodControls(self.work)
        self.column.addWidget(self.method)
        self.part = PartControls(self.work)
        self.column.addWidget(self.part)
        self._build_whole()
        self._build_by_hand()
        self._build_seams()
        self.column.addStretch(1)

    def _build_response(self) -> None:
        self.strength = NumberSlider("Strength", 0, 100, unit=" %", hint="How much of a deviation goes")
        self.tolerance = NumberSlider(
            "Tolerance", 0, 40, step=0.5, unit=" ms", digits=1, hint="Deviations up to this stay"
        )
        self.reach = NumberSlider(
            "Reach", 5, _LONGEST_REACH_MS, step=1.0, unit=" ms", hint="Deviations past this stay, and are doubts"
        )
        for control in (self.strength, self.tolerance, self.reach):
            control.changed.connect(self._changed)
            control.pressed.connect(self.work.begin_gesture)
            control.released.connect(self.work.end_gesture)
            self.column.addWidget(control)
        choices = QGridLayout()
        choices.setSpacing(6)
        for place, (name, response) in enumerate(_CHOICES.items()):
            push = button(name, _describe(response))
            push.clicked.connect(lambda _on, n=name, r=response: self._choose(n, r))
            choices.addWidget(push, place // 2, place % 2)
        self.again = button("", "Tighten what is left once more, by the same settings; after four times once")
        self.again.clicked.connect(self._again)
        choices.addWidget(self.again, 2, 0, 1, 2)
        self.column.addLayout(choices)
        self.column.addSpacing(4)

    def _build_whole(self) -> None:
        """What holds for the whole group."""
        self.column.addWidget(head("Who moves"))
        self.join = NumberSlider(
            "Join", 0, 5, step=0.1, unit=" ms", digits=1,
            hint="Neighbours whose moves differ by no more than twice that travel as one piece: fewer seams",
        )  # fmt: skip
        self.join.changed.connect(lambda value: self._change_group("Change what is joined", join_ms=value))
        self.join.pressed.connect(self.work.begin_gesture)
        self.join.released.connect(self.work.end_gesture)
        self.column.addWidget(self.join)
        row = QHBoxLayout()
        self.free = QToolButton()
        self.free.setObjectName("plain")
        self.free.setToolTip("Leads whose strokes go along with their neighbours, or stay as played")
        self.free.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.free.setFixedHeight(28)
        menu = QMenu(self.free)
        menu.aboutToShow.connect(lambda: self._offer_leads(menu))
        self.free.setMenu(menu)
        self.column.addWidget(self.free)
        row.addWidget(soft("Only strokes louder than"))
        self.softest = number(
            -80.0, 0.0, "Only strokes at least this loud; softer ones go along", unit=" dB", lowest="any"
        )
        self.softest.setFixedWidth(76)
        self.softest.valueChanged.connect(self._change_softest)
        row.addWidget(self.softest)
        self.column.addLayout(row)

    def _build_by_hand(self) -> None:
        self.column.addWidget(head("Selected stroke or range, by hand"))
        grid = QGridLayout()
        grid.setSpacing(6)
        for place, (name, hint, act) in enumerate(
            (
                ("Hold", "Keep it as played (H)", stroke_tools.hold_selection),
                ("Release", "Drop the holds there (Shift+H)", stroke_tools.release_selection),
                ("Even out", "Move what lies between its ends evenly between them (E)", stroke_tools.even_selection),
                ("One piece", "Its strokes move together, as the first of them does (J)", stroke_tools.join_selection),
                ("Only this", "Tighten only the range; hold all else as played", stroke_tools.tighten_only),
                (
                    "As found",
                    "Drop every edit by hand there: holds, moves, pieces, slots, seams, hits (X)",
                    stroke_tools.drop_selection,
                ),
            )
        ):
            push = button(name, hint)
            push.clicked.connect(lambda _on, a=act: a(self.work))
            push.setStyleSheet("padding: 4px 2px;")
            grid.addWidget(push, place // 3, place % 3)
        self.column.addLayout(grid)
        self.column.addWidget(
            words(
                "Drag the head of a peg to move its stroke; Alt+←→ by 1 ms, with Shift by a sample: "
                "the strokes of a range, or the sound in one without strokes."
            )
        )

    def _build_seams(self) -> None:
        self._seams = QWidget()
        grid = QGridLayout(self._seams)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        grid.addWidget(head("Seams"), 0, 0)
        self.by_material = button("As the sound asks", "Lengths that suit the material of the first lead")
        self.by_material.clicked.connect(lambda: self._change_group("Seams as the sound asks", cut=None))
        grid.addWidget(self.by_material, 0, 1, 1, 3)
        self.lead_in = number(0.5, 50.0, "How far before an attack its seam ends", unit=" ms", digits=1, step=0.5)
        self.fade = number(
            LEAST_FADE_MS, LONGEST_FADE_MS, "Longest crossfade; shorter where strokes are close", unit=" ms", digits=1
        )
        for place, (name, box) in enumerate((("Lead-in", self.lead_in), ("Fade", self.fade))):
            box.valueChanged.connect(self._change_seams)
            grid.addWidget(soft(name), 1, 2 * place)
            grid.addWidget(box, 1, 2 * place + 1)
        self.room_tone = QCheckBox("Room tone where a tail is too short")
        self.room_tone.setToolTip("Gaps that the sound before cannot fill get a stretch in which nobody plays")
        self.room_tone.clicked.connect(self._change_seams)
        grid.addWidget(self.room_tone, 2, 0, 1, 4)
        self.column.addWidget(self._seams)
        self._seam_words = words("Brass bars at the foot of the page are fades; drag one in the loupe (O).")
        self.column.addWidget(self._seam_words)

    def _change_seams(self) -> None:
        view = self.work.view
        if view is not None:
            cut = replace(
                cut_settings(view),
                lead_in_ms=self.lead_in.value(),
                fade_ms=self.fade.value(),
                room_tone=self.room_tone.isChecked(),
            )
            self._change_group("Change the seams", cut=cut)

    def refresh(self) -> None:
        group, view, response = self.work.group, self.work.view, self.work.response
        self.setEnabled(group is not None)
        if group is None or response is None:
            return
        session = self.work.session
        self._scopes.setVisible(bool(session.sections))
        own = {each.section for each in group.section_settings}
        scopes: list[tuple[str, str | None]] = [("the whole take", None)]
        scopes += [(f"{each.name}{' (its own)' if each.key in own else ''}", each.key) for each in session.sections]
        fill_choice(self.scope, scopes, self.work.scope)
        self.follow.setEnabled(self.work.scope in own)
        self.aim.refresh(group)
        self.method.refresh(group)
        self.part.refresh(group)
        self.strength.set_value(100.0 * response.strength)
        self.tolerance.set_value(response.tolerance_ms)
        self.reach.set_value(min(response.reach_ms, _LONGEST_REACH_MS))
        times = {1: "Again on what is left", 2: "Done twice · again"}
        self.again.setText(times.get(response.times, f"Done {response.times} times · again"))
        self.join.set_value(group.join_ms)
        self.join.setVisible(not group.part)
        show_number(self.softest, -80.0 if group.softest_db is None else group.softest_db)
        fates = [f"{session.name_of(key)} free" for key in group.free_leads]
        fates += [f"{session.name_of(key)} held" for key in group.held_leads]
        self.free.setText(f"{', '.join(fates) or 'All leads are tightened'} ▾")
        self._seams.setVisible(not group.part)
        self._seam_words.setVisible(not group.part)
        self.by_material.setEnabled(group.cut is not None)
        if view is not None:
            lengths = cut_settings(view)
            show_number(self.lead_in, lengths.lead_in_ms)
            show_number(self.fade, lengths.fade_ms)
            self.room_tone.setChecked(lengths.room_tone)
        if view is None:
            self._result.setText("Listening …")
            self._kept.setText("")
            return
        moves = view.plan.move_ms
        moving = np.abs(moves) > 1e-6
        median = float(np.median(np.abs(moves[moving]))) if moving.any() else 0.0
        self._result.setText(f"{int(moving.sum())} of {len(moves)} strokes move · median {median:.0f} ms")
        counts = {kind: int(np.count_nonzero(view.plan.kept == kind)) for kind in Kept}
        told = f"{counts[Kept.TOLERANCE]} in tolerance · {counts[Kept.HELD]} held · {counts[Kept.REACH]} past reach"
        told += f" · {counts[Kept.GIVEN]} by hand" if counts[Kept.GIVEN] else ""
        self._kept.setText(told + (f" · {counts[Kept.STAYS]} alone" if counts[Kept.STAYS] else ""))

    def _choose_scope(self) -> None:
        self.work.look(scope=self.scope.currentData())

    def _follow_take(self) -> None:
        group, scope = self.work.group, self.work.scope
        if group is not None and scope is not None:
            self.work.do("Tighten a section as the take", follow_take(self.work.session, group.key, scope))

    def _changed(self) -> None:
        before = self.work.response
        if before is None:
            return
        tolerance = self.tolerance.value()
        reach = max(self.reach.value(), tolerance)
        try:
            response = replace(
                before,
                strength=self.strength.value() / 100.0,
                tolerance_ms=tolerance,
                reach_ms=NO_REACH_MS if reach >= _LONGEST_REACH_MS else reach,
            )
        except UsageError as error:
            self.work.tell_problem(str(error))
            return
        self.work.set_response(f"Change the {_what_changed(before, response)}", response)

    def _choose(self, name: str, response: Response) -> None:
        before = self.work.response
        if before is not None:
            response = replace(response, keep_drift=before.keep_drift)
            self.work.set_response(f"Tighten: {name.lower()}", response)

    def _again(self) -> None:
        before = self.work.response
        if before is not None:
            times = before.times % MOST_TIMES + 1
            label = "Tighten what is left again" if times > 1 else "Tighten once"
            self.work.set_response(label, replace(before, times=times))

    def _change_group(self, label: str, **changes: object) -> None:
        group = self.work.group
        if group is not None:
            self.work.do(label, change_group(self.work.session, group.key, **changes))

    def _change_softest(self, value: float) -> None:
        self._change_group("Change who moves", softest_db=None if value <= self.softest.minimum() else value)

    def _offer_leads(self, menu: QMenu) -> None:
        group, view = self.work.group, self.work.view
        menu.clear()
        if group is None or view is None:
            return
        for key in view.columns:
            name = self.work.session.name_of(key)
            for fate, words_of, leads in (
                ("free_leads", f"{name} goes along with its neighbours", group.free_leads),
                ("held_leads", f"{name} stays as played", group.held_leads),
            ):
                action = menu.addAction(words_of)
                assert action is not None
                action.setCheckable(True)
                action.setChecked(key in leads)
                action.triggered.connect(lambda on, k=key, f=fate: self.treat_lead(k, f if on else None))
            menu.addSeparator()

    def treat_lead(self, key: str, fate: str | None) -> None:
        """Let a lead's strokes go along ("free_leads"), stay ("held_leads"), or be tightened as usual (None)."""
        group = self.work.group
        if group is None:
            return
        name = self.work.session.name_of(key)
        label = {"free_leads": f"Leave {name} free", "held_leads": f"Hold {name}", None: f"Tighten {name}"}[fate]
        changes: dict[str, tuple[str, ...]] = {}
        for each, leads in (("free_leads", group.free_leads), ("held_leads", group.held_leads)):
            others = tuple(other for other in leads if other != key)
            changes[each] = (*others, key) if each == fate else others
        self._change_group(label, **changes)


def _what_changed(old: Response, new: Response) -> str:
    if old.strength != new.strength:
        return "strength"
    return "tolerance" if old.tolerance_ms != new.tolerance_ms else "reach"


def _describe(response: Response) -> str:
    reach = f"reach {response.reach_ms:g} ms" if response.has_reach else "no reach limit"
    return f"Strength {response.strength:.0%}, tolerance {response.tolerance_ms:g} ms, {reach}"
