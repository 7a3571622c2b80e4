"""How well notes are found where several microphones hear one player: a direct line, an amplifier, a pair, a room.

python bench/players.py --notes FOLDER [--only NAME] [--seeds 4] [--each]

FOLDER as in `bench/notes.py`. A player strums, plays chords or single notes for some forty seconds; each line of the
scene hears that its own way: later, coloured, distorted, among the room. Two scenes hold two players instead, who
double one another and do not hear each other, or who bleed into each other's microphones. Told are F within 50 and
20 ms of the notes of each track, on an average and of the worst track, and the middle of the errors.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, fftconvolve, iirpeak, lfilter, sosfilt

from finders import program
from material import RATE_HZ, Made, Sound, Struck, score, start_of
from notes import load_notes, note_options
from supple_snare.timing.hits import Kind

WIDE_S, NEAR_S = 0.050, 0.020
LASTS_S = 40.0
STRUM, CHORD, SINGLE = "strums", "chords", "single notes"

Way = Callable[[Sound, np.random.Generator], Sound]


def played(
    notes: list[tuple[int, int, Sound]],
    manner: str,
    rng: np.random.Generator,
    at_s: NDArray[np.float64] | None = None,
) -> tuple[Sound, NDArray[np.float64]]:
    """A part, and when its notes, chords or strums begin: a strum with its first string.

    Parameters
    ----------
    notes : list of (pitch, force, sound)
    manner : str
        `STRUM` (two of three; else single notes), `CHORD` or `SINGLE`.
    rng : Generator
    at_s : float array, optional
        When something is played; by default at places of a grid.
    """
    pitches, forces = (np.unique([note[number] for note in notes]) for number in (0, 1))
    by_name = {note[:2]: note[2] for note in notes}
    if at_s is None:
        step_s = 15.0 / rng.uniform(75.0, 120.0)
        steps = np.flatnonzero(rng.random(round(LASTS_S / step_s)) < (0.42 if manner == SINGLE else 0.3))
        at_s = 0.5 + steps * step_s + rng.normal(0.0, 0.008, len(steps))
    line = np.zeros(round((LASTS_S + 5.0) * RATE_HZ))
    current = len(pitches) // 2
    for start_s, until_s in zip(at_s, np.append(at_s[1:], at_s[-1] + 2.0), strict=True):
        current = int(np.clip(current + rng.integers(-3, 4), 0, len(pitches) - 1))
        force, length_s = int(rng.choice(forces[1:])), (until_s - start_s) * rng.uniform(0.8, 1.02)
        for place, late_s in _together(manner, current, len(pitches), rng):
            sound = by_name.get((int(pitches[place]), force))
            if sound is None:
                continue
            lead = start_of(sound)
            held = sound[: lead + round(max(length_s - late_s, 0.05) * RATE_HZ)].copy()
            fade = min(round(0.02 * RATE_HZ), len(held) // 2)
            held[-fade:] *= np.linspace(1.0, 0.0, fade)
            begin = round((start_s + late_s) * RATE_HZ) - lead
            line[begin : begin + len(held)] += held
    return line / np.abs(line).max(), at_s


def _together(manner: str, current: int, count: int, rng: np.random.Generator) -> list[tuple[int, float]]:
    """Which notes sound together, and how much later than the first each begins."""
    if manner == SINGLE or (manner == STRUM and rng.random() < 0.35):
        return [(current, 0.0)]
    if manner == CHORD:
        places = [(current + step) % count for step in (0, 2, 3, 5)[: rng.integers(2, 5)]]
        return [(place, abs(float(rng.normal(0.0, 0.003))) if number else 0.0) for number, place in enumerate(places)]
    strings = int(rng.integers(3, 6))
    lowest, apart_s = int(rng.integers(0, max(1, count - strings))), rng.uniform(0.006, 0.018)
    places = [min(lowest + string, count - 1) for string in range(strings)]
    return [(place, number * apart_s) for number, place in enumerate(places[:: 1 if rng.random() < 0.6 else -1])]


def later(sound: Sound, by_s: float) -> Sound:
    """A sound that arrives later."""
    return np.concatenate([np.zeros(round(by_s * RATE_HZ)), sound])[: len(sound)]


def coloured(sound: Sound, rng: np.random.Generator) -> Sound:
    """A sound through a microphone, a body, a place: some bands stand out, some are missing."""
    for _ in range(3):
        numerator, denominator = iirpeak(rng.uniform(150.0, 5_000.0), rng.uniform(0.7, 2.0), fs=RATE_HZ)
        sound = sound + rng.uniform(-0.5, 1.5) * lfilter(numerator, denominator, sound)
    return sound


def amplified(sound: Sound, rng: np.random.Generator) -> Sound:
    """An amplifier that distorts, and its loudspeaker."""
    driven = np.tanh(rng.uniform(1.5, 3.0) * sound / np.abs(sound).max())
    band_hz = [rng.uniform(70.0, 120.0), rng.uniform(3_500.0, 5_500.0)]
    return np.asarray(sosfilt(butter(2, band_hz, "band", fs=RATE_HZ, output="sos"), driven))


def in_room(sound: Sound, rng: np.random.Generator, wet: float) -> Sound:
    """A sound among its reflections, which die away in half a second."""
    frames = round(0.55 * RATE_HZ)
    way = rng.normal(size=frames) * 10.0 ** (-3.0 * np.arange(frames) / (0.45 * RATE_HZ))
    way[: round(0.004 * RATE_HZ)] = 0.0
    way = sosfilt(butter(1, [150.0, 5_000.0], "band", fs=RATE_HZ, output="sos"), way)
    way *= wet / np.linalg.norm(way)
    way[0] = 1.0
    way[(rng.uniform(0.002, 0.030, 8) * RATE_HZ).astype(int)] += rng.uniform(-0.4, 0.4, 8)
    return np.asarray(fftconvolve(sound, way)[: len(sound)])


def direct(sound: Sound, _rng: np.random.Generator) -> Sound:
    """A line without any air."""
    return sound


def close(sound: Sound, rng: np.random.Generator) -> Sound:
    """A microphone before the instrument."""
    return in_room(coloured(later(sound, rng.uniform(0.0008, 0.002)), rng), rng, 0.25)


def cabinet(sound: Sound, rng: np.random.Generator) -> Sound:
    """A microphone before the amplifier."""
    return amplified(later(sound, rng.uniform(0.001, 0.003)), rng)


def far(sound: Sound, rng: np.random.Generator) -> Sound:
    """A microphone in the room."""
    return in_room(coloured(later(sound, rng.uniform(0.005, 0.014)), rng), rng, 0.7)


def far_cabinet(sound: Sound, rng: np.random.Generator) -> Sound:
    """A microphone in the amplifier's room."""
    return far(amplified(sound, rng), rng)


