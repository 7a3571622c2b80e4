"""A made-up kit to test with."""

from __future__ import annotations

from functools import cache

import numpy as np
from bench.material import Made, Recipe, build, load_kits


@cache
def take() -> Made:
    """A kit with all its microphones, and of each drum when it was struck."""
    return build(load_kits(None)["demo"], Recipe("overheads", 112.0, bars=6, bleed_db=(-24.0, -14.0)), 4)


def struck_s(*drums: str) -> np.ndarray:
    """When any of some drums was struck; all of them if none is named."""
    truth = take().struck | take().without_microphone
    return np.sort(np.concatenate([truth[drum].time_s for drum in drums or truth]))
