"""Makes up performances as bare strokes with known truth: which slot each was meant for, and how it was played.

Patterns, fills, feel, drift, wandering tempo, strokes too many and too few, and wild ones are drawn from a seed. What
is measured here is what the program makes of strokes; how well it hears them is measured in `hits.py`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grooves import GROOVES
from supple_snare.timing.course import Pin
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter
from supple_snare.timing.ruling import Ruling, Subdivision

FloatArray = NDArray[np.float64]

_GHOST = 0.2
"""Strokes of a written rhythm softer than this are often not found."""

CENTRE_HZ = {"low": 70.0, "tom": 130.0, "snare": 300.0, "hat": 5000.0}
"""Middles of the spectra of the drums that are played."""

FEELS = ("straight 8", "straight 16", "swung 8", "swung 16", "triplet", "mixed")

SWUNG_8_OF_16 = "swung 8 of 16"
"""Sixteenths played among eighths that swing; never drawn by itself."""


@dataclass(frozen=True)
class Manner:
    """How a performance is played; shares of a slot or of 1, times in ms."""

    feel: str = "straight 16"
    meter: Meter = Meter()
    tempo_bpm: float = 110.0
    bars: int = 32
    swing: float = 0.5
    wander: float = 0.0
    """Greatest deviation of the tempo, as a share of it."""
    drift_slots: float = 0.0
    """Greatest drift away from the grid, in slots."""
    scatter_ms: float = 7.0
    feel_ms: float = 6.0
    wild: float = 0.0
    """Share of strokes that lie 35 to 55 % of a slot off."""
    missing: float = 0.03
    extra: float = 0.01
    density: float = 0.55
    groove: str = ""
    """A rhythm of `grooves.py`; none: patterns drawn at random."""
    hat: bool = True
    """Whether the hat of a written rhythm is heard."""
    toms: bool = False
    """Whether fills of a written rhythm are played on a drum that plays nothing else."""
    loose_triplets: float = 0.0
    """Of mixed playing: how likely any beat is of triplets; 0: beats 2 and 4 always are, as written music has it."""

    @property
    def felt_bpm(self) -> float:
        """Tempo of what is felt as one beat."""
        return self.tempo_bpm / self.meter.felt_beats


@dataclass(frozen=True)
class Played:
    """A performance, strokes in order of time.

    Attributes
    ----------
    grid : Grid
        The grid it was played to; `true_grid` follows the band where its tempo wanders.
    time_s, level_db : float array, shape (n,)
    lead : int array
    beat : float array
        Where each was meant, in quarter notes from bar 1; NaN for strokes that belong nowhere.
    wild : bool array
    beats_s : float array
        The felt beats.
    hits_s, hits_db : float array, shape (m,)
        Every hit of every drum, in order of time, those that share a stroke too.
    hits_lead : int array
    """

    manner: Manner
    grid: Grid
    time_s: FloatArray
    level_db: FloatArray
    lead: NDArray[np.int64]
    beat: FloatArray
    wild: NDArray[np.bool_]
    beats_s: FloatArray
    hits_s: FloatArray
    hits_db: FloatArray
    hits_lead: NDArray[np.int64]


def drawn(seed: int, **fixed: object) -> Manner:
    """A manner drawn at random; what is given stays."""
    rng = np.random.default_rng([seed, 77])
    feel = str(fixed.get("feel", rng.choice(FEELS)))
    meters = [Meter(), Meter(), Meter(), Meter(3, 4)] + ([Meter(6, 8)] if feel.startswith("straight") else [])
    values: dict[str, object] = {
        "feel": feel,
        "meter": meters[int(rng.integers(len(meters)))],
        "tempo_bpm": float(np.round(rng.uniform(70.0, 200.0), int(rng.integers(0, 3)))),
        "bars": int(rng.integers(24, 64)),
        "swing": float(rng.uniform(0.56, 0.68)) if feel.startswith("swung") else 0.5,
        "scatter_ms": float(rng.uniform(3.0, 11.0)),
        "feel_ms": float(rng.uniform(0.0, 9.0)),
        "density": float(rng.uniform(0.35, 0.75)),
    }
    manner = Manner(**(values | fixed))  # type: ignore[arg-type]
    if manner.meter == Meter(6, 8) and "tempo_bpm" not in fixed:  # eighths are counted: quarters at 70 would crawl
        manner = Manner(**{**vars(manner), "tempo_bpm": float(np.round(rng.uniform(90.0, 200.0), 1))})
    return manner


def written(seed: int, **fixed: object) -> Manner:
    """A written rhythm at a tempo it is played at; what is given stays."""
    rng = np.random.default_rng([seed, 78])
    name = str(fixed.get("groove", rng.choice(sorted(GROOVES))))
    groove = GROOVES[name]
    tempo_bpm = float(np.round(rng.uniform(*groove.tempo_bpm), int(rng.integers(0, 3)))) * groove.meter.felt_beats
    values: dict[str, object] = {
        "groove": name,
        "feel": groove.feel,
        "meter": groove.meter,
        "tempo_bpm": tempo_bpm,
        "bars": int(rng.integers(24, 64)),
        "swing": float(rng.uniform(0.54, 0.66)) if groove.feel.startswith("swung") else 0.5,
        "scatter_ms": float(rng.uniform(3.0, 11.0)),
        "feel_ms": float(rng.uniform(0.0, 9.0)),
        "hat": bool(rng.random() < 0.5),
        "toms": bool(rng.random() < 0.5),
    }
    return Manner(**(values | fixed))  # type: ignore[arg-type]


def drums(manner: Manner) -> list[str]:
    """What plays each line of a performance."""
    if not manner.groove:
        return ["snare", "low", "hat"]
    return [*GROOVES[manner.groove].lines(manner.hat)] + ["tom"] * manner.toms


def ruling_of(manner: Manner) -> Ruling:
    """The slots that hold everything the manner plays."""
    return {
        "straight 8": Ruling(Subdivision(8)),
        "straight 16": Ruling(Subdivision(16)),
        "swung 8": Ruling(Subdivision(8), swing=manner.swing),
        "swung 16": Ruling(Subdivision(16), swing=manner.swing),
        "triplet": Ruling(Subdivision(8, triplet=True)),
        "mixed": Ruling(Subdivision(16), Subdivision(8, triplet=True)),
        SWUNG_8_OF_16: Ruling(Subdivision(16), swing=manner.swing, swing_note=8),
    }[manner.feel]


def play(manner: Manner, seed: int) -> Played:
    """Play it: three drums with patterns of one or two bars, fills now and then."""
    rng = np.random.default_rng(seed)
    ruling, meter = ruling_of(manner), manner.meter
    if meter == Meter(6, 8) and manner.feel == "straight 16":
        ruling = Ruling(Subdivision(16))
    first_s = float(rng.uniform(0.2, 3.0))
    steady = Grid(manner.tempo_bpm, first_s, meter, ruling)
    grid = _wandering(steady, manner, rng) if manner.wander else steady
    position = ruling.positions(meter.bar_beats)
    cycle = int(rng.choice([1, 2]))
    if manner.groove:
        cycle, patterns = 1, [row[None, :] for row in GROOVES[manner.groove].rows(manner.hat)]
        patterns += [np.zeros_like(patterns[0])] * manner.toms
    else:
        patterns = [_pattern(drum, cycle, position, manner, rng) for drum in range(3)]
    toms = len(patterns) - 1 if manner.groove and manner.toms else None
    own_feel = rng.normal(0.0, manner.feel_ms, (len(patterns), len(position)))
    slot_s = 60.0 / manner.tempo_bpm * float(np.median(np.diff(np.append(position, meter.bar_beats))))
    drift = _drift(manner.drift_slots * slot_s, manner, rng)
    rows: list[tuple[float, float, int, float, bool]] = []
    loose = np.random.default_rng([seed, 79])
    for bar in range(manner.bars):
        triplet = loose.random(meter.count) < manner.loose_triplets if manner.loose_triplets else None
        fill = bar % 8 == 7 and rng.random() < 0.7
        for drum, pattern in enumerate(patterns):
            row = pattern[bar % cycle].copy()
            change = (rng.random(len(row)) < 0.06) & (drum != toms)
            row[change] = np.where(row[change] > 0, 0.0, 0.5)
            if fill and (toms is not None or drum < 2):
                second = position >= 0.5 * meter.bar_beats
                fills = drum == (toms or 0)
                row[second] = np.where(rng.random(int(second.sum())) < 0.85, 0.7, 0.0) if fills else 0.0
            if manner.feel == "mixed":
                row = _one_kind_a_beat(row, position, triplet)
            for slot in np.flatnonzero(row):
                if rng.random() < (0.4 if manner.groove and row[slot] < _GHOST else manner.missing):
                    continue
                beat = bar * meter.bar_beats + float(position[slot])
                late_s = (own_feel[drum, slot] + rng.normal(0.0, manner.scatter_ms)) / 1000.0
                wild = bool(rng.random() < manner.wild)
                if wild:
                    late_s = float(rng.choice([-1.0, 1.0]) * rng.uniform(0.35, 0.55) * slot_s)
                time_s = float(grid.course.time_at(beat)) + late_s
                rows.append((time_s + float(drift(time_s)), 20.0 * np.log10(row[slot]), drum, beat, wild))
                if rng.random() < manner.extra:
                    rows.append((time_s + rng.uniform(0.3, 0.7) * slot_s, -14.0, drum, np.nan, False))
    return _gathered(sorted(rows), manner, grid)


def _pattern(drum: int, cycle: int, position: FloatArray, manner: Manner, rng: np.random.Generator) -> FloatArray:
    """Amplitude of every slot of a cycle: a low drum on strong beats, a back beat, and one that keeps the time."""
    meter = manner.meter
    felt = meter.felt_beats
    on_beat = np.abs(position / felt - np.rint(position / felt)) < 1e-6
    beat = np.rint(position / felt).astype(int)
    pattern = np.zeros((cycle, len(position)))
    for bar in range(cycle):
        loud = rng.uniform(0.4, 1.0, len(position))
        if drum == 0:  # back beat and some between
            base = on_beat & (beat % 2 == 1 if meter.count % 3 or meter.is_compound else beat > 0)
            more = ~base & (rng.random(len(position)) < 0.25 * manner.density)
        elif drum == 1:
            base = on_beat & (beat % 2 == 0 if meter.count % 3 or meter.is_compound else beat == 0)
            more = ~base & (rng.random(len(position)) < 0.3 * manner.density)
        else:
            step = 0.5 if rng.random() < 0.6 else felt
            in_twos = np.abs(position * 2 - np.rint(position * 2)) < 0.3
            base = in_twos if step == 0.5 and manner.feel not in ("triplet", "mixed") else on_beat
            more = ~base & (rng.random(len(position)) < manner.density)
            loud *= 0.6
        pattern[bar] = np.where(base, np.maximum(loud, 0.7 if drum < 2 else 0.4), np.where(more, loud * 0.6, 0.0))
    return pattern


def _one_kind_a_beat(row: FloatArray, position: FloatArray, of_triplets: NDArray[np.bool_] | None) -> FloatArray:
    """Nobody plays sixteenths and triplets in one beat: the rarer triplets take a beat as a whole."""
    beat = np.floor(position + 1e-9)
    thirds = np.abs(position * 3 - np.rint(position * 3)) < 1e-6
    fourths = np.abs(position * 4 - np.rint(position * 4)) < 1e-6
    for number in np.unique(beat).astype(int):
        here = beat == number
        # Whether a beat is of triplets belongs to its place in the bar, as it does in written music.
        triplet = number in (1, 3) if len(np.unique(beat)) > 3 else number == 1
        triplet = triplet if of_triplets is None else of_triplets[number]
        row = np.where(here & (~thirds if triplet else ~fourths), 0.0, row)
    return row


def _drift(size_s: float, manner: Manner, rng: np.random.Generator):  # type: ignore[no-untyped-def]
    """A slow push and pull whose greatest deviation is `size_s`, over waves of four bars and more."""
    bar_s = manner.meter.bar_beats * 60.0 / manner.tempo_bpm
    count = int(rng.integers(1, 4))
    waves = [(rng.uniform(6.0, 24.0) * bar_s, rng.uniform(0, 2 * np.pi), rng.uniform(0.4, 1.0)) for _ in range(count)]
    grid = np.linspace(0, (manner.bars + 2) * bar_s + 4.0, 2000)
    curve = sum(a * np.sin(2 * np.pi * grid / length + phase) for length, phase, a in waves)
    curve = np.asarray(curve) / max(float(np.abs(curve).max()), 1e-9) * size_s
    return lambda time_s: np.interp(time_s, grid, curve)


def _wandering(steady: Grid, manner: Manner, rng: np.random.Generator) -> Grid:
    """The same grid with a tempo that goes up and down."""
    beats = np.arange(0.0, manner.bars * manner.meter.bar_beats + 1.0)
    waves = [(rng.uniform(24.0, 96.0), rng.uniform(0, 2 * np.pi)) for _ in range(3)]
    curve = np.asarray(sum(np.sin(2 * np.pi * beats / length + phase) for length, phase in waves))
    curve *= manner.wander / float(np.abs(curve).max())
    time = steady.first_beat_s + np.concatenate([[0.0], np.cumsum(60.0 / (manner.tempo_bpm * (1.0 + curve[:-1])))])
    pins = tuple(Pin(float(beat), float(at)) for beat, at in zip(beats[1:], time[1:], strict=True))
    return Grid(steady.tempo_bpm, steady.first_beat_s, steady.meter, steady.ruling, pins=pins)


def _gathered(rows: list[tuple[float, float, int, float, bool]], manner: Manner, grid: Grid) -> Played:
    """Strokes of different drums at one slot become one, timed by the first drum that plays there."""
    time, level, lead, beat, wild = (np.array(column) for column in zip(*rows, strict=True))
    # The first drum at a slot decides; what belongs to no slot stays as it is.
    order = np.lexsort((lead, np.where(np.isnan(beat), np.inf, np.round(beat, 6))))
    again = np.zeros(len(time), dtype=bool)
    again[order[1:]] = np.abs(beat[order[1:]] - beat[order[:-1]]) < 1e-6
    kept = ~again
    felt = manner.meter.felt_beats
    beats_s = grid.course.time_at(np.arange(0.0, manner.bars * manner.meter.bar_beats - 1e-6, felt))
    lead = lead.astype(np.int64)
    own = (time[kept], level[kept], lead[kept], beat[kept], wild[kept].astype(bool))
    return Played(manner, grid, *own, beats_s, time, level, lead)
