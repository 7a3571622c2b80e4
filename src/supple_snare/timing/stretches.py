"""A long row cut into stretches that are worked on side by side, each reaching a little into its neighbours.

What is found along a row by passing messages from place to place hardly depends on what lies far away: many stretches,
a step of all at a time, take as long as one.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.units import IntArray

Value = TypeVar("Value", bound=np.generic)


@dataclass(frozen=True, eq=False)
class Stretches:
    """How a row of places is cut.

    Attributes
    ----------
    held : int array, shape (steps, stretches)
        Place at each step of each stretch: stretches come last, where those worked on together lie side by side.
    real : bool array, shape (steps, stretches)
        False where a stretch reaches beyond the row; `held` is then its first or last place.
    """

    held: IntArray
    real: NDArray[np.bool_]
    _count: int
    _overlap: int

    @classmethod
    def of(cls, count: int, overlap: int) -> Stretches:
        """Cut a row of so many places; stretches reach so many into their neighbours."""
        # Short rows want few steps, since each costs the same however little it holds; long ones little overlap.
        length = int(np.clip(count // 64, 2 * overlap, 12 * overlap))
        place = np.arange(0, count, length) - overlap + np.arange(length + 2 * overlap)[:, None]
        return cls(np.clip(place, 0, count - 1), (place >= 0) & (place < count), count, overlap)

    def joined(self, values: NDArray[Value]) -> NDArray[Value]:
        """What was found at each step, shape (steps, ..., stretches), as a row again, shape (places, ...)."""
        own = np.moveaxis(values[self._overlap : len(values) - self._overlap], -1, 0)
        return own.reshape(-1, *own.shape[2:])[: self._count]
