"""Fits the networks by which notes are told from bleed, and says how well they do on instruments not fitted to.

python bench/lines.py --kits FOLDER --notes FOLDER [--takes 120] [--write]      needs scikit-learn

Each line of each take of `bands.py` is judged beside all tracks, and beside some of them. The program's networks are
those of two such fits together: one to takes as they are, and one to takes without bound lines, judged alone, too. The
first alone takes more bleed for notes, the second alone loses more of the bound ones.
"""

from __future__ import annotations

import argparse
import tempfile
from collections import defaultdict
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import msgspec
import numpy as np

from bands import made_band
from bleed import FOLDS, Manner, Row, fit, own_attacks
from material import Made, kits_once
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_drums
from supple_snare.sound.files import read_recording
from supple_snare.sound.judge import LINES_FILE
from supple_snare.sound.lines import hear_lines
from supple_snare.sound.starts import rough_starts

OF_LINES = Manner((12, 6), 60)


@dataclass(frozen=True)
class Line(Row):
    """The inputs for all attacks of a line."""

    told: str
    instrument: str


def weigh(kits: Path, notes: Path, seed: int) -> list[Line]:
    """Make one take and weigh the signs of its lines."""
    _, band, lines = made_band(kits_once(kits), notes, seed)
    with tempfile.TemporaryDirectory() as folder:
        analyses = {path.stem: analyse(read_recording(path)) for path in band.write(Path(folder))}
    rng = np.random.default_rng(seed)
    some = [name for name in analyses if rng.random() < 0.5] or [next(iter(analyses))]
    rows = _rows(band, lines, analyses, analyses, "")
    for name in lines:
        if set(some) != {name}:
            rows += _rows(band, {name: lines[name]}, analyses, [*some, name], ", beside some tracks")
    return rows


def _rows(
    made: Made,
    lines: dict[str, tuple[str, float]],
    analyses: dict[str, Analysis],
    together: Sequence[str] | dict[str, Analysis],
    suffix: str,
) -> list[Line]:
    names = [name for name in analyses if name in together]
    those = [analyses[name] for name in names]
    rows = []
    for track, heard in hear_lines(those, judge_drums(those)).items():
        if names[track] not in lines:
            continue
        place, within_s = lines[names[track]]
        truth_s = made.struck[names[track]].time_s
        own = own_attacks(rough_starts(those[track].attacks), truth_s, within_s)
        instrument = names[track].split("-")[0]
        rows.append(Line(heard.signs(), own, len(truth_s), place + suffix, instrument))
    return rows


def main() -> None:
    """Cross-check by instruments, print; fit to all and write if asked to."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kits", type=Path, required=True)
    parser.add_argument("--notes", type=Path, required=True)
    parser.add_argument("--takes", type=int, default=120)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--write", action="store_true", help="put the networks fitted to everything into the program")
    chosen = parser.parse_args()
    with ProcessPoolExecutor(chosen.jobs) as pool:
        seeds = range(1000, 1000 + chosen.takes)  # not those that `bands.py` measures
        rows = [row for found in pool.map(partial(weigh, chosen.kits, chosen.notes), seeds) for row in found]
    instruments = sorted({row.instrument for row in rows})
    scores: dict[str, list[tuple[float, float, float]]] = defaultdict(list)
    for fold in range(FOLDS):
        unseen = instruments[fold::FOLDS]
        judges = fit([row for row in rows if row.instrument not in unseen], OF_LINES, chosen.jobs)
        for row in rows:
            if row.instrument in unseen and row.strokes:
                played = judges.odds(row.inputs) > 0.0
                right, found = np.count_nonzero(played & row.own), max(np.count_nonzero(played), 1)
                scores[row.told].append((2.0 * right / (found + row.strokes), right / found, right / row.strokes))
    print(f"{'':40}F      worst  precision  recall   on instruments that the networks were not fitted to")
    for told, figures in sorted(scores.items()):
        f_measure, precision, recall = np.mean(figures, axis=0)
        print(f"{told:40}{f_measure:.3f}  {min(figures)[0]:.3f}  {precision:9.3f}  {recall:.3f}")
    if chosen.write:
        LINES_FILE.write_bytes(msgspec.json.encode(fit(rows, OF_LINES, chosen.jobs)))


if __name__ == "__main__":
    main()
