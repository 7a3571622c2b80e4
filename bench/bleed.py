"""Fits what tells strokes from bleed, and whether a microphone has a drum that is struck.

python bench/bleed.py --kits FOLDER [--takes FOLDER] [--varied N] [--keep FOLDER] [--write]      needs scikit-learn

Recordings come from two generators in this folder (`material`, `rooms`) and from any folder of takes that others made.
Each is judged twice: with all its microphones, and with some of them only, as a session may hold them. Told is how well
models do on each generator that were fitted to the others only. To make and to analyse the recordings takes most of the
time: what is kept serves the next fit, as long as analyses stay the same.
"""

from __future__ import annotations

import hashlib
import pickle
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

import rooms
import voices
from fitting import Cases, Manner, fit, own_attacks, write
from material import EASY, HARD, Case, Made, Maker, Struck, kits_once, options, read_made, varied
from supple_snare.sound import own_drum, signs
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.files import read_recording
from supple_snare.sound.fitted import Fitted
from supple_snare.sound.judge import judged_odds, network_inputs, usual_gap
from supple_snare.sound.signs import Signs
from supple_snare.sound.weighing import weigh_signs

NEAR_S, LOOSE_S = 0.010, 0.012
"""A stroke is found within the first; so near to a grace note or a bounce of a roll an attack is neither right nor
wrong."""

OF_ATTACKS = Manner((24, 12), rounds=24, decay=0.1, members=5)
NUMBERS, OF_NUMBERS = "numbers ", 9
"""One recording in so many is of a kit made of numbers, with that in the place of its name."""

BOUNCES_COUNT = 6
"""Each bounce of a roll counts so often: they are few, and much like what a drum's own ring seems to begin."""


@dataclass(frozen=True)
class Take:
    """One recording: what its microphones hear, and the truth of those that are close to a drum."""

    generator: str
    name: str
    names: list[str]
    struck: dict[str, Struck]
    analyses: list[Analysis]

    def variants(self) -> list[Take]:
        """With all its microphones, and with some."""
        rng = np.random.default_rng(int(hashlib.sha256(self.name.encode()).hexdigest()[:8], 16))
        close = [track for track, name in enumerate(self.names) if name in self.struck]
        far = [track for track, name in enumerate(self.names) if name not in self.struck]
        some = rng.permutation(close)[: max(2, int(rng.integers(2, len(close) + 1)))].tolist()
        some = sorted(some + rng.permutation(far)[: int(rng.integers(0, 3))].tolist())
        names, analyses = [self.names[track] for track in some], [self.analyses[track] for track in some]
        return [self, Take(self.generator, self.name, names, self.struck, analyses)]


@dataclass(frozen=True)
class Track:
    """What speaks for the attacks of one microphone, and what is true of them."""

    generator: str
    signs: Signs
    closeness: float
    own: NDArray[np.bool_]
    counts: NDArray[np.bool_]
    bounced: NDArray[np.bool_]
    strokes: int

    def inputs(self, gap: NDArray[np.float64] | float) -> NDArray[np.float64]:
        """Those of the networks, shape (n, features)."""
        return network_inputs(self.signs.columns(), self.signs.log_odds(), gap)

    def cases(self, gap: NDArray[np.float64]) -> Cases:
        """What the networks learn from. Bounces of a roll are not scored: nobody wants all of them."""
        rows = np.concatenate([np.flatnonzero(self.counts), np.repeat(np.flatnonzero(self.bounced), BOUNCES_COUNT)])
        return Cases(self.inputs(gap)[rows], (self.own | self.bounced)[rows], np.ones(len(rows)))

    def log_odds(self, by: Fitted) -> NDArray[np.float64]:
        """Of the attacks, by some networks."""
        return judged_odds(self.signs.columns(), self.signs.log_odds(), by)

    def f_measure(self, by: Fitted) -> float:
        """Of the strokes as told by some networks."""
        played = (self.log_odds(by) > 0.0) & self.counts
        return float(2.0 * np.count_nonzero(played & self.own) / max(np.count_nonzero(played) + self.strokes, 1))

    def drum(self, by: Fitted) -> Cases | None:
        """Whether the microphone has a drum, by what networks take for its strokes; None if they take nothing."""
        log_odds = self.log_odds(by)
        if not (log_odds > 0.0).any():
            return None
        features = own_drum.drum_features(self.closeness, self.signs, log_odds)
        return Cases(features[None], np.array([self.strokes > 0]), np.ones(1))


def kept(keep: Path, generator: str, name: str, make: Callable[[], Made]) -> Path:
    """The file of a take, made and analysed if it is not there."""
    path = keep / f"{generator}, {name}.pickle"
    if not path.exists():
        made = make()
        with tempfile.TemporaryDirectory() as folder:
            paths = made.write(Path(folder))
            analyses = [analyse(read_recording(each)) for each in paths]
        part = path.with_suffix(".part")
        part.write_bytes(pickle.dumps(Take(generator, name, [each.stem for each in paths], made.struck, analyses)))
        part.rename(path)
    return path


def made_by(kits: Path, kit: str, recipe: Maker, seed: int) -> Made:
    """Make a recording of a kit of one-shots, or of one made of numbers (`voices`)."""
    if kit.startswith(NUMBERS):
        return recipe.build(voices.kit(int(kit.removeprefix(NUMBERS))), seed)
    return Case(kits, kit, recipe, seed).make()


