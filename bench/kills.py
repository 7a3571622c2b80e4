"""Whether work outlives being killed: a program that edits and saves is killed at random moments, over and over.

    python bench/kills.py [--kills 200]

Each time a session is edited without pause, in a folder of its own or, every other time, without one; every fifth time
it is killed while it is saved for the first time. After the kill it is opened again; told are sessions that do not open
with every step that can be undone, and how old the newest edit is that was lost.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_FIRST_SAVE_S = 1.0
"""Until then there need be no session yet."""

_EDITOR = """
import random, sys, time
from pathlib import Path
from PyQt6.QtCore import QCoreApplication
import msgspec
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import Session
from supple_snare.session.edits import add_part, hold_range
from supple_snare.timing.notes import Notes
app = QCoreApplication([])
work = Workspace()
folder, rng = sys.argv[1], random.Random(int(sys.argv[2]))
work.stages.learn_part(Path("/takes/a.mid"), Notes.none())
work.do("0", add_part(work.session, Path("/takes/a.mid"), 300.0))
print("begun", flush=True)
if folder:
    work.save_as(Path(folder))
number = 0
while True:
    number += 1
    session = hold_range(work.session, "g1", float(number % 250), number % 250 + 0.5)
    work.do(str(number), msgspec.structs.replace(session, name=str(number)))
    if rng.random() < 0.1:
        work.undo()
        work.redo()
    print(number, time.monotonic(), flush=True)
    until = time.monotonic() + rng.uniform(0.0, 0.04)
    while time.monotonic() < until:
        app.processEvents()
        time.sleep(0.001)
"""


def one(seed: int, root: Path) -> tuple[bool, float]:
    """Kill one editor; whether its session opens with its undo list, and how old the newest lost edit is, in s."""
    from supple_snare.errors import SnareError
    from supple_snare.session.folder import open_history
    from supple_snare.session.shelter import Shelter

    rng = random.Random(seed)
    folder = root / f"session {seed}" if seed % 2 else None
    state = root / f"state {seed}"
    home = {f"XDG_{name}_HOME": str(state) for name in ("STATE", "DATA", "CONFIG", "CACHE")}
    command = [sys.executable, "-c", _EDITOR, str(folder or ""), str(seed)]
    environment = os.environ | home | {"QT_QPA_PLATFORM": "offscreen"}
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
    with subprocess.Popen(command, text=True, env=environment, **pipes) as editor:
        assert editor.stdout is not None
        editor.stdout.readline()
        time.sleep(rng.uniform(0.0, 0.25) if seed % 5 == 4 else rng.uniform(0.9, 2.4))
        editor.send_signal(signal.SIGKILL)
        killed_s = time.monotonic()
        edits = [line.split() for line in editor.stdout.read().splitlines()]
    done = {int(number): float(at) for number, at in (edit for edit in edits if len(edit) == 2)}
    try:
        kept = folder or Shelter(state / "supple-snare" / "unsaved").left()[0].folder
        history = open_history(kept).history
    except (SnareError, IndexError):
        oldest_s = killed_s - min(done.values(), default=killed_s)
        return seed % 5 == 4 and oldest_s < _FIRST_SAVE_S, oldest_s
    number = int(history.present.name) if history.present.name.isdigit() else 0
    labels = [label for label, _ in history.past]
    whole = labels == [str(each) for each in range(number + 1)][-len(labels) :] and len(labels) >= min(number, 400)
    lost = [at for each, at in done.items() if each > number]
    return whole, killed_s - min(lost, default=killed_s)


def main() -> None:
    """Print what was lost."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=200)
    kills = parser.parse_args().kills
    with tempfile.TemporaryDirectory() as root:
        found = [one(seed, Path(root)) for seed in range(kills)]
    opened = sum(opens for opens, _ in found)
    worst = max(age for _, age in found)
    print(f"{kills} kills: {opened} sessions opened again, whole and with their undo list")
    print(f"oldest edit lost: {worst:.2f} s old")


if __name__ == "__main__":
    main()