@dataclass(frozen=True)
class Scene:
    """One player, his instruments to choose from, and the ways he is heard."""

    name: str
    instruments: tuple[str, ...]
    manner: str
    ways: dict[str, Way]

    def make(self, folder: Path, seed: int) -> Made:
        """Make a recording; the strokes of each track are the player's."""
        rng = np.random.default_rng((seed, *self.name.encode()))
        sound, at_s = played(load_notes(folder, str(rng.choice(self.instruments))), self.manner, rng)
        tracks = {name: finished(way(sound, rng), rng) for name, way in self.ways.items()}
        return _made(tracks, dict.fromkeys(tracks, at_s))


@dataclass(frozen=True)
class Pair:
    """Two players, who play on the same beats or each on his own, and hear each other so loud, or not at all."""

    name: str
    together: float
    bleed_db: tuple[float, float] | None

    def make(self, folder: Path, seed: int) -> Made:
        """Make a recording; the strokes of each track are its own player's."""
        rng = np.random.default_rng((seed, *self.name.encode()))
        one, one_s = played(load_notes(folder, "steel"), STRUM, rng)
        doubled = self.bleed_db is None
        both_s = one_s[rng.random(len(one_s)) < self.together] + rng.normal(0.0, 0.008)
        both_s = np.sort(both_s + rng.normal(0.0, 0.008, len(both_s))) if self.together else None
        notes = load_notes(folder, "clean-guitar" if doubled else "finger-bass")
        two, two_s = played(notes, STRUM if doubled else SINGLE, rng, both_s)
        gain = 0.0 if self.bleed_db is None else 10.0 ** (rng.uniform(*self.bleed_db) / 20.0)
        tracks = {"one": one + gain * far(two, rng), "two": two + gain * far(one, rng)}
        return _made({name: finished(sound, rng) for name, sound in tracks.items()}, {"one": one_s, "two": two_s})


