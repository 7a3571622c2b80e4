"""Fits the models by which a track is taken for notes or a drum, for a voice or not; says how well they do elsewhere.

python bench/guess.py --kits FOLDER --notes FOLDER --speech FOLDER [--takes FOLDER] [--model notes voice] [--write]

Needs scikit-learn. Another model tells voices from other notes: from the same lines and from speech (`speech.py`).

Drums are all tracks of recordings of two generators (`material`, `rooms`), and of takes that others made; notes are
lines of every instrument, heard directly, through an amplifier, or in a room, and short notes of each. Both come from
kits with players, too (`bands`). Told is how many are taken for the wrong one where their kit, instrument or band was
left out.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import msgspec
import numpy as np

import rooms
from bands import made_band
from fitting import Cases, Manner, fit, write
from material import HARD, RATE_HZ, Case, Made, kits_once, options, read_made
from notes import HELD, lay_line, load_notes
from players import CHORD, SINGLE, STRUM, cabinet, close, direct, far, finished, played
from speech import recordings
from supple_snare.sound.attacks import analyse
from supple_snare.sound.files import read_recording
from supple_snare.sound.fitted import Fitted
from supple_snare.sound.guess import FEATURES, OF_NOTES

WAYS = (direct, cabinet, close, far)
MANNERS = (SINGLE, CHORD, STRUM)
FOLDS = 5
DRUM, NOTES, VOICE = "drum", "notes", "voice"
Sounds = tuple[str, list[np.ndarray], str]
"""The kit, instrument or synthesiser, the features of each of some tracks, and what these hold."""

MODELS = {"notes": (OF_NOTES, (DRUM, NOTES, VOICE), (NOTES, VOICE)), "voice": (FEATURES, (NOTES, VOICE), (VOICE,))}
"""For each model its features, what it is fitted to, and what of that it is to tell from the rest."""


def of_drums(kit: str, make: Callable[[], Made]) -> list[Sounds]:
    """All tracks of one recording of drums."""
    return [(kit, list(_features(make()).values()), DRUM)]


def of_band(kits: Path, notes: Path, seed: int) -> list[Sounds]:
    """All tracks of a kit and three players."""
    _, band, lines = made_band(kits_once(kits), notes, seed)
    features = _features(band)
    drums, players = (
        [found for name, found in features.items() if (name in lines) is notes] for notes in (False, True)
    )
    return [(f"band {seed}", drums, DRUM), (f"band {seed}", players, NOTES)]


def of_short(folder: Path, instrument: str, seed: int) -> list[Sounds]:
    """Short notes of an instrument, ended hard, one soon after the other."""
    rng = np.random.default_rng(seed)
    at_s = np.arange(0.5, 12.0, 15.0 / rng.uniform(85.0, 103.0))
    line, _ = lay_line(load_notes(folder, instrument), False, (at_s * RATE_HZ).astype(np.int64), (0.35, 0.8), rng)
    made = Made({"line": finished(line, rng)}, {}, {"line": at_s}, len(line) / RATE_HZ)
    return [(instrument, list(_features(made).values()), NOTES)]


def of_line(folder: Path, instrument: str, seed: int) -> list[Sounds]:
    """One line of an instrument."""
    rng = np.random.default_rng(seed)
    manner = SINGLE if instrument in HELD or "bass" in instrument else MANNERS[seed % len(MANNERS)]
    sound, at_s = played(load_notes(folder, instrument), manner, rng)
    heard = finished(WAYS[int(rng.integers(len(WAYS)))](sound, rng), rng)
    return [(instrument, list(_features(Made({"line": heard}, {}, {"line": at_s}, len(heard))).values()), NOTES)]


def of_speech(path: Path) -> list[Sounds]:
    """One recording of speech."""
    return [(path.name.split("-")[0], [analyse(read_recording(path)).note_features], VOICE)]


def _features(made: Made) -> dict[str, np.ndarray]:
    with tempfile.TemporaryDirectory() as folder:
        return {path.stem: analyse(read_recording(path)).note_features for path in made.write(Path(folder))}


def _call(make: Callable[[], list[Sounds]]) -> list[Sounds]:
    return make()


def main() -> None:
    """Fit to all but one fifth of the kits and instruments in turn, and to all."""
    parser = options(__doc__ or "")
    parser.add_argument("--notes", type=Path, required=True)
    parser.add_argument("--takes", type=Path, help="folder of folders with WAV files and a truth.json")
    parser.add_argument("--speech", type=Path, required=True, help="folder that `speech.py --make` filled")
    parser.add_argument("--model", nargs="+", choices=list(MODELS), default=list(MODELS), help="which to fit")
    parser.add_argument("--write", action="store_true", help="put them into the program")
    chosen = parser.parse_args()
    kits = sorted(kits_once(chosen.kits))
    jobs: list[Callable[[], list[Sounds]]] = []
    for seed in range(chosen.seeds):
        for number, recipe in enumerate((*HARD, *rooms.PLACES) if "notes" in chosen.model else ()):
            kit = kits[(5 * number + seed) % len(kits)]
            jobs.append(partial(of_drums, kit, Case(chosen.kits, kit, recipe, 50 + seed).make))
        for instrument in sorted(path.name for path in chosen.notes.iterdir()):
            jobs.append(partial(of_short, chosen.notes, instrument, seed))
            jobs += [partial(of_line, chosen.notes, instrument, 10 * seed + take) for take in range(3)]
        jobs += [partial(of_band, chosen.kits, chosen.notes, 10 * seed + take) for take in range(10)]
    for path in sorted(chosen.takes.glob("**/truth.json")) if chosen.takes else ():
        jobs.append(partial(of_drums, "takes", partial(read_made, path.parent)))
    jobs += [partial(of_speech, path) for path, _ in recordings(chosen.speech)]
    with ProcessPoolExecutor(chosen.jobs) as pool:
        found = [case for some in pool.map(_call, jobs) for case in some]
    for name in chosen.model:
        model = fitted_to(found, name, chosen.jobs)
        print(name, model.left_out)
        if chosen.write:
            write(name, model)


def fitted_to(found: list[Sounds], name: str, jobs: int) -> Fitted:
    """A model, with how often it errs where one fifth of the kits, instruments and synthesisers is left out in turn."""
    features, kinds, own = MODELS[name]
    kind_of = {source: kind in own for source, _, kind in found if kind in kinds}
    sources = sorted(kind_of, key=lambda source: (kind_of[source], source))  # no fold lacks one kind
    cases = {
        source: Cases.joined(
            [
                Cases(np.array(rows)[:, : len(features)], np.full(len(rows), kind in own), np.ones(len(rows)))
                for of, rows, kind in found
                if of == source and kind in kinds and rows
            ]
        )
        for source in sources
    }
    missed = false = 0
    for fold in range(FOLDS):
        unseen = sources[fold::FOLDS]
        model = fit([cases[source] for source in sources if source not in unseen], features, Manner(), jobs, {})
        for source in unseen:
            told = model.of_columns(cases[source].columns) > 0.0
            missed += int((~told & cases[source].own).sum())
            false += int((told & ~cases[source].own).sum())
    every = Cases.joined(list(cases.values()))
    model = fit(list(cases.values()), features, Manner(), jobs, {"by": "bench/guess.py", "of": sources})
    left_out = {"own": int(every.own.sum()), "missed": missed, "others": int((~every.own).sum()), "false": false}
    return msgspec.structs.replace(model, left_out=left_out)


if __name__ == "__main__":
    main()
