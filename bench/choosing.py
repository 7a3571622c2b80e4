"""Fits the weights of signs by which one of several readings is chosen, for `tempo.py` and `bars.py`."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping
from multiprocessing import Pool

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

_FOLDS = 6
_RIDGE = 3.0

Case = tuple[str, NDArray[np.float64], NDArray[np.bool_]]
"""The written rhythm of a take, empty if it was drawn at random; the signs of every reading; which ones are right."""


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


def main(about: str, case: Callable[[int], Case], in_force: Mapping[str, float]) -> None:
    """Fit to takes that `case` makes from seeds, and say how good it is."""
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument("--takes", type=int, default=1200)
    parser.add_argument("--folds", action="store_true", help="leave written rhythms out by turns")
    told = parser.parse_args()
    with Pool() as pool:
        cases = pool.map(case, range(50_000, 50_000 + told.takes), chunksize=16)
    if told.folds:
        _tell_folds(cases)
    weights = fitted(cases)
    written_ones = np.array([bool(name) for name, _, _ in cases])
    for words, own in (("as it is", np.array(list(in_force.values()))), ("fitted", weights)):
        good = np.array(chosen_right(cases, own))
        print(f"{words}: drawn {good[~written_ones].mean():.3f}, written {good[written_ones].mean():.3f}")
    print({name: round(float(weight), 2) for name, weight in zip(in_force, weights, strict=True)})


def _tell_folds(cases: list[Case]) -> None:
    """How often the right reading is chosen of rhythms that had no say in the weights."""
    rhythms = sorted({name for name, _, _ in cases})
    fold = {name: number % _FOLDS for number, name in enumerate(np.random.default_rng(1).permutation(rhythms))}
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
