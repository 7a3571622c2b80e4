"""How well feel, cycle, reference and templates are found and kept, on made-up performances.

python bench/feel.py [--takes 60] [split] [cycle] [reference] [regular] [templates] [rendered]

`rendered` takes `--kits FOLDER` (one-shots) or the demo's instruments: recordings are made, tightened to their own feel
through the command line, and the written files are measured anew.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import tempfile
from collections import Counter, defaultdict
from dataclasses import replace
from pathlib import Path

import numpy as np

from material import EASY, cases
from playing import drawn, play
from supple_snare.timing.aim import Aim, AimAt, aim_strokes
from supple_snare.timing.cycle import CYCLES, Cycle
from supple_snare.timing.grid import Grid
from supple_snare.timing.groove import groove_target_ms, take_groove
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import FeelRules, measure_offsets
from supple_snare.timing.pairing import Pairs, pair_strokes
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.split import split_offsets
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import Response, plan_moves


def rms(values: np.ndarray) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def measure_split(takes: int) -> None:
    """Sixteen bars, 8 ms of scatter (as a standard deviation, and as ±8 ms even), ±25 ms of drift, 2 % wild."""
    bar_s = 2.2
    print("split, feel's standard deviation 8 ms:   feel rms  worst tenth   drift rms  worst tenth")
    for slots, density, even in ((16, 1.0, False), (16, 0.5, False), (8, 1.0, False), (16, 1.0, True), (4, 1.0, False)):
        found = []
        for seed in range(takes):
            rng = np.random.default_rng(seed)
            heard = rng.random(slots) < density
            heard[0] = True
            number = np.flatnonzero(np.tile(heard, 16))
            cell, time = number % slots, number * bar_s / slots
            feel = rng.normal(0.0, 8.0, slots)
            feel -= feel[cell].mean()
            drift = 25.0 * np.sin(2 * np.pi * time / (rng.uniform(7.0, 24.0) * bar_s) + rng.uniform(0, 6.28))
            scatter = rng.uniform(-8.0, 8.0, len(cell)) if even else rng.normal(0.0, 8.0, len(cell))
            wild = rng.random(len(cell)) < 0.02
            scatter[wild] += rng.choice([-1.0, 1.0], wild.sum()) * rng.uniform(40.0, 70.0, wild.sum())
            parts = split_offsets(drift + feel[cell] + scatter, time, cell, bar_s=bar_s)
            by_slot = [parts.feel_ms[cell == c][0] - feel[c] for c in np.unique(cell)]
            found.append((rms(np.array(by_slot)), rms(parts.drift_ms - drift)))
        feels, drifts = np.array(found).T
        name = f"{slots} slots, {density:.0%} heard, scatter {'±8 ms even' if even else '8 ms'}"
        print(f"  {name:38} {feels.mean():9.2f} {np.percentile(feels, 90):12.2f} "
              f"{drifts.mean():11.2f} {np.percentile(drifts, 90):12.2f}")  # fmt: skip


def measure_cycle(takes: int) -> None:
    """Thirty-two bars of sixteenths, six in ten heard, feel of 6 ms under a scatter of 8."""
    grid = Grid(110.0, 1.0)
    for true in CYCLES:
        got: Counter[str] = Counter()
        for seed in range(takes):
            rng = np.random.default_rng(seed)
            slots = np.flatnonzero(rng.random(16 * 32) < 0.6)
            feel = rng.normal(0.0, 6.0, int(true.beats(grid) * 4))
            late = feel[slots % len(feel)] + rng.normal(0.0, 8.0, len(slots)) + 20.0 * np.sin(slots / 44.0)
            time = grid.course.time_at(slots / 4.0) + late / 1000.0
            got[str(measure_offsets(gather_strokes([Hits.of(time)]), grid).cycles[0])] += 1
        print(f"cycle of {true}: found {dict(got)}")


def partners_told(pairs: Pairs, true_s: np.ndarray, near: np.ndarray) -> np.ndarray:
    """Of strokes near their partner: how many, with another one, how many of these flagged, and with none."""
    alone = near & (pairs.partner < 0)
    wrong = near & ~alone & ~(np.abs(pairs.partner_s - true_s) < 1e-6)
    return np.array([np.count_nonzero(each) for each in (near, wrong, wrong & pairs.close_call, alone)])


def measure_reference(takes: int) -> None:
    """A bass line of a two-bar pattern with 25 ms of scatter against drums, both drifting, by width of the slots."""
    tally: dict[tuple[str, int], np.ndarray] = defaultdict(lambda: np.zeros(4, dtype=int))
    worst = 0.0
    for seed in range(takes):
        rng = np.random.default_rng(seed + 5)
        drums = play(drawn(seed, drift_slots=0.2), seed)
        leads = [Hits.of(drums.time_s[drums.lead == number]) for number in range(int(drums.lead.max()) + 1)]
        strokes = gather_strokes(leads, together_ms=0.01)
        reference = measure_offsets(strokes, drums.grid)
        known = np.isfinite(drums.beat)
        order = np.argsort(drums.beat[known])
        beat, time = drums.beat[known][order], drums.time_s[known][order]
        late_s = np.convolve(time - drums.grid.course.time_at(beat), np.ones(9) / 9.0, "same")
        slots = drums.grid.slots(float(time[0]), float(time[-1]))
        laid = drums.grid.bars.beat_of(slots.bar) + slots.beat
        pattern = rng.random((2, int(slots.slot.max()) + 1)) < 0.3
        on_drums = np.isin(np.round(laid, 6), np.round(beat, 6))
        plays = pattern[slots.bar % 2, slots.slot] & on_drums & (rng.random(len(laid)) > 0.04)
        line = laid[plays]
        if len(line) < 8:
            continue
        bass = drums.grid.course.time_at(line) + np.interp(line, beat, late_s) + rng.normal(0.012, 0.025, len(line))
        bass = np.sort(bass)  # a line's notes keep their order
        apart = np.append(True, np.diff(bass) > 0.02)
        bass, line = bass[apart], line[apart]
        played = gather_strokes([Hits.of(bass)])
        pairs = pair_strokes(played, drums.grid, reference, strokes.time_s)
        true = time[np.searchsorted(np.round(beat, 6), np.round(line, 6))]
        slot_s = float(np.median(np.diff(slots.time_s)))
        own = np.searchsorted(np.round(laid, 6), np.round(line, 6))
        before, after = (gap[own] for gap in slots.gaps_s)
        near = np.abs(true - bass) < 0.6 * np.where(bass < true, before, after)
        feel = "straight" if drums.manner.feel.startswith("straight") else "other"
        tally[feel, int(slot_s * 10) * 100] += partners_told(pairs, true, near)
        offsets = measure_offsets(played, drums.grid)
        aimed = aim_strokes(played, offsets, drums.grid, Aim(at=AimAt.REFERENCE, behind_ms=5.0), pairs=pairs)
        plan = plan_moves(played, offsets, Response(strength=1.0), held=np.zeros(len(bass), dtype=bool), aimed=aimed)
        met = (pairs.partner >= 0) & (plan.kept == 0)
        off_s = bass + plan.move_ms / 1000.0 - pairs.partner_s - 0.005
        worst = max(worst, float(np.abs(off_s[met]).max(initial=0.0)))
    for (feel, width), (count, wrong, flagged, alone) in sorted(tally.items()):
        name = f"reference, {feel} slots of {width}–{width + 100} ms"
        print(
            f"{name}: {count} strokes near their partner, {wrong} with another one ({flagged} flagged), "
            f"{alone} with none"
        )
    print(f"reference: after strength 1 the paired ones lie within {1000 * worst:.3f} ms of what was asked for")


def measure_regular_reference(takes: int) -> None:
    """The same of a line that plays one bar over and over, on drums that do so too, by tempo and note value."""
    for per_beat, tempo in ((4, 90), (4, 105), (4, 120), (4, 135), (2, 90), (2, 135)):
        told, nearest = np.zeros(4, dtype=int), 0
        ruling = Ruling(Subdivision(4 * per_beat))
        for seed in range(takes // 2):
            rng = np.random.default_rng(seed * 7 + tempo)
            slots, slot_s = 4 * per_beat, 60.0 / tempo / per_beat
            drums, bass = rng.random(slots) < 0.75, rng.random(slots) < 0.35
            drums[::per_beat] = bass[0] = True
            number = np.arange(32 * slots)
            drift_s = 0.02 * np.sin(number / 50.0)
            struck = drums[number % slots] & (rng.random(len(number)) > 0.02)
            drums_s = 1.0 + (number * slot_s + drift_s + rng.normal(0.0, 0.006, len(number)))[struck]
            plays = np.flatnonzero(struck & bass[number % slots] & (rng.random(len(number)) > 0.03))
            bass_s = 1.0 + plays * slot_s + drift_s[plays] + rng.normal(0.005, 0.025, len(plays))
            bass_s = np.sort(bass_s)  # a line's notes keep their order
            apart = np.append(True, np.diff(bass_s) > 0.02)
            bass_s, plays = bass_s[apart], plays[apart]
            true = drums_s[np.searchsorted(number[struck], plays)]
            grid = Grid(float(tempo), 1.0, ruling=ruling)
            reference = measure_offsets(gather_strokes([Hits.of(drums_s)]), grid)
            pairs = pair_strokes(gather_strokes([Hits.of(bass_s)]), grid, reference, drums_s)
            near = np.abs(true - bass_s) < 0.6 * slot_s
            closest = drums_s[np.abs(drums_s[:, None] - bass_s).argmin(axis=0)]
            told += partners_told(pairs, true, near)
            nearest += int((near & (closest != true)).sum())
        count, wrong, flagged, alone = told
        print(
            f"reference, a regular line, 1/{4 * per_beat} at {tempo} bpm ({1000 * slot_s:.0f} ms): {count} strokes, "
            f"{wrong} with another partner ({flagged} flagged), {alone} with none; nearest wrong for {nearest}"
        )


def measure_templates(takes: int) -> None:
    """A template taken from a performance, laid over an even one at another tempo, and taken again."""
    worst = 0.0
    for seed in range(takes):
        played = play(drawn(seed, feel=("straight 16", "swung 16", "straight 8")[seed % 3]), seed)
        grid = played.grid
        strokes = gather_strokes([Hits.of(np.sort(played.time_s))])
        cycle = FeelRules(Cycle(2))
        offsets = measure_offsets(strokes, grid, rules=cycle)
        groove = take_groove(strokes, offsets, grid, offsets.placed, name="G")
        straight = Ruling(Subdivision(grid.ruling.subdivision.note))
        even = Grid(grid.tempo_bpm * 0.8, 1.0, grid.meter, straight)
        slots = even.slots(1.0, 60.0)
        inside = slots.bar >= 1
        at = gather_strokes([Hits.of(slots.time_s[inside])])
        laid = measure_offsets(at, even, rules=cycle)
        target = groove_target_ms(groove, laid, even, by_tempo=True, between=False)
        place = Cycle(2).places(even, laid.place, laid.bar, 1)
        for slot in groove.slots:
            here = np.abs(place - slot.position_beats) < 1e-3
            wanted = slot.offset_beats * 60_000.0 / even.tempo_bpm
            worst = max(worst, float(np.abs(target[here] - wanted).max(initial=0.0)))
    print(f"templates: given to an even performance at another tempo they come back within {worst:.4f} ms")


def measure_rendered(kits: Path | None, seeds: int) -> None:
    """Files tightened to their own feel at strength 0.8, and measured anew."""
    options = argparse.Namespace(kits=kits, seeds=seeds, only="")
    print("rendered:                                 feel, most  drift after  scatter to")
    for case in cases(options, tuple(replace(recipe, feel_ms=7.0, bars=16) for recipe in EASY)):
        made = case.make()
        with tempfile.TemporaryDirectory() as folder:
            paths = made.write(Path(folder) / "in", "PCM_24")
            timing = ["--tempo", str(case.recipe.tempo_bpm), "--first-beat", "0.5", "--cycle", "1 bar",
                      "--leads", ",".join(made.struck)]  # fmt: skip
            before = _command(["measure", *map(str, paths), *timing])
            aim = ["--aim", "own-feel", "--strength", "0.8", "--out", f"{folder}/out"]
            _command(["tighten", *map(str, paths), *timing, *aim])
            after = _command(["measure", *(f"{folder}/out/{path.name}" for path in paths), *timing])
        one, two = _feel_of(before), _feel_of(after)
        most = max(abs(two[slot] - one[slot]) for slot in one if slot in two)
        share = after["summary"]["scatter_rms_ms"] / before["summary"]["scatter_rms_ms"]
        name = f"{case.recipe.name} · {case.kit}"
        print(f"  {name:38} {most:9.2f} {after['summary']['drift_rms_ms']:12.2f} {share:11.3f}", flush=True)


def _feel_of(measured: dict) -> dict[int, float]:
    """Feel of the slots heard at least four times."""
    found = defaultdict(list)
    for stroke in measured["strokes"]:
        if stroke["feel_ms"] is not None:
            found[stroke["slot"]].append(stroke["feel_ms"])
    return {slot: float(np.mean(values)) for slot, values in found.items() if len(values) >= 4}


def _command(words: list[str]) -> dict:
    from supple_snare.cli import main as run

    printed = io.StringIO()
    with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(io.StringIO()):
        assert run([*words, "--json"]) == 0, words
    return json.loads(printed.getvalue())


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("what", nargs="*", default=["split", "cycle", "reference", "regular", "templates"])
    parser.add_argument("--takes", type=int, default=60)
    parser.add_argument("--kits", type=Path)
    parser.add_argument("--seeds", type=int, default=1)
    chosen = parser.parse_args()
    for what in chosen.what:
        if what == "rendered":
            measure_rendered(chosen.kits, chosen.seeds)
        else:
            {"split": measure_split, "cycle": measure_cycle, "reference": measure_reference,
             "regular": measure_regular_reference, "templates": measure_templates}[what](chosen.takes)  # fmt: skip


if __name__ == "__main__":
    main()
