"""Standard MIDI Files: the notes of a played-in part, and the grid that a tempo track lays."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np

from supple_snare.errors import RecordingError, UsageError
from supple_snare.timing.course import Pin
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Bars, Meter, MeterChange
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
    time = 0.0
    found = []
    with _readable(path):
        for message in _opened(path):
            time += message.time
            if message.type == "note_on" and message.velocity > 0:
                found.append((time, float(message.velocity)))
    columns = np.array(found, dtype=np.float64).reshape(-1, 2)
    return Notes(frozen(columns[:, 0]), frozen(columns[:, 1]))


def read_grid(path: Path) -> Grid:
    """Read tempos and meters of a MIDI file as a grid that begins with the file.

    Changes of tempo become pins; a meter that changes inside a bar is taken from the next bar on.

    Raises
    ------
    RecordingError
        If the file cannot be read, or says nothing of tempo.
    """
    beat, time = 0.0, 0.0
    tempos: list[tuple[float, float, float]] = []
    meters: list[tuple[float, Meter]] = []
    with _readable(path):
        file = _opened(path)
        beat_s = 0.5
        for message in mido.merge_tracks(file.tracks):
            beats = message.time / file.ticks_per_beat
            beat, time = beat + beats, time + beats * beat_s
            if message.type == "set_tempo":
                beat_s = message.tempo / 1e6
                tempos.append((beat, time, 60.0 / beat_s))
            elif message.type == "time_signature":
                meters.append((beat, Meter(message.numerator, message.denominator)))
    if not tempos:
        raise RecordingError(path, "this MIDI file says nothing of tempo; choose one exported with its tempo track.")
    try:
        first = next((meter for at, meter in meters if at == 0.0), Meter())
        changes: list[MeterChange] = []
        for at, meter in meters:
            bar = int(np.ceil(float(Bars(first, changes).bar_of(at)) - 1e-6))
            if at > 0.0 and bar > (changes[-1].bar if changes else 1):
                changes.append(MeterChange(bar, meter))
        pins = tuple(Pin(at, moment) for at, moment, _ in tempos if at > 0.0)
        last_bpm = tempos[-1][2]
        # A tempo of one's own before the first pin is that of the stretch up to it.
        return Grid(last_bpm, 0.0, first, meter_changes=tuple(changes), pins=tuple(sorted(set(pins))))
    except UsageError as error:
        raise RecordingError(path, f"its tempo track makes no sense. {error}") from error


def _opened(path: Path) -> mido.MidiFile:
    if path.stat().st_size > _LARGEST_BYTES:
        raise RecordingError(path, "the file is far too large for a MIDI part.")
    return mido.MidiFile(path)


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """Tell in one sentence what is wrong with a file."""
    try:
        yield
    except RecordingError:
        raise
    except FileNotFoundError as error:
        raise RecordingError(path, f"there is no such file in {path.parent}; check the name.") from error
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError, UsageError) as error:
        raise RecordingError(path, "this is not a MIDI file that can be read; export it again.") from error
