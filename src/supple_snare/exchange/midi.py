"""Standard MIDI Files: the notes of a played-in part, the same file with notes moved, and the grid of a tempo track.

Times follow the file's own tempo, or its frames where its division counts those. Whatever is not a note that moves is
written as it was read.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path

import mido
import numpy as np
from numpy.typing import ArrayLike

from supple_snare.errors import HandOverError, RecordingError, UsageError
from supple_snare.exchange.replacing import replacing
from supple_snare.timing.course import Pin
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Bars, Meter, MeterChange, through
from supple_snare.timing.notes import NoteChange, Notes
from supple_snare.timing.units import LONGEST_TAKE_S, FloatArray, IntArray, frozen

MIDI_SUFFIXES = (".mid", ".midi", ".smf")
_LARGEST_BYTES = 32 << 20
_USUAL_TEMPO = 500_000
"""Microseconds a quarter note where a file says nothing (Standard MIDI Files 1.0)."""

_USUAL_DIVISION = 480
_TEMPO_RANGE = (1, (1 << 24) - 1)
_DAMAGED = (OSError, EOFError, ValueError, LookupError, TypeError, OverflowError, mido.KeySignatureError)
"""What reading a damaged file may end in."""

_CONDUCTING = ("set_tempo", "time_signature")


@dataclass(frozen=True, eq=False)
class BeatNotes:
    """Notes by the beats of a file, whatever its tempo.

    Attributes
    ----------
    place_beats, velocity : float array, shape (n,)
        In order of place.
    length_beats : float
        Where the file ends, in whole quarter notes.
    tempo_bpm : float
        The first one.
    remarks : tuple of str
        Its texts.
    """

    place_beats: FloatArray
    velocity: FloatArray
    length_beats: float
    tempo_bpm: float
    remarks: tuple[str, ...]


@dataclass(frozen=True)
class _NoteAt:
    """Where a note stands in a file: its track, and its events in it; no end if it is never let go."""

    track: int
    on: int
    off: int | None


class _Clock:
    """Ticks and seconds of a file: straight lines between its changes of tempo."""

    def __init__(self, tick: FloatArray, time_s: FloatArray, s_before: float, s_after: float) -> None:
        self._tick, self._time_s, self._before, self._after = tick, time_s, s_before, s_after

    @classmethod
    def of_tempos(cls, tempos: list[tuple[int, int]], division: int) -> _Clock:
        """A clock from (tick, microseconds a quarter note), in order of ticks."""
        ticks, us = [0], [_USUAL_TEMPO]
        for tick, tempo in tempos:
            if tick == ticks[-1]:
                us[-1] = tempo
            else:
                ticks.append(tick)
                us.append(tempo)
        s_per_tick = np.array(us) / 1e6 / division
        time_s = np.concatenate([[0.0], np.cumsum(np.diff(ticks) * s_per_tick[:-1])])
        return cls(np.array(ticks, dtype=np.float64), time_s, float(s_per_tick[0]), float(s_per_tick[-1]))

    @classmethod
    def of_file(cls, file: mido.MidiFile) -> _Clock:
        """The clock of a file: its tempos, of whichever track, or its frames."""
        division = int(file.ticks_per_beat)
        if division < 0:  # frames a second and ticks a frame; 29 stands for the 29.97 of colour television
            frames, ticks = -(division >> 8), division & 0xFF
            rate = (30_000.0 / 1001.0 if frames == 29 else float(frames)) * ticks
            if rate <= 0.0:
                raise ValueError("a division of no ticks")
            return cls(np.zeros(1), np.zeros(1), 1.0 / rate, 1.0 / rate)
        tempos = []
        for track in file.tracks:
            at = _ticks_of(track).tolist()
            tempos += [(tick, max(m.tempo, 1)) for tick, m in zip(at, track, strict=True) if m.type == "set_tempo"]
        return cls.of_tempos(sorted(tempos, key=lambda each: each[0]), division)

    def time_at(self, tick: ArrayLike) -> FloatArray:
        return through(self._tick, self._time_s, tick, self._before, self._after)

    def tick_at(self, time_s: ArrayLike) -> FloatArray:
        return through(self._time_s, self._tick, time_s, 1.0 / self._before, 1.0 / self._after)


def read_notes(path: Path) -> Notes:
    """Read the notes of a MIDI file.

    Raises
    ------
    RecordingError
        If the file is missing or no MIDI file that can be read.
    """
    with _readable(path):
        file = _opened(path)
        notes = _notes_of(file)[0]
    if len(notes) and notes.end_s.max() > LONGEST_TAKE_S:
        raise RecordingError(path, "its notes go on for more than a day; export it again.")
    return notes


def read_beats(path: Path) -> BeatNotes:
    """Read the notes of a MIDI file by its beats.

    Raises
    ------
    RecordingError
        If the file is missing, no MIDI file that can be read, or counts frames instead of beats.
    """
    with _readable(path):
        file = _opened(path)
        if file.ticks_per_beat < 0:
            raise RecordingError(path, "it counts frames and knows no beats; export it with beats.")
        rows, remarks, tempo, last = [], [], _USUAL_TEMPO, 0
        for track in file.tracks:
            for tick, message in zip(_ticks_of(track).tolist(), track, strict=True):
                last = max(last, tick)
                if message.type == "note_on" and message.velocity > 0:
                    rows.append((tick, message.velocity))
                elif message.type == "text":
                    remarks.append(message.text)
                elif message.type == "set_tempo" and tick == 0:
                    tempo = max(message.tempo, 1)
        columns = np.array(sorted(rows), dtype=np.float64).reshape(-1, 2)
        length = max(float(np.ceil(last / file.ticks_per_beat - 1e-3)), 1.0)
        place = frozen(columns[:, 0] / file.ticks_per_beat)
        return BeatNotes(place, frozen(columns[:, 1]), length, 60e6 / tempo, tuple(remarks))


def write_part(source: Path, target: Path, change: NoteChange, *, grid: Grid | None = None) -> None:
    """Write a MIDI file with its notes changed and everything else as it was.

    A note whose time does not change keeps its very tick. One that is moved ends before the next of its pitch begins,
    if it did so before, and never before it begins.

    Parameters
    ----------
    source, target : Path
        What was read, and what is written; replaced in a single step if it is there.
    change : NoteChange
        For the notes as `read_notes` gives them.
    grid : Grid, optional
        Write its tempo and meters instead of the file's own; every event keeps its moment in seconds.

    Raises
    ------
    RecordingError
        If the source cannot be read, or has other notes than before.
    HandOverError
        If the target cannot be written.
    """
    with _readable(source):
        file = _opened(source)
        notes, places = _notes_of(file)
        if len(notes) != len(change.time_s):
            raise RecordingError(source, "the file has other notes than when it was read; add it anew.")
        clock = _Clock.of_file(file)
        ticks = [_ticks_of(track) for track in file.tracks]
        conductor: list[tuple[int, mido.MetaMessage]] = []
        if grid is not None:
            conductor, new_clock = _conducted(file, grid, float(max(change.end_s, default=0.0)))
            ticks = [_rounded(new_clock.tick_at(clock.time_at(at))) for at in ticks]
            clock = new_clock
        _move(file, ticks, places, notes, change, clock)
        for track, at in zip(file.tracks, ticks, strict=True):
            _lay(track, at, conductor, conducted=grid is not None)
            conductor = []
    try:
        with replacing(target) as out:
            file.save(file=out)
    except OSError as error:
        raise HandOverError(f"{target}: the MIDI file cannot be written ({error.strerror}).") from error


def _ticks_of(track: mido.MidiTrack) -> IntArray:
    """Ticks from the start of every event."""
    return np.cumsum([message.time for message in track], dtype=np.int64)


def _notes_of(file: mido.MidiFile) -> tuple[Notes, list[_NoteAt]]:
    """All notes in order of time, and where each stands."""
    clock = _Clock.of_file(file)
    rows: list[tuple[int, int, int, int, _NoteAt]] = []
    for number, track in enumerate(file.tracks):
        ticks = _ticks_of(track).tolist()
        sounding: dict[tuple[int, int], list[int]] = defaultdict(list)

        def close(on: int, off: int | None, number: int = number, track: mido.MidiTrack = track) -> None:
            end = ticks[-1 if off is None else off]  # noqa: B023  # called before the next track
            message = track[on]
            rows.append((ticks[on], end, message.velocity, message.note, _NoteAt(number, on, off)))  # noqa: B023

        for index, message in enumerate(track):
            if message.type not in ("note_on", "note_off"):
                continue
            key = message.channel, message.note
            if message.type == "note_on" and message.velocity > 0:
                sounding[key].append(index)
            elif sounding[key]:
                close(sounding[key].pop(0), index)
        for held in sounding.values():
            for on in held:
                close(on, None)
    rows.sort(key=lambda row: (row[0], row[4].track, row[4].on))
    columns = np.array([row[:4] for row in rows], dtype=np.float64).reshape(-1, 4)
    notes = Notes(
        frozen(clock.time_at(columns[:, 0])),
        frozen(clock.time_at(columns[:, 1])),
        frozen(columns[:, 2]),
        frozen(columns[:, 3], np.int64),
    )
    return notes, [row[4] for row in rows]


def _move(
    file: mido.MidiFile,
    ticks: list[IntArray],
    places: list[_NoteAt],
    notes: Notes,
    change: NoteChange,
    clock: _Clock,
) -> None:
    """Write new ticks and velocities over those of the notes that change."""
    starts, ends = _rounded(clock.tick_at(change.time_s)), _rounded(clock.tick_at(change.end_s))
    following: dict[tuple[int, int, int], tuple[int, int]] = {}  # the next note of a pitch: old tick, new tick
    for index in range(len(places) - 1, -1, -1):
        place = places[index]
        on = file.tracks[place.track][place.on]
        at, key = ticks[place.track], (place.track, on.channel, on.note)
        old_on = int(at[place.on])
        if change.time_s[index] != notes.time_s[index]:
            at[place.on] = starts[index]
        new_on = int(at[place.on])
        if place.off is not None:
            old_off = int(at[place.off])
            new_off = int(ends[index]) if change.end_s[index] != notes.end_s[index] else old_off
            if key in following and old_off <= following[key][0]:
                new_off = min(new_off, following[key][1])
            at[place.off] = max(new_off, new_on + (old_off > old_on))
        following[key] = (old_on, new_on)
        if on.velocity != change.velocity[index]:
            file.tracks[place.track][place.on] = on.copy(velocity=int(change.velocity[index]))


def _lay(
    track: mido.MidiTrack, ticks: IntArray, conductor: list[tuple[int, mido.MetaMessage]], *, conducted: bool
) -> None:
    """Put the events of a track in order of their ticks; those at one tick stay in the order they were read in.

    Parameters
    ----------
    track : MidiTrack
    ticks : int array
        New ticks of its events.
    conductor : list of (tick, message)
        Tempos and meters to put in.
    conducted : bool
        Whether those of the file itself are left out.
    """
    rows = [(tick, 0, message) for tick, message in conductor]
    for tick, message in zip(ticks.tolist(), track, strict=True):
        if not (conducted and message.type in _CONDUCTING):
            rows.append((tick, 2 if message.type == "end_of_track" else 1, message))
    last = max((tick for tick, _, _ in rows), default=0)
    rows = [(last, kind, message) if kind == 2 else (tick, kind, message) for tick, kind, message in rows]
    rows.sort(key=lambda row: (row[0], row[1]))
    events, now = [], 0
    for tick, _, message in rows:
        events.append(message.copy(time=tick - now))
        now = tick
    track[:] = events


def _conducted(file: mido.MidiFile, grid: Grid, end_s: float) -> tuple[list[tuple[int, mido.MetaMessage]], _Clock]:
    """Tempos and meters of a grid as events, and the clock they make.

    Bar 1 of the grid begins at a bar of the file; the bars before it last as long as the recording does until then.
    """
    if file.ticks_per_beat < 0:
        file.ticks_per_beat = _USUAL_DIVISION
    division, bar_beats = int(file.ticks_per_beat), grid.meter.bar_beats
    first_s, start_beat = float(grid.bar_time_s(1)), float(grid.course.beat_at(0.0))
    tempos: list[tuple[int, int]] = []
    lead = 0.0
    if start_beat < 0.0:
        lead = bar_beats * float(np.ceil(-start_beat / bar_beats - 1e-9))
        tempos.append((0, _microseconds(first_s / lead)))
        start_beat = 0.0
    last_beat = float(np.ceil(grid.course.beat_at(max(end_s, first_s) + 1.0)))
    edges = np.concatenate([[start_beat], np.arange(np.floor(start_beat) + 1.0, last_beat + 1.0)])
    for beat, beat_s in zip(edges[:-1], np.diff(grid.course.time_at(edges)) / np.diff(edges), strict=True):
        tempo = _microseconds(float(beat_s))
        if not tempos or tempo != tempos[-1][1]:
            tempos.append((round((float(beat) - start_beat + lead) * division), tempo))
    meters = [(0, grid.meter)]
    for change in grid.meter_changes:
        meters.append((round((float(grid.bars.beat_of(change.bar)) - start_beat + lead) * division), change.meter))
    events = [(tick, mido.MetaMessage("set_tempo", tempo=tempo)) for tick, tempo in tempos]
    events += [
        (tick, mido.MetaMessage("time_signature", numerator=meter.count, denominator=meter.unit))
        for tick, meter in meters
        if tick >= 0
    ]
    return events, _Clock.of_tempos(tempos, division)


def _rounded(ticks: FloatArray) -> IntArray:
    return np.maximum(np.rint(ticks), 0).astype(np.int64)


def _microseconds(beat_s: float) -> int:
    return int(np.clip(round(1e6 * beat_s), *_TEMPO_RANGE))


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
        if file.ticks_per_beat < 0:
            raise RecordingError(path, "it counts frames and has no tempo; type the tempo, or find it from the hits.")
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
    file = mido.MidiFile(file=BytesIO(path.read_bytes()))  # from memory: counts in its headers then take none
    if file.type == 2:
        raise RecordingError(path, "its tracks are songs of their own (type 2); export it as type 0 or 1.")
    if file.ticks_per_beat == 0:
        raise ValueError("a division of no ticks")
    return file


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """Tell in one sentence what is wrong with a file."""
    try:
        yield
    except RecordingError:
        raise
    except FileNotFoundError as error:
        raise RecordingError(path, f"there is no such file in {path.parent}; check the name.") from error
    except (*_DAMAGED, UsageError) as error:
        raise RecordingError(path, "this is not a MIDI file that can be read; export it again.") from error
