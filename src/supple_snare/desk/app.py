"""Starts the window."""

from __future__ import annotations

import signal
import sys
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window


def run_window(paths: list[Path], *, demo: bool = False) -> int:
    """Open the window on a session, on recordings, on the demo, or empty; returns the exit status."""
    app = QApplication(sys.argv[:1])
    app.setApplicationName("supple-snare")
    app.setOrganizationName("supple-snare")
    app.setApplicationDisplayName("Supple Snare")
    apply_theme(app)
    window = Window()
    sys.excepthook = _Faults(window)
    # Ctrl+C in the terminal closes the window; the timer lets Python see the signal while Qt waits.
    signal.signal(signal.SIGINT, lambda *_: window.close())
    alive = QTimer()
    alive.setInterval(400)
    alive.timeout.connect(lambda: None)
    alive.start()
    window.show()
    if demo:
        from supple_snare.demo.session import demo_session

        window.work.open(demo_session(), None)
        window.work.look(step="tighten")
    elif paths:
        window.open_paths(paths)
    return app.exec()


class _Faults:
    """The last resort: a fault the program did not expect is told in one sentence and does not end the work."""

    def __init__(self, window: Window) -> None:
        self._window = window

    def __call__(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        traceback.print_exception(kind, error, trace)
        if not isinstance(error, KeyboardInterrupt):
            self._window.work.tell_problem(f"Something went wrong inside the program ({kind.__name__}: {error}).")
