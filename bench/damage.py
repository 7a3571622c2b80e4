"""What is left of a session after its files were damaged, and how saving fares on a slow disk.

    python bench/damage.py [--flips 1000] [--sync-s 0.3] [--seconds 20]

A session of forty steps is damaged over and over, in one place at a time: a byte of its journal flipped, its journal
cut off, emptied or removed. Told are sessions that do not open as they were, sessions of the undo list that are lost,
damage that is not told, and damaged files that are written over without a copy. Then every sync of the disk is made to
take longer, and told are how old the oldest edit grows that is not saved, and how long closing takes.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import tempfile
import time
from collections import Counter
from pathlib import Path

from msgspec import structs

_STEPS = 40


def _made(where: Path) -> object:
    """A session saved step by step; its history."""
    from supple_snare.session.document import Session
    from supple_snare.session.edits import add_part, hold_range
    from supple_snare.session.folder import SessionFolder
    from supple_snare.session.history import History

    history = History(add_part(Session(), Path("/takes/a.mid"), 300.0))
    taken = SessionFolder.take(where)
    assert isinstance(taken, SessionFolder)
    with taken as place:
        place.write(history)
        for number in range(_STEPS):
            session = hold_range(history.present, "g1", float(number), number + 0.5)
            history = history.step(f"Step {number}", structs.replace(session, name=str(number)))
            place.write(history)
    return history


def _damaged(file: Path, rng: random.Random) -> str:
    """Damage a file in one way; which."""
    data = bytearray(file.read_bytes())
    way = rng.choice(["flip"] * 8 + ["cut", "empty", "remove"])
    if way == "flip":
        data[rng.randrange(len(data))] ^= rng.randrange(1, 256)
    elif way == "cut":
        data = data[: rng.randrange(1, len(data))]
    if way == "remove":
        file.unlink()
    else:
        file.write_bytes(b"" if way == "empty" else bytes(data))
    return way


def damage(count: int, root: Path) -> Counter[str]:
    """Damage the journal so many times; what came of it."""
    from supple_snare.session.folder import SessionFolder, open_history

    root.mkdir()
    history = _made(root / "whole")
    states = history.row()[1]  # type: ignore[attr-defined]
    rng, found = random.Random(1), Counter[str]()
    for number in range(count):
        where = root / str(number)
        shutil.copytree(root / "whole", where)
        way = _damaged(where / "journal", rng)
        before = (where / "journal").read_bytes() if way != "remove" else b""
        opened = open_history(where)
        kept = opened.history.row()[1]
        found[f"{way}: damaged"] += 1
        found[f"{way}: present lost"] += opened.history.present != states[-1]
        found[f"{way}: undo lost in part"] += len(kept) < len(states)
        found[f"{way}: sessions lost"] += len(states) - sum(state in kept for state in states)
        found[f"{way}: not told"] += not opened.words
        found[f"{way}: told as changed outside"] += any("outside" in words for words in opened.words)
        with SessionFolder.take(where) as place:  # type: ignore[union-attr]
            place.write(opened.history)
        asides = [file.read_bytes() for file in where.glob("journal.aside-*")]
        found[f"{way}: no copy kept"] += way != "remove" and before not in asides
        found[f"{way}: not whole afterwards"] += open_history(where).history != opened.history
        shutil.rmtree(where)
    return found


def slow_saves(sync_s: float, seconds: float, root: Path) -> tuple[float, float, bool]:
    """The oldest edit not saved and the time that closing takes, both in s, and whether all was saved."""
    from PyQt6.QtCore import QCoreApplication

    from supple_snare.desk.workspace import Workspace
    from supple_snare.session.document import Session
    from supple_snare.session.edits import add_part, hold_range
    from supple_snare.session.folder import open_history
    from supple_snare.timing.notes import Notes

    app, sync = QCoreApplication.instance() or QCoreApplication([]), os.fsync

    def slow(descriptor: int) -> None:
        time.sleep(sync_s)
        sync(descriptor)

    os.fsync = slow  # type: ignore[assignment]
    work = Workspace()
    work.stages.learn_part(Path("/takes/a.mid"), Notes.none())
    work.do("0", add_part(Session(), Path("/takes/a.mid"), 300.0))
    work.save_as(root / "slow")
    oldest_s, waiting_since, until, number = 0.0, dict[int, float](), time.monotonic() + seconds, 0
    while time.monotonic() < until:
        number += 1
        session = hold_range(work.session, "g1", float(number % 250), number % 250 + 0.5)
        work.do(str(number), structs.replace(session, name=str(number)))
        waiting_since[number] = time.monotonic()
        next_edit = time.monotonic() + 0.05
        while time.monotonic() < next_edit:
            app.processEvents()
            time.sleep(0.001)
        saved = work.saving._saved
        last = int(saved.present.name) if saved is not None and saved.present.name.isdigit() else 0
        waiting_since = {each: at for each, at in waiting_since.items() if each > last}
        oldest_s = max(oldest_s, time.monotonic() - min(waiting_since.values(), default=time.monotonic()))
    began, present = time.monotonic(), work.session
    work.close()
    closing_s = time.monotonic() - began
    os.fsync = sync
    return oldest_s, closing_s, open_history(root / "slow").history.present == present


def main() -> None:
    """Print what was found."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--flips", type=int, default=1_000)
    parser.add_argument("--sync-s", type=float, default=0.3)
    parser.add_argument("--seconds", type=float, default=20.0)
    options = parser.parse_args()
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as root:
        for name in ("STATE", "DATA", "CONFIG", "CACHE"):
            os.environ[f"XDG_{name}_HOME"] = root
        for what, count in sorted(damage(options.flips, Path(root) / "damaged").items()):
            print(f"{count:6d}  {what}")
        oldest_s, closing_s, is_whole = slow_saves(options.sync_s, options.seconds, Path(root))
        print(f"syncs of {options.sync_s:g} s more: oldest edit not saved {oldest_s:.1f} s, closing {closing_s:.1f} s,")
        print(f"all saved: {is_whole}")


if __name__ == "__main__":
    main()
