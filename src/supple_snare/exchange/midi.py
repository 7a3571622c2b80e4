"""Standard MIDI Files: the notes of a played-in part."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np

from supple_snare.errors import RecordingError
from supple_snare.timing.units import FloatArray, frozen

MIDI_SUFFIXES = (".mid", ".midi", ".smf")
_LARGEST_BYTES = 32 << 20


@dataclass(frozen=True, eq=False)
class Notes:
    """The notes of a part, arrays of shape (n,), in order of time.

    Attributes
    ----------
    time_s : float array
        Moments at which notes begin, by the file's own tempo.
    velocity : float array
        1 to 127.
    """

    time_s: FloatArray
    velocity: FloatArray

    def __len__(self) -> int:
        return len(self.time_s)


def read_notes(path: Path) -> Notes:
    """Read the notes of a MIDI file.

    Raises
    ------
    RecordingError
        If the file is missing or no MIDI file that can be read.
    """
    try:
        if path.stat().st_size > _LARGEST_BYTES:
            raise RecordingError(path, "the file is far too large for a MIDI part.")
        file = mido.MidiFile(path)
        time = 0.0
        found = []
        for message in file:
            time += message.time
            if message.type == "note_on" and message.velocity > 0:
                found.append((time, float(message.velocity)))
    except FileNotFoundError as error:
        raise RecordingError(path, f"there is no such file in {path.parent}; check the name.") from error
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError) as error:
        if isinstance(error, RecordingError):
            raise
        raise RecordingError(path, "this is not a MIDI file that can be read; export it again.") from error
    columns = np.array(found, dtype=np.float64).reshape(-1, 2)
    return Notes(frozen(columns[:, 0]), frozen(columns[:, 1]))
