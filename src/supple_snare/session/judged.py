"""Which attacks counted as played when a session was last open, so that another verdict is told, once.

A newer version of the program may judge attacks otherwise. Beside the session stands what was judged last; it is held
against what is judged now as long as files, bands, materials and roles are the same.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from supple_snare.session import edits
from supple_snare.session.cache import SPOILT, Arrays, read_arrays, write_arrays
from supple_snare.session.document import Group, Session
from supple_snare.session.mending import near_any
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.units import FloatArray

FILE_NAME = "judged.npz"

_SAME_ATTACK_S = 0.010
"""A start that was found somewhat elsewhere is still that of the same attack."""


@dataclass(frozen=True, eq=False)
class Judged:
    """What was judged of one group.

    Attributes
    ----------
    asked : str
        Stands for all that the verdicts depend on besides the program.
    played_s : mapping of str to float array
        By track key: when the attacks start that count as played, hits mended by hand left out of account.
    """

    asked: str
    played_s: Mapping[str, FloatArray]


@dataclass(frozen=True, eq=False)
class Rejudged:
    """Attacks that are judged otherwise than before, by the key of their track.

    Attributes
    ----------
    counted_s, dropped_s : mapping of str to float array
        Those that count as played now, and those that did.
    """

    counted_s: Mapping[str, FloatArray]
    dropped_s: Mapping[str, FloatArray]

    @property
    def places(self) -> tuple[tuple[str, float], ...]:
        """Track and time of each, in order of time."""
        both = (self.counted_s, self.dropped_s)
        found = [(key, time_s) for each in both for key, times_s in each.items() for time_s in times_s.tolist()]
        return tuple(sorted(found, key=lambda place: place[1]))


def asked_of(session: Session, group: Group) -> str:
    """Stands for all that the verdicts on a group depend on besides the program."""
    told = [
        (track.key, track.known_by, track.band_hz, track.material, track.listens_to, track.drum)
        for track in session.tracks_of(group)
    ]
    return hashlib.sha256(repr(told).encode()).hexdigest()


def judged_of(asked: str, verdicts: Mapping[str, Verdict]) -> Judged:
    """What is judged of a group now, by the verdicts on its tracks."""
    return Judged(asked, {key: verdict.time_s[verdict.played] for key, verdict in verdicts.items()})


def settle_judged(folder: Path, now: Mapping[str, Judged]) -> Rejudged:
    """What is judged otherwise now than what stands beside a session says; from then on, today's verdicts stand there.

    Parameters
    ----------
    folder : Path
        Of the session.
    now : mapping of str to Judged
        By the key of the group. Groups that are not named keep what stands there.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    path = folder / FILE_NAME
    try:
        known: Arrays = read_arrays(path)
    except SPOILT:
        known = {}  # as if the session were new: nothing can be told
    counted_s, dropped_s = {}, {}
    for group, judged in now.items():
        if str(known.get(f"{group}/asked", "")) == judged.asked:
            for key, played_s in judged.played_s.items():
                before_s = _times(known.get(f"{group}/played/{key}"))
                counted_s[key], dropped_s[key] = _without(played_s, before_s), _without(before_s, played_s)
    of_now = {f"{group}/asked": np.array(judged.asked) for group, judged in now.items()}
    of_now |= {f"{group}/played/{key}": each for group, judged in now.items() for key, each in judged.played_s.items()}
    others = {name: each for name, each in known.items() if name.split("/")[0] not in now}
    if any(name not in known or not np.array_equal(known[name], each) for name, each in of_now.items()):
        write_arrays(path, others | of_now)
    return Rejudged(counted_s, dropped_s)


def as_before(session: Session, rejudged: Rejudged) -> Session:
    """Correct every attack that is judged otherwise so that it counts as it did; what was mended by hand stays."""
    for key in {track.key for track in session.tracks} & rejudged.counted_s.keys():
        track = session.track(key)
        session = edits.remove_hits(session, key, _without(rejudged.counted_s[key], track.mended_s).tolist())
        session = edits.add_hits(session, key, _without(rejudged.dropped_s[key], track.mended_s).tolist())
    return session


def _without(time_s: FloatArray, others_s: Sequence[float] | FloatArray) -> FloatArray:
    """Moments that none of some others is near."""
    return np.asarray(time_s[~near_any(time_s, others_s, _SAME_ATTACK_S)])


def _times(array: object) -> FloatArray:
    """What was kept, if it is moments; else none."""
    if isinstance(array, np.ndarray) and array.ndim == 1 and array.dtype == np.float64 and np.isfinite(array).all():
        return array
    return np.zeros(0)
