"""What is heard in the files of the session: each is checked, listened to, and compared with the rest of its group.

The work goes to the worker, or comes from what is kept of an earlier sitting. A file that is missing or was changed is
in trouble: nothing is drawn from it until a person has said what to do.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from supple_snare.desk.jobs import JobRunner
from supple_snare.disk.identity import SEEN
from supple_snare.errors import RecordingChangedError
from supple_snare.exchange.midi import read_notes
from supple_snare.session.cache import Cache
from supple_snare.session.document import Session
from supple_snare.session.recordings import Now, Trouble, check_file, files_of, find_files, look_again
from supple_snare.session.stages import Stages
from supple_snare.sound.attacks import Analysis, Progress, analyse, part_of
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear, Ensemble
from supple_snare.sound.fingerprint import Fingerprint
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.notes import Notes


class Hearing(QObject):
    """Keeps the stages fed. Lives on the interface thread."""

    heard = pyqtSignal()
    """The stages know more."""

    checked = pyqtSignal(object)
    """A file is what it should be: {path: fingerprint}."""

    troubled = pyqtSignal()
    """Files are in trouble, or no longer."""

    told = pyqtSignal(str, bool)
    failed = pyqtSignal(object)
    """An exception of some work."""

    def __init__(self, jobs: JobRunner, stages: Stages) -> None:
        super().__init__()
        self._jobs = jobs
        self.stages = stages
        self._known: dict[Path, Fingerprint] = {}
        self.troubles: dict[Path, Trouble] = {}
        self.cache = Cache(lambda path: self._known[path].sha256 if path in self._known else "")
        self._under_way: set[Hashable] = set()
        self._session = Session()
        self.is_paused = False
        """Set while a person wants no more work to be begun."""

    def begin(self, beside: Path | None) -> None:
        """Another session, with its folder if it has one: all its files are to be checked."""
        self.cache.beside = beside
        self.is_paused = False
        self.stages.clear()
        self._known.clear()
        self.troubles.clear()
        self._under_way.clear()

    def is_good(self, path: Path) -> bool:
        """Whether a file was checked and may be drawn from and heard."""
        return path in self._known

    @property
    def is_all_checked(self) -> bool:
        """Whether every file of the session was looked at."""
        return all(self.is_good(file.path) or file.path in self.troubles for file in files_of(self._session))

    def hear(self, session: Session) -> None:
        """Have everything found out that is not known yet; calls come as often as the session changes."""
        self._session = session
        if self.is_paused:
            return
        for file in files_of(session):
            if not (self.is_good(file.path) or file.path in self.troubles):
                self._ask(("check", file.path), f"Checking {file.path.name}", partial(check_file, file), self._checked)
        for part in self.stages.unread(session):
            if self.is_good(part.path):
                self._ask(("read", part.path), f"Reading {part.name}", partial(_read_part, part.path), self._part_read)
        for track, ear in self.stages.missing(session, session.tracks):
            if all(self.is_good(recording.path) for recording in ear.recordings):
                listen = partial(_analysis, self.cache, ear)
                self._ask(("listen", ear), f"Listening to {track.name}", listen, self._analysed)
        for group, ensemble, analyses in self.stages.unjudged(session):
            compare = partial(_verdicts, self.cache, ensemble, analyses)
            self._ask(("compare", ensemble), f"Comparing the tracks of {group.name}", compare, self._judged)

    def find(self, folders: Sequence[Path], done: Callable[[dict[Path, Path]], None]) -> None:
        """Look in folders for the files that are not where they were."""
        files = [file for file in files_of(self._session) if self.troubles.get(file.path) is Trouble.MISSING]
        work = partial(find_files, files, folders)
        self._jobs.submit("Looking for recordings", lambda progress: work(progress=progress), done, self.failed.emit)

    def look_again(self, paths: Iterable[Path], done: Callable[[dict[Path, Now]], None]) -> None:
        """Take files as they are now."""
        wanted = set(paths)
        files = [file for file in files_of(self._session) if file.path in wanted]

        def work(progress: Progress) -> dict[Path, Now]:
            return {
                file.path: look_again(file, part_of(progress, number, len(files))) for number, file in enumerate(files)
            }

        self._jobs.submit("Reading changed recordings", work, done, self.failed.emit)

    def forget(self, paths: Iterable[Path]) -> None:
        """These files are to be checked again."""
        for path in paths:
            self._known.pop(path, None)
            self.troubles.pop(path, None)
        self.troubled.emit()

    def look_over(self) -> None:
        """Have all files that may be used looked at: what was written over or exchanged meanwhile is checked again."""
        known = list(self._known)
        self._jobs.submit("", lambda _progress: [p for p in known if SEEN.has_changed(p)], self.check_again, _ignore)

    def check_again(self, paths: Iterable[Path]) -> None:
        """Nothing is drawn from these files until they are known to hold what they held."""
        doubtful = [path for path in paths if path in self._known]
        for path in doubtful:
            self._known.pop(path)
        if doubtful:
            self.hear(self._session)

    def _ask(
        self, what: tuple[str, Any], label: str, work: Callable[[Progress], Any], done: Callable[[Any, Any], None]
    ) -> None:
        """Have something done once, however often it is asked for."""
        if what in self._under_way:
            return
        self._under_way.add(what)

        def finished(result: Any) -> None:
            if what in self._under_way:  # else the session it was for is gone
                self._under_way.discard(what)
                done(what[1], result)

        def failed(error: Exception) -> None:
            if isinstance(error, RecordingChangedError):
                self._under_way.discard(what)
            # Else it stays under way: asked again it would fail again.
            self.failed.emit(error)

        job = self._jobs.submit(label, work, finished, failed)
        job.cancelled.connect(partial(self._under_way.discard, what))

    def _checked(self, path: Path, result: tuple[Fingerprint | None, Trouble | None]) -> None:
        fingerprint, trouble = result
        if trouble is not None:
            self.troubles[path] = trouble
            self.troubled.emit()
        elif fingerprint is not None:
            self._known[path] = fingerprint
            self.checked.emit({path: fingerprint})

    def _part_read(self, path: Path, notes: Notes) -> None:
        self.stages.learn_part(path, notes)
        self.heard.emit()

    def _analysed(self, ear: Ear, analysis: Analysis) -> None:
        self.stages.learn(ear, analysis)
        if analysis.is_silent:
            names = " and ".join(recording.path.name for recording in ear.recordings)
            self.told.emit(f"{names} is silent.", False)
        self.hear(self._session)
        self.heard.emit()

    def _judged(self, ensemble: Ensemble, verdicts: list[Verdict]) -> None:
        self.stages.learn_verdicts(ensemble, verdicts)
        self.heard.emit()


def _ignore(_error: Exception) -> None:
    """What a file is like shows when it is used."""


def _read_part(path: Path, _progress: Progress) -> Notes:
    return read_notes(path)


def _analysis(cache: Cache, ear: Ear, progress: Progress) -> Analysis:
    return cache.analysis(ear, partial(analyse, ear, progress))


def _verdicts(cache: Cache, ensemble: Ensemble, analyses: list[Analysis], progress: Progress) -> list[Verdict]:
    progress(0.0)
    return cache.verdicts(ensemble, partial(judge_group, ensemble.ears, analyses, dict(ensemble.given)))
