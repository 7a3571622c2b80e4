"""The notes of a MIDI part, and the strokes they make: a chord is one stroke."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.timing.hits import Hits
from supple_snare.timing.strokes import Strokes, gather_strokes
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_s


@dataclass(frozen=True, eq=False)
class Notes:
    """Notes, arrays of shape (n,), in order of time.

    Attributes
    ----------
    time_s, end_s : float array
        Moments at which they begin and end, by the file's own tempo.
    velocity : float array
        1 to 127.
    pitch : int array
        MIDI note numbers.
    """

    time_s: FloatArray
    end_s: FloatArray
    velocity: FloatArray
    pitch: IntArray

    def __len__(self) -> int:
        return len(self.time_s)

    @classmethod
    def none(cls) -> Notes:
        """No notes."""
        return cls(frozen([]), frozen([]), frozen([]), frozen([], np.int64))


@dataclass(frozen=True, eq=False)
class Chords:
    """Strokes of a part.

    Attributes
    ----------
    strokes : Strokes
        One for each chord, at the time of its first note and as loud as its loudest.
    of_note : int array, shape (notes,)
        The stroke each note belongs to.
    """

    strokes: Strokes
    of_note: IntArray


def gather_chords(notes: Notes, *, together_ms: float) -> Chords:
    """Gather notes into strokes: those that begin within a time of a stroke's first one belong to it."""
    first: list[int] = []
    window_s, last_s = float(ms_to_s(together_ms)), -np.inf
    # A plain walk: where a stroke begins depends on where the one before began.
    for index, time_s in enumerate(notes.time_s.tolist()):
        if time_s - last_s > window_s:
            first.append(index)
            last_s = time_s
    starts = np.array(first, dtype=np.int64)
    of_note = np.searchsorted(starts, np.arange(len(notes)), side="right") - 1
    if not len(starts):
        return Chords(Strokes.none(1), frozen([], np.int64))
    level = np.maximum.reduceat(velocity_to_db(notes.velocity), starts)
    hits = Hits.of(notes.time_s[starts], level_db=level)
    return Chords(gather_strokes([hits], together_ms=0.0), frozen(of_note, np.int64))


@dataclass(frozen=True, eq=False)
class NoteChange:
    """What becomes of each note, arrays of shape (n,)."""

    time_s: FloatArray
    end_s: FloatArray
    velocity: FloatArray


def move_notes(
    notes: Notes, chords: Chords, move_ms: FloatArray, *, ends_follow: bool, level_by_db: FloatArray | None = None
) -> NoteChange:
    """Move the notes of every stroke together, so that the spread of a chord stays as it was played.

    Parameters
    ----------
    notes : Notes
    chords : Chords
    move_ms : float array, shape (strokes,)
    ends_follow : bool
        A note's end goes along with what is played there, so that gaps and overlaps stay; else with its start, so that
        its length stays.
    level_by_db : float array, shape (strokes,), optional
        By how much each stroke gets louder.

    Returns
    -------
    NoteChange
    """
    move_s = ms_to_s(move_ms)
    by_s = move_s[chords.of_note]
    end_by_s = np.interp(notes.end_s, chords.strokes.time_s, move_s) if ends_follow and len(notes) else by_s
    velocity = notes.velocity
    if level_by_db is not None:
        by_db = level_by_db[chords.of_note]
        louder = np.clip(np.rint(velocity * 10.0 ** (by_db / 40.0)), 1.0, 127.0)
        velocity = np.where(by_db == 0.0, velocity, louder)
    return NoteChange(frozen(notes.time_s + by_s), frozen(notes.end_s + end_by_s), frozen(velocity))


def velocity_to_db(velocity: FloatArray) -> FloatArray:
    """Level of a velocity: amplitude goes with its square, as most instruments have it, and 127 is 0 dB."""
    return np.asarray(40.0 * np.log10(np.maximum(velocity, 1.0) / 127.0))
