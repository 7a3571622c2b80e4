"""How well tempo, slots and rulings are found, on made-up performances (`playing.py`); and how fast.

python bench/grid.py [--takes 120] [tempo] [parts] [slots] [rulings] [speed]
"""

from __future__ import annotations

import argparse
import time
from collections import defaultdict
from dataclasses import replace

import numpy as np

from playing import CENTRE_HZ, FEELS, SWUNG_8_OF_16, Played, drawn, drums, play, ruling_of, written
from supple_snare.timing.assign import assign_slots
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import measure_offsets
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.suggest import suggest_ruling
from supple_snare.timing.tempo import TempoFinding
from supple_snare.timing.tempo_parts import read_tempo

_RELATED = (1.0, 2.0, 0.5, 4.0, 0.25)
_RELATED_LEVELS = (1.0, 2.0, 0.5, 1.5, 2.0 / 3.0, 3.0, 1.0 / 3.0)


def beat_f(found_s: np.ndarray, true_s: np.ndarray, within_s: float = 0.035) -> float:
    """F of beats found, each true one taken once."""
    if not len(found_s):
        return 0.0
    after = np.clip(np.searchsorted(found_s, true_s), 1, len(found_s) - 1)
    away = np.minimum(np.abs(found_s[after] - true_s), np.abs(found_s[after - 1] - true_s))
    return float(2.0 * np.count_nonzero(away <= within_s) / (len(found_s) + len(true_s)))


def is_read(found: TempoFinding, played: Played) -> tuple[bool, bool, bool, bool]:
    """Whether a reading has the octave, the tempo within 0.02 bpm (octaves apart), a beat within 5 ms, and the bar."""
    felt = played.manner.felt_bpm
    factor = min(_RELATED, key=lambda f: abs(np.log(found.felt_bpm / felt * f)))
    octave = factor == 1.0 and abs(found.felt_bpm / felt - 1.0) < 0.02
    tempo = abs(found.felt_bpm * factor - felt) * played.manner.meter.felt_beats < 0.02
    away_s = found.grid.first_beat_s - played.grid.first_beat_s
    beat, bar = (abs((away_s / length + 0.5) % 1.0 - 0.5) * length for length in (60.0 / felt, played.grid.bar_s))
    return octave, tempo, bool(beat < 0.005), bool(octave and bar < 0.03)


def tempo_of(played: Played) -> TempoFinding:
    """What the program takes for its tempo."""
    centre_hz = np.array([CENTRE_HZ[name] for name in drums(played.manner)])
    return read_tempo(played.hits_s, played.hits_db, played.hits_lead, centre_hz=centre_hz)[0]


def measure_tempo(takes: int) -> None:
    """Steady takes (with and without drift), written rhythms, and takes whose tempo wanders."""
    for name, manner_of, fixed in (
        ("steady", drawn, {}),
        ("drift of 10 % of a slot", drawn, {"drift_slots": 0.1}),
        ("drift of 10 % of a slot, 16 bars", drawn, {"drift_slots": 0.1, "bars": 16}),
        ("written rhythms", written, {}),
    ):
        rows = defaultdict(list)
        for seed in range(takes):
            played = play(manner_of(seed, **fixed), seed)
            right = is_read(tempo_of(played), played)
            rows[name].append(right)
            if played.manner.drift_slots:
                whole = "whole numbers" if played.manner.tempo_bpm % 1.0 == 0.0 else "no whole numbers"
                rows[f"{name}, {whole}"].append(right)
            if played.manner.groove and played.manner.hat and played.manner.felt_bpm >= 70.0:
                rows["those with a hat, from 70 bpm"].append(right)
        for of, right in rows.items():
            octave, tempo, beat, bar = np.mean(right, axis=0)
            print(
                f"{of}, {len(right)} takes: tempo within 0.02 bpm (octaves apart) {tempo:.3f}, first beat within 5 ms "
                f"{beat:.3f}, octave {octave:.3f}, bar and octave {bar:.3f}"
            )
    scores = []
    for seed in range(1000, 1000 + takes):
        played = play(drawn(seed, wander=0.04), seed)
        found = tempo_of(played)
        beats = found.beats_s(0.0, float(played.time_s[-1]))
        inside = beats[(beats > played.beats_s[0] - 0.1) & (beats < played.beats_s[-1] + 0.1)]
        scores.append(beat_f(inside, played.beats_s))
    right = [score for score in scores if score > 0.7]
    print(
        f"wandering 4 %: F of beats {np.mean(scores):.3f}, of those with the right octave ({len(right)} of "
        f"{len(scores)}) {np.mean(right):.3f}"
    )


