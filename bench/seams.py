"""What cutting does to the sound: made-up recordings are cut at full strength and every sample of them is looked at.

    python bench/seams.py [--kits FOLDER] [--seeds N] [--only NAME] [--moves MS]

Strokes are moved at random by up to --moves (40 ms) either way, by what the program found of them. Told are attacks
(any drum in any microphone, by the truth) that are heard twice, lost, or not bit for bit the recording's over 30 ms;
how far the level between attacks lies from what the recording has there; sudden swells and drops; and exact samples.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from flaws import ATTACK, attack, levels, render
from material import EASY, RATE_HZ, Case, cases, in_processes, options
from supple_snare.session.cutting import cut_of_moves
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings, change_group
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid


@dataclass(frozen=True)
class Outcome:
    """What became of one recording."""

    name: str
    attacks: int
    inexact: int
    twice: int
    lost: int
    dip_db: float
    joins: int
    uneven: int
    swell_db: float
    sudden: int
    seams: int
    exact: float
    limited: int
    cpu_s: float


def measure(case: Case, most_ms: float) -> Outcome:
    """Cut one recording and look at every track."""
    import tempfile
    import time
    from pathlib import Path

    made = case.make()
    rng = np.random.default_rng(case.seed)
    with tempfile.TemporaryDirectory() as folder:
        paths = made.write(Path(folder))
        session = add_recordings(Session(), [read_recording(path) for path in paths])
        keys = {track.recording.path.stem: track.key for track in session.tracks}
        session = change_group(session, session.groups[0].key, leads=tuple(keys[drum] for drum in made.struck))
        session = replace_grid(session, Grid(case.recipe.tempo_bpm, 0.5))
        stages = Stages()
        stages.analyse_all(session)
        view = stages.view(session, session.groups[0])
        time_s = view.strokes.time_s
        move_ms = rng.uniform(-most_ms, most_ms, len(time_s))
        gaps = np.diff(time_s)
        # Nobody moves strokes into each other: neighbours keep half of their distance.
        for i in range(1, len(move_ms)):
            move_ms[i] = max(move_ms[i], move_ms[i - 1] - 500.0 * gaps[i - 1])
        started = time.process_time()
        cut = cut_of_moves(session, view, move_ms)
        cpu_s = time.process_time() - started
    frames = len(next(iter(made.tracks.values())))
    source = cut.edits.source_of(np.arange(frames))
    fading = np.zeros(frames, dtype=bool)
    for at, fade in zip(cut.edits.at.tolist(), cut.edits.fade.tolist(), strict=True):
        fading[at - fade : at] = True
    counts = [0, 0, 0, 0]
    dips, swells, sudden, uneven, joins = [0.0], [0.0], 0, 0, 0
    for sound in made.tracks.values():
        result = render(cut.edits, sound)
        at = np.sort(np.concatenate([np.rint(struck.time_s * RATE_HZ) for struck in made.struck.values()]))
        at = at.astype(np.int64)  # other microphones hear it a little later, which the window of an attack forgives
        near = at[(at > ATTACK) & (at < frames - 4 * ATTACK)]
        counts[0] += len(near)
        outcome = [attack(sound, result, source, fading, int(a)) for a in near]
        counts[1] += sum(each == "inexact" for each in outcome)
        counts[2] += sum(each == "twice" for each in outcome)
        counts[3] += sum(each == "lost" for each in outcome)
        found, swell, many = levels(sound, result, cut.edits)
        dips.append(max(found, key=abs, default=0.0))
        joins += len(found)
        uneven += sum(abs(each) > 2.5 for each in found)
        swells.append(swell)
        sudden += many
    return Outcome(
        name=f"{case.recipe.name} · {case.kit}",
        attacks=counts[0],
        inexact=counts[1],
        twice=counts[2],
        lost=counts[3],
        dip_db=max(dips, key=abs),
        joins=joins,
        uneven=uneven,
        swell_db=max(swells, key=abs),
        sudden=sudden,
        seams=len(cut.edits) - 1,
        exact=float(np.mean(~fading)),
        limited=int(np.count_nonzero(cut.limited)),
        cpu_s=cpu_s / (frames / RATE_HZ / 60.0),
    )


def replace_grid(session: Session, grid: Grid) -> Session:
    import msgspec

    return msgspec.structs.replace(session, take_grid=grid)


def main() -> None:
    """Print a row a recording, and the sums."""
    parser = options(__doc__ or "")
    parser.add_argument("--moves", type=float, default=40.0, help="farthest move in ms")
    chosen = parser.parse_args()
    heads = ("attacks", "inexact", "twice", "lost", "level dB", "> 2.5 dB", "jump dB", "> 12 dB", "seams", "exact",
             "limited", "CPU s/min")  # fmt: skip
    print(f"{'recording':38}" + "".join(f"{head:>10}" for head in heads))
    rows = []
    work = _Work(chosen.moves)
    for row in in_processes(work, cases(chosen, EASY), chosen.jobs):
        rows.append(row)
        cells = (
            row.attacks, row.inexact, row.twice, row.lost, f"{row.dip_db:.1f}", f"{row.uneven / row.joins:.1%}",
            f"{row.swell_db:.1f}", row.sudden, row.seams, f"{row.exact:.3f}", row.limited, f"{row.cpu_s:.2f}",
        )  # fmt: skip
        print(f"{row.name:38}" + "".join(f"{cell:>10}" for cell in cells), flush=True)
    attacks = sum(row.attacks for row in rows)
    told = ", ".join(
        f"{sum(getattr(row, name) for row in rows)} {name}"
        for name in ("inexact", "twice", "lost", "sudden", "limited")
    )
    print(f"{attacks} attacks in all tracks: {told}; {np.mean([row.exact for row in rows]):.4f} of all samples exact")


@dataclass(frozen=True)
class _Work:
    """`measure` for one farthest move, as processes want it."""

    most_ms: float

    def __call__(self, case: Case) -> Outcome:
        return measure(replace(case), self.most_ms)


if __name__ == "__main__":
    main()
