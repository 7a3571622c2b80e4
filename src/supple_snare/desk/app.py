"""Starts the window."""

from __future__ import annotations

import faulthandler
import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from supple_snare.desk.faults import Faults, start_log
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
from supple_snare.disk.mapped import share_heaps

_ICON = Path(__file__).parent / "icons" / "supple-snare.svg"


def run_window(paths: list[Path], *, demo: bool = False) -> int:
    """Open the window on a session, on recordings, on the demo, or empty; returns the exit status."""
    share_heaps()
    app = QApplication(sys.argv[:1])
    app.setApplicationName("supple-snare")
    app.setOrganizationName("supple-snare")
    app.setApplicationDisplayName("Supple Snare")
    app.setDesktopFileName("supple-snare")
    app.setWindowIcon(QIcon(str(_ICON)))
    apply_theme(app)
    crashes = start_log()
    faults = Faults()
    faults.install()
    window = Window()
    window.watch(faults)
    # Ctrl+C in the terminal closes the window; when the session of the desktop ends, nobody can be asked, and what is
    # unsaved stays in the shelter. The timer lets Python see the signals while Qt waits.
    signal.signal(signal.SIGINT, lambda *_: window.close())
    for ending in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(ending, lambda *_: window.leave_at_once())
    alive = QTimer()
    alive.setInterval(400)
    alive.timeout.connect(lambda: None)
    alive.start()
    window.show_first()
    if demo:
        from supple_snare.demo.session import demo_listening, demo_session

        session = demo_session()
        window.work.open(session, demo_listening(session))
        window.work.look(step="tighten")
    elif paths:
        window.doors.open_paths(paths)
    window.doors.offer_lost()
    status = app.exec()
    if crashes is not None:
        faulthandler.disable()
        crashes.close()
    return status
