"""What the strokes on the page say of their slots: weighed on the worker whenever strokes, grid or sections change."""

from __future__ import annotations

from typing import NamedTuple

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from supple_snare.desk.jobs import JobRunner
from supple_snare.session.document import Session
from supple_snare.session.finding import SlotEvidence, weigh_slots
from supple_snare.session.stages import GroupView
from supple_snare.timing.ruling import Ruling

_SETTLE_MS = 350


class Advice(NamedTuple):
    """Slots that fit plainly better than those in force."""

    section: str | None
    """Key of the section they are for; None for the take."""

    name: str
    """What the screen calls it."""

    ruling: Ruling
    told: str
    """The evidence in words."""


class SlotWeighing(QObject):
    """Keeps the evidence for every section, and for the take."""

    changed = pyqtSignal()
    failed = pyqtSignal(object)
    """An exception of the work."""

    def __init__(self, jobs: JobRunner) -> None:
        super().__init__()
        self._jobs = jobs
        self._wanted: tuple[object, ...] = ()
        self._session: Session | None = None
        self._view: GroupView | None = None
        self._evidence: dict[str | None, SlotEvidence | None] = {}
        self._settled = QTimer(self)
        self._settled.setSingleShot(True)
        self._settled.setInterval(_SETTLE_MS)
        self._settled.timeout.connect(self._weigh)

    def note(self, session: Session, view: GroupView | None) -> None:
        """Strokes, grid or sections may have changed."""
        wanted = (None if view is None else view.strokes, session.grid, session.sections)
        if wanted != self._wanted:
            self._wanted, self._session, self._view = wanted, session, view
            self._settled.start()

    def is_known(self, section: str | None) -> bool:
        """Whether the strokes of a section, or of the take, have been weighed."""
        return section in self._evidence

    def of(self, section: str | None) -> SlotEvidence | None:
        """What is known of a section, or of the take; None where too few strokes tell."""
        return self._evidence.get(section)

    def advice(self, session: Session) -> list[Advice]:
        """All slots that fit plainly better than those in force, in the order of the take."""
        parts: list[tuple[str | None, str, Ruling | None]] = [
            (section.key, section.name, section.ruling) for section in session.sections
        ]
        found = []
        for key, name, own in parts or [(None, "the take", None)]:
            evidence = self.of(key)
            # Older evidence is of no use once the slots are others.
            if evidence is None or evidence.now.ruling != (own or session.take_grid.ruling):
                continue
            if (better := evidence.better) is not None:
                told = f"Other slots fit {name} plainly better: {better.in_words}; {evidence.now.in_words}."
                found.append(Advice(key, name, better.ruling, told))
        return found

    def _weigh(self) -> None:
        session, view, wanted = self._session, self._view, self._wanted
        if session is None or view is None:
            self._evidence = {}
            self.changed.emit()
            return

        def done(found: dict[str | None, SlotEvidence | None]) -> None:
            if self._wanted == wanted:
                self._evidence = found
                self.changed.emit()

        keys = [None, *(section.key for section in session.sections)]
        self._jobs.submit(
            "Weighing slots",
            lambda _progress: {key: weigh_slots(session, view.strokes, session.grid, key) for key in keys},
            done,
            self.failed.emit,
        )
