"""The slots of the take or of one section: note values, swing, and what the strokes suggest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from supple_snare.desk.controls import NumberSlider, button, choice, head, soft, words
from supple_snare.desk.slot_advice import TAKE_SLOTS, SlotAdvice
from supple_snare.desk.workspace import Workspace
from supple_snare.session.grid_edits import set_ruling
from supple_snare.timing.ruling import SWING_RANGE, Ruling
from supple_snare.timing.suggest import Candidate

RULINGS = (
    "1/4", "1/8", "1/16", "1/32", "1/4T", "1/8T", "1/16T", "1/4D", "1/8D", "1/16D", "1/8+1/8T", "1/16+1/8T",
)  # fmt: skip
_SWINGS = {"the slots": None, "eighths": 8, "sixteenths": 16}
_SHOWN = 3


class SlotsBox(QWidget):
    """Chosen by hand or taken over from a suggestion; nothing is applied unasked."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._work = workspace
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        rows = QGridLayout()
        rows.setHorizontalSpacing(6)
        rows.setVerticalSpacing(5)
        rows.setColumnStretch(1, 1)
        self._section = choice("Which part of the take the slots below belong to")
        self._section.currentIndexChanged.connect(lambda _index: self.refresh())
        self._ruling = choice("What strokes are laid to: T is a triplet, D a dotted note, + both side by side")
        self._ruling.textActivated.connect(self._set_ruling)
        self._swinging = choice("Which notes make the pairs that swing")
        self._swinging.addItems(list(_SWINGS))
        self._swinging.textActivated.connect(self._set_swinging)
        for row, (name, box) in enumerate(
            (("Slots of", self._section), ("are", self._ruling), ("swing of", self._swinging))
        ):
            rows.addWidget(soft(name), row, 0)
            rows.addWidget(box, row, 1)
        column.addWidget(head("Slots"))
        column.addWidget(SlotAdvice(workspace))
        column.addLayout(rows)
        self._swing = NumberSlider("Swing", 50, 75, unit=" %", hint="second of each pair", digits=1, step=0.5)
        self._swing.changed.connect(self._set_swing)
        self._swing.pressed.connect(self._work.begin_gesture)
        self._swing.released.connect(self._work.end_gesture)
        column.addWidget(self._swing)
        self._evidence = words("")
        column.addWidget(self._evidence)
        self._suggested = [button("", "Take these slots over") for _ in range(_SHOWN)]
        for number, push in enumerate(self._suggested):
            push.setStyleSheet("text-align: left; padding: 4px 8px;")
            push.clicked.connect(lambda _on, n=number: self.take(n))
            column.addWidget(push)

    # ---- what is shown

    @property
    def section(self) -> str | None:
        """Key of the section chosen, None for the take."""
        return None if self._section.currentIndex() <= 0 else str(self._section.currentData())

    @property
    def candidates(self) -> Sequence[Candidate]:
        """What the strokes suggest, best first."""
        evidence = self._work.slots.of(self.section)
        return evidence.candidates if evidence is not None else ()

    def choose_section(self, key: str | None) -> None:
        """Show the slots of a section."""
        self._section.setCurrentIndex(max(self._section.findData(key), 0))

    def refresh(self) -> None:
        """Show the present state."""
        self._show_sections()
        ruling = self._in_force
        self._ruling.blockSignals(True)
        self._ruling.clear()
        own = () if str(ruling) in RULINGS else (str(ruling),)
        self._ruling.addItems((*RULINGS, *own))
        self._ruling.setCurrentText(str(ruling))
        self._ruling.blockSignals(False)
        self._swing.set_value(100.0 * ruling.swing)
        self._swinging.setCurrentText(next(name for name, note in _SWINGS.items() if note == ruling.swing_note))
        self._show_suggestions()

    def _show_sections(self) -> None:
        sections = self._work.session.sections
        names = ["the whole take", *(section.name for section in sections)]
        if [self._section.itemText(index) for index in range(self._section.count())] != names:
            chosen = self.section
            self._section.blockSignals(True)
            self._section.clear()
            self._section.addItem(names[0], None)
            for section in sections:
                self._section.addItem(section.name, section.key)
            self._section.setCurrentIndex(max(self._section.findData(chosen), 0))
            self._section.blockSignals(False)
        self._section.setEnabled(bool(sections))
        self._section.setToolTip(
            "Which part of the take the slots below belong to"
            if sections
            else "Draw sections on the page (Sections ▾) to give each its own slots"
        )

    @property
    def _in_force(self) -> Ruling:
        return self._work.session.ruling_in(self.section)

    def _show_suggestions(self) -> None:
        found = self.candidates[:_SHOWN]
        ruling = self._in_force
        if not found and self._work.view is not None:
            known = self._work.slots.is_known(self.section)
            self._evidence.setText("Too few strokes to suggest slots." if known else "Weighing what the strokes say …")
        elif not found:
            self._evidence.setText("")
        else:
            self._evidence.setText("What the strokes say: share they explain, and spread around them. Click to take.")
        for push, candidate in zip(self._suggested, [*found, None, None, None], strict=False):
            push.setVisible(candidate is not None)
            if candidate is not None:
                here = "✓ " if candidate.ruling.is_like(ruling) else ""
                explained = f"{100.0 * candidate.share:.0f} % · {candidate.spread_ms:.0f} ms"
                push.setText(f"{here}{candidate.ruling.in_words} · {explained}")

    def take(self, number: int) -> None:
        """Take a suggestion over."""
        if number < len(self.candidates):
            self._do(TAKE_SLOTS, self.candidates[number].ruling)

    # ---- by hand

    def _do(self, label: str, ruling: Ruling) -> None:
        self._work.do(label, set_ruling(self._work.session, self.section, ruling))

    def _set_ruling(self, text: str) -> None:
        old = self._in_force
        self._do("Set the slots", Ruling.parse(text, swing=old.swing, swing_note=old.swing_note))

    def _set_swing(self, percent: float) -> None:
        low, high = SWING_RANGE
        self._do("Set the swing", replace(self._in_force, swing=min(max(percent / 100.0, low), high)))

    def _set_swinging(self, text: str) -> None:
        self._do("Set what swings", replace(self._in_force, swing_note=_SWINGS[text]))
