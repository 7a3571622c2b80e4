"""The running work: what it is, how far it is, and a way to stop it."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QWidget

from supple_snare.desk.controls import button, soft
from supple_snare.desk.delay import once_quiet
from supple_snare.desk.jobs import Job, JobRunner

_WORDS_PX = 220
_PATIENCE_MS = 400


class WorkStrip(QWidget):
    """Shown once work has run for a moment: what is done in a blink would only flicker."""

    stopped = pyqtSignal()
    appeared = pyqtSignal(bool)

    def __init__(self, jobs: JobRunner) -> None:
        super().__init__()
        self._jobs = jobs
        self._followed: Job | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self._words = soft()
        self._bar = QProgressBar()
        self._bar.setRange(0, 1000)
        self._bar.setTextVisible(False)
        self._bar.setFixedSize(90, 12)
        self._bar.setStyleSheet("min-height: 10px;")
        self._bar.setAccessibleName("Progress of the running work")
        self._stop = button("Stop", "Stop the running work")
        self._stop.clicked.connect(self._cancel)
        for part in (self._words, self._bar, self._stop):
            row.addWidget(part)
        self._soon = once_quiet(self, _PATIENCE_MS, lambda: self._appear(bool(self._told())))
        self._appear(False)
        jobs.running_changed.connect(self._refresh)
        self._refresh()

    def _told(self) -> list[Job]:
        """What runs, but for what has no name because nobody waits for it."""
        return [job for job in self._jobs.jobs if job.label]

    def _refresh(self) -> None:
        running = self._told()
        if not running:
            self._soon.stop()
            self._appear(False)
        elif self.isHidden() and not self._soon.isActive():
            self._soon.start()
        if not running or running[0] is self._followed:
            return
        self._followed = running[0]
        self._followed.progressed.connect(self._show)
        more = f" (+{len(running) - 1})" if len(running) > 1 else ""
        words = self._words.fontMetrics().elidedText(
            self._followed.label + more, Qt.TextElideMode.ElideRight, _WORDS_PX
        )
        self._words.setText(words)
        self._words.setToolTip("\n".join(job.label for job in running))
        self._bar.setValue(0)

    def _appear(self, seen: bool) -> None:
        self.setVisible(seen)
        self.appeared.emit(seen)

    def _show(self, share: float) -> None:
        self._bar.setValue(round(1000 * share))

    def _cancel(self) -> None:
        self.stopped.emit()
