"""The part of Tighten that says how strokes come to their new places."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QWidget

from supple_snare.desk.controls import choice, fill_choice, head, number, show_number, soft, words
from supple_snare.desk.stretch_tools import METHOD_NAMES, change_in_words
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import Group
from supple_snare.session.edits import change_group
from supple_snare.sound.stretch.ways import Method

_HINT = (
    "Cutting moves whole pieces and joins them at seams: for drums. Stretching makes what rings between attacks longer "
    "or shorter: for basses, guitars, keys, winds and voices. Automatic chooses by the sound of the first lead."
)


class MethodControls(QWidget):
    """Cutting, stretching or automatic, and how far a gap may be stretched before it is a doubt."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        grid.addWidget(head("Moved by"), 0, 0)
        self.method = choice(_HINT, self._choose)
        grid.addWidget(self.method, 0, 1, 1, 3)
        self._told = words()
        grid.addWidget(self._told, 1, 0, 1, 4)
        self.least = number(-80.0, 0.0, "A gap that is made shorter by more is a doubt", unit=" %")
        self.most = number(0.0, 300.0, "A gap that is made longer by more is a doubt", unit=" %")
        self._limits = QWidget()
        row = QHBoxLayout(self._limits)
        row.setContentsMargins(0, 0, 0, 0)
        for widget in (soft("Doubt beyond"), self.least, soft("to"), self.most):
            row.addWidget(widget)
        grid.addWidget(self._limits, 2, 0, 1, 4)
        for box in (self.least, self.most):
            box.valueChanged.connect(self._limit)

    def refresh(self, group: Group) -> None:
        """Show what holds for a group in the scope that is chosen."""
        self.setVisible(not group.part)
        method = self._work.method
        fill_choice(self.method, [(name, kind.value) for kind, name in METHOD_NAMES.items()], method.value)
        cut = self._work.seams.cut_of(group)
        ratios = np.ones(0) if cut is None else cut.ratio[cut.ratio != 1.0]
        stretches = method is not Method.CUT and len(ratios) > 0
        if stretches:
            longest, shortest = float(ratios.max()), float(ratios.min())
            most = f"{change_in_words(min(shortest, 1.0))} to {change_in_words(max(longest, 1.0))}"
            self._told.setText(f"{len(ratios)} gaps are stretched, {most}; attacks are copied as they are.")
        elif method is Method.CUT or cut is None:
            self._told.setText("")
        else:
            self._told.setText("Its sound is cut here: nothing rings from stroke to stroke, or nothing moves.")
        self._told.setVisible(bool(self._told.text()))
        self._limits.setVisible(stretches)
        least, most_ = group.stretch_limits
        show_number(self.least, 100.0 * (least - 1.0))
        show_number(self.most, 100.0 * (most_ - 1.0))

    def _choose(self) -> None:
        method = Method(self.method.currentData())
        self._work.set_method(f"Move by {METHOD_NAMES[method].lower()}", method)

    def _limit(self) -> None:
        group = self._work.group
        if group is not None:
            limits = (1.0 + self.least.value() / 100.0, 1.0 + self.most.value() / 100.0)
            changed = change_group(self._work.session, group.key, stretch_limits=limits)
            self._work.do("Change when a stretch is a doubt", changed)