def measure_parts(takes: int) -> None:
    """Takes of two tempos, 8 to 40 % apart, a third with a breath between: the same rhythm goes on."""
    one_part = tempos = change = 0
    for seed in range(takes):
        rng = np.random.default_rng([seed, 5])
        first = replace(written(seed) if seed % 2 else drawn(seed), bars=int(rng.integers(12, 28)))
        apart = float(rng.choice([-1.0, 1.0]) * rng.uniform(0.08, 0.34))
        tempo_bpm = round(float(np.clip(first.tempo_bpm * np.exp(apart), 60.0, 200.0)), 1)
        second = replace(first, tempo_bpm=tempo_bpm, bars=int(rng.integers(12, 28)))
        pause_s = float(rng.uniform(0.1, 1.0)) if seed % 3 == 0 else 0.0
        played = [play(manner, seed) for manner in (first, second)]
        starts_s = [each.grid.first_beat_s for each in played]
        later_s = starts_s[0] + first.bars * played[0].grid.bar_s + pause_s - starts_s[1]
        kept = [played[0].hits_s < starts_s[1] + later_s - 0.03, played[1].hits_s > starts_s[1] - 0.05]
        hits_s = np.concatenate([played[0].hits_s[kept[0]], played[1].hits_s[kept[1]] + later_s])
        hits_db = np.concatenate([each.hits_db[those] for each, those in zip(played, kept, strict=True)])
        lead = np.concatenate([each.hits_lead[those] for each, those in zip(played, kept, strict=True)])
        order = np.argsort(hits_s, kind="stable")
        found = read_tempo(hits_s[order], hits_db[order], lead[order])[0]
        one_part += not found.parts_bpm
        if len(found.parts_bpm) == 2:
            tempos += all(
                min(abs(bpm * factor - manner.tempo_bpm) for factor in _RELATED_LEVELS) < 0.05
                for bpm, manner in zip(found.parts_bpm, (first, second), strict=True)
            )
            beat_s = 60.0 / second.tempo_bpm
            away = (found.grid.pins[-1].time_s - starts_s[1] - later_s) / beat_s
            change += abs(away - round(away)) * beat_s < 0.012
    print(
        f"two tempos: both found within 0.05 bpm (octaves apart) {tempos / takes:.3f}, the later part from one of its "
        f"beats on {change / takes:.3f}; taken for one part {one_part / takes:.3f}"
    )


def _slots(played: Played) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """True, wrong and flagged strokes."""
    leads = [Hits.of(played.time_s[played.lead == number]) for number in range(int(played.lead.max()) + 1)]
    strokes = gather_strokes(leads, together_ms=0.01)
    offsets = measure_offsets(strokes, played.grid)
    beat = played.grid.bars.beat_of(offsets.bar) + offsets.beat
    real = np.isfinite(played.beat)
    wrong = real & ~(offsets.placed & (np.abs(beat - played.beat) < 1e-6))
    return real, wrong, offsets.close_call | ~offsets.placed


