"""What the strokes on the page say of their slots: weighed on the worker whenever strokes, grid or sections change."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from supple_snare.desk.delay import once_quiet
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
    """Keeps the evidence for every section, and for the take. Lives on the interface thread.

    Parameters
    ----------
    jobs : JobRunner
    present : callable
        Gives the present session.
    view : callable
        Gives what follows from it for the group on the page; None while that is not analysed.
    """

    changed = pyqtSignal()
    failed = pyqtSignal(object)
    """An exception of the work."""

    def __init__(self, jobs: JobRunner, present: Callable[[], Session], view: Callable[[], GroupView | None]) -> None:
        super().__init__()
        self._jobs, self._present, self._view = jobs, present, view
        self._wanted: tuple[object, ...] = ()
        self._evidence: dict[str | None, SlotEvidence | None] = {}
        self._settled = once_quiet(self, _SETTLE_MS, self._weigh)

    def note(self) -> None:
        """Strokes, grid or sections may have changed."""
        session, view = self._present(), self._view()
        wanted = (None if view is None else view.strokes, session.grid, session.sections)
        if wanted != self._wanted:
            self._wanted = wanted
            self._settled.start()

    def is_known(self, section: str | None) -> bool:
        """Whether the strokes of a section, or of the take, have been weighed."""
        return section in self._evidence

    def of(self, section: str | None) -> SlotEvidence | None:
        """What is known of a section, or of the take; None where too few strokes tell."""
        return self._evidence.get(section)

    def advice(self) -> list[Advice]:
        """All slots that fit plainly better than those in force, in the order of the take."""
        session = self._present()
        parts: list[tuple[str | None, str]] = [(section.key, section.name) for section in session.sections]
        found = []
        for key, name in parts or [(None, "the take")]:
            evidence = self.of(key)
            # Older evidence is of no use once the slots are others.
            if evidence is None or evidence.now.ruling != session.ruling_in(key):
                continue
            if (better := evidence.better) is not None:
                told = f"Other slots fit {name} plainly better: {better.in_words}; {evidence.now.in_words}."
                found.append(Advice(key, name, better.ruling, told))
        return found

    def _weigh(self) -> None:
        session, view, wanted = self._present(), self._view(), self._wanted
        if view is None:
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
