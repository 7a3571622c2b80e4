"""How soon a long session is ready: opened for the first time, and again with what was kept beside it.

    python bench/opening.py [--kits FOLDER] [--minutes 5] [--tracks 16]

Each opening is a process of its own; told is the time from the start of opening (the window stands already) until the
recordings are known to be those of the session and can be played, until the strokes are drawn, and until the tightened
version can be heard.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from material import options
from speed import write_take

_OPEN = """
import sys, time
from pathlib import Path
from PyQt6.QtWidgets import QApplication
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
app = QApplication([])
apply_theme(app)
window = Window()
window.resize(1280, 800)
window.show()
app.processEvents()
begun = time.monotonic()
longest, playing, drawn = 0.0, None, None
window.work.open_folder(Path(sys.argv[1]))
while drawn is None or window.work.cut_of(window.work.group) is None or window.work.jobs.jobs:
    before = time.monotonic()
    app.processEvents()
    longest = max(longest, time.monotonic() - before)
    if playing is None and len(window.player._programme.tracks) == int(sys.argv[2]):
        playing = time.monotonic() - begun
    if drawn is None and window.work.view is not None:
        drawn = time.monotonic() - begun
    time.sleep(0.001)
ready = time.monotonic() - begun
print(f"playing after {playing:.1f} s, strokes drawn after {drawn:.1f} s, tightened after {ready:.1f} s; ", end="")
print(f"longest freeze {1000 * longest:.0f} ms")
window.close()
"""


def main() -> None:
    """Make the session, open it twice."""
    parser = options(__doc__ or "")
    parser.add_argument("--minutes", type=float, default=5.0)
    parser.add_argument("--tracks", type=int, default=16)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        paths, tempo = write_take(root / "in", chosen.kits, chosen.minutes, chosen.tracks)
        _save(root, paths, tempo)
        home = {f"XDG_{name}_HOME": str(root / "home") for name in ("STATE", "DATA", "CONFIG", "CACHE")}
        environment = os.environ | home | {"QT_QPA_PLATFORM": "offscreen"}
        print(f"{chosen.minutes:g} minutes, {len(paths)} tracks, {os.cpu_count()} cores")
        for when in ("first opening", "second opening"):
            begun = time.monotonic()
            command = [sys.executable, "-c", _OPEN, str(root / "session"), str(len(paths))]
            done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
            print(f"{when}: {done.stdout.strip()} (whole process {time.monotonic() - begun:.1f} s)")


def _save(root: Path, paths: list[Path], tempo: float) -> None:
    from supple_snare.session.document import Session
    from supple_snare.session.edits import add_recordings
    from supple_snare.session.grid_edits import with_grid
    from supple_snare.session.storage import save_session
    from supple_snare.sound.files import read_recording
    from supple_snare.timing.grid import Grid

    session = add_recordings(Session(), [read_recording(path) for path in paths], group_name="Take")
    save_session(with_grid(session, Grid(tempo, 0.5)), root / "session")


if __name__ == "__main__":
    main()
