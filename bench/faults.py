"""Whether faults that are built into a performance stand in the list of doubts.

    python bench/faults.py [--kits FOLDER] [--seeds N]

Two players strike on the beats, mostly as one, a third one between them. Some of the strokes are made faulty: played
past the middle of two slots, two leads 12 ms apart, moved so far that the attack before would be heard twice, or
standing so close after another one that its seam falls into that. Told are the share of each kind that is listed, the
share of all other strokes that is, and that of the strokes of whole takes without faults.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from material import EASY, RATE_HZ, Case, Recipe, Sound, cases, heard, in_processes, kits_once, lay, options
from supple_snare.session.cutting import cut_of_request, cut_request
from supple_snare.session.document import Session
from supple_snare.session.doubts import stroke_doubts
from supple_snare.session.edits import add_recordings, change_group, give_moves
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.tighten import Response

KINDS = ("wrong slot", "leads apart", "heard twice", "attack near a seam")
RECIPES = tuple(Recipe(f"{tempo:g} bpm", tempo, bars=24) for tempo in (84.0, 104.0, 126.0))
_DRUMS = ("kick", "tom1", "snare")


@dataclass(frozen=True)
class Event:
    """One stroke of one drum; `kind` is the fault that was built into it, if any."""

    drum: str
    time_s: float
    kind: str = ""
    move_ms: float | None = None


def score(recipe: Recipe, rng: np.random.Generator) -> list[Event]:
    """What is played, by the drum and by the moment."""
    beat_s = 60.0 / recipe.tempo_bpm
    slot_s, events = beat_s / 4.0, list[Event]()
    for number in range(4 * recipe.bars):
        at = 0.5 + number * beat_s + float(rng.normal(0.0, 0.004))
        kind = str(rng.choice(KINDS)) if number > 4 and rng.random() < 0.15 else ""
        between = 0.5 + (number + 0.5) * beat_s + float(rng.normal(0.0, 0.004))
        if kind == "wrong slot":
            at += float(rng.choice([-1.0, 1.0])) * slot_s * float(rng.uniform(0.45, 0.62))
        apart = float(rng.choice([-0.012, 0.012])) if kind == "leads apart" else float(rng.normal(0.0, 0.0015))
        move_ms = None
        if kind == "heard twice":
            events.append(Event("snare", at - 0.062))
            move_ms = float(rng.uniform(36.0, 44.0))
        if kind == "attack near a seam":
            events.append(Event("snare", at - 0.040, move_ms=0.0))  # by hand, or it would go along
            move_ms = float(rng.uniform(6.0, 9.0))
        alone = "" if kind else str(rng.choice(["", "", "", "kick", "tom1"]))
        events += [Event("kick", at, kind, move_ms)] if alone != "tom1" else []
        events += [Event("tom1", at + apart)] if alone != "kick" else []
        events.append(Event("snare", between))
    return sorted(events, key=lambda event: event.time_s)


def recordings(case: Case, events: list[Event], rng: np.random.Generator) -> dict[str, Sound]:
    """The microphones."""
    kit = kits_once(case.kits)[case.kit]
    frames = round((events[-1].time_s + 2.5) * RATE_HZ)
    dry = {drum: np.zeros(frames) for drum in _DRUMS}
    for event in events:
        shots = kit[event.drum if event.drum in kit else "snare"]
        sound = shots[rng.integers(len(shots))] * rng.uniform(0.6, 1.0)
        lay(dry[event.drum], sound, round(event.time_s * RATE_HZ))
    return {mic: heard(mic, dry, None, case.recipe, rng) for mic in (*_DRUMS, "over-left", "room")}


def listed(case: Case) -> tuple[Counter[str], Counter[str], NDArray[np.int64]]:
    """Faults built in, faults listed, and of the other strokes how many there are and how many are listed."""
    import soundfile

    rng = np.random.default_rng(case.seed)
    events = score(case.recipe, rng)
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for name, sound in recordings(case, events, rng).items():
            paths.append(Path(folder) / f"{name}.wav")
            soundfile.write(paths[-1], sound, RATE_HZ, subtype="PCM_24")
        session = add_recordings(Session(), [read_recording(path) for path in paths])
        session = msgspec.structs.replace(session, take_grid=Grid(case.recipe.tempo_bpm, 0.5))
        key = session.groups[0].key
        response = Response(strength=0.9, tolerance_ms=2.0, reach_ms=45.0)
        session = change_group(session, key, leads=("t1", "t2", "t3"), response=response)
        stages = Stages()
        stages.analyse_all(session)
        view = stages.view(session, session.groups[0])
        # Moves by hand belong to the strokes that were found.
        nearest = {e: int(np.argmin(np.abs(view.strokes.time_s - e.time_s))) for e in events}
        moves = {float(view.strokes.time_s[i]): e.move_ms for e, i in nearest.items() if e.move_ms is not None}
        nearest = {e: i for e, i in nearest.items() if e.kind}
        session = give_moves(session, key, moves)
        view = stages.view(session, session.groups[0])
        doubts = stroke_doubts(view, cut_of_request(cut_request(session, view)))
    built: Counter[str] = Counter()
    found: Counter[str] = Counter()
    faulty = np.zeros(len(doubts), dtype=bool)
    for event, stroke in nearest.items():
        built[event.kind] += 1
        around = range(max(0, stroke - 1), min(stroke + 2, len(doubts)))
        near = [i for i in around if abs(view.strokes.time_s[i] - event.time_s) < 0.07]
        found[event.kind] += any(doubts[i] for i in near)
        faulty[list(around)] = True
    clean = np.array([bool(each) for each in doubts])[~faulty]
    return built, found, np.array([len(clean), np.count_nonzero(clean)])


def clean(case: Case) -> tuple[int, int]:
    """Strokes of a take without faults, and how many of them are listed."""
    made = case.make()
    with tempfile.TemporaryDirectory() as folder:
        session = add_recordings(Session(), [read_recording(path) for path in made.write(Path(folder))])
        session = msgspec.structs.replace(session, take_grid=Grid(case.recipe.tempo_bpm, 0.5))
        keys = {track.recording.path.stem: track.key for track in session.tracks}
        response = Response(strength=0.8, tolerance_ms=4.0, reach_ms=45.0)
        leads = tuple(keys[drum] for drum in made.struck)
        session = change_group(session, session.groups[0].key, leads=leads, response=response)
        stages = Stages()
        stages.analyse_all(session)
        view = stages.view(session, session.groups[0])
        doubts = stroke_doubts(view, cut_of_request(cut_request(session, view)))
    return len(doubts), sum(bool(each) for each in doubts)


def main() -> None:
    """Measure and tell."""
    chosen = options(__doc__ or "").parse_args()
    for scatter_ms in (4.0, 8.0):
        recipes = tuple(replace(recipe, scatter_ms=scatter_ms) for recipe in EASY)
        strokes, listed_of = np.sum(list(in_processes(clean, cases(chosen, recipes), chosen.jobs)), axis=0)
        print(
            f"clean, {scatter_ms:g} ms of scatter: {listed_of} of {strokes} listed ({listed_of / strokes:.2%})",
            flush=True,
        )
    built: Counter[str] = Counter()
    found: Counter[str] = Counter()
    others = np.zeros(2, dtype=np.int64)
    for one_built, one_found, one_other in in_processes(listed, cases(chosen, RECIPES), chosen.jobs):
        built, found, others = built + one_built, found + one_found, others + one_other
    for kind in KINDS:
        print(f"{kind}: {found[kind]} of {built[kind]} listed ({100 * found[kind] / max(built[kind], 1):.1f} %)")
    print(f"all: {100 * found.total() / built.total():.1f} %")
    print(f"other strokes: {others[1]} of {others[0]} listed ({100 * others[1] / others[0]:.2f} %)")


if __name__ == "__main__":
    main()
