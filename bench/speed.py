"""What tightening costs: CPU and memory for a long take, and how soon the plan is repainted and heard.

python bench/speed.py --kits FOLDER [--minutes 5] [--tracks 8]
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import soundfile

from material import RATE_HZ, Recipe, build, load_kits, options

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QApplication

    from supple_snare.desk.window import Window


def write_take(into: Path, kits: Path | None, minutes: float, tracks: int) -> tuple[list[Path], float]:
    """A take of that many tracks; if a kit has fewer microphones, the same players half a beat later again."""
    tempo = 104.0
    kit = max(load_kits(kits).values(), key=len)
    made = build(kit, Recipe("long", tempo, bars=round(minutes * tempo / 4)), 7)
    into.mkdir()
    paths = []
    names = list(made.tracks)
    for number in range(tracks):
        sound = np.roll(made.tracks[names[number % len(names)]], number // len(names) * round(30.0 / tempo * RATE_HZ))
        paths.append(into / f"{number:02}-{names[number % len(names)]}.wav")
        soundfile.write(paths[-1], sound, RATE_HZ, subtype="PCM_24")
    return paths, tempo


def run(paths: list[Path], tempo: float, out: Path) -> None:
    """Tighten the take in a process of its own and print what it used."""
    words = [sys.executable, "-m", "supple_snare", "tighten", *map(str, paths), "--tempo", str(tempo)]
    words += ["--first-beat", "0.5", "--strength", "0.9", "--out", str(out), "--json"]
    begun = time.monotonic()
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL, preexec_fn=lambda: os.sched_setaffinity(0, {0}))
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(
        f"tighten on one core: {used.ru_utime + used.ru_stime:.1f} s of CPU, {time.monotonic() - begun:.1f} s, "
        f"peak memory {used.ru_maxrss / 1024:.0f} MB"
    )


def cutting(paths: list[Path], tempo: float, out: Path) -> None:
    """CPU that planning the seams and writing the files needs."""
    from supple_snare.session.cutting import cut_of_request, cut_request
    from supple_snare.session.document import Session
    from supple_snare.session.edits import add_recordings
    from supple_snare.session.grid_edits import with_grid
    from supple_snare.session.handover import plan_files, write_files
    from supple_snare.session.stages import Stages
    from supple_snare.sound.files import read_recording
    from supple_snare.timing.grid import Grid

    session = add_recordings(Session(), [read_recording(path) for path in paths])
    session, stages = with_grid(session, Grid(tempo, 0.5)), Stages()
    stages.analyse_all(session)
    view = stages.view(session, session.groups[0])
    begun = time.process_time()
    cut = cut_of_request(cut_request(session, view))
    planned = time.process_time()
    write_files(plan_files([(track.recording, cut.edits) for track in session.tracks], out))
    written = time.process_time()
    pace = len(paths) * session.length_s / (written - planned)
    print(
        f"{len(cut.edits) - 1} seams of {len(view.strokes)} strokes planned in {planned - begun:.1f} s of CPU, files "
        f"written in {written - planned:.1f} s: {pace:.0f} times real time a track, {pace / len(paths):.0f} for all"
    )


def in_the_window(paths: list[Path], tempo: float) -> None:
    """Open the window on the take and measure there."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtWidgets import QApplication

    from supple_snare.desk.outputs import SimulatedOutput
    from supple_snare.desk.player import Player
    from supple_snare.desk.theme import apply_theme
    from supple_snare.desk.window import Window
    from supple_snare.session.grid_edits import with_grid
    from supple_snare.timing.grid import Grid

    app = QApplication([])
    apply_theme(app)
    window = Window(player=Player(SimulatedOutput()))
    window.resize(1280, 800)
    window.show()
    window.work.add_files(paths, group_name="Take")
    window.work.do("Set the grid", with_grid(window.work.session, Grid(tempo, 0.5)))
    window.work.look(step="tighten")
    while window.work.view is None or window.work.jobs.jobs:
        app.processEvents()
    repaint(app, window)
    follow(app, window)
    window.work.jobs.cancel_all()
    window.work.close()


