"""Fits the weights by which a beat is chosen (`timing/beat_signs.py`), on performances at random and written ones.

python bench/tempo.py [--takes 1200] [--folds]

With `--folds` the written rhythms are left out by turns, and it is told how often the right beat is chosen in those.
"""

from __future__ import annotations

import argparse
from multiprocessing import Pool

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from playing import drawn, play, written
from supple_snare.timing.beat_signs import WEIGHTS
from supple_snare.timing.tempo import followed_tracks, hit_weights

_FOLDS = 6
_RIDGE = 3.0

Case = tuple[str, NDArray[np.float64], NDArray[np.bool_]]


def case(seed: int) -> Case:
    """The name of a rhythm, the signs of every reading of a take of it, and which of them are right."""
    fixed: dict[str, object] = {"wander": 0.04} if seed % 2 else {}
    fixed["bars"] = 24 + seed % 13
    played = play((written if seed % 3 else drawn)(seed, **fixed), seed)
    time_s, level_db, lead = played.hits_s, played.hits_db, played.hits_lead
    if seed % 7 == 5:  # all in one track
        lead = np.zeros_like(lead)
    elif seed % 7 == 6 and len(np.unique(lead)) > 2:  # a drum without a microphone
        kept = lead != np.unique(lead)[seed % len(np.unique(lead))]
        time_s, level_db, lead = time_s[kept], level_db[kept], lead[kept]
    rows, right = [], []
    for signs, track in followed_tracks(time_s, hit_weights(level_db, lead), lead):
        beat = track.beat_at(played.beats_s)
        rows.append([signs[name] for name in WEIGHTS])
        near = abs(np.log(track.felt_bpm / played.manner.felt_bpm)) < 0.03
        right.append(near and float(np.median(np.abs(beat - np.rint(beat)))) < 0.12)
    return played.manner.groove, np.array(rows), np.array(right)


def fitted(cases: list[Case]) -> NDArray[np.float64]:
    """Weights by which the right reading is most likely chosen (D. McFadden, "Conditional logit analysis", 1974)."""
    cases = [each for each in cases if each[2].any()]
    scale = np.concatenate([rows for _, rows, _ in cases]).std(axis=0) + 1e-9
    written_share = np.mean([bool(name) for name, _, _ in cases])

    def loss(weights: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        total, slope = _RIDGE * float(weights @ weights), 2.0 * _RIDGE * weights
        for name, rows, right in cases:
            counts = 0.5 / (written_share if name else 1.0 - written_share)
            odds = np.exp((score := rows / scale @ weights) - score.max())
            chosen, hit = odds / odds.sum(), odds * right / (odds * right).sum()
            total -= counts * float(np.log((odds * right).sum() / odds.sum()))
            slope = slope - counts * (hit - chosen) @ (rows / scale)
        return total, slope

    found = minimize(loss, np.zeros(len(scale)), jac=True, method="L-BFGS-B", options={"maxiter": 150})
    return np.asarray(found.x / scale)


def chosen_right(cases: list[Case], weights: NDArray[np.float64]) -> list[bool]:
    """For each take whether the reading chosen is right."""
    return [bool(right[int((rows @ weights).argmax())]) for _, rows, right in cases]


def main() -> None:
    """Fit, and say how good it is."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--takes", type=int, default=1200)
    parser.add_argument("--folds", action="store_true")
    told = parser.parse_args()
    with Pool() as pool:
        cases = pool.map(case, range(50_000, 50_000 + told.takes), chunksize=16)
    names = sorted({name for name, _, _ in cases})
    if told.folds:
        fold = {name: number % _FOLDS for number, name in enumerate(np.random.default_rng(1).permutation(names))}
        fold_of = [fold[name] if name else number % _FOLDS for number, (name, _, _) in enumerate(cases)]
        right: dict[str, list[bool]] = {}
        for number in range(_FOLDS):
            weights = fitted([each for each, own in zip(cases, fold_of, strict=True) if own != number])
            held = [each for each, own in zip(cases, fold_of, strict=True) if own == number]
            for each, good in zip(held, chosen_right(held, weights), strict=True):
                right.setdefault(each[0], []).append(good)
        for name, good in sorted(right.items()):
            print(f"{name or 'drawn at random':24} {np.mean(good):.2f} of {len(good)}")
        print(f"written {np.mean([each for name, good in right.items() if name for each in good]):.3f}")
    weights = fitted(cases)
    written_ones = np.array([bool(name) for name, _, _ in cases])
    for words, own in (("as it is", np.array(list(WEIGHTS.values()))), ("fitted", weights)):
        good = np.array(chosen_right(cases, own))
        print(f"{words}: drawn {good[~written_ones].mean():.3f}, written {good[written_ones].mean():.3f}")
    print({name: round(float(weight), 2) for name, weight in zip(WEIGHTS, weights, strict=True)})


if __name__ == "__main__":
    main()
