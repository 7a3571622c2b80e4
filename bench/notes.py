"""How well the notes of basses, guitars, keys, winds and voices are found: lines made of single notes, by instrument.

python bench/notes.py --notes FOLDER [--only NAME] [--seeds 2] [--each]

FOLDER holds one folder an instrument, in it single notes held for a second and more, at 48 kHz, named PITCH-FORCE.wav
(`finger-bass/40-90.wav`). A line plays them at random places of a grid, each until shortly before or just after the
next one begins. Besides F within 30 ms (50 ms of blown, bowed and sung notes, whose start is a matter of definition),
the error of each start (5 % of the attack's peak) is told in its parts: its middle, what each note strays from that,
and how much later soft notes are taken to start than loud ones.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from finders import program
from material import RATE_HZ, Made, Sound, Struck, score, start_of
from supple_snare.timing.hits import Kind, nearest_index

HELD = ("accordion", "choir", "clarinet", "flute", "horn", "organ", "sax", "strings", "trombone", "trumpet", "tuba")
HELD += ("viola", "violin", "voice", "voice-oo")
CHORDS = ("piano", "epiano", "nylon", "steel", "clean-guitar", "accordion", "organ")


@dataclass(frozen=True)
class Manner:
    """How a line is played: tempo, how full the sixteenths are, how long notes sound beside the way to the next one."""

    name: str
    tempo_bpm: float
    density: float
    length: tuple[float, float]
    noise_db: float = -72.0


MANNERS = (
    Manner("calm, detached", 90.0, 0.35, (0.5, 0.9)),
    Manner("busy, detached", 110.0, 0.6, (0.5, 0.9)),
    Manner("busy, bound", 110.0, 0.6, (1.0, 1.05)),
    Manner("noisy floor", 100.0, 0.45, (0.6, 1.0), -50.0),
    Manner("short, fast", 165.0, 0.5, (0.4, 0.6)),
)


def load_notes(folder: Path, instrument: str) -> list[tuple[int, int, Sound]]:
    """(pitch, force, sound) of every note, each with a little before its start."""
    notes = []
    for path in sorted((folder / instrument).glob("*.wav")):
        pitch, force = map(int, path.stem.split("-"))
        sound = soundfile.read(path, always_2d=True)[0].mean(axis=1)
        notes.append((pitch, force, sound))
    loudest = max(float(np.abs(sound).max()) for _, _, sound in notes)
    return [(pitch, force, sound / loudest) for pitch, force, sound in notes]


def play(notes: list[tuple[int, int, Sound]], chords: bool, manner: Manner, seed: int) -> Made:
    """One line of some forty seconds."""
    rng = np.random.default_rng(seed)
    step_s = 15.0 / manner.tempo_bpm
    steps = np.flatnonzero(rng.random(round(40.0 / step_s)) < manner.density)
    grid_s = 0.5 + steps * step_s
    at = np.rint((grid_s + rng.normal(0.0, 0.008, len(steps))) * RATE_HZ).astype(int)
    line, force = lay_line(notes, chords, at, manner.length, rng)
    line += rng.normal(size=len(line)) * 10.0 ** (manner.noise_db / 20.0) * np.abs(line).max()
    kept = np.isfinite(force)
    truth = Struck(at[kept] / RATE_HZ, force[kept], np.full(int(kept.sum()), "stroke"))
    track = line * (0.5 / np.abs(line).max())
    return Made({"line": track}, {"line": truth}, {"line": grid_s[kept]}, len(line) / RATE_HZ)


def lay_line(
    notes: list[tuple[int, int, Sound]],
    chords: bool,
    at: NDArray[np.int64],
    length: tuple[float, float],
    rng: np.random.Generator,
) -> tuple[Sound, NDArray[np.float64]]:
    """A line whose notes start at some samples, and the force of each; NaN where the instrument has no such note."""
    until = np.append(at[1:], at[-1] + RATE_HZ)
    line = np.zeros(at[-1] + 3 * RATE_HZ)
    pitches, forces = np.unique([note[0] for note in notes]), np.unique([note[1] for note in notes])
    by_name = {note[:2]: note[2] for note in notes}
    current, level = int(rng.integers(len(pitches))), np.zeros(len(at))
    for number, (start, stop) in enumerate(zip(at, until, strict=True)):
        current = int(np.clip(current + rng.integers(-3, 4), 0, len(pitches) - 1))
        force = int(rng.choice(forces))
        level[number] = force
        together = [current, *((current + 2, current + 4) if chords and rng.random() < 0.4 else ())]
        sounds = [by_name[key] for place in together if (key := (int(pitches[place % len(pitches)]), force)) in by_name]
        for sound in sounds:
            frames = round(float(rng.uniform(*length)) * (stop - start)) + start_of(sound)
            fade = min(round(0.03 * RATE_HZ), frames // 2)
            held = sound[: min(frames + fade, len(sound))].copy()
            held[-fade:] *= np.linspace(1.0, 0.0, fade) ** 2
            begin = start - start_of(sound)
            line[begin : begin + len(held)] += held
        if not sounds:
            level[number] = np.nan
    return line, level


@dataclass(frozen=True)
class Row:
    """What one instrument gives: counts, errors in ms of the notes found, and their forces."""

    true: int
    found: int
    errors_ms: NDArray[np.float64]
    force: NDArray[np.float64]


def name_of(instrument: str) -> str:
    """Without the source of its sounds: `piano-M` is a piano."""
    return instrument.rsplit("-", 1)[0] if instrument.rsplit("-", 1)[-1][:1].isupper() else instrument


def measure(folder: Path, seeds: int, instrument: str) -> dict[str, Row]:
    """All manners of one instrument."""
    notes = load_notes(folder, instrument)
    within_s = 0.050 if name_of(instrument) in HELD else 0.030
    rows = {}
    for manner in MANNERS:
        true = found = 0
        errors: list[float] = []
        force: list[float] = []
        for seed in range(seeds):
            made = play(notes, name_of(instrument) in CHORDS, manner, seed)
            hits = program(made)["line"]
            times, truth = hits.time_s[hits.kind != Kind.BLEED], made.struck["line"]
            matched = score(times, truth.time_s, within_s)
            kept = np.setdiff1d(np.arange(matched.hits), matched.missed)
            true, found = true + matched.hits, found + matched.found
            errors += (1000.0 * (nearest(times, truth.time_s[kept]) - truth.time_s[kept])).tolist()
            force += truth.level_db[kept].tolist()
        rows[manner.name] = Row(true, found, np.array(errors), np.array(force))
    return rows


def nearest(found_s: NDArray[np.float64], true_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """The nearest of the times found to each true one."""
    return found_s[nearest_index(found_s, true_s)] if len(true_s) else true_s


def told(row: Row) -> str:
    """The figures of one row."""
    if not len(row.errors_ms):
        return f"nothing found of {row.true}"
    matched = len(row.errors_ms)
    middle = float(np.median(row.errors_ms))
    stray = np.abs(row.errors_ms - middle)
    soft, loud = (
        row.errors_ms[which] for which in (row.force <= np.median(row.force), row.force > np.median(row.force))
    )
    late = float(np.median(soft) - np.median(loud)) if len(soft) and len(loud) else 0.0
    return (
        f"{2 * matched / (row.true + row.found):.3f}  {matched / max(row.found, 1):.3f}  {matched / row.true:.3f}  "
        f"{middle:+6.2f}  {np.median(stray):5.2f}  {np.percentile(stray, 90):6.2f}  {late:+6.2f}"
    )


def note_options(description: str | None, seeds: int, each: str) -> argparse.ArgumentParser:
    """The options of measurements of notes, with so many seeds by default; `each` is what --each prints besides."""
    parser = argparse.ArgumentParser(description=description, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--notes", type=Path, required=True)
    parser.add_argument("--only", default="")
    parser.add_argument("--seeds", type=int, default=seeds)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--each", action="store_true", help=f"also print every {each}")
    return parser


def main() -> None:
    """One row an instrument and manner, or an instrument."""
    chosen = note_options(__doc__, 1, "manner of playing").parse_args()
    instruments = sorted(path.name for path in chosen.notes.iterdir() if path.is_dir() and chosen.only in path.name)
    print(f"{'instrument':34}F       prec   recall middle  stray  90 %   soft later (ms)")
    with ProcessPoolExecutor(chosen.jobs) as pool:
        work = partial(measure, chosen.notes, chosen.seeds)
        for instrument, rows in zip(instruments, pool.map(work, instruments), strict=True):
            for name, row in rows.items() if chosen.each else ():
                print(f"    {instrument + ' · ' + name:30}{told(row)}")
            together = Row(
                sum(row.true for row in rows.values()),
                sum(row.found for row in rows.values()),
                np.concatenate([row.errors_ms for row in rows.values()]),
                np.concatenate([row.force for row in rows.values()]),
            )
            print(f"{instrument:34}{told(together)}", flush=True)


if __name__ == "__main__":
    main()