def follow(app: QApplication, window: Window) -> None:
    """Turn Strength while the take plays, then nudge a stroke, and print how soon either is heard."""
    work, player = window.work, window.player

    def seconds(happened: Callable[[], bool]) -> float:
        begun = time.perf_counter()
        while not happened():
            app.processEvents()
            time.sleep(0.002)
        return time.perf_counter() - begun

    def is_heard() -> bool:
        """Whether the next six seconds go where the plan has them."""
        start_s, move_ms = work.view.strokes.start_s, work.view.plan.move_ms
        near = (start_s > player.position_s) & (start_s < player.position_s + 6.0)
        start = np.rint(start_s[near] * RATE_HZ).astype(np.int64)
        edits = player._programme.lead_edits
        return np.array_equal(edits.result_of(start) - start, np.rint(move_ms[near] * RATE_HZ / 1000.0))

    work.look(step="tighten")
    seconds(lambda: work.seams.cut_of(work.group) is not None and not work.jobs.jobs)
    player.seek(work.session.length_s / 3.0)
    player.play()
    taken = []
    for strength in (0.7, 0.5, 0.3, 0.6, 0.8):
        work.set_response("Turn", replace(work.response, strength=strength))
        work._settled.stop()  # the hand goes on turning
        taken.append(seconds(is_heard))
    player.stop()
    print(f"strength turned while the take plays: heard after {', '.join(f'{each:.2f}' for each in taken)} s")
    work._settled.start()
    seconds(lambda: work.seams.cut_of(work.group) is not None)
    work.look(selected_s=float(work.view.strokes.time_s[len(work.view.strokes) // 2]))
    window.hand.nudge(1.0)
    print(f"a stroke nudged: all seams found after {seconds(lambda: work.seams.cut_of(work.group) is not None):.2f} s")


def repaint(app: QApplication, window: Window) -> None:
    """Turn Strength and a level limit and print how long each repaint took."""
    from supple_snare.desk.level_chart import set_limit

    card = window.cards["tighten"]
    taken = []
    for percent in range(20, 100, 2):
        begun = time.perf_counter()
        card.strength._slider.setValue(percent)  # type: ignore[attr-defined]
        app.processEvents()
        taken.append(1000.0 * (time.perf_counter() - begun))
    say("strength turned", taken)
    window.work.look(step="hits")
    key = window.work.view.leads[0]
    dragged, rested = [], []
    for limit_db in np.arange(-40.0, -10.0, 0.75).tolist():
        window.work.begin_gesture(of_hits=True)
        begun = time.perf_counter()
        set_limit(window.work, key, None, limit_db)
        app.processEvents()
        moved = time.perf_counter()
        window.work.end_gesture()
        app.processEvents()
        dragged.append(1000.0 * (moved - begun))
        rested.append(1000.0 * (time.perf_counter() - moved))
    say("level limit dragged", dragged)
    say("strokes when the hand rests", rested)


def say(what: str, taken: list[float]) -> None:
    """How long repaints took."""
    middle, most = np.percentile(taken, [50, 95])
    print(f"{what}: repainted in {middle:.0f} ms (median), {most:.0f} ms (95 %), {max(taken):.0f} ms at most")


def main() -> None:
    """Make the take, measure, clean up."""
    parser = options(__doc__ or "")
    parser.add_argument("--minutes", type=float, default=5.0)
    parser.add_argument("--tracks", type=int, default=8)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        paths, tempo = write_take(Path(folder) / "in", chosen.kits, chosen.minutes, chosen.tracks)
        print(f"{chosen.minutes:g} minutes, {len(paths)} tracks")
        run(paths, tempo, Path(folder) / "out")
        cutting(paths, tempo, Path(folder) / "cut")
        in_the_window(paths, tempo)


if __name__ == "__main__":
    main()
