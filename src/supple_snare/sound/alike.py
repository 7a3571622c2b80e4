"""Attacks of one track that sound alike, so that what a person says of one can be offered for the others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.verdict import Verdict


@dataclass(frozen=True)
class AlikeParams:
    """How near two attacks are.

    Chosen on 451 microphones of four sources that no fit had met. For each misjudged attack, of those that are alike so
    many were misjudged, too: 93 % (own generator), 90 and 82 % (others' recordings, two sets of kits), 64 % (rooms).

    Attributes
    ----------
    spectrum_db : float
        Root mean square of the difference of their spectra over the bands.
    level_db : float
        Difference of their levels.
    log_odds : float
        How much surer the other verdict may be: one that was wrong of an attack is wrong of those of which it was less
        sure.
    """

    spectrum_db: float = 5.0
    level_db: float = 6.0
    log_odds: float = 0.5


def alike(verdict: Verdict, index: int, params: AlikeParams | None = None) -> NDArray[np.bool_]:
    """Which attacks are judged as one of them is, sound like it, and are not much surer, shape (n,); itself among them.

    Parameters
    ----------
    verdict : Verdict
        On n attacks.
    index : int
        Of the one.
    params : AlikeParams, optional
    """
    near = params or AlikeParams()
    apart_db = np.sqrt(np.mean((verdict.spectrum_db - verdict.spectrum_db[index]) ** 2, axis=1))
    return np.asarray(
        (verdict.played == verdict.played[index])
        & (apart_db < near.spectrum_db)
        & (np.abs(verdict.level_db - verdict.level_db[index]) < near.level_db)
        & (np.abs(verdict.log_odds) <= abs(verdict.log_odds[index]) + near.log_odds)
    )