def measure_slots(takes: int) -> None:
    """Strokes to slots: drift of 45 % of a slot, 2 % of strokes wild, 1 % too many, 3 % missing."""
    hard = {"drift_slots": 0.45, "wild": 0.02}
    manners = [(feel := FEELS[seed % len(FEELS)], seed, drawn(seed, feel=feel, **hard)) for seed in range(takes)]
    for share in (0.1, 0.3):
        name, loose = f"mixed, {share:.0%} of beats triplets wherever", {"loose_triplets": share, **hard}
        manners += [(name, seed, drawn(seed, feel="mixed", **loose)) for seed in range(takes // 3)]
    rows = defaultdict(list)
    for name, seed, manner in manners:
        played = play(manner, seed)
        real, wrong, flagged = _slots(played)
        slots = played.grid.slots(float(played.time_s[0]), float(played.time_s[-1]))
        lines = played.grid.bars.beat_of(slots.bar) + slots.beat
        nearest = lines[np.abs(played.time_s[:, None] - slots.time_s).argmin(axis=1)]
        missed = real & (np.abs(nearest - played.beat) > 1e-6)
        row = [real.sum(), wrong.sum(), (wrong & flagged).sum(), (real & ~wrong & flagged).sum(), missed.sum()]
        rows[name].append(row)
        if name in FEELS:
            rows["all"].append(row)
    for name, found in rows.items():
        count, wrong, told, false, nearest = np.sum(found, axis=0)
        print(
            f"slots, {name}: wrong {wrong / count:.2%} of {count} (nearest line {nearest / count:.1%}); "
            f"of those flagged {told / max(wrong, 1):.0%}; flags on right ones {false / count:.2%}"
        )
    _measure_company(takes // 2)


def _measure_company(takes: int) -> None:
    """A fourth player comes 31 to 50 ms after every second low drum, too late to be one stroke with it."""
    laid, without, wrong = [], [], []
    for seed in range(takes):
        feel = ("straight 8", "straight 16", "swung 8", "swung 16")[seed % 4]
        played = play(drawn(seed, feel=feel, bars=32, drift_slots=(0.0, 0.2)[seed % 2]), seed)
        rng = np.random.default_rng([seed, 6])
        follows = np.isfinite(played.beat) & (played.lead == 1) & (rng.random(len(played.beat)) < 0.5)
        late_s = rng.uniform(0.031, 0.05) + rng.normal(0.0, 0.006, follows.sum())
        time_s = np.concatenate([played.time_s, played.time_s[follows] + late_s])
        lead = np.concatenate([played.lead, np.full(follows.sum(), 3)])
        beat = np.concatenate([played.beat, np.full(follows.sum(), np.nan)])
        order = np.argsort(time_s)
        time_s, lead, beat = time_s[order], lead[order], beat[order]
        slots = played.grid.slots(time_s[0], time_s[-1])
        index = assign_slots(time_s, slots, lead=lead).slot_index
        own_s = played.grid.course.time_at(np.nan_to_num(beat))
        real = np.isfinite(beat)
        laid.append(index[lead == 3] >= 0)
        without.append(index[real] < 0)
        wrong.append((index >= 0)[real] & (np.abs(slots.time_s[index] - own_s) > 1e-4)[real])
    late, lost, moved = (np.concatenate(each) for each in (laid, without, wrong))
    print(
        f"one who comes just after a drum: laid to a slot of his own {late.mean():.1%} of {len(late)}; of the others "
        f"wrong {moved.mean():.2%}, without a slot {lost.mean():.2%}"
    )


def _kind(ruling: Ruling) -> str:
    if ruling.also is not None:
        return "mixed"
    if ruling.swing > 0.5:
        return SWUNG_8_OF_16 if ruling.swing_note == 8 else f"swung {ruling.subdivision.note}"
    return "triplet" if ruling.subdivision.triplet else "straight"


def _is_told(beat: np.ndarray, beat_s: float, now: Ruling, *, compound: bool) -> bool:
    """Whether a person is told that other slots fit plainly better."""
    found = suggest_ruling(beat, beat_s, compound=compound, now=now)
    return found[0].is_plainly_better(next(each for each in found if each.ruling == now))


def measure_rulings(takes: int) -> None:
    """Rulings of sections of eight bars, and the swing that is measured."""
    right: dict[str, list[bool]] = defaultdict(list)
    told: dict[str, list[bool]] = defaultdict(list)
    swing_errors, alarmed = [], []
    manners = [drawn(seed, bars=24, drift_slots=(0.0, 0.15)[seed % 2]) for seed in range(takes)]
    swings = np.random.default_rng(8).uniform(0.55, 0.66, takes // 6)
    manners += [drawn(seed, bars=24, feel=SWUNG_8_OF_16, swing=float(swing)) for seed, swing in enumerate(swings)]
    for seed, each in enumerate(manners):
        played = play(each, seed)
        manner, felt = played.manner, played.manner.meter.felt_beats
        for first in (1, 9, 17):
            start, end = played.grid.bar_time_s([first, first + 8]) - 0.04
            here = (played.time_s >= start) & (played.time_s < end)
            beat = played.grid.course.beat_at(played.time_s[here]) / felt
            beat_s, compound = 60.0 / manner.tempo_bpm * felt, manner.meter.is_compound
            found = suggest_ruling(beat, beat_s, compound=compound)
            if not found:
                continue
            if not manner.feel.startswith("straight"):
                told[manner.feel].append(_is_told(beat, beat_s, Ruling(), compound=compound))
            alarmed.append(_is_told(beat, beat_s, ruling_of(manner), compound=compound))
            wanted = "straight" if manner.feel.startswith("straight") else manner.feel
            right[manner.feel].append(_kind(found[0].ruling) == wanted)
            if right[manner.feel][-1] and wanted.startswith("swung"):
                pair = found[0].ruling.pair_beats
                late = played.time_s[here] - played.grid.course.time_at(played.beat[here])
                inside = played.beat[here] % pair
                swung = np.abs(inside - manner.swing * pair) < 1e-6
                on_line = np.minimum(inside, pair - inside) < 1e-6
                more = (late[swung].mean() - late[on_line].mean()) / (pair * 60.0 / manner.tempo_bpm)
                swing_errors.append(abs(found[0].ruling.swing - manner.swing - more))
    for name, each in sorted(right.items()):
        print(f"rulings, {name}: {np.mean(each):.3f} of {len(each)} sections")
    print(f"rulings, all: {np.mean([one for each in right.values() for one in each]):.3f}")
    for name, those in sorted(told.items()):
        print(f"laid to sixteenths, {name}: told that other slots fit plainly better in {np.mean(those):.3f}")
    print(f"laid to the slots played, all: told so in {np.mean(alarmed):.3f}")
    print(
        f"swing within 1 point of what was played: {np.mean(np.array(swing_errors) < 0.01):.3f}, "
        f"median error {100 * np.median(swing_errors):.2f} points"
    )


def measure_speed() -> None:
    """An hour of 24 leads, each on its own, and as one group."""
    takes = [play(drawn(seed, feel="straight 16", tempo_bpm=120.0, bars=1800, density=0.1), seed) for seed in range(4)]
    strokes = []
    for number in range(24):
        played = takes[number % 4]
        some = np.sort(np.random.default_rng(number).choice(len(played.time_s), 4167, replace=False))
        strokes.append(gather_strokes([Hits.of(played.time_s[some])]))
    started = time.perf_counter()
    for number, each in enumerate(strokes):
        measure_offsets(each, takes[number % 4].grid)
    print(f"24 leads, {sum(map(len, strokes))} strokes of an hour, one by one: {time.perf_counter() - started:.2f} s")
    played = play(drawn(1, feel="straight 16", tempo_bpm=120.0, bars=7200, density=0.5), 1)
    group = gather_strokes([Hits.of(played.time_s[:100_000])])
    started = time.perf_counter()
    measure_offsets(group, played.grid)
    print(f"one group of {len(group)} strokes: {time.perf_counter() - started:.2f} s")


def main() -> None:
    """Run what is asked for, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", nargs="*", metavar="tempo|parts|slots|rulings|speed")
    parser.add_argument("--takes", type=int, default=120)
    options = parser.parse_args()
    wanted = options.what or ["tempo", "parts", "slots", "rulings", "speed"]
    if "tempo" in wanted:
        measure_tempo(options.takes)
    if "parts" in wanted:
        measure_parts(options.takes)
    if "slots" in wanted:
        measure_slots(options.takes)
    if "rulings" in wanted:
        measure_rulings(options.takes)
    if "speed" in wanted:
        measure_speed()


if __name__ == "__main__":
    main()
