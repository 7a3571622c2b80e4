"""The hits of one track: a struct of arrays, in order of time."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from enum import IntEnum
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from supple_snare.timing.units import FloatArray, frozen


class Kind(IntEnum):
    """What a hit is."""

    PLAYED = 0
    BLEED = 1
    GRACE = 2
    ROLL = 3

    @property
    def word(self) -> str:
        """The word screens and files use."""
        return self.name.lower()


class Origin(IntEnum):
    """Where a hit came from."""

    FOUND = 0
    ADDED = 1
    MOVED = 2


@dataclass(frozen=True, eq=False)
class Hits:
    """Hits of one track.

    Attributes
    ----------
    time_s : float array, shape (n,)
        Starts of the attacks, increasing.
    landing_s : float array, shape (n,)
        What should meet the grid: the start itself, or a later place inside a soft attack.
    level_db : float array, shape (n,)
        Peak level of each attack, dB below full scale.
    kind : int8 array, shape (n,)
        `Kind` codes.
    confidence : float array, shape (n,)
        0 (doubtful) to 1 (certain) that the kind is right.
    origin : int8 array, shape (n,)
        `Origin` codes.
    ghost : bool array, shape (n,)
        Played far softer than the track's accents.
    sharpness : float array, shape (n,)
        How fast each attack rises, dB per ms; 0 where that is not known.
    """

    time_s: FloatArray
    landing_s: FloatArray
    level_db: FloatArray
    kind: NDArray[np.int8]
    confidence: FloatArray
    origin: NDArray[np.int8]
    ghost: NDArray[np.bool_]
    sharpness: FloatArray

    @classmethod
    def of(
        cls,
        time_s: ArrayLike,
        *,
        landing_s: ArrayLike | None = None,
        level_db: ArrayLike = 0.0,
        kind: ArrayLike = Kind.PLAYED,
        confidence: ArrayLike = 1.0,
        origin: ArrayLike = Origin.FOUND,
        ghost: ArrayLike = False,
        sharpness: ArrayLike = 0.0,
    ) -> Hits:
        """Hits from arrays or single values; sorted by time and made read-only. They land where they start if not told.

        >>> Hits.of([2.0, 1.0], level_db=-6.0).time_s.tolist()
        [1.0, 2.0]
        """
        time = np.atleast_1d(np.asarray(time_s, dtype=np.float64))
        order = np.argsort(time, kind="stable")

        def column(values: ArrayLike, dtype: Any) -> NDArray[Any]:
            return frozen(np.broadcast_to(np.asarray(values, dtype=dtype), time.shape)[order], dtype)

        return cls(
            time_s=frozen(time[order]),
            landing_s=column(time if landing_s is None else landing_s, np.float64),
            level_db=column(level_db, np.float64),
            kind=column(kind, np.int8),
            confidence=column(confidence, np.float64),
            origin=column(origin, np.int8),
            ghost=column(ghost, np.bool_),
            sharpness=column(sharpness, np.float64),
        )

    @classmethod
    def none(cls) -> Hits:
        """No hits at all."""
        return cls.of([])

    def __len__(self) -> int:
        return len(self.time_s)

    def __getitem__(self, which: Any) -> Hits:
        """The hits at a mask, a slice, or indices in any order."""
        columns = {name: getattr(self, name)[which] for name in _COLUMNS}
        if isinstance(which, np.ndarray) and which.dtype == np.bool_:  # order and types stay: nothing to be looked at
            for column in columns.values():
                column.flags.writeable = False
            return Hits(**columns)
        return Hits.of(**columns)

    def of_kind(self, *kinds: Kind) -> Hits:
        """Only the hits of these kinds."""
        return self[np.isin(self.kind, kinds)]

    def landing_earlier(self, by_s: float) -> Hits:
        """The same hits, which land so much earlier."""
        return replace(self, landing_s=frozen(self.landing_s - by_s))

    def with_kind(self, kind: ArrayLike) -> Hits:
        """The same hits with new kinds, one for each."""
        return replace(self, kind=frozen(kind, np.int8))

    def merged(self, other: Hits) -> Hits:
        """Both sets of hits in one, in order of time."""
        return Hits.of(**{name: np.concatenate([getattr(self, name), getattr(other, name)]) for name in _COLUMNS})


_COLUMNS = tuple(field.name for field in fields(Hits))


def nearest_index(sorted_times: FloatArray, times: ArrayLike) -> NDArray[np.intp]:
    """Index of the nearest of some increasing times for each given time.

    Parameters
    ----------
    sorted_times : float array, shape (n,), n > 0
    times : float array, shape (m,)

    Returns
    -------
    int array, shape (m,)

    >>> nearest_index(np.array([0.0, 1.0, 2.0]), [0.4, 1.6, 9.0]).tolist()
    [0, 2, 2]
    """
    wanted = np.asarray(times, dtype=np.float64)
    if len(sorted_times) == 1:
        return np.zeros(wanted.shape, dtype=np.intp)
    right = np.clip(np.searchsorted(sorted_times, wanted), 1, len(sorted_times) - 1)
    return right - (wanted - sorted_times[right - 1] < sorted_times[right] - wanted)
