"""Fitted models: small networks whose inputs have names, as they come with the program in versioned JSON files.

`bench/fit.py` and `bench/lines.py` make the files; each tells its version, the names and the scale of its inputs, the
recordings that it was fitted to, and how well it does on generators of recordings that were left out.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from supple_snare.timing.units import FloatArray

FOLDER = Path(__file__).parent / "models"

VERSION = 1
"""Of the form of the files."""

FARTHEST = 4.0
"""Standard deviations from the mean to which inputs are limited: beyond, nothing was there to fit to."""


class FittedError(Exception):
    """A model file that does not go with the program."""


class Network(msgspec.Struct, frozen=True):
    """Layers of tanh units and a linear one at the end; a single layer is a logistic regression.

    Attributes
    ----------
    weights : list of lists, (inputs, units) a layer
    biases : list of lists, (units,) a layer
    """

    weights: list[list[list[float]]]
    biases: list[list[float]]

    def log_odds(self, scaled: FloatArray) -> FloatArray:
        """Log odds for scaled inputs, shape (n, inputs), shape (n,)."""
        layer = scaled
        for weights, biases in zip(self.weights[:-1], self.biases[:-1], strict=True):
            layer = np.tanh(layer @ np.array(weights) + np.array(biases))
        return np.asarray(layer @ np.array(self.weights[-1])[:, 0] + self.biases[-1][0])


class Fitted(msgspec.Struct, frozen=True):
    """What a file holds: networks fitted from different beginnings, whose mean strays less than each does.

    Attributes
    ----------
    version : int
    features : list of str
        Names of the inputs, in order.
    mean, spread : list of float
        Of each input in what the networks were fitted to.
    networks : list of Network
    fitted_to : dict
        The recordings, by generator, and what was left out.
    left_out : dict
        Figures on each generator by networks fitted to the others.
    """

    version: int
    features: list[str]
    mean: list[float]
    spread: list[float]
    networks: list[Network]
    fitted_to: dict[str, Any] = {}
    left_out: dict[str, Any] = {}

    def log_odds(self, inputs: Mapping[str, FloatArray]) -> FloatArray:
        """Log odds of n cases.

        Parameters
        ----------
        inputs : mapping of str to float array, shape (n,)
            By the names of the features.

        Returns
        -------
        float array, shape (n,)
        """
        return self.of_columns(np.stack([inputs[name] for name in self.features], axis=-1))

    def of_columns(self, columns: FloatArray) -> FloatArray:
        """The same for inputs in the order of the features, shape (n, features)."""
        scaled = np.clip((columns - np.array(self.mean)) / np.array(self.spread), -FARTHEST, FARTHEST)
        return np.asarray(np.mean([network.log_odds(scaled) for network in self.networks], axis=0))


@cache
def fitted(name: str, features: tuple[str, ...]) -> Fitted:
    """A model that comes with the program.

    Parameters
    ----------
    name : str
        Of the file, without its ending.
    features : tuple of str
        What the caller can tell, in order.

    Raises
    ------
    FittedError
        If the file is of another version, or was fitted to other features.
    """
    path = FOLDER / f"{name}.json"
    found = msgspec.json.decode(path.read_bytes(), type=Fitted)
    if found.version != VERSION:
        raise FittedError(f"{path.name} is of version {found.version}; this program reads version {VERSION}.")
    if tuple(found.features) != features:
        raise FittedError(f"{path.name} was fitted to {', '.join(found.features)}; the program tells {features}.")
    return found
