"""Long work off the interface thread, with progress, cancel, and errors that come back."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from threading import Event
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from supple_snare.errors import CancelledError
from supple_snare.sound.attacks import Progress

Work = Callable[[Progress], Any]


class Job(QObject):
    """One piece of work. Its signals arrive on the interface thread."""

    progressed = pyqtSignal(float)
    done = pyqtSignal(object)
    failed = pyqtSignal(object)
    cancelled = pyqtSignal()
    ended = pyqtSignal()

    def __init__(self, label: str) -> None:
        super().__init__()
        self.label = label
        self._stop = Event()

    def cancel(self) -> None:
        """Ask the work to stop; it does so at its next progress report."""
        self._stop.set()

    def _run(self, work: Work) -> None:
        """On the worker thread."""
        try:
            if self._stop.is_set():
                raise CancelledError
            result = work(self._report)
        except CancelledError:
            self.cancelled.emit()
        except Exception as error:  # the edge of a thread: whatever went wrong is shown by the window
            self.failed.emit(error)
        else:
            if self._stop.is_set():
                self.cancelled.emit()
            else:
                self.done.emit(result)
        self.ended.emit()

    def _report(self, share: float) -> None:
        if self._stop.is_set():
            raise CancelledError
        self.progressed.emit(share)


class JobRunner(QObject):
    """Runs jobs in the order they come, one after another or a few at a time, and tells the window what is running."""

    running_changed = pyqtSignal()

    def __init__(self, workers: int = 1) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(max_workers=workers, thread_name_prefix="worker")
        self._jobs: list[Job] = []
        self._is_shut = False

    @property
    def jobs(self) -> tuple[Job, ...]:
        """Jobs that are not finished, the running one first."""
        return tuple(self._jobs)

    def submit(self, label: str, work: Work, done: Callable[[Any], None], failed: Callable[[Exception], None]) -> Job:
        """Run `work(progress)` on a worker thread, then `done(result)` or `failed(error)` on this one.

        Work without a label is not told to anybody.
        After `shut_down` nothing is run any more: the last results may still ask for more work.
        """
        job = Job(label)
        if self._is_shut:
            return job
        job.done.connect(done)
        job.failed.connect(failed)
        job.ended.connect(lambda: self._finished(job))
        self._jobs.append(job)
        self.running_changed.emit()
        self._pool.submit(job._run, work)
        return job

    def cancel_all(self) -> None:
        """Ask everything to stop."""
        for job in self._jobs:
            job.cancel()

    def shut_down(self) -> None:
        """Cancel everything and wait until the worker is idle."""
        self._is_shut = True
        self.cancel_all()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _finished(self, job: Job) -> None:
        if job in self._jobs:
            self._jobs.remove(job)
        self.running_changed.emit()
