"""Room tone: a stretch of the take in which nobody plays, to fill gaps with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from supple_snare.sound.files import BlockReader, Recording
from supple_snare.timing.units import IntArray, amplitude_to_db

_RINGS_S = 0.3
"""So long after an attack it is no room tone yet."""

_SHORTEST_S, _LONGEST_S = 0.06, 1.0
_BEFORE_NEXT_S = 0.02
_MOST_TRIED = 24


@dataclass(frozen=True)
class Stretch:
    """Samples `start` to `start + length` of every track of a group."""

    start: int
    length: int


def find_room_tone(recordings: Sequence[Recording], arrivals: IntArray) -> Stretch | None:
    """The stretch between attacks, before the first or after the last one, that is softest over all tracks.

    Parameters
    ----------
    recordings : sequence of Recording
        Of one rate.
    arrivals : int array, shape (n,)
        Every attack in any track, in order.

    Returns
    -------
    Stretch or None
        None where attacks follow each other too closely everywhere.

    Raises
    ------
    RecordingError
        If a recording breaks while it is read.
    """
    rate, frames = recordings[0].rate_hz, min(recording.frames for recording in recordings)
    rings, before_next = round(_RINGS_S * rate), round(_BEFORE_NEXT_S * rate)
    begins = np.append(0, arrivals + rings)
    ends = np.append(arrivals - before_next, frames)
    lengths = np.minimum(ends - begins, round(_LONGEST_S * rate))
    tried = [index for index in np.argsort(-lengths)[:_MOST_TRIED] if lengths[index] >= round(_SHORTEST_S * rate)]
    stretches = [Stretch(int(ends[index] - lengths[index]), int(lengths[index])) for index in tried]
    if not stretches:
        return None
    levels = np.zeros(len(stretches))
    for recording in recordings:
        with BlockReader(recording, "float32") as reader:
            for number, stretch in enumerate(stretches):
                sound = reader.read(stretch.start, stretch.length)
                levels[number] += float(amplitude_to_db(np.sqrt(np.mean(np.square(sound, dtype=np.float64)))))
    return stretches[int(np.argmin(levels))]
