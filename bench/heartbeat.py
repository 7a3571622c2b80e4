"""How long the window stands still at most: a heartbeat on the interface thread while a person works.

    python bench/heartbeat.py FILE … --tempo BPM --first-beat SECONDS [--rounds 3] [--busy 2]

Every deed is done the way a key or the mouse does it, on a take of some thousand strokes; the longest time between
two beats from before the deed until all that it set off has come to rest is told, in ms. `--busy` processes compete
for the processor all the while.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

_BEAT_MS = 1
_QUIET_S = 0.6
_LONGEST_S = 60.0


def _spin() -> None:
    while True:
        sum(range(10_000))


class Heart:
    """Beats on the interface thread, and knows the longest pause."""

    def __init__(self) -> None:
        from PyQt6.QtCore import Qt, QTimer

        self.longest_ms, self._last = 0.0, time.perf_counter()
        self._timer = QTimer()
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.setInterval(_BEAT_MS)
        self._timer.timeout.connect(self.beat)
        self._timer.start()

    def beat(self) -> None:
        """Once each time round the loop."""
        now = time.perf_counter()
        self.longest_ms = max(self.longest_ms, 1000.0 * (now - self._last))
        self._last = now

    def reset(self) -> None:
        """From now on."""
        self.longest_ms, self._last = 0.0, time.perf_counter()


def deeds(window: object) -> dict[str, Callable[[], object]]:
    """What a person does again and again, by name."""
    from msgspec import structs

    work, player = window.work, window.player  # type: ignore[attr-defined]
    actions = {action.text(): action for action in window.actions()}  # type: ignore[attr-defined]

    def go_to(share: float) -> None:
        strokes = work.view.strokes
        work.look(selected_s=float(strokes.time_s[int(share * (len(strokes) - 1))]))

    def level_limit() -> None:
        work.begin_gesture(of_hits=True)
        for level in (-30.0, -28.0, -26.0, -24.0):
            track = work.session.tracks[0]
            rules = structs.replace(track.rules, level_limit_db=level)
            tracks = (structs.replace(track, rules=rules), *work.session.tracks[1:])
            work.do("Set the level limit", structs.replace(work.session, tracks=tracks))
        work.end_gesture()

    def strength() -> None:
        work.begin_gesture()
        for share in (0.7, 0.65, 0.6, 0.9):
            work.set_response("Strength", replace(work.response, strength=share))
        work.end_gesture()

    found: dict[str, Callable[[], object]] = {
        "select a stroke": lambda: go_to(0.5),
        "strength dragged": strength,
        "level limit dragged": level_limit,
        "undo": work.undo,
        "redo": work.redo,
        "play": player.play,
        "seek while playing": lambda: player.seek(100.0),
        "seek back": lambda: player.seek(10.0),
        "stop": player.stop,
    }
    for step in ("gather", "grid", "hits", "feel", "tighten", "proof", "hand over", "tighten"):
        found[f"step {step}"] = lambda step=step: work.look(step=step)
    for text, action in actions.items():
        if text in _BY_KEY:
            found[text] = action.trigger
    return found


_BY_KEY = (
    "Join with the one before", "Split a section at the playhead", "Make the range a section …", "Hold the selection",
    "Even out the range", "Remove hits", "Restore hits as found", "Hit or stroke 1 ms later", "One slot later",
    "Lock strokes to their slots", "Drop all edits of the selection", "Next doubt", "Next stroke or hit",
    "More bars a row",     "Join the range to one piece", "Tighten only the range", "Hear tightened", "Hear as played",
)  # fmt: skip


def main() -> None:
    """Do every deed some times; tell the longest pause of each, the longest first."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("files", nargs="+", type=Path)
    parser.add_argument("--tempo", type=float, required=True)
    parser.add_argument("--first-beat", type=float, required=True)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--busy", type=int, default=0)
    options = parser.parse_args()
    _run(options)
    os._exit(0)


def _run(options: argparse.Namespace) -> None:
    home = tempfile.mkdtemp()
    for kind in ("STATE", "CONFIG", "DATA", "CACHE"):
        os.environ[f"XDG_{kind}_HOME"] = f"{home}/{kind}"
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtWidgets import QApplication

    from supple_snare.desk.outputs import SimulatedOutput
    from supple_snare.desk.player import Player
    from supple_snare.desk.theme import apply_theme
    from supple_snare.desk.window import Window
    from supple_snare.session.document import Session
    from supple_snare.session.grid_edits import with_grid
    from supple_snare.timing.grid import Grid

    app = QApplication([])
    apply_theme(app)
    window = Window(player=Player(SimulatedOutput()))
    window.resize(1280, 800)
    window.show()
    work, heart = window.work, Heart()

    def rest() -> None:
        quiet, until = time.monotonic(), time.monotonic() + _LONGEST_S
        while time.monotonic() - quiet < _QUIET_S and time.monotonic() < until:
            app.processEvents()
            if work.jobs.jobs or work._settled.isActive() or work.saving.is_waiting:
                quiet = time.monotonic()

    work.open(Session())
    heart.reset()
    work.add_files([path.resolve() for path in options.files])
    while work.view is None:
        app.processEvents()
    rest()
    print(f"opening and listening: {heart.longest_ms:.0f} ms; {len(work.view.strokes)} strokes", flush=True)
    heart.reset()
    work.do("Set the grid", with_grid(work.session, Grid(options.tempo, options.first_beat)))
    rest()
    print(f"setting the grid: {heart.longest_ms:.0f} ms", flush=True)
    print("keys:", ", ".join(sorted(action.text() for action in window.actions() if action.shortcuts())), flush=True)
    busy = [multiprocessing.Process(target=_spin, daemon=True) for _ in range(options.busy)]
    for process in busy:
        process.start()
    longest: dict[str, float] = {}
    for _ in range(options.rounds):
        for name, deed in deeds(window).items():
            work.look(selected_s=float(work.view.strokes.time_s[len(work.view.strokes) // 2]))
            rest()
            heart.reset()
            deed()
            app.processEvents()
            rest()
            longest[name] = max(longest.get(name, 0.0), heart.longest_ms)
    for name, pause_ms in sorted(longest.items(), key=lambda each: -each[1]):
        print(f"{pause_ms:7.0f} ms  {name}", flush=True)
    for process in busy:
        process.kill()


if __name__ == "__main__":
    main()
