"""Feel: what the offsets are made of, whose feel is looked at, what is laid over it, and grooves to keep."""

from __future__ import annotations

import math
from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QInputDialog

from supple_snare.desk import theme
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, choice, fill_choice, head, words
from supple_snare.desk.groove_library import show_library
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.edits import change_group
from supple_snare.session.feels import FeelOf, feel_name, see_feel
from supple_snare.session.library import unused_name
from supple_snare.session.report import summarise
from supple_snare.timing.cycle import CYCLES, Cycle
from supple_snare.timing.groove import UNSURE_COUNT, likeness


class FeelCard(Card):
    """What the playing repeats."""

    title = "Feel"

    def build(self) -> None:
        self._parts = words()
        self._parts.setTextFormat(Qt.TextFormat.RichText)
        self.column.addWidget(self._parts)
        self.column.addWidget(head("Feel of"))
        self.of = choice("Whose feel is shown", self._choose_of)
        self.column.addWidget(self.of)
        row = QHBoxLayout()
        row.addWidget(head("Repeats over"))
        self.cycle = choice("Over what the feel repeats: found from the offsets, or set", self._choose_cycle)
        row.addWidget(self.cycle, 1)
        self.column.addLayout(row)
        self.by_lead = QCheckBox("Each lead has a feel of its own")
        self.by_lead.setToolTip("Else all leads share one: what is found and kept is the feel of the whole group")
        self.by_lead.clicked.connect(self._choose_by_lead)
        self.column.addWidget(self.by_lead)
        self._sure = words()
        self.column.addWidget(self._sure)
        self.column.addWidget(head("Laid over it"))
        self.beside = choice("Another feel to compare with", self._choose_beside)
        self.column.addWidget(self.beside)
        self._alike = words()
        self._alike.setTextFormat(Qt.TextFormat.RichText)
        self.column.addWidget(self._alike)
        self.column.addWidget(head("Hear it"))
        row = QHBoxLayout()
        self.tap = button("Tap the feel", "Hear the feel shown as taps, in place of the recordings (Y)", checkable=True)
        self.tap.clicked.connect(lambda on: self.work.look(tapping="first" if on else ""))
        self.tap_other = button("Tap the other", "Hear what is laid over it as taps (Shift+Y)", checkable=True)
        self.tap_other.clicked.connect(lambda on: self.work.look(tapping="second" if on else ""))
        row.addWidget(self.tap)
        row.addWidget(self.tap_other)
        self.column.addLayout(row)
        self.column.addWidget(words("With the click (C) over the beat, without it alone."))
        self.column.addWidget(head("Grooves"))
        row = QHBoxLayout()
        keep = button("Keep this one …", "Keep the feel shown as a groove in your library")
        keep.clicked.connect(lambda: keep_groove(self.work, self, centred=not self.with_mean.isChecked()))
        library = button("Library …", "All grooves: look, change, load, save, tighten to one (B)")
        library.clicked.connect(lambda: show_library(self.work, self))
        row.addWidget(keep)
        row.addWidget(library)
        self.column.addLayout(row)
        self.with_mean = QCheckBox("Keep what shifts all alike, too")
        self.with_mean.setToolTip("Else the mean of a kept groove is zero, so that it never shifts a whole song")
        self.column.addWidget(self.with_mean)
        self.column.addStretch(1)

    def refresh(self) -> None:
        view, group = self.work.view, self.work.group
        self.setEnabled(group is not None)
        if group is None or view is None or not view.offsets.placed.any():
            self._parts.setText("Nothing measured yet.")
            return
        summary = summarise(view)
        rows = (
            ("Mean", f"{theme.signed(summary.mean_ms, 1)} ms", "the whole early or late"),
            ("Drift", f"{summary.drift_rms_ms:.1f} ms", "slow push and pull, rms"),
            ("Feel", f"{summary.feel_rms_ms:.1f} ms", "what repeats, rms"),
            ("Scatter", f"{summary.scatter_rms_ms:.1f} ms", "the rest, rms"),
        )
        self._parts.setText(
            "<table cellspacing='2' cellpadding='2'>"
            + "".join(f"<tr><td>{n}</td><td align='right'><b>{v}</b></td><td>{w}</td></tr>" for n, v, w in rows)
            + "</table>"
        )
        self._fill_choices()
        first, second = self.work.feels()
        self.by_lead.setChecked(group.feel.by_lead)
        self.by_lead.setEnabled(len(view.columns) > 1)
        unsure = sum(slot.count <= UNSURE_COUNT for slot in first.groove.slots) if first else 0
        self._sure.setText(
            f"{theme.counted(unsure, 'slot')} heard once or twice: hollow, and drawn toward zero." if unsure else ""
        )
        self.tap.setChecked(self.work.looks.tapping == "first")
        self.tap_other.setChecked(self.work.looks.tapping == "second")
        self.tap_other.setEnabled(second is not None)
        if first is None or second is None:
            self._alike.setText("Choose another feel to see how the two differ." if first else self.work.why_no_feel)
            return
        _, rms, alike = likeness(first.groove, second.groove)
        self._alike.setText(
            "No slot in common."
            if math.isnan(alike)
            else f"<b>{round(100 * alike)} % alike</b>, {rms:.1f} ms apart (rms)".replace("-", "−")
        )

    def _fill_choices(self) -> None:
        work, session, view = self.work, self.work.session, self.work.view
        group = work.group
        assert view is not None and group is not None
        own = [FeelOf()]
        own += [FeelOf("section", section.key) for section in session.sections]
        own += [FeelOf("lead", key) for key in view.columns] if len(view.columns) > 1 else []
        own += [FeelOf("range")] if work.looks.range_s is not None or work.looks.feel_of.kind == "range" else []
        named = [(feel_name(session, of), of) for of in own]
        grooves = [(f"Groove: {groove.name}", FeelOf("groove", str(path))) for path, groove in work.grooves()]
        fill_choice(self.of, [*named, *grooves], work.looks.feel_of)
        others: list[tuple[str, FeelOf | None]] = [("nothing", None), *named]
        others += [(other.name, FeelOf("group", other.key)) for other in session.groups if other.key != group.key]
        others = [(name, of) for name, of in (*others, *grooves) if of != work.looks.feel_of]
        fill_choice(self.beside, others, work.looks.feel_beside)
        found = sorted(set(map(str, view.offsets.cycles)))
        cycles: list[tuple[str, Cycle | None]] = [(f"found: {' or '.join(found)}", None)]
        cycles += [(str(cycle), cycle) for cycle in CYCLES]
        if group.feel.cycle is not None:
            cycles[0] = ("what is found", None)
        fill_choice(self.cycle, cycles, group.feel.cycle)

    def _choose_of(self) -> None:
        of = self.of.currentData()
        beside = self.work.looks.feel_beside
        self.work.look(feel_of=of, feel_beside=None if beside == of else beside)

    def _choose_beside(self) -> None:
        self.work.look(feel_beside=self.beside.currentData())

    def _choose_cycle(self) -> None:
        group, cycle = self.work.group, self.cycle.currentData()
        if group is not None:
            rules = replace(group.feel, cycle=cycle)
            name = f"Feel repeats over {cycle}" if cycle else "Find what the feel repeats over"
            self.work.do(name, change_group(self.work.session, group.key, feel=rules))

    def _choose_by_lead(self, on: bool) -> None:
        group = self.work.group
        if group is not None:
            rules = replace(group.feel, by_lead=on)
            name = "Feel of each lead" if on else "One feel of all leads"
            self.work.do(name, change_group(self.work.session, group.key, feel=rules))


def keep_groove(work: Workspace, parent: Card, *, centred: bool) -> None:
    """Ask for a name and keep the feel shown in the library."""
    view, group = work.view, work.group
    first, _ = work.feels()
    if view is None or group is None or first is None:
        work.tell(work.why_no_feel)
        return
    names = [groove.name for _, groove in work.grooves()]
    usual = unused_name(f"{group.name}, {first.name}", names)
    name, given = QInputDialog.getText(parent, "Keep a groove", "Name of the groove:", text=usual)
    if not given or not name.strip():
        return
    try:
        if work.looks.feel_of.kind == "groove":
            groove = replace(first.groove, name=name.strip())
        else:
            of, range_s = work.looks.feel_of, work.looks.range_s
            groove = see_feel(work.session, view, of, range_s=range_s, name=name.strip(), centred=centred).groove
        work.library.keep(groove)
    except SnareError as error:
        work.tell_problem(str(error))
        return
    work.library_changed.emit()
    work.tell(f"“{name.strip()}” is in your groove library.")
