"""Fits the networks that come with the program, from named features; needs scikit-learn."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray
from sklearn.linear_model import LogisticRegression
from sklearn.neural_network import MLPClassifier

from supple_snare.sound.fitted import FARTHEST, FOLDER, VERSION, Fitted, Network
from supple_snare.timing.hits import nearest_index


@dataclass(frozen=True)
class Manner:
    """How networks are fitted: the units of their layers (none: a logistic regression), the rounds after which they are
    stopped, how strongly weights are drawn to zero, and from how many beginnings."""

    units: tuple[int, ...] = ()
    rounds: int = 30
    decay: float = 0.3
    members: int = 1


@dataclass(frozen=True)
class Cases:
    """Columns of features, shape (n, features), what is true, shape (n,), and how much each counts, shape (n,)."""

    columns: NDArray[np.float64]
    own: NDArray[np.bool_]
    weight: NDArray[np.float64]

    @classmethod
    def joined(cls, parts: Sequence[Cases]) -> Cases:
        """Several as one."""
        return cls(*(np.concatenate([getattr(part, name) for part in parts]) for name in ("columns", "own", "weight")))


def fit(parts: Sequence[Cases], features: Sequence[str], manner: Manner, jobs: int, told: dict[str, Any]) -> Fitted:
    """Networks fitted to some cases, which `told` names for the file."""
    cases = Cases.joined(parts)
    scale = Fitted(
        VERSION,
        list(features),
        *np.round([cases.columns.mean(axis=0), cases.columns.std(axis=0) + 1e-4], 4).tolist(),
        networks=[],
        fitted_to=told,
    )
    scaled = np.clip((cases.columns - scale.mean) / scale.spread, -FARTHEST, FARTHEST)
    if not manner.units:
        found = LogisticRegression(C=1.0 / manner.decay, max_iter=2000).fit(
            scaled, cases.own, sample_weight=cases.weight
        )
        networks = [Network([np.round(found.coef_.T, 4).tolist()], [np.round(found.intercept_, 4).tolist()])]
    else:
        with ProcessPoolExecutor(jobs) as pool:
            networks = list(pool.map(partial(_member, scaled, cases.own, manner), range(manner.members)))
    return msgspec.structs.replace(scale, networks=networks)


def _member(scaled: NDArray[np.float64], own: NDArray[np.bool_], manner: Manner, seed: int) -> Network:
    network = MLPClassifier(
        manner.units, activation="tanh", alpha=manner.decay, batch_size=512, learning_rate_init=0.002,
        max_iter=manner.rounds, random_state=seed,
    )  # fmt: skip
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # it is stopped on purpose before it fits the noise
        network.fit(scaled, own)
    return Network(
        [np.round(weights, 4).tolist() for weights in network.coefs_],
        [np.round(biases, 4).tolist() for biases in network.intercepts_],
    )


def write(name: str, model: Fitted) -> None:
    """Put a model into the program."""
    FOLDER.mkdir(exist_ok=True)
    (FOLDER / f"{name}.json").write_bytes(msgspec.json.encode(model))


def own_attacks(time_s: NDArray[np.float64], truth_s: NDArray[np.float64], within_s: float) -> NDArray[np.bool_]:
    """Which attacks are strokes: for each stroke the nearest attack, if it is so near."""
    own = np.zeros(len(time_s), dtype=bool)
    if len(truth_s) and len(time_s):
        ordered = np.argsort(time_s)
        nearest = ordered[nearest_index(time_s[ordered], truth_s)]
        own[nearest[np.abs(time_s[nearest] - truth_s) < within_s]] = True
    return own
