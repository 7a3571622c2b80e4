"""Strokes of one drum, and how they rise, covered by something or not."""

from __future__ import annotations

from dataclasses import fields

import numpy as np

from supple_snare.sound.rises import AFTER_S, BEFORE_S, Rises, measure_rises
from supple_snare.timing.units import frozen
from tests.conftest import RATE_HZ, drum

COUNT = 12
TRUTH = np.arange(1.0, COUNT + 1.0)


def rises_of(strokes: list[np.ndarray], *, before: np.ndarray | None = None, ahead_s: float = 0.0) -> Rises:
    """How strokes rise that start at second 1, 2, 3 …, alone or over what began about `ahead_s` before."""
    strays_s = np.random.default_rng(2).uniform(-0.001, 0.001, len(strokes))
    back, onward = round(BEFORE_S * RATE_HZ), round(AFTER_S * RATE_HZ)
    windows = np.zeros((len(strokes), back + onward), dtype=np.float32)
    for window, stroke, stray_s in zip(windows, strokes, strays_s, strict=True):
        window[back:] += stroke[:onward]
        if before is not None:
            ahead = round((ahead_s + stray_s) * RATE_HZ)
            part = before[: onward + ahead]
            window[back - ahead : back - ahead + len(part)] += part
    centres = (np.arange(len(strokes)) + 1) * RATE_HZ
    return measure_rises(windows, centres, np.full(len(strokes), 12.0, dtype=np.float32), rate_hz=RATE_HZ)


def some_strokes(seed: int = 1, levels: tuple[float, float] = (0.3, 1.0)) -> list[np.ndarray]:
    """Strokes of one drum, loud and soft."""
    rng = np.random.default_rng(seed)
    return [drum(rng, 190.0) * rng.uniform(*levels) for _ in range(COUNT)]


def mixed_of(mask: np.ndarray, covered: Rises, alone: Rises) -> Rises:
    """Rises of which those of a mask are covered."""
    pairs = [(getattr(covered, field.name), getattr(alone, field.name)) for field in fields(Rises)]
    return Rises(*(frozen(np.where(_like(mask, one), one, other), one.dtype) for one, other in pairs))


def _like(mask: np.ndarray, values: np.ndarray) -> np.ndarray:
    """A mask of rows, shaped to go with an array."""
    return mask.reshape(-1, *(1 for _ in values.shape[1:]))
