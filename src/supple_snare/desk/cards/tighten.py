"""Tighten: the response curve and its three controls."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtWidgets import QGridLayout

from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import NumberSlider, button, head, soft, words
from supple_snare.desk.response_curve import ResponseCurve
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import UsageError
from supple_snare.session.edits import change_group, hold_range, release_range
from supple_snare.timing.tighten import NO_REACH_MS, Kept, Response

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
        self._curve = ResponseCurve(self.work)
        self.column.addWidget(self._curve)
        self.strength = NumberSlider("Strength", 0, 100, unit=" %", hint="how much goes")
        self.tolerance = NumberSlider("Tolerance", 0, 40, step=0.5, unit=" ms", digits=1, hint="up to this stays")
        self.reach = NumberSlider("Reach", 5, _LONGEST_REACH_MS, step=1.0, unit=" ms", hint="past this stays")
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
        self.column.addLayout(choices)
        self.column.addSpacing(6)
        self._result = words(name="head")
        self.column.addWidget(self._result)
        self._kept = soft()
        self.column.addWidget(self._kept)
        row = QGridLayout()
        hold = button("Hold", "Keep the selected stroke or range as played (H)")
        hold.clicked.connect(lambda: hold_selection(self.work))
        release = button("Release", "Drop the holds there (Shift+H)")
        release.clicked.connect(lambda: release_selection(self.work))
        row.addWidget(hold, 0, 0)
        row.addWidget(release, 0, 1)
        self.column.addSpacing(10)
        self.column.addWidget(head("Selected stroke or range"))
        self.column.addLayout(row)
        self.column.addStretch(1)

    def refresh(self) -> None:
        group, view = self.work.group, self.work.view
        self.setEnabled(group is not None)
        if group is None:
            return
        response = group.response
        self.strength.set_value(100.0 * response.strength)
        self.tolerance.set_value(response.tolerance_ms)
        self.reach.set_value(min(response.reach_ms, _LONGEST_REACH_MS))
        if view is None:
            self._result.setText("Listening …")
            self._kept.setText("")
            return
        moves = view.plan.move_ms
        moving = np.abs(moves) > 1e-6
        median = float(np.median(np.abs(moves[moving]))) if moving.any() else 0.0
        self._result.setText(f"{int(moving.sum())} of {len(moves)} strokes move · median {median:.0f} ms")
        counts = {kind: int(np.count_nonzero(view.plan.kept == kind)) for kind in Kept}
        self._kept.setText(
            f"{counts[Kept.TOLERANCE]} in tolerance · {counts[Kept.HELD]} held · {counts[Kept.REACH]} past reach"
        )

    def _changed(self) -> None:
        group = self.work.group
        if group is None:
            return
        tolerance = self.tolerance.value()
        reach = max(self.reach.value(), tolerance)
        try:
            response = replace(
                group.response,
                strength=self.strength.value() / 100.0,
                tolerance_ms=tolerance,
                reach_ms=NO_REACH_MS if reach >= _LONGEST_REACH_MS else reach,
            )
        except UsageError as error:
            self.work.tell_problem(str(error))
            return
        name = _what_changed(group.response, response)
        self.work.do(f"Change the {name}", change_group(self.work.session, group.key, response=response))

    def _choose(self, name: str, response: Response) -> None:
        group = self.work.group
        if group is not None:
            self.work.do(f"Tighten: {name.lower()}", change_group(self.work.session, group.key, response=response))


def _what_changed(old: Response, new: Response) -> str:
    if old.strength != new.strength:
        return "strength"
    return "tolerance" if old.tolerance_ms != new.tolerance_ms else "reach"


def _describe(response: Response) -> str:
    reach = f"reach {response.reach_ms:g} ms" if response.has_reach else "no reach limit"
    return f"Strength {response.strength:.0%}, tolerance {response.tolerance_ms:g} ms, {reach}"


def hold_selection(work: Workspace) -> None:
    """Hold the selected range, or the selected stroke."""
    span = _selection(work)
    if span is None or work.group is None:
        work.tell("Select a stroke, or drag over a range on the page, first.")
        return
    work.do(f"Hold {_place(work, span)}", hold_range(work.session, work.group.key, *span))


def release_selection(work: Workspace) -> None:
    """Drop the holds that touch the selection."""
    span = _selection(work)
    if span is None or work.group is None:
        work.tell("Select a stroke, or drag over a range on the page, first.")
        return
    work.do(f"Release {_place(work, span)}", release_range(work.session, work.group.key, *span))


def _selection(work: Workspace) -> tuple[float, float] | None:
    if work.looks.range_s is not None:
        return work.looks.range_s
    if work.looks.selected_s is not None:
        return work.looks.selected_s - 0.001, work.looks.selected_s + 0.001
    return None


def _place(work: Workspace, span: tuple[float, float]) -> str:
    first, last = (int(np.floor(float(work.session.grid.bar_at(time)) + 1e-6)) for time in span)
    return (f"bar {first}" if first == last else f"bars {first}–{last}").replace("-", "−")
