"""How well hits are found: precision, recall, F and errors over made-up recordings, by recipe.

python bench/hits.py --kits FOLDER [--rooms|--passages] [--seeds N] [--only NAME] [--each] [--finder FINDER]
python bench/hits.py --takes FOLDER [...]      recordings that others made
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

import passages
import rooms
from finders import FINDERS
from material import EASY, HARD, Case, Made, Score, Struck, cases, in_processes, options, read_made, score
from supple_snare.timing.hits import Hits, Kind, nearest_index


def outside_rolls(truth: Struck, found_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """True times that count, and which of the found ones do: what is found inside a roll is neither right nor wrong."""
    inside, outside = truth.time_s[truth.kind == "roll"], truth.time_s[truth.kind != "roll"]
    counted = np.ones(len(found_s), dtype=bool)
    if len(inside) and len(found_s):
        near = np.abs(inside[nearest_index(inside, found_s)] - found_s) < 0.014
        counted = ~near | (np.abs(outside[nearest_index(outside, found_s)] - found_s) < 0.005)
    return outside, counted


class Tally:
    """Scores of all recordings of one recipe."""

    def __init__(self) -> None:
        self.wide: list[Score] = []
        self.takes: list[float] = []
        self.narrow: list[Score] = []
        self.kinds: dict[str, list[int]] = {}
        self.errors_s: list[float] = []
        self.false_a_minute: list[float] = []
        self.told: dict[str, list[bool]] = {"grace": [], "stroke": []}

    def add(self, made: Made, found: dict[str, Hits]) -> list[tuple[str, Score]]:
        """Score one recording; returns the score of each close microphone."""
        scores = []
        for drum, truth in made.struck.items():
            hits = found[drum]
            self._add_told(truth, hits)
            times = hits.time_s[hits.kind != Kind.BLEED]
            outside, counted = outside_rolls(truth, times)
            times = times[counted]
            if not len(truth.time_s):
                self.false_a_minute.append(60.0 * len(times) / made.length_s)
                continue
            wide = score(times, outside, 0.010)
            self.wide.append(wide)
            self.narrow.append(score(times, outside, 0.003))
            self.errors_s += wide.errors_s.tolist()
            kinds = truth.kind[truth.kind != "roll"]
            for kind in np.unique(kinds):
                which = np.flatnonzero(kinds == kind)
                tally = self.kinds.setdefault(str(kind), [0, 0])
                tally[0] += len(which) - len(np.intersect1d(which, wide.missed))
                tally[1] += len(which)
            scores.append((drum, wide))
        self.takes.append(float(np.mean([wide.f_measure for _drum, wide in scores])))
        return scores

    def _add_told(self, truth: Struck, hits: Hits) -> None:
        """Whether grace notes and strokes that were found count as what they are."""
        for kind, as_what in (("grace", Kind.GRACE), ("stroke", Kind.PLAYED)):
            true_s, kept = truth.time_s[truth.kind == kind], hits[hits.kind != Kind.BLEED]
            if len(true_s) and len(kept):
                nearest = nearest_index(kept.time_s, true_s)
                found = np.abs(kept.time_s[nearest] - true_s) < 0.010
                self.told[kind] += (kept.kind[nearest[found]] == as_what).tolist()

    def row(self) -> str:
        """The figures in one line: F in the mean, of the worst recording, of its worst microphone, and so on."""
        errors = 1000.0 * np.abs(np.array(self.errors_s))
        f_wide = [entry.f_measure for entry in self.wide]
        f_narrow = [entry.f_measure for entry in self.narrow]
        matched = sum(entry.matched for entry in self.wide)
        precision = matched / max(sum(entry.found for entry in self.wide), 1)
        recall = matched / max(sum(entry.hits for entry in self.wide), 1)
        kinds = ", ".join(f"{kind} {100 * got / of:.0f} %" for kind, (got, of) in sorted(self.kinds.items()))
        idle = f"; idle drum {np.mean(self.false_a_minute):.1f} a minute" if self.false_a_minute else ""
        told = ", ".join(f"{kind} {np.mean(found):.1%}" for kind, found in self.told.items() if found)
        return (
            f"{np.mean(f_wide):.3f}  {min(self.takes):.3f}  {min(f_wide):.3f}  {np.mean(f_narrow):.3f}  "
            f"{precision:.3f}  {recall:.3f}  "
            f"{np.median(errors):5.2f}  {np.percentile(errors, 95):5.2f}  {1000 * np.median(self.errors_s):+5.2f}  "
            f"{kinds}{idle}; of those told as such {told}"
        )


def measure(finder: str, source: Case | Path) -> tuple[str, str, Made, dict[str, Hits]]:
    """Make one recording, or read one that others made, and find its hits: its recipe and kit, itself, and these."""
    if isinstance(source, Path):
        name, kit, made = source.name, source.parent.name, read_made(source)
    else:
        name, kit, made = source.recipe.name, source.kit, source.make()
    return name, kit, replace(made, tracks={}), FINDERS[finder](made)


def sources(chosen: argparse.Namespace) -> Sequence[Case | Path]:
    """What is measured."""
    if chosen.takes:
        return [path.parent for path in sorted(chosen.takes.glob("**/truth.json")) if chosen.only in str(path)]
    return cases(chosen, passages.PASSAGES if chosen.passages else rooms.PLACES if chosen.rooms else EASY + HARD)


def main() -> None:
    """Print one row a recipe."""
    parser = options(__doc__ or "")
    parser.add_argument("--rooms", action="store_true", help="recordings in rooms of mirrors, as `rooms.py` makes them")
    parser.add_argument("--passages", action="store_true", help="passages of songs, as `passages.py` makes them")
    parser.add_argument("--takes", type=Path, help="a folder of recordings that others made, with a truth.json each")
    parser.add_argument("--each", action="store_true", help="also print every microphone that scores below 0.97")
    parser.add_argument("--finder", choices=list(FINDERS), default="program", help="what finds the hits")
    chosen: argparse.Namespace = parser.parse_args()
    tallies: dict[str, Tally] = {}
    found_in = in_processes(partial(measure, chosen.finder), sources(chosen), chosen.jobs)
    for name, kit, made, found in found_in:
        scores = tallies.setdefault(name, Tally()).add(made, found)
        for drum, entry in scores:
            if chosen.each and entry.f_measure < 0.97:
                print(
                    f"    {name} · {kit} · {drum}: F {entry.f_measure:.3f}, "
                    f"{len(entry.missed)} missed and {len(entry.invented)} invented of {entry.hits}",
                    flush=True,
                )
    print(f"{'recipe':31}F10 ms take   worst  F3 ms  prec   recall err 50  95 %  bias (ms)  found by kind")
    for name, tally in tallies.items():
        print(f"{name:31}{tally.row()}")


if __name__ == "__main__":
    main()
