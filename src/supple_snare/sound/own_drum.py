"""Whether a microphone has a drum of its own: that of an idle drum, an overhead and a room microphone have none.

`judge` tells the strokes of a drum from bleed, taking for granted that there is such a drum. What it then takes for
strokes shows whether there is: they are heard here first, stand out, and are plainly something else than the rest.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.fitted import fitted
from supple_snare.sound.signs import Signs
from supple_snare.timing.units import FloatArray

FEATURES = ("closeness", "first_ms", "stands_out_db", "parted", "few", "fraction")
"""Of a microphone:

closeness
    Log odds that it has a drum, by all that starts in the take (`sources`).
first_ms
    How much later another microphone hears what is taken for strokes, in the middle.
stands_out_db, parted
    How far the middle of these lies above nearly all other attacks, in level and in log odds.
few
    ln of how many there are, at most 8.
fraction
    Of all attacks.
"""

_CLOSENESS = (-8.0, 6.0)
_STANDS_OUT_DB = (-10.0, 20.0)
_PARTED = (0.0, 16.0)
_ENOUGH = 8
_REST_PERCENT = 90
_SURELY_ODDS = 1.0
"""Log odds from which a microphone counts as close to a drum: one that is idle must not be given its neighbour's
strokes."""

_NONE = -16.0


def own_drum_odds(closeness: float, signs: Signs, log_odds: FloatArray) -> float:
    """Log odds that a microphone has a drum of its own which is struck.

    Parameters
    ----------
    closeness : float
        The same as far as all that starts in the take tells it (`sources`).
    signs : Signs
        Of the n attacks that it hears.
    log_odds : float array, shape (n,)
        Of each being a stroke, if there is such a drum.
    """
    if not (log_odds > 0.0).any():
        return _NONE
    features = drum_features(closeness, signs, log_odds)
    return float(fitted("own_drum", FEATURES).of_columns(features[None])[0]) - _SURELY_ODDS


def drum_features(closeness: float, signs: Signs, log_odds: FloatArray) -> FloatArray:
    """`FEATURES` of a microphone, shape (features,); parameters as there, and some attack a stroke."""
    own = log_odds > 0.0
    return np.array(
        [
            np.clip(closeness, *_CLOSENESS),
            np.median(signs.first[own]),
            np.clip(_above_rest(signs.level, own), *_STANDS_OUT_DB),
            np.clip(_above_rest(log_odds, own), *_PARTED),
            math.log(min(int(np.count_nonzero(own)), _ENOUGH)),
            np.mean(own),
        ]
    )


def _above_rest(values: FloatArray, own: NDArray[np.bool_]) -> float:
    """How far those of strokes lie above nearly all others; infinite where there are no others."""
    return np.inf if own.all() else float(np.median(values[own]) - np.percentile(values[~own], _REST_PERCENT))
