"""The seams of every group for its present plan, and what a person should hear because of them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal

from supple_snare.desk.jobs import Job, JobRunner
from supple_snare.session.cache import Cache
from supple_snare.session.cutting import cut_depends, cut_of_request, cut_request
from supple_snare.session.document import Group, Session
from supple_snare.session.doubts import Doubt, stroke_doubts
from supple_snare.session.proof import Question, questions
from supple_snare.session.stages import GroupView, part_of
from supple_snare.sound.cut import Cut
from supple_snare.sound.editlist import EditList

_CUTS_KEPT = 4


class Seams(QObject):
    """Keeps what was found, and looks on the worker for what is not known yet. Lives on the interface thread.

    Parameters
    ----------
    jobs : JobRunner
    cache : Cache
    present : callable
        Gives the present session.
    view_of : callable
        Gives what follows from it for a group; None while that is not analysed.
    """

    changed = pyqtSignal()
    failed = pyqtSignal(object)
    """An exception of the work."""

    def __init__(
        self,
        jobs: JobRunner,
        cache: Cache,
        present: Callable[[], Session],
        view_of: Callable[[Group], GroupView | None],
    ) -> None:
        super().__init__()
        self._jobs, self._cache = jobs, cache
        self._present, self._view_of = present, view_of
        self._cuts: dict[str, list[tuple[tuple[object, ...], Cut]]] = {}
        self._doubts: dict[str, tuple[GroupView, Cut | None, list[tuple[Doubt, ...]]]] = {}
        self._questions: dict[str, tuple[GroupView, Cut | None, list[Question]]] = {}
        self._job: Job | None = None

    def forget(self) -> None:
        """Another session takes the place of this one."""
        self._cuts.clear()

    def cut_of(self, group: Group) -> Cut | None:
        """The seams of a group, if they are known for its present plan."""
        view = self._view_of(group)
        known = self._cuts.get(group.key, ())
        return next((cut for depends, cut in known if view is not None and depends == cut_depends(view)), None)

    def questions_of(self, group: Group) -> list[Question]:
        """What a person should hear of a group, worst first; nothing while it is not analysed."""
        view, cut = self._view_of(group), self.cut_of(group)
        if view is None:
            return []
        known = self._questions.get(group.key)
        if known is None or known[0] is not view or known[1] is not cut:
            known = (view, cut, questions(self._present(), view, cut, self.doubts_of(group)))
            self._questions[group.key] = known
        return known[2]

    def doubts_of(self, group: Group) -> list[tuple[Doubt, ...]]:
        """The doubts of every stroke of a group; none while it is not analysed."""
        view, cut = self._view_of(group), self.cut_of(group)
        if view is None:
            return []
        known = self._doubts.get(group.key)
        if known is None or known[0] is not view or known[1] is not cut:
            known = (view, cut, stroke_doubts(view, cut))
            self._doubts[group.key] = known
        return known[2]

    def edits_of(self, group: Group) -> EditList:
        """The newest known edit list of a group: while seams are looked for, the one before."""
        present, known = self.cut_of(group), self._cuts.get(group.key)
        newest = present or (known[-1][1] if known else None)
        return newest.edits if newest is not None else EditList.identity()

    def find(self, then: Callable[[], None] | None = None) -> None:
        """Look for the seams of every group whose plan changed, and do something when all are known."""
        if self._job is not None:
            self._job.cancel()
        session, cache = self._present(), self._cache
        wanted = []
        for group in session.groups:
            view = self._view_of(group)
            if view is not None and view.part is None and self.cut_of(group) is None:
                wanted.append((view, cut_request(session, view)))
        if not wanted:
            if then is not None:
                then()
            return

        def work(progress: Callable[[float], None]) -> list[tuple[GroupView, Cut]]:
            return [
                (view, cache.cut(request, partial(cut_of_request, request, part_of(progress, number, len(wanted)))))
                for number, (view, request) in enumerate(wanted)
            ]

        def done(found: list[tuple[GroupView, Cut]]) -> None:
            for view, cut in found:  # a few are kept, so that going to and fro between versions is heard at once
                known = self._cuts.get(view.group.key, [])[1 - _CUTS_KEPT :]
                self._cuts[view.group.key] = [*known, (cut_depends(view), cut)]
            self.changed.emit()
            if then is not None:
                then()

        self._job = self._jobs.submit("Finding seams", work, done, self.failed.emit)
