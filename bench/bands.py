"""How well notes are found beside drums: lines of pitched instruments in one group with a kit that plays along.

python bench/bands.py --kits FOLDER --notes FOLDER [--takes 24] [--each]

A take has one kit (as in `material`) and three players on its grid, most of their notes on its strokes, some behind it
by up to 30 ms: one plugged in, one through an amplifier in the same room, one at a microphone that hears drums and
amplifier 24 to 10 dB down. FOLDERS as in `bench/hits.py` and `bench/notes.py`. Told are F within 30 ms (50 ms of held
notes) of each kind of line, and within 10 ms of the drums, with these players and without.
"""

from __future__ import annotations

import argparse
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.signal import oaconvolve

from finders import program
from material import FAR, RATE_HZ, Kit, Made, Recipe, Sound, Struck, build, kits_once, score
from notes import CHORDS, HELD, lay_line, load_notes, name_of
from supple_snare.timing.hits import Kind

_ON_BEAT, _ON_EIGHTH, _BETWEEN = 0.75, 0.5, 0.15
_LENGTHS = ((0.4, 0.6), (0.5, 1.0), (0.5, 1.0), (1.0, 1.05))
"""How long notes sound beside the way to the next one."""

_PHRASE = 32
"""Sixteenths for which a player who rests now and then plays on, or does not."""


@dataclass(frozen=True)
class Place:
    """Where a player is heard from: what his track hears of the drums and they of him, ranges in dB."""

    name: str
    hears_db: tuple[float, float] | None
    heard_db: tuple[float, float] | None


PLACES = (
    Place("plugged in", None, None),
    Place("through an amplifier", (-34.0, -20.0), (-30.0, -18.0)),
    Place("at a microphone", (-24.0, -10.0), (-26.0, -14.0)),
)


def made_band(kits: dict[str, Kit], notes: Path, seed: int) -> tuple[Made, Made, dict[str, tuple[str, float]]]:
    """The kit alone, the kit with its players, and of each line its place and how near a hit must lie, in s."""
    rng = np.random.default_rng(seed)
    recipe = Recipe(
        f"band {seed}",
        float(rng.uniform(70.0, 170.0)),
        bars=10,
        bleed_db=(-26.0, -14.0),
        noise_db=float(rng.uniform(-75.0, -60.0)),
        dynamics_db=float(rng.uniform(5.0, 12.0)),
    )
    kit = kits[sorted(kits)[int(rng.integers(len(kits)))]]
    drums = build(kit, recipe, seed)
    tracks, struck, grid = dict(drums.tracks), dict(drums.struck), dict(drums.grid_s)
    instruments = sorted(path.name for path in notes.iterdir() if path.is_dir())
    played = sum(drums.tracks[name] for name in drums.struck)
    lines, sounds = {}, {}
    for place in PLACES:
        instrument = instruments[int(rng.integers(len(instruments)))]
        name = f"{instrument} {place.name}"
        sounds[name], struck[name], grid[name] = _player(
            load_notes(notes, instrument), instrument, recipe, len(played), rng
        )
        lines[name] = place.name, 0.050 if name_of(instrument) in HELD else 0.030
    for place, (name, line) in zip(PLACES, sounds.items(), strict=True):
        tracks[name] = line + rng.normal(size=len(line)) * 10.0 ** (recipe.noise_db / 20.0)
        if place.hears_db is not None:
            tracks[name] += _across(played, place.hears_db, rng)
            for other, theirs in zip(PLACES, sounds.values(), strict=True):
                if theirs is not line and other.heard_db is not None:
                    tracks[name] += _across(theirs, place.hears_db, rng)
        for microphone in drums.tracks if place.heard_db is not None else ():
            louder = 10.0 if microphone in FAR else 0.0
            tracks[microphone] = tracks[microphone] + _across(line, place.heard_db, rng, louder)
    return drums, replace(drums, tracks=tracks, struck=struck, grid_s=grid), lines


