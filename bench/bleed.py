"""Fits the weights by which bleed is judged, and says how well they do on kits they were not fitted to.

python bench/bleed.py --kits FOLDER [--seeds N] [--only NAME]
"""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from hits import outside_rolls
from material import EASY, HARD, Case, cases, in_processes, options
from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import SIGNS, weigh_signs
from supple_snare.sound.files import read_recording
from supple_snare.timing.hits import nearest_index

FOLDS = 4


@dataclass(frozen=True)
class Weighed:
    """The signs of all attacks in one microphone, and which of them were its drum's."""

    recipe: str
    kit: str
    signs: NDArray[np.float64]
    own: NDArray[np.bool_]
    strokes: int


def weigh(case: Case) -> list[Weighed]:
    """Make one recording and weigh the signs of each close microphone."""
    made = case.make()
    with tempfile.TemporaryDirectory() as folder:
        paths = made.write(Path(folder))
        weighed = weigh_signs([analyse(read_recording(path)) for path in paths])
    rows = []
    for path, (_, time_s, signs) in zip(paths, weighed, strict=True):
        if path.stem in made.struck and signs is not None:
            truth, counted = outside_rolls(made.struck[path.stem], time_s)
            columns = signs.columns()[counted]
            rows.append(Weighed(case.recipe.name, case.kit, columns, _own(time_s[counted], truth), len(truth)))
    return rows


def _own(time_s: NDArray[np.float64], truth_s: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which attacks are strokes: for each stroke the nearest attack within 10 ms."""
    own = np.zeros(len(time_s), dtype=bool)
    if len(truth_s) and len(time_s):
        ordered = np.argsort(time_s)
        nearest = ordered[nearest_index(time_s[ordered], truth_s)]
        own[nearest[np.abs(time_s[nearest] - truth_s) < 0.010]] = True
    return own


def fit(signs: NDArray[np.float64], own: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Weights and bias of a logistic regression, lightly held toward 0."""
    spread = signs.std(axis=0) + 1e-9
    scaled = np.column_stack([signs / spread, np.ones(len(signs))])

    def loss(weights: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        odds = scaled @ weights
        cost = np.sum(np.logaddexp(0.0, odds) - own * odds) + 0.5 * np.sum(weights[:-1] ** 2)
        slope = scaled.T @ (1.0 / (1.0 + np.exp(-odds)) - own)
        slope[:-1] += weights[:-1]
        return float(cost), slope

    found = minimize(loss, np.zeros(scaled.shape[1]), jac=True, method="L-BFGS-B").x
    return np.append(found[:-1] / spread, found[-1])


def main() -> None:
    """Fit, cross-check by kits, print."""
    chosen = options(__doc__ or "").parse_args()
    rows = [row for found in in_processes(weigh, cases(chosen, EASY + HARD), chosen.jobs) for row in found]
    kits = sorted({row.kit for row in rows})
    scores: dict[str, list[float]] = {}
    for fold in range(FOLDS):
        unseen = [row for row in rows if row.kit in kits[fold::FOLDS]]
        seen = [row for row in rows if row.kit not in kits[fold::FOLDS]]
        weights = fit(np.concatenate([row.signs for row in seen]), np.concatenate([row.own for row in seen]))
        for row in unseen:
            played = row.signs @ weights[:-1] + weights[-1] > 0.0
            total = np.count_nonzero(played) + row.strokes
            if row.strokes:
                scores.setdefault(row.recipe, []).append(2.0 * np.count_nonzero(played & row.own) / total)
    print("F on kits that the weights were not fitted to")
    for recipe, found in scores.items():
        print(f"    {recipe:28}mean {np.mean(found):.3f}  worst {min(found):.3f}")
    weights = fit(np.concatenate([row.signs for row in rows]), np.concatenate([row.own for row in rows]))
    for name, weight in zip((*SIGNS, "bias"), weights, strict=True):
        print(f"    {name:16}{weight:8.3f}")


if __name__ == "__main__":
    main()
