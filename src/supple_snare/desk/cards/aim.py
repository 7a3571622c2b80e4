"""The part of Tighten that says what strokes are drawn toward."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from supple_snare.desk.controls import NumberSlider, button, choice, fill_choice, head, words
from supple_snare.desk.groove_library import show_library
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.document import Group
from supple_snare.session.edits import change_part, set_aim
from supple_snare.timing.aim import Aim, AimAt, Unpaired

_NAMES = {
    AimAt.GRID: ("The grid", "Straight to the lines of the grid, and its swing"),
    AimAt.OWN_FEEL: ("Own feel", "What the playing repeats stays; strength works on the scatter alone"),
    AimAt.GROOVE: ("A groove", "To the feel of another performance, kept as a template"),
    AimAt.REFERENCE: ("Another part", "To the strokes of another group or track: the bass to the drums"),
}
_UNPAIRED = {
    Unpaired.NEIGHBOURS: "go along with their neighbours",
    Unpaired.GRID: "go to the grid",
    Unpaired.STAY: "stay as played",
}


class AimControls(QWidget):
    """Four aims, and what each of them asks for."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(head("Aim at"))
        grid = QGridLayout()
        grid.setSpacing(6)
        self._one_of = QButtonGroup(self)
        self.kinds = {}
        for place, (kind, (name, hint)) in enumerate(_NAMES.items()):
            push = button(name, hint, checkable=True)
            push.clicked.connect(lambda _on, at=kind: self.aim_at(at))
            self._one_of.addButton(push)
            self.kinds[kind] = push
            grid.addWidget(push, place // 2, place % 2)
        column.addLayout(grid)
        self._told = words()
        column.addWidget(self._told)
        self._build_pattern(column)
        self._build_groove(column)
        self._build_reference(column)
        self.keep_drift = self._slider(
            "Keep drift", 0, 100, " %", "How much of the slow push and pull stays", self._set_keep_drift
        )
        column.addWidget(self.keep_drift)

    def _build_pattern(self, column: QVBoxLayout) -> None:
        self.amount = self._slider("Amount", 0, 150, " %", "How much of the pattern counts", self._set_amount)
        column.addWidget(self.amount)

    def _build_groove(self, column: QVBoxLayout) -> None:
        self._of_groove = QWidget()
        inside = _inside(self._of_groove)
        row = QHBoxLayout()
        self.groove = choice("The groove to tighten to", self._choose_groove)
        row.addWidget(self.groove, 1)
        library = button("…", "The library: look at all grooves, change and load them (B)")
        library.setAccessibleName("Groove library")
        library.setFixedWidth(36)
        library.clicked.connect(lambda: show_library(self._work, self))
        row.addWidget(library)
        inside.addLayout(row)
        self.by_tempo = _box(
            "Grows as the tempo falls", "Offsets in parts of a beat; else they keep their milliseconds"
        )
        self.by_tempo.clicked.connect(lambda on: self._change("How the groove scales", by_tempo=on))
        self.between = _box(
            "Slots it does not know go along",
            "They move in proportion to the known ones on either side, so that nothing is crushed between two notes "
            "that move; else they keep to the grid",
        )
        self.between.clicked.connect(lambda on: self._change("Slots the groove does not know", between=on))
        inside.addWidget(self.by_tempo)
        inside.addWidget(self.between)
        self.accents = self._slider(
            "Accents", 0, 100, " %", "How much of the groove's accents goes into the velocities", self._set_accents
        )
        inside.addWidget(self.accents)
        column.addWidget(self._of_groove)

    def _build_reference(self, column: QVBoxLayout) -> None:
        self._of_reference = QWidget()
        inside = _inside(self._of_reference)
        self.reference = choice("The group or track to tighten to", self._choose_reference)
        inside.addWidget(self.reference)
        self.behind = self._slider(
            "Behind it",
            -40,
            40,
            " ms",
            "Wanted offset from the reference: + behind it, − ahead of it",
            self._set_behind,
            step=0.5,
            digits=1,
        )
        inside.addWidget(self.behind)
        inside.addWidget(words("Strokes without a partner"))
        self.unpaired = choice("What strokes without a partner do", self._choose_unpaired)
        inside.addWidget(self.unpaired)
        column.addWidget(self._of_reference)

    def _slider(
        self, name: str, low: float, high: float, unit: str, hint: str, act: Callable[[float], None], *,
        step: float = 1.0, digits: int = 0,
    ) -> NumberSlider:  # fmt: skip
        slider = NumberSlider(name, low, high, step=step, unit=unit, digits=digits, hint=hint)
        slider.changed.connect(act)
        slider.pressed.connect(self._work.begin_gesture)
        slider.released.connect(self._work.end_gesture)
        return slider

    # ---- what is shown

    def refresh(self, group: Group) -> None:
        """Show the aim of a group."""
        aim = self._work.aim
        self.kinds[aim.at].setChecked(True)
        pattern = aim.at in (AimAt.OWN_FEEL, AimAt.GROOVE)
        self.amount.setVisible(pattern)
        self._of_groove.setVisible(aim.at is AimAt.GROOVE)
        self._of_reference.setVisible(aim.at is AimAt.REFERENCE)
        self.keep_drift.setVisible(aim.at is not AimAt.REFERENCE)
        self.amount.set_value(100.0 * aim.amount)
        response = self._work.response
        self.keep_drift.set_value(100.0 * response.keep_drift if response is not None else 0.0)
        self.by_tempo.setChecked(aim.by_tempo)
        self.between.setChecked(aim.between)
        self.accents.setVisible(bool(group.part))
        self.accents.set_value(100.0 * aim.accents)
        self.behind.set_value(aim.behind_ms)
        self._told.setText(self._tell(group))
        self._told.setVisible(bool(self._told.text()))
        grooves = [(groove.name, groove) for _, groove in self._work.grooves()]
        if aim.groove is not None and all(groove != aim.groove for _, groove in grooves):
            grooves.insert(0, (f"{aim.groove.name} (in this session)", aim.groove))
        fill_choice(self.groove, grooves, aim.groove)
        fill_choice(self.reference, self._references(group), aim.reference)
        fill_choice(self.unpaired, [(name, how) for how, name in _UNPAIRED.items()], aim.unpaired)

    def _tell(self, group: Group) -> str:
        view, aim = self._work.view_of(group), self._work.aim
        if aim.at is AimAt.OWN_FEEL:
            return "Strength, tolerance and reach work on the scatter; drift and feel have their own controls."
        if aim.at is AimAt.REFERENCE and view is not None:
            if view.pairs is None:
                return "Listening to the reference …"
            met = int((view.pairs.partner >= 0).sum())
            return f"{met} of {len(view.strokes)} strokes have a partner there, which is met where it will be."
        return ""

    def _references(self, group: Group) -> list[tuple[str, str]]:
        """Other groups, and the tracks of those that have several."""
        session, found = self._work.session, []
        for other in session.groups:
            if other.key != group.key and self._may_aim(group, other.key):
                found.append((other.name, other.key))
                if len(other.tracks) > 1:
                    found += [(f"    {session.name_of(key)}", key) for key in other.tracks]
        return found

    def _may_aim(self, group: Group, reference: str) -> bool:
        try:
            set_aim(self._work.session, group.key, Aim(at=AimAt.REFERENCE, reference=reference))
        except SnareError:
            return False
        return True

    # ---- what is chosen

    def aim_at(self, at: AimAt) -> None:
        """Another aim; a groove or a reference is chosen at once, so that it does something."""
        group = self._work.group
        if group is None:
            return
        changes: dict[str, object] = {"at": at}
        if at is AimAt.GROOVE and self._work.aim.groove is None:
            grooves = self._work.grooves()
            if not grooves:
                self._refuse(group, "There is no groove yet: keep one in the Feel step, or load one in the library.")
                return
            changes["groove"] = grooves[0][1]
        if at is AimAt.REFERENCE:
            references = self._references(group)
            if not references:
                self._refuse(group, "There is no other group to tighten to: a reference is another performance.")
                return
            if self._work.aim.reference not in [key for _, key in references]:
                changes["reference"] = references[0][1]
        self._change(f"Aim at {_NAMES[at][0].lower()}", **changes)

    def _refuse(self, group: Group, text: str) -> None:
        self._work.tell(text)
        self.refresh(group)

    def _choose_groove(self) -> None:
        groove = self.groove.currentData()
        if groove is not None:
            self._change(f"Tighten to “{groove.name}”", groove=groove)

    def _choose_reference(self) -> None:
        key = self.reference.currentData()
        self._change(f"Tighten to {self._work.session.name_of(key)}", reference=key)

    def _choose_unpaired(self) -> None:
        self._change("Strokes without a partner", unpaired=self.unpaired.currentData())

    def _set_amount(self, value: float) -> None:
        self._change("Change the amount", amount=value / 100.0)

    def _set_accents(self, value: float) -> None:
        self._change("Change the accents", accents=value / 100.0)

    def _set_behind(self, value: float) -> None:
        self._change("Change the offset from the reference", behind_ms=value)

    def _set_keep_drift(self, value: float) -> None:
        response = self._work.response
        if response is not None:
            self._work.set_response("Change what is kept of the drift", replace(response, keep_drift=value / 100.0))

    def _change(self, label: str, **changes: object) -> None:
        try:
            self._work.set_aim(label, replace(self._work.aim, **changes))  # type: ignore[arg-type]
        except SnareError as error:
            self._work.tell_problem(str(error))


class PartControls(QWidget):
    """What holds for a MIDI part alone."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        inside = _inside(self)
        inside.addWidget(head("MIDI part"))
        self.ends_follow = _box(
            "Ends go with what is played there", "Gaps and overlaps stay; else every note keeps its length"
        )
        self.ends_follow.clicked.connect(lambda on: self._change("Ends of notes", ends_follow=on))
        self.session_tempo = _box(
            "Write the tempo of the session",
            "Tempo and meters of the grid in place of the file's own; no note sounds at another moment",
        )
        self.session_tempo.clicked.connect(lambda on: self._change("Tempo of the part", session_tempo=on))
        inside.addWidget(self.ends_follow)
        inside.addWidget(self.session_tempo)

    def refresh(self, group: Group) -> None:
        """Show the part of a group, if it is one."""
        self.setVisible(bool(group.part))
        if group.part:
            part = self._work.session.part(group.part)
            self.ends_follow.setChecked(part.ends_follow)
            self.session_tempo.setChecked(part.session_tempo)

    def _change(self, label: str, **changes: object) -> None:
        group = self._work.group
        if group is not None and group.part:
            self._work.do(label, change_part(self._work.session, group.part, **changes))


def _inside(widget: QWidget) -> QVBoxLayout:
    layout = QVBoxLayout(widget)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(4)
    layout.setAlignment(Qt.AlignmentFlag.AlignTop)
    return layout


def _box(text: str, hint: str) -> QCheckBox:
    box = QCheckBox(text)
    box.setToolTip(hint)
    return box