def _player(
    notes: list[tuple[int, int, Sound]], instrument: str, recipe: Recipe, frames: int, rng: np.random.Generator
) -> tuple[Sound, Struck, NDArray[np.float64]]:
    """One line, at half of full scale; what it plays, and where that stands on the grid."""
    step_s = 15.0 / recipe.tempo_bpm
    steps = np.arange(int((frames / RATE_HZ - 4.0) / step_s))
    likely = np.where(steps % 4 == 0, _ON_BEAT, np.where(steps % 2 == 0, _ON_EIGHTH, _BETWEEN))
    steps = steps[rng.random(len(steps)) < likely]
    # Some play all the time, some rest for bars on end.
    resting = float(rng.choice([0.0, 0.0, rng.uniform(0.2, 0.6)]))
    playing = rng.random(len(likely)) >= resting
    playing[0] = True
    steps = steps[playing[steps // _PHRASE]]
    grid_s = 0.5 + steps * step_s
    behind_s = float(rng.choice([0.0, 0.0, rng.uniform(0.0, 0.030)]))
    at = np.rint((grid_s + behind_s + rng.normal(0.0, 0.010, len(steps))) * RATE_HZ).astype(np.int64)
    length = _LENGTHS[int(rng.integers(len(_LENGTHS)))]
    line, force = lay_line(notes, name_of(instrument) in CHORDS, at, length, rng)
    kept = np.isfinite(force)
    line = np.pad(line, (0, max(0, frames - len(line))))[:frames]
    truth = Struck(at[kept] / RATE_HZ, force[kept], np.full(int(kept.sum()), "stroke"))
    return line * (0.5 / np.abs(line).max()), truth, grid_s[kept]


def _across(sound: Sound, level_db: tuple[float, float], rng: np.random.Generator, louder_db: float = 0.0) -> Sound:
    """What is heard of a sound across the room."""
    length = round(float(rng.uniform(0.1, 0.3)) * RATE_HZ)
    tail = rng.normal(size=length) * np.exp(-np.linspace(0.0, 6.0, length))
    delay = round(float(rng.uniform(0.003, 0.012)) * RATE_HZ)
    room = float(rng.uniform(0.3, 1.2))
    kernel = np.concatenate([np.zeros(delay), [1.0], room * tail / np.sqrt(np.sum(tail**2))])
    heard = oaconvolve(sound, kernel)[: len(sound)]
    gain = 10.0 ** ((float(rng.uniform(*level_db)) + louder_db) / 20.0)
    return np.asarray(heard * (0.5 * gain / max(float(np.abs(heard).max()), 1e-9)))


Row = tuple[str, str, float, float, float]
"""Kind, track, F, precision and recall."""


def measure(kits: Path, notes: Path, seed: int) -> list[Row]:
    """Kind, track, F, precision and recall of each track of one take."""
    drums, band, lines = made_band(kits_once(kits), notes, seed)
    alone, together = program(drums), program(band)
    rows = []
    for name, struck in band.struck.items():
        kind, within_s = lines.get(name, ("drums", 0.010))
        found = {kind: together[name]} | ({"drums without the players": alone[name]} if name in alone else {})
        for told, hits in found.items():
            result = score(hits.time_s[hits.kind != Kind.BLEED], struck.time_s, within_s)
            rows.append((told, name, result.f_measure, result.precision, result.recall))
    return rows


def band_options(description: str | None, takes: int) -> argparse.ArgumentParser:
    """The options of all measurements that are made of bands."""
    parser = argparse.ArgumentParser(description=description, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kits", type=Path, required=True)
    parser.add_argument("--notes", type=Path, required=True)
    parser.add_argument("--takes", type=int, default=takes)
    parser.add_argument("--jobs", type=int, default=2)
    return parser


def print_figures(by_kind: Mapping[str, Sequence[tuple[float, float, float]]]) -> None:
    """A row a kind of track, from F, precision and recall of each track."""
    print(f"{'':40}tracks    F      worst  precision  recall")
    for kind, figures in sorted(by_kind.items()):
        f_measure, precision, recall = np.mean(figures, axis=0)
        print(f"{kind:40}{len(figures):6}  {f_measure:.3f}  {min(figures)[0]:.3f}  {precision:9.3f}  {recall:.3f}")


def measure_takes(description: str | None, measured: Callable[[Path, Path, int], list[Row]], poor: float) -> None:
    """Measure as many takes as asked for; a row a kind of track, and if wished every track whose F is poor."""
    parser = band_options(description, 24)
    parser.add_argument("--each", action="store_true", help=f"also print every track below {poor:g}")
    chosen = parser.parse_args()
    by_kind = defaultdict(list)
    with ProcessPoolExecutor(chosen.jobs) as pool:
        work = partial(measured, chosen.kits, chosen.notes)
        for seed, rows in enumerate(pool.map(work, range(chosen.takes))):
            for kind, name, f_measure, precision, recall in rows:
                by_kind[kind].append((f_measure, precision, recall))
                if chosen.each and f_measure < poor:
                    print(f"    take {seed} · {name} ({kind}): F {f_measure:.3f}  {precision:.3f}  {recall:.3f}")
    print_figures(by_kind)


if __name__ == "__main__":
    measure_takes(__doc__, measure, 0.95)
