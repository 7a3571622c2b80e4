"""Fits the networks by which bleed is judged, and says how well they do on kits they were not fitted to.

python bench/bleed.py --kits FOLDER [--varied N] [--only NAME] [--keep FOLDER] [--write]      needs scikit-learn

Every recording is judged twice: with all its microphones, and with some of them only, as a session may hold them. To
make and to analyse them takes most of the time: what is kept serves the next fit, as long as analyses stay the same.
"""

from __future__ import annotations

import pickle
import tempfile
import warnings
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray
from sklearn.neural_network import MLPClassifier

from hits import outside_rolls
from material import EASY, HARD, Case, Made, cases, in_processes, options, varied
from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.files import read_recording
from supple_snare.sound.judge import DRUMS_FILE, Judges, Member, judged_odds, network_inputs, usual_gap
from supple_snare.sound.weighing import weigh_signs
from supple_snare.timing.hits import nearest_index

FOLDS = 4
MEMBERS = 5
BOUNCES_WORD = 6
"""Each bounce counts so often: they are few, and much like what a drum's own ring seems to begin."""


@dataclass(frozen=True)
class Row:
    """The inputs for attacks of a track, and which of them were its own, of so many played that count."""

    inputs: NDArray[np.float64]
    own: NDArray[np.bool_]
    strokes: int


@dataclass(frozen=True)
class Weighed:
    """The attacks of one microphone of a kit: which were strokes that count and which bounces of a roll, and more."""

    signs: NDArray[np.float64]
    guess: NDArray[np.float64]
    own: NDArray[np.bool_]
    counted: NDArray[np.bool_]
    bounced: NDArray[np.bool_]
    strokes: int
    recipe: str
    kit: str

    def inputs(self, gap: NDArray[np.float64] | float) -> NDArray[np.float64]:
        """Those of the networks for all attacks."""
        return network_inputs(self.signs, self.guess, gap)

    def rows(self, gap: NDArray[np.float64]) -> list[Row]:
        """What is learned from. Bounces of a roll are not scored: nobody wants all of them."""
        inputs, bounces = self.inputs(gap), np.repeat(np.flatnonzero(self.bounced), BOUNCES_WORD)
        return [
            Row(inputs[self.counted], self.own[self.counted], self.strokes),
            Row(inputs[bounces], np.ones(len(bounces), dtype=bool), 0),
        ]


def analysed(case: Case, keep: Path | None) -> tuple[Made, dict[str, Analysis]]:
    """One recording, and what each of its microphones hears; from a folder if it was kept there."""
    kept = None if keep is None else keep / f"{case.kit}, {case.recipe.name}, {case.seed}.pickle"
    if kept is not None and kept.exists():
        made, analyses = pickle.loads(kept.read_bytes())
        return made, analyses
    made = case.make()
    with tempfile.TemporaryDirectory() as folder:
        paths = made.write(Path(folder))
        analyses = {path.stem: analyse(read_recording(path)) for path in paths}
    if kept is not None:
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_bytes(pickle.dumps((replace(made, tracks={}), analyses)))
    return made, analyses


def weigh(case: Case, keep: Path | None = None) -> list[Weighed]:
    """Make one recording and weigh the signs of each close microphone, with all of them and with some."""
    made, analyses = analysed(case, keep)
    rng = np.random.default_rng(case.seed + 99)
    close = [name for name in analyses if name in made.struck]
    far = [name for name in analyses if name not in made.struck]
    some = close
    if rng.random() < 0.5:
        some = list(rng.permutation(close)[: max(2, int(rng.integers(2, len(close) + 1)))])
        some += list(rng.permutation(far)[: int(rng.integers(0, 3))])
    part = {name: found for name, found in analyses.items() if name in some}
    return [*_rows(case, made, analyses, ""), *_rows(case, made, part, ", some microphones")]


def _rows(case: Case, made: Made, analyses: dict[str, Analysis], suffix: str) -> list[Weighed]:
    rows = []
    _drums, found = weigh_signs(list(analyses.values()))
    for name, each in zip(analyses, found, strict=True):
        time_s, signs = each.start_s, each.signs
        if signs is None or name not in made.struck:
            continue
        struck = made.struck[name]
        truth, counted = outside_rolls(struck, time_s)
        if not len(truth):  # whether a drum plays at all is not asked of the networks
            continue
        own = own_attacks(time_s, truth, 0.010)
        bounced = own_attacks(time_s, struck.time_s[struck.kind == "roll"], 0.010) & ~counted
        kind, guess = case.recipe.name + suffix, signs.log_odds()
        rows.append(Weighed(signs.columns(), guess, own, counted, bounced, len(truth), kind, case.kit))
    return rows