def finished(sound: Sound, rng: np.random.Generator) -> Sound:
    """As loud as a track is, over its noise."""
    noise = rng.normal(size=len(sound)) * 10.0 ** (rng.uniform(-70.0, -56.0) / 20.0)
    return np.asarray(0.5 * (sound / np.abs(sound).max() + noise))


def _made(tracks: dict[str, Sound], at_s: dict[str, NDArray[np.float64]]) -> Made:
    struck = {
        name: Struck(each_s, np.zeros(len(each_s)), np.full(len(each_s), "stroke")) for name, each_s in at_s.items()
    }
    return Made(tracks, struck, at_s, LASTS_S + 5.0)


GUITARS, BASSES = ("steel", "nylon", "clean-guitar"), ("finger-bass", "pick-bass", "fretless")
SCENES: tuple[Scene | Pair, ...] = (
    Scene("guitar: direct, amplifier, room", GUITARS, STRUM, {"direct": direct, "amp": cabinet, "room": far_cabinet}),
    Scene("guitar: pair and direct", GUITARS, STRUM, {"left": close, "right": close, "direct": direct}),
    Scene("piano: close and room", ("piano",), CHORD, {"close": close, "room": far}),
    Scene("bass: direct and amplifier", BASSES, SINGLE, {"direct": direct, "amp": cabinet}),
    Scene("piano by itself", ("piano",), CHORD, {"piano": close}),
    Scene("guitar by itself", GUITARS, STRUM, {"guitar": direct}),
    Scene("bass by itself", BASSES, SINGLE, {"bass": direct}),
    Pair("two who double, apart", 1.0, None),
    Pair("two who bleed", 0.0, (-22.0, -12.0)),
    Pair("two together who bleed", 0.7, (-22.0, -12.0)),
)


@dataclass(frozen=True)
class Heard:
    """What one track gives: F within 50 and 20 ms, and the middle of the errors, ms."""

    track: str
    wide: float
    near: float
    middle_ms: float


def measure(folder: Path, job: tuple[Scene | Pair, int]) -> list[Heard]:
    """All tracks of one scene."""
    scene, seed = job
    made = scene.make(folder, seed)
    rows = []
    for name, hits in program(made).items():
        found_s, true_s = hits.time_s[hits.kind != Kind.BLEED], made.struck[name].time_s
        wide, near = (score(found_s, true_s, within_s) for within_s in (WIDE_S, NEAR_S))
        middle_ms = 1000.0 * float(np.median(wide.errors_s)) if wide.matched else np.nan
        rows.append(Heard(name, wide.f_measure, near.f_measure, middle_ms))
    return rows


def told(name: str, rows: Sequence[Heard]) -> str:
    """The figures of some tracks."""
    wide, near = (np.array([getattr(row, which) for row in rows]) for which in ("wide", "near"))
    middle_ms = np.nanmedian([row.middle_ms for row in rows])
    return f"{name:34}{wide.mean():.3f}  {wide.min():.3f}   {near.mean():.3f}  {near.min():.3f}  {middle_ms:+6.2f}"


def main() -> None:
    """One row a scene, and one a take of it."""
    chosen = note_options(__doc__, 4, "track of every take").parse_args()
    scenes = [scene for scene in SCENES if chosen.only in scene.name]
    print(f"{'':34}F 50 ms (mean, worst)  20 ms       middle (ms)")
    with ProcessPoolExecutor(chosen.jobs) as pool:
        for scene in scenes:
            takes = list(pool.map(partial(measure, chosen.notes), [(scene, seed) for seed in range(chosen.seeds)]))
            for seed, rows in enumerate(takes) if chosen.each else ():
                for row in rows:
                    print(f"    {told(f'{seed}, {row.track}', [row])}")
            print(told(scene.name, [row for rows in takes for row in rows]), flush=True)


if __name__ == "__main__":
    main()
