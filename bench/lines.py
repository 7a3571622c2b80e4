"""Fits the networks by which notes are told from bleed, and says how well they do on instruments not fitted to.

python bench/lines.py --kits FOLDER --notes FOLDER [--takes 120] [--write]      needs scikit-learn

Each line of each take of `bands.py` is judged beside all tracks, and beside some of them. The program's networks are
those of two such fits together: one to takes as they are, and one to takes without bound lines, judged alone, too. The
first alone takes more bleed for notes, the second alone loses more of the bound ones.
"""

from __future__ import annotations

import tempfile
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from bands import band_options, made_band, print_figures
from fitting import Cases, Manner, fit, own_attacks, write
from material import Made, kits_once
from notes import name_of
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_drums
from supple_snare.sound.files import read_recording
from supple_snare.sound.lines import FEATURES, hear_lines

OF_LINES = Manner((12, 6), rounds=60, decay=0.1, members=5)
FOLDS = 4


@dataclass(frozen=True)
class Line:
    """All attacks of a line, which of them are its notes, and how many notes it has."""

    cases: Cases
    strokes: int
    told: str
    instrument: str


def weigh(kits: Path, notes: Path, seed: int) -> list[Line]:
    """Make one take and weigh the signs of its lines."""
    _, band, lines = made_band(kits_once(kits), notes, seed)
    with tempfile.TemporaryDirectory() as folder:
        analyses = {path.stem: analyse(read_recording(path)) for path in band.write(Path(folder))}
    rng = np.random.default_rng(seed)
    some = [name for name in analyses if rng.random() < 0.5] or [next(iter(analyses))]
    rows = _rows(band, lines, analyses, "")
    for line, place in lines.items():
        beside = {name: found for name, found in analyses.items() if name in some or name == line}
        if len(beside) > 1:
            rows += _rows(band, {line: place}, beside, ", beside some tracks")
    return rows


def _rows(made: Made, lines: dict[str, tuple[str, float]], analyses: dict[str, Analysis], suffix: str) -> list[Line]:
    names, together = list(analyses), list(analyses.values())
    rows = []
    for track, heard in hear_lines(together, judge_drums(together), np.arange(len(together))).items():
        name = names[track]
        if name in lines:
            place, within_s = lines[name]
            truth_s = made.struck[name].time_s
            own = own_attacks(heard.time_s, truth_s, within_s)
            instrument = name_of(name.removesuffix(f" {place}"))
            cases = Cases(heard.signs(), own, np.ones(len(own)))
            rows.append(Line(cases, len(truth_s), place + suffix, instrument))
    return rows


def main() -> None:
    """Cross-check by instruments, print; fit to all and write if asked to."""
    parser = band_options(__doc__, 120)
    parser.add_argument("--write", action="store_true", help="put the networks fitted to everything into the program")
    chosen = parser.parse_args()
    with ProcessPoolExecutor(chosen.jobs) as pool:
        seeds = range(1000, 1000 + chosen.takes)  # not those that `bands.py` measures
        rows = [row for found in pool.map(partial(weigh, chosen.kits, chosen.notes), seeds) for row in found]
    instruments = sorted({row.instrument for row in rows})
    scores: dict[str, list[tuple[float, float, float]]] = defaultdict(list)
    for fold in range(FOLDS):
        unseen = instruments[fold::FOLDS]
        seen = [row.cases for row in rows if row.instrument not in unseen]
        model = fit(seen, FEATURES, OF_LINES, chosen.jobs, {})
        for row in rows:
            if row.instrument in unseen and row.strokes:
                played = model.of_columns(row.cases.columns) > 0.0
                right, found = np.count_nonzero(played & row.cases.own), max(np.count_nonzero(played), 1)
                scores[row.told].append((2.0 * right / (found + row.strokes), right / found, right / row.strokes))
    print("on instruments that the networks were not fitted to")
    print_figures(scores)
    if chosen.write:
        told = {"by": "bench/lines.py", "takes": chosen.takes, "instruments": instruments}
        write("lines", fit([row.cases for row in rows], FEATURES, OF_LINES, chosen.jobs, told))


if __name__ == "__main__":
    main()
