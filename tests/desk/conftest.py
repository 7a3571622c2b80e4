"""The real window on a small take."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QCoreApplication, QSettings
from PyQt6.QtWidgets import QApplication

from supple_snare.desk import workspace
from supple_snare.desk.outputs import SimulatedOutput
from supple_snare.desk.player import Player
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
from supple_snare.session.grid_edits import with_grid
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear, Ensemble
from supple_snare.sound.files import read_recording
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.grid import Grid
from tests.conftest import Take


@pytest.fixture(autouse=True)
def _own_settings(tmp_path: Path) -> None:
    """Settings of no other test, nor of the user: Qt looks for their place only once."""
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))


def wait_until(happened: Callable[[], bool], seconds: float = 120.0) -> None:
    """Let the window work until something is so."""
    until = time.monotonic() + seconds
    while not happened():
        assert time.monotonic() < until, "it did not happen in time"
        QCoreApplication.processEvents()
        time.sleep(0.002)


def settle(window: Window) -> None:
    """Let all running work finish."""
    work = window.work
    wait_until(lambda: not work.jobs.jobs and not work._settled.isActive())


@pytest.fixture(scope="session")
def qapp_cls() -> type[QApplication]:
    """The application in its own dress."""

    class Dressed(QApplication):
        def __init__(self, arguments: list[str]) -> None:
            super().__init__(arguments)
            apply_theme(self)

    return Dressed


@pytest.fixture
def window(qapp: QApplication, monkeypatch: pytest.MonkeyPatch) -> Iterator[Window]:
    """An empty window with the simulated output; it looks for seams sooner than a hand could follow."""
    monkeypatch.setattr(workspace, "_SETTLE_MS", 20)
    window = Window(player=Player(SimulatedOutput()))
    window.resize(1280, 800)
    window.show()
    yield window
    window.leave_at_once()  # without a question, whatever a test left behind
    window.deleteLater()
    QCoreApplication.processEvents()


@pytest.fixture(scope="session")
def heard(shared_take: Take) -> dict[str, Analysis]:
    """What is heard in the small take, by file name: every copy of it sounds the same."""
    return {path.name: analyse(Ear.of(read_recording(path))) for path in shared_take.files}


@pytest.fixture(scope="session")
def judged(shared_take: Take, heard: dict[str, Analysis]) -> list[Verdict]:
    """What is made of that."""
    ears = [Ear.of(read_recording(path)) for path in shared_take.files]
    return judge_group(ears, [heard[path.name] for path in shared_take.files])


@pytest.fixture
def ready(window: Window, take: Take, heard: dict[str, Analysis], judged: list[Verdict]) -> Window:
    """The window with the small take, listened to, on its grid, seams found."""
    ears = tuple(Ear.of(read_recording(path.resolve())) for path in take.files)
    for ear, path in zip(ears, take.files, strict=True):
        window.work.stages.learn(ear, heard[path.name])
    window.work.stages.learn_verdicts(Ensemble(ears), judged)
    window.work.do("Grid", with_grid(window.work.session, Grid(take.tempo_bpm, take.first_beat_s)))
    window.work.add_files(list(take.files), group_name="Drums")
    settle(window)
    return window
