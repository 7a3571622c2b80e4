"""Whether the window bears anything that hands may do: clicks, drags, wheels, words, keys and menus at random.

    python bench/hands.py [--seconds 240] [--hands 2] [--seed 0] [FILE …]

Each pair of hands works on a window of its own, with the demo or with the files given, and answers every question at
random. Told are all exceptions and warnings, each once, with the last things done before it; a window that dies or
stands still for a minute is told too, and every half minute the memory that it holds.
"""

from __future__ import annotations

import argparse
import faulthandler
import os
import random
import subprocess
import sys
import tempfile
import time
import traceback
import warnings
from collections import deque
from pathlib import Path
from types import TracebackType
from typing import Any

_STANDS_STILL_S = 60
_DEEDS_TOLD = 10
_TELLS_EVERY_S = 30.0
_FORBIDDEN = ("Quit", "Keys and legend", "The menu")
"""What leaves the window, or waits in a dialog or menu that nobody closes."""

_PICTURES = ("_Canvas", "LeanChart", "LevelChart", "TempoChart", "Loupe", "ResponseCurve", "FeelPicture")
_DEEDS = ("click", "click", "drag", "double", "wheel", "type", "hover")
_TYPED = ("12", "-3", "abc", "0", "99999", "1.5")


class Hands:
    """One pair of hands at one window."""

    def __init__(self, seed: int, files: list[Path]) -> None:
        from PyQt6.QtWidgets import QApplication

        from supple_snare.desk.outputs import SimulatedOutput
        from supple_snare.desk.player import Player
        from supple_snare.desk.theme import apply_theme
        from supple_snare.desk.window import Window
        from supple_snare.disk.mapped import share_heaps
        from supple_snare.session.document import Session

        self.rng = random.Random(seed)
        self.done: deque[str] = deque(maxlen=_DEEDS_TOLD)
        self.told: set[str] = set()
        share_heaps()
        self.app = QApplication([])
        apply_theme(self.app)
        sys.excepthook = self._fault
        warnings.showwarning = self._warning
        warnings.simplefilter("always")
        self._answer_at_random()
        self.window = Window(player=Player(SimulatedOutput()))
        self.window.work.faulted.connect(lambda error: self._fault(type(error), error, error.__traceback__))
        self.window.show()
        if files:
            self.window.work.open(Session())
            self.window.work.add_files(files)
        else:
            self.window.doors.open_demo()
        self.keys = [
            (action, key.toString()) for action in self.window.actions() for key in action.shortcuts()
            if action.text() not in _FORBIDDEN
        ]  # fmt: skip
        self.wait(20.0)

    def wait(self, seconds: float) -> None:
        """Let the window work."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.app.processEvents()
            time.sleep(0.002)

    def work(self, seconds: float) -> int:
        """Do things at random; returns how many."""
        from PyQt6.QtWidgets import QDialog

        until, count = time.monotonic() + seconds, 0
        tells = time.monotonic()
        while time.monotonic() < until:
            count += 1
            if time.monotonic() >= tells:
                tells += _TELLS_EVERY_S
                print(f"{count} deeds, {_resident_mb():.0f} MB", flush=True)
            faulthandler.dump_traceback_later(_STANDS_STILL_S, exit=True)
            for top in self.app.topLevelWidgets():
                if isinstance(top, QDialog) and top.isVisible() and self.rng.random() < 0.3:
                    top.reject()
            try:
                self._press_key() if self.rng.random() < 0.35 else self._touch()
            except Exception as error:  # what is looked for
                self._fault(type(error), error, error.__traceback__)
            self.wait(0.3 if self.rng.random() < 0.15 else 0.0)
            self.window.show()
        faulthandler.cancel_dump_traceback_later()
        return count

    def _press_key(self) -> None:
        action, key = self.rng.choice(self.keys)
        self.done.append(f"{key} ({action.text()})")
        action.trigger()

    def _touch(self) -> None:
        from PyQt6.QtWidgets import QFrame, QLabel, QMenu, QToolButton, QWidget

        seen = [
            each for each in self.window.findChildren(QWidget)
            if each.isVisible() and each.isEnabled() and min(each.width(), each.height()) > 8
            and type(each) not in (QLabel, QFrame) and not isinstance(each, QMenu)
        ]  # fmt: skip
        pictures = [each for each in seen if type(each).__name__ in _PICTURES]
        widget = self.rng.choice(pictures if pictures and self.rng.random() < 0.5 else seen)
        menu = widget.menu() if isinstance(widget, QToolButton) else None
        if menu is not None:
            self._choose(menu)
        else:
            self._use(widget, self.rng.choice(_DEEDS))

    def _choose(self, menu: Any) -> None:
        menu.aboutToShow.emit()
        able = [each for each in menu.actions() if each.isEnabled() and each.text() and each.text() not in _FORBIDDEN]
        if able:
            action = self.rng.choice(able)
            self.done.append(f"menu: {action.text()}")
            action.trigger()

    def _use(self, widget: Any, deed: str) -> None:
        from PyQt6.QtCore import QPoint, QPointF, Qt
        from PyQt6.QtGui import QWheelEvent
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QAbstractSpinBox, QComboBox, QLineEdit

        held = self.rng.choice(
            [Qt.KeyboardModifier.NoModifier] * 3
            + [Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier]
        )
        left = Qt.MouseButton.LeftButton
        here, there = (
            QPoint(self.rng.randrange(widget.width()), self.rng.randrange(widget.height())) for _ in range(2)
        )
        self.done.append(f"{deed} on {type(widget).__name__} with {held.name}")
        if deed == "click":
            QTest.mouseClick(widget, left, held, here)
        elif deed == "double":
            QTest.mouseDClick(widget, left, held, here)
        elif deed == "drag":
            QTest.mousePress(widget, left, held, here)
            for share in (0.3, 0.6, 1.0):
                QTest.mouseMove(widget, here + (there - here) * share)
            QTest.mouseRelease(widget, left, held, there)
        elif deed == "wheel":
            turn = QPoint(0, self.rng.choice((120, -120)))
            place = QPointF(widget.mapToGlobal(here))
            phase = Qt.ScrollPhase.NoScrollPhase
            event = QWheelEvent(QPointF(here), place, QPoint(0, 0), turn, Qt.MouseButton.NoButton, held, phase, False)
            self.app.sendEvent(widget, event)
        elif deed == "hover":
            QTest.mouseMove(widget, here)
        elif isinstance(widget, QLineEdit | QAbstractSpinBox | QComboBox):
            QTest.keyClicks(widget, self.rng.choice(_TYPED))
            QTest.keyClick(widget, Qt.Key.Key_Return)

    def _answer_at_random(self) -> None:
        from PyQt6.QtWidgets import QDialog, QFileDialog, QInputDialog, QMenu, QMessageBox

        rng, folder = self.rng, tempfile.mkdtemp(dir=Path.cwd())
        files = ["", f"{folder}/a.png", f"{folder}/a.csv", f"{folder}/a.groove.json"]
        buttons = QMessageBox.StandardButton
        for owner, name, answer in (
            (QFileDialog, "getOpenFileNames", lambda: ([], "")),
            (QFileDialog, "getOpenFileName", lambda: ("", "")),
            (QFileDialog, "getSaveFileName", lambda: (rng.choice(files), "")),
            (QFileDialog, "getExistingDirectory", lambda: rng.choice(["", folder])),
            (QInputDialog, "getText", lambda: (rng.choice(["", "Abc", "5/4", "x" * 50]), rng.random() < 0.7)),
            (QInputDialog, "getDouble", lambda: (rng.uniform(40.0, 200.0), rng.random() < 0.6)),
            (QMessageBox, "exec", lambda: rng.choice([buttons.Discard, buttons.Cancel, buttons.Yes]).value),
            (QDialog, "exec", lambda: 0),
            (QMenu, "exec", lambda: None),
        ):
            setattr(owner, name, lambda *_words, _answer=answer, **_more: _answer())

    def _fault(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        self._tell("".join(traceback.format_exception(kind, error, trace)))

    def _warning(self, message: Warning | str, _kind: object, file: str, line: int, *_more: object) -> None:
        self._tell(f"{file}:{line}: {message}\n{''.join(traceback.format_stack()[-8:-1])}")

    def _tell(self, text: str) -> None:
        if text not in self.told:
            self.told.add(text)
            print(text, "after:", *self.done, sep="\n  ", flush=True)


def _resident_mb() -> float:
    """Memory that the process holds now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def _one(seed: int, seconds: float, files: list[Path]) -> None:
    """In a process of its own."""
    faulthandler.enable()
    hands = Hands(seed, files)
    count = hands.work(seconds)
    steps = len(hands.window.work.history.past)
    print(f"hands {seed}: {count} deeds, {steps} steps, {len(hands.told)} faults", flush=True)
    os._exit(1 if hands.told else 0)  # whatever still runs is of no interest


def main() -> int:
    """Let hands loose; status 1 if anything went wrong."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("files", nargs="*", type=Path, help="recordings to work on; default the demo")
    parser.add_argument("--seconds", type=float, default=240.0)
    parser.add_argument("--hands", type=int, default=2, help="windows at the same time")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--alone", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.alone:
        _one(options.seed, options.seconds, options.files)
    failed = False
    with tempfile.TemporaryDirectory() as home:
        running = []
        for seed in range(options.seed, options.seed + options.hands):
            own = {f"XDG_{kind}_HOME": f"{home}/{seed}/{kind}" for kind in ("STATE", "CONFIG", "DATA", "CACHE")}
            files = [str(path.resolve()) for path in options.files]
            words = ["--alone", "--seed", str(seed), "--seconds", str(options.seconds), *files]
            running.append(
                subprocess.Popen(
                    [sys.executable, str(Path(__file__).resolve()), *words],
                    cwd=home,  # hands also type the names of folders, and have files written there
                    env=os.environ | own | {"QT_QPA_PLATFORM": "offscreen"},
                )
            )
        for seed, process in enumerate(running, options.seed):
            if process.wait():
                print(f"hands {seed}: status {process.returncode}")
                failed = True
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
