"""Takes the pictures in docs/screenshots/ from the demo, each at 1280 x 800.

QT_QPA_PLATFORM=offscreen .venv/bin/python scripts/take_screenshots.py [FOLDER] [STEP ...]
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QSettings, QStandardPaths
from PyQt6.QtWidgets import QApplication

from supple_snare.demo.session import demo_session
from supple_snare.desk.hit_tools import choose_hit
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
from supple_snare.desk.workspace import STEPS
from supple_snare.timing.hits import Kind

ROOT = Path(__file__).resolve().parent.parent


def wait(app: QApplication, until: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the window work until something holds."""
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    for _ in range(10):
        app.processEvents()
        time.sleep(0.01)


def choose_flam(window: Window) -> None:
    """Look at the first flam of the first lead."""
    view = window.work.view
    assert view is not None
    hits = view.hits[view.leads[0]]
    grace = int(np.flatnonzero(hits.kind == Kind.GRACE)[0])
    choose_hit(window.work, view.leads[0], float(hits.time_s[grace + 1]))
    window.page.show_time(float(hits.time_s[grace]))


def main() -> None:
    """Open the demo, go through the steps, keep a picture of each."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    steps = sys.argv[2:] or [*STEPS, "loupe"]
    folder.mkdir(parents=True, exist_ok=True)
    QStandardPaths.setTestModeEnabled(True)
    app = QApplication(sys.argv[:1])
    with tempfile.TemporaryDirectory() as settings:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
        apply_theme(app)
        window = Window()
        window.resize(1280, 800)
        window.show()
        window.work.open(demo_session(), None)
        wait(app, lambda: window.work.view is not None and not window.work.jobs.jobs)
        window.work.when_cut(lambda: None)
        wait(app, lambda: not window.work.jobs.jobs)
        for step in steps:
            window.work.look(step="hits" if step == "loupe" else step, loupe=step == "loupe")
            if step == "loupe":
                choose_flam(window)
                wait(app, lambda: window.loupe.is_loaded)
            wait(app, lambda: not window.work.jobs.jobs)
            window.grab().save(str(folder / f"{step.replace(' ', '-')}.png"))
        window.close()


if __name__ == "__main__":
    main()
