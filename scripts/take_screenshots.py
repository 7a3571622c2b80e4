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
from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.hit_tools import choose_hit
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
from supple_snare.desk.workspace import STEPS
from supple_snare.session.grid_edits import beats_of_strokes, follow_beats
from supple_snare.session.section_edits import split_section
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


def follow_band(window: Window) -> None:
    """The tempo followed, the swung bars a section of their own."""
    work = window.work
    card = window.cards["grid"]
    assert isinstance(card, GridCard) and work.view is not None
    work.do("Follow", follow_beats(work.session, beats_of_strokes(work.session, work.view)))
    for bar, name in ((9, "Swung part"), (13, "Last part")):
        work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(bar)), name=name))
    card.slots.choose_section(work.session.sections[1].key)


def main() -> None:
    """Open the demo, go through the steps, keep a picture of each."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    steps = sys.argv[2:] or [*STEPS, "loupe", "measure"]
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
            window.work.look(
                step={"loupe": "hits", "measure": "feel"}.get(step, step),
                loupe=step == "loupe",
                measuring=step == "measure",
            )
            before = window.work.session
            if step == "grid":
                follow_band(window)
                wait(app, lambda: bool(window.work.jobs.jobs), 2.0)
            if step == "measure":
                window.measures.choose("slots")
            if step == "loupe":
                choose_flam(window)
                wait(app, lambda: window.loupe.is_loaded)
            wait(app, lambda: not window.work.jobs.jobs)
            window.grab().save(str(folder / f"{step.replace(' ', '-')}.png"))
            while window.work.session is not before:
                window.work.undo()
        window.close()


if __name__ == "__main__":
    main()
