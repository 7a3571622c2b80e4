"""Whether tightening does what it says: renders made-up recordings at full strength and looks for the strokes again.

    python bench/tighten.py --kits FOLDER [--seeds N] [--only NAME]

Every stroke the program moved is looked for in the rendered files by correlation with the recording, in every track: it
must lie within 2 ms of its line, and by the same number of samples from its old place in all tracks.
"""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import correlate

from material import EASY, RATE_HZ, Case, Sound, cases, in_processes, options
from supple_snare.cli import main as run

_SPAN = (round(-0.001 * RATE_HZ), round(0.012 * RATE_HZ))
_SEARCH = round(0.060 * RATE_HZ)


@dataclass(frozen=True)
class Outcome:
    """What became of one recording."""

    name: str
    strokes: int
    moved: int
    off_line: int
    worst_ms: float
    apart: int
    limited: int
    wrong_slot: int
    bit_exact: bool
    lengths_kept: bool


def command(paths: list[Path], made_tempo: float, out: Path, *extra: str) -> dict[str, list[dict[str, object]]]:
    """Run `tighten` and read its JSON."""
    printed = io.StringIO()
    words = ["tighten", *map(str, paths), "--tempo", str(made_tempo), "--first-beat", "0.5", "--grid", "1/16"]
    with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(io.StringIO()):
        status = run([*words, "--out", str(out), "--json", *extra])
    assert status == 0, words
    result: dict[str, list[dict[str, object]]] = json.loads(printed.getvalue())
    return result


def shift_of(before: Sound, after: Sound, at: int, expected: int) -> int:
    """By how many samples what sounds at a place moved, found by correlation near the expected shift."""
    first, last = at + _SPAN[0], at + _SPAN[1]
    pattern = before[first:last]
    low = first + expected - _SEARCH
    zone = after[max(low, 0) : last + expected + _SEARCH]
    energy = np.convolve(zone**2, np.ones(len(pattern)), "valid")
    likeness = correlate(zone, pattern, "valid") / np.sqrt(np.maximum(energy, 1e-12))
    return int(np.argmax(likeness)) + max(low, 0) - first


def measure(case: Case) -> Outcome:
    """Tighten one recording and look at the files."""
    made = case.make()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        subtype = "PCM_24" if case.seed % 2 else "PCM_16"
        paths = made.write(root / "in", subtype)
        whole = command(paths, case.recipe.tempo_bpm, root / "full", "--strength", "1")
        command(paths, case.recipe.tempo_bpm, root / "none", "--strength", "0")
        read = {path.name: soundfile.read(path, dtype="int32")[0] for path in paths}
        same = [
            np.array_equal(read[path.name], soundfile.read(root / "none" / path.name, dtype="int32")[0])
            for path in paths
        ]
        rendered = {path.name: soundfile.read(root / "full" / path.name)[0] for path in paths}
        sound = {path.name: soundfile.read(path)[0] for path in paths}
    truth = {f"{drum}.wav": struck.time_s for drum, struck in made.struck.items()}
    grid = {f"{drum}.wav": lines for drum, lines in made.grid_s.items()}
    worst, off_line, apart, moved, wrong = 0.0, 0, 0, 0, 0
    for stroke in whole["strokes"]:
        if stroke["kept"] is not None or stroke["grid_time"] is None:
            continue
        moved += 1
        at, lead = round(float(stroke["time"]) * RATE_HZ), _lead_at(truth, float(stroke["time"]))
        if lead is None:
            continue
        near = int(np.argmin(np.abs(truth[lead] - float(stroke["time"]))))
        wrong += abs(grid[lead][near] - float(stroke["grid_time"])) > 0.01
        expected = round(float(stroke["moved_ms"]) / 1000.0 * RATE_HZ)
        shift = shift_of(sound[lead], rendered[lead], at, expected)
        off_ms = 1000.0 * (float(truth[lead][near]) + shift / RATE_HZ - float(stroke["grid_time"]))
        worst = max(worst, abs(off_ms), key=abs)
        off_line += abs(off_ms) > 2.0
        apart += any(_differs(sound[name], rendered[name], at, shift) for name in sound)
    limited = sum("could not move as planned" in stroke["doubts"] for stroke in whole["strokes"])
    lengths = all(len(rendered[name]) == len(sound[name]) for name in sound)
    return Outcome(
        f"{case.recipe.name} · {case.kit}",
        len(whole["strokes"]),
        moved,
        off_line,
        worst,
        apart,
        limited,
        wrong,
        all(same),
        lengths,
    )


def _lead_at(truth: dict[str, Sound], time_s: float) -> str | None:
    """The drum that was struck at a moment, if one was."""
    distances = {name: float(np.min(np.abs(times - time_s))) for name, times in truth.items() if len(times)}
    lead = min(distances, key=lambda name: distances[name])
    return lead if distances[lead] < 0.005 else None


def _differs(before: Sound, after: Sound, at: int, shift: int) -> bool:
    """Whether a track does not hold the very samples of the attack at its new place."""
    first, last = at, at + _SPAN[1]
    there = after[first + shift : last + shift]
    return len(there) == last - first and not np.array_equal(before[first:last], there)


def main() -> None:
    """Print a row a recording, and the sums."""
    chosen = options(__doc__ or "").parse_args()
    print(f"{'recording':36}strokes  moved  off line  worst ms  not the same in all  limited  wrong slot")
    rows = []
    for row in in_processes(measure, cases(chosen, EASY), chosen.jobs):
        rows.append(row)
        print(
            f"{row.name:36}{row.strokes:7}{row.moved:7}{row.off_line:10}{row.worst_ms:10.2f}{row.apart:21}"
            f"{row.limited:9}{row.wrong_slot:12}"
            f"{'' if row.bit_exact else '  NOT BIT EXACT'}{'' if row.lengths_kept else '  LENGTHS DIFFER'}",
            flush=True,
        )
    off, apart, limited, wrong, moved = (
        sum(getattr(row, name) for row in rows) for name in ("off_line", "apart", "limited", "wrong_slot", "moved")
    )
    print(
        f"{moved} moved: {off} off their line, {apart} not the same in all, {limited} limited, {wrong} in a wrong slot"
    )


if __name__ == "__main__":
    main()
