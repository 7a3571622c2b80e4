"""The seams of every group for its present plan, and what a person should hear because of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from functools import partial
from typing import NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from supple_snare.desk.jobs import Job, JobRunner
from supple_snare.session.cache import Cache
from supple_snare.session.cutting import CutRequest, cut_depends, cut_of_request, cut_request, request_nearby
from supple_snare.session.document import Group, Session
from supple_snare.session.doubts import Doubt, stroke_doubts
from supple_snare.session.proof import Question, questions
from supple_snare.session.stages import GroupView
from supple_snare.sound.attacks import Progress, part_of
from supple_snare.sound.cut import Cut, SeamMemory
from supple_snare.sound.editlist import EditList

_CUTS_KEPT = 4


class _Known(NamedTuple):
    """Seams, what was asked for, and all that they follow from."""

    depends: tuple[object, ...]
    request: CutRequest
    cut: Cut


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
        self._cuts: dict[str, list[_Known]] = {}
        self._nearby: dict[str, tuple[GroupView, Cut]] = {}
        self._memories: defaultdict[str, SeamMemory] = defaultdict(SeamMemory)
        self._doubts: dict[str, tuple[GroupView, Cut | None, list[tuple[Doubt, ...]]]] = {}
        self._questions: dict[str, tuple[GroupView, Cut | None, list[Question]]] = {}
        self._job: Job | None = None
        self._job_nearby: Job | None = None

    def forget(self) -> None:
        """Another session takes the place of this one."""
        for each in (self._cuts, self._nearby, self._memories):
            each.clear()
        for job in (self._job, self._job_nearby):
            if job is not None:
                job.cancel()
        self._job = self._job_nearby = None

    def cut_of(self, group: Group) -> Cut | None:
        """The seams of a group, if they are known for its present plan."""
        view = self._view_of(group)
        known = self._cuts.get(group.key, ())
        return next((each.cut for each in known if view is not None and each.depends == cut_depends(view)), None)

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
        """The newest known edit list of a group: while seams are looked for, one found nearby, or the one before."""
        known, near = self._cuts.get(group.key), self._nearby.get(group.key)
        newest = self.cut_of(group) or (near[1] if near else known[-1].cut if known else None)
        return newest.edits if newest is not None else EditList.identity()

    def find(self, then: Callable[[], None] | None = None) -> None:
        """Look for the seams of every group whose plan changed, and do something when all are known."""
        if self._job is not None:
            self._job.cancel()
        session, cache = self._present(), self._cache
        wanted = [(view, cut_request(session, view), self._memories[view.group.key]) for view in self._unknown()]
        if not wanted:
            self._nearby.clear()
            if then is not None:
                then()
            return

        def work(progress: Progress) -> list[Cut]:
            cuts = []
            for number, (_, request, memory) in enumerate(wanted):
                find = partial(cut_of_request, request, part_of(progress, number, len(wanted)), memory)
                cut = cache.cut(request, find)
                cuts.append(cut_of_request(request, memory=memory, known=cut))  # it may be from another sitting
            return cuts

        def done(cuts: list[Cut]) -> None:
            for (view, request, _), cut in zip(wanted, cuts, strict=True):
                key = view.group.key  # a few are kept, so that going to and fro between versions is heard at once
                self._cuts[key] = [*self._cuts.get(key, [])[1 - _CUTS_KEPT :], _Known(cut_depends(view), request, cut)]
                self._nearby.pop(key, None)
            self.changed.emit()
            if then is not None:
                then()

        self._job = self._jobs.submit("Finding seams", work, done, self.failed.emit)

    def find_nearby(self, start_s: float, end_s: float) -> None:
        """Look for the seams between two moments only, so that what plays there follows plans that still change.

        Elsewhere those found last stay. Not while another such look goes on: one follows it if the plan changed since.
        """
        if self._job_nearby is not None:
            return
        session, wanted = self._present(), []
        for view in self._unknown():
            key = view.group.key
            if key in self._cuts and (key not in self._nearby or self._nearby[key][0] is not view):
                asked = request_nearby(cut_request(session, view), self._cuts[key][-1].request, start_s, end_s)
                if asked is not None:
                    wanted.append((view, asked, self._memories[key]))
        if not wanted:
            return
        if self._job is not None:
            self._job.cancel()  # what it looks for has changed

        def work(progress: Progress) -> list[Cut]:
            return [cut_of_request(request, progress, memory) for _, request, memory in wanted]

        def done(cuts: list[Cut]) -> None:
            if self._job_nearby is not job:
                return  # it was of another session
            found = {view.group.key: (view, cut) for (view, *_), cut in zip(wanted, cuts, strict=True)}
            unknown = {view.group.key for view in self._unknown()}  # all may have been found meanwhile
            self._nearby |= {key: each for key, each in found.items() if key in unknown}
            self._job_nearby = None
            self.changed.emit()
            self.find_nearby(start_s, end_s)

        def ended() -> None:
            if self._job_nearby is job:
                self._job_nearby = None

        job = self._job_nearby = self._jobs.submit("", work, done, self.failed.emit)
        job.ended.connect(ended)

    def _unknown(self) -> list[GroupView]:
        """Groups with recordings whose seams are not known for their present plan."""
        views = [self._view_of(group) for group in self._present().groups if self.cut_of(group) is None]
        return [view for view in views if view is not None and view.part is None]