def own_attacks(time_s: NDArray[np.float64], truth_s: NDArray[np.float64], within_s: float) -> NDArray[np.bool_]:
    """Which attacks are strokes: for each stroke the nearest attack, if it is so near."""
    own = np.zeros(len(time_s), dtype=bool)
    if len(truth_s) and len(time_s):
        ordered = np.argsort(time_s)
        nearest = ordered[nearest_index(time_s[ordered], truth_s)]
        own[nearest[np.abs(time_s[nearest] - truth_s) < within_s]] = True
    return own


@dataclass(frozen=True)
class Manner:
    """How networks are fitted: the units of their layers, and the rounds after which they are stopped."""

    units: tuple[int, int]
    rounds: int


OF_DRUMS = Manner((24, 12), 24)


def fit_member(rows: Sequence[Row], manner: Manner, scale: Judges, seed: int) -> Member:
    """One network, from one beginning, for inputs scaled as so far memberless judges do it."""
    inputs = scale.scaled(np.concatenate([row.inputs for row in rows]))
    own = np.concatenate([row.own for row in rows])
    network = MLPClassifier(
        manner.units, activation="tanh", alpha=0.1, batch_size=512, learning_rate_init=0.002, max_iter=manner.rounds,
        random_state=seed,
    )  # fmt: skip
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # it is stopped on purpose before it fits the noise
        network.fit(inputs, own)
    return Member(
        [np.round(weights, 4).tolist() for weights in network.coefs_],
        [np.round(biases, 4).tolist() for biases in network.intercepts_],
    )


def fit(rows: Sequence[Row], manner: Manner, jobs: int) -> Judges:
    """All networks."""
    inputs = np.concatenate([row.inputs for row in rows])
    scale = Judges(*np.round([inputs.mean(axis=0), inputs.std(axis=0) + 1e-4], 4).tolist(), members=[])
    with ProcessPoolExecutor(jobs) as pool:
        members = list(pool.map(partial(fit_member, rows, manner, scale), range(MEMBERS)))
    return msgspec.structs.replace(scale, members=members)


def fit_to(tracks: Sequence[Weighed], jobs: int) -> Judges:
    """The networks for drums, fitted to some tracks."""
    gap = usual_gap(np.concatenate([track.inputs(-np.inf)[track.counted] for track in tracks]).mean(axis=0))
    return fit([row for track in tracks for row in track.rows(gap)], OF_DRUMS, jobs)


def f_measure(track: Weighed, judges: Judges) -> float:
    """Of the strokes of a track as told by some networks."""
    played = (judged_odds(track.signs, track.guess, judges) > 0.0) & track.counted
    return float(2.0 * np.count_nonzero(played & track.own) / (np.count_nonzero(played) + track.strokes))


def main() -> None:
    """Cross-check by kits, print; fit to all and write if asked to."""
    parser = options(__doc__ or "")
    parser.add_argument("--varied", type=int, default=12, help="recordings of each kit by recipes drawn at random")
    parser.add_argument("--keep", type=Path, help="folder in which what was heard is kept, and looked for")
    parser.add_argument("--write", action="store_true", help="put the networks fitted to everything into the program")
    chosen = parser.parse_args()
    recipes = (*EASY, *HARD, *(varied(seed) for seed in range(chosen.varied)))
    tracks = [
        track
        for found in in_processes(partial(weigh, keep=chosen.keep), cases(chosen, recipes), chosen.jobs)
        for track in found
    ]
    kits = sorted({track.kit for track in tracks})
    scores: dict[str, list[float]] = {}
    for fold in np.array_split(kits, FOLDS):  # kits that share one-shots should be named alike, to be left out together
        judges = fit_to([track for track in tracks if track.kit not in fold], chosen.jobs)
        for track in tracks:
            if track.kit in fold:
                recipe = (
                    "varied" + track.recipe.partition(",")[1] if track.recipe.startswith("varied") else track.recipe
                )
                scores.setdefault(recipe, []).append(f_measure(track, judges))
    print("F on kits that the networks were not fitted to")
    for recipe, found in scores.items():
        print(f"    {recipe:46}mean {np.mean(found):.3f}  worst {min(found):.3f}")
    if chosen.write:
        DRUMS_FILE.write_bytes(msgspec.json.encode(fit_to(tracks, chosen.jobs)))


if __name__ == "__main__":
    main()
