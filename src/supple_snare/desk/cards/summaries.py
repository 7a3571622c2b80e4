"""Feel and Proof as plain summaries of what is known; their own tools come later."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import words
from supple_snare.desk.page import describe_stroke
from supple_snare.session.report import summarise
from supple_snare.timing.units import FloatArray, IntArray


class FeelCard(Card):
    """What the offsets are made of."""

    title = "Feel"

    def build(self) -> None:
        self._parts = words()
        self._parts.setTextFormat(Qt.TextFormat.RichText)
        self.column.addWidget(self._parts)
        self._slots = words()
        self._slots.setTextFormat(Qt.TextFormat.RichText)
        self.column.addWidget(self._slots)
        self.column.addWidget(
            words(
                "These are measurements. Tightening toward the band's own feel, and grooves to keep, come in a later "
                "version."
            )
        )
        self.column.addStretch(1)

    def refresh(self) -> None:
        view = self.work.view
        if view is None or not view.offsets.placed.any():
            self._parts.setText("Nothing measured yet.")
            self._slots.setText("")
            return
        summary = summarise(view)
        rows = (
            ("Mean", _ms(summary.mean_ms), "the whole early or late"),
            ("Drift", f"{summary.drift_rms_ms:.1f} ms", "slow push and pull, rms"),
            ("Feel", f"{summary.feel_rms_ms:.1f} ms", "repeats every bar, rms"),
            ("Scatter", f"{summary.scatter_rms_ms:.1f} ms", "the rest, rms"),
        )
        self._parts.setText(
            "<table cellspacing='2' cellpadding='2'>"
            + "".join(f"<tr><td>{n}</td><td align='right'><b>{v}</b></td><td>{w}</td></tr>" for n, v, w in rows)
            + "</table>"
        )
        self._slots.setText(_slot_table(view.offsets.slot, view.offsets.feel_ms))


def _slot_table(slot: IntArray, feel_ms: FloatArray) -> str:
    """Feel of every slot of the bar that was heard."""
    rows = []
    for index in np.unique(slot[np.isfinite(feel_ms)]):
        mine = (slot == index) & np.isfinite(feel_ms)
        count = int(np.count_nonzero(mine))
        rows.append(
            f"<tr><td>slot {int(index)}</td><td align='right'><b>{_ms(float(np.mean(feel_ms[mine])))}</b></td>"
            f"<td>{count} stroke{'s' if count != 1 else ''}</td></tr>"
        )
    return "Feel by slot of the bar:<table cellspacing='1' cellpadding='2'>" + "".join(rows) + "</table>"


def _ms(value: float) -> str:
    return f"{value:+.1f} ms".replace("-", "−")


class ProofCard(Card):
    """The strokes the program is not sure of, worst first."""

    title = "Proof"

    def build(self) -> None:
        self._count = words(name="head")
        self.column.addWidget(self._count)
        self._list = QListWidget()
        self._list.setAccessibleName("Doubts")
        self._list.setWordWrap(True)
        self._list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._list.itemSelectionChanged.connect(self._go)
        self.column.addWidget(self._list, 1)
        self.column.addWidget(
            words("Select one to see and hear its place; A switches the version, H holds the stroke as played.")
        )

    def refresh(self) -> None:
        view, group = self.work.view, self.work.group
        if view is None or group is None:
            self._count.setText("Nothing to proof yet.")
            self._list.clear()
            return
        doubts = self.work.doubts_of(group)
        order = sorted((index for index, found in enumerate(doubts) if found), key=lambda i: (doubts[i][0], i))
        self._count.setText(f"{len(order)} strokes to listen to" if order else "No doubts: nothing asks for an ear.")
        times = [float(view.strokes.time_s[index]) for index in order]
        if times != [self._list.item(row).data(Qt.ItemDataRole.UserRole) for row in range(self._list.count())]:  # type: ignore[union-attr]
            self._list.blockSignals(True)
            self._list.clear()
            for index, time_s in zip(order, times, strict=True):
                reasons = ", ".join(doubt.word for doubt in doubts[index])
                item = QListWidgetItem(f"{reasons}\n{describe_stroke(self.work, index)}")
                item.setData(Qt.ItemDataRole.UserRole, time_s)
                self._list.addItem(item)
            self._list.blockSignals(False)

    def _go(self) -> None:
        items = self._list.selectedItems()
        if items:
            self.work.look(selected_s=float(items[0].data(Qt.ItemDataRole.UserRole)))