def tracks_of(path: Path) -> list[Track]:
    """All microphones of a take, weighed with all others and with some; those of far ones have no strokes."""
    return [track for take in pickle.loads(path.read_bytes()).variants() for track in _tracks(take)]


def _tracks(take: Take) -> list[Track]:
    found = []
    for name, each in zip(take.names, weigh_signs(take.analyses).tracks, strict=True):
        if each.signs is None:
            continue
        struck = take.struck.get(name, Struck(np.zeros(0), np.zeros(0), np.zeros(0, dtype=str)))
        loose = np.isin(struck.kind, ("grace", "roll"))
        struck_s, loose_s = struck.time_s[~loose], struck.time_s[loose]
        own = own_attacks(each.start_s, struck_s, NEAR_S)
        bounced = own_attacks(each.start_s, struck.time_s[struck.kind == "roll"], NEAR_S) & ~own
        counts = ~(own_attacks(each.start_s, loose_s, LOOSE_S) & ~own)
        found.append(Track(take.generator, each.signs, each.closeness, own, counts, bounced, len(struck_s)))
    return found


def main() -> None:
    """Leave each generator out in turn, print; fit to all and write if asked to."""
    parser = options(__doc__ or "")
    parser.add_argument("--takes", type=Path, help="folder of folders with WAV files and a truth.json")
    parser.add_argument("--varied", type=int, default=70, help="recordings by recipes drawn at random")
    parser.add_argument("--keep", type=Path, required=True, help="folder in which what was heard is kept")
    parser.add_argument("--write", action="store_true", help="put the models fitted to everything into the program")
    chosen = parser.parse_args()
    chosen.keep.mkdir(parents=True, exist_ok=True)
    kits = sorted(kits_once(chosen.kits))
    recipes = [recipe for _ in range(chosen.seeds) for recipe in (*EASY, *HARD, *rooms.PLACES)]
    recipes += [varied(seed) for seed in range(chosen.varied)]
    jobs = []
    for number, recipe in enumerate(recipes):
        kit = f"{NUMBERS}{number}" if number % OF_NUMBERS == 0 else kits[(5 * number) % len(kits)]
        generator = "rooms" if isinstance(recipe, rooms.Place) else "material"
        make = partial(made_by, chosen.kits, kit, recipe, number)
        jobs.append((generator, f"{recipe.name}, {kit}, {number}", make))
    for path in sorted(chosen.takes.glob("**/truth.json")) if chosen.takes else ():
        jobs.append(("takes", f"{path.parent.parent.name}, {path.parent.name}", partial(read_made, path.parent)))
    with ProcessPoolExecutor(chosen.jobs) as pool:
        paths = list(pool.map(partial(kept, chosen.keep), *zip(*jobs, strict=True)))
        tracks = [track for some in pool.map(tracks_of, paths) for track in some]
    for name, model in fit_attacks_and_drums(tracks, chosen.jobs).items():
        print(name, model.left_out)
        if chosen.write:
            write(name, model)


def fit_attacks_and_drums(tracks: Sequence[Track], jobs: int) -> dict[str, Fitted]:
    """The models of attacks and of drums; those of drums go by networks that were not fitted to their generator."""
    left_out: dict[str, dict[str, float]] = {}
    drums: list[tuple[str, Cases]] = []
    for generator in sorted({track.generator for track in tracks}):
        others, those = ([t for t in tracks if (t.generator == generator) is of] for of in (False, True))
        by = fit_attacks(others, jobs)
        scores = np.array([track.f_measure(by) for track in those if track.strokes])
        left_out[generator] = {"f_mean": float(scores.mean()), "below_0.9": float(np.mean(scores < 0.9))}
        drums += [(generator, case) for track in those if (case := track.drum(by)) is not None]
    of_attacks = msgspec.structs.replace(fit_attacks(tracks, jobs), left_out=left_out)
    return {"attacks": of_attacks, "own_drum": fit_cases(drums, own_drum.FEATURES, jobs)}


def fit_cases(found: Sequence[tuple[str, Cases]], features: tuple[str, ...], jobs: int) -> Fitted:
    """A logistic regression on all cases, and what one on other generators makes of each generator's."""
    left_out = {}
    for generator in sorted({generator for generator, _ in found}):
        cases = Cases.joined([each for of, each in found if of == generator])
        others = [each for of, each in found if of != generator]
        told = fit(others, features, Manner(), jobs, {}).of_columns(cases.columns) > 0.0
        left_out[generator] = {
            "true": int(cases.own.sum()), "missed": int((~told & cases.own).sum()),
            "not": int((~cases.own).sum()), "false": int((told & ~cases.own).sum()),
        }  # fmt: skip
    model = fit([each for _, each in found], features, Manner(), jobs, manifest([of for of, _ in found]))
    return msgspec.structs.replace(model, left_out=left_out)


def manifest(generators: Sequence[str]) -> dict[str, object]:
    """How many cases of which generator a model was fitted to."""
    return {"by": "bench/bleed.py"} | {each: generators.count(each) for each in sorted(set(generators))}


def fit_attacks(tracks: Sequence[Track], jobs: int) -> Fitted:
    """The networks, fitted to the close microphones whose drum is struck."""
    close = [track for track in tracks if track.strokes]
    gap = usual_gap(np.concatenate([track.inputs(-np.inf)[track.counts] for track in close]).mean(axis=0))
    told = manifest([track.generator for track in close])
    return fit([track.cases(gap) for track in close], signs.FEATURES, OF_ATTACKS, jobs, told)


if __name__ == "__main__":
    main()
