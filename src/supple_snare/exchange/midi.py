"""Standard MIDI Files: the notes of a played-in part, the same file with notes moved, and the grid of a tempo track.

Times follow the file's own tempo, or its frames where its division counts those. Whatever is not a note that moves is
written as it was read, to the byte; where nothing moves, so is the file.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike

from supple_snare.disk.identity import SEEN, FileIdentity
from supple_snare.disk.opening import FileTooLargeError, read_bounded
from supple_snare.disk.outputs import OutputSet
from supple_snare.errors import RecordingChangedError, RecordingError, UsageError
from supple_snare.exchange.smf import END_OF_TRACK, META, METER, TEMPO, TEXT, Event, Smf, meta_event, read_smf
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
_CONDUCTING = (TEMPO, METER)


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
    def of_file(cls, file: Smf) -> _Clock:
        """The clock of a file: its tempos, of whichever track, or its frames."""
        division = file.division
        if division < 0:  # frames a second and ticks a frame; 29 stands for the 29.97 of colour television
            frames, ticks = -(division >> 8), division & 0xFF
            rate = (30_000.0 / 1001.0 if frames == 29 else float(frames)) * ticks
            if rate <= 0.0:
                raise ValueError("a division of no ticks")
            return cls(np.zeros(1), np.zeros(1), 1.0 / rate, 1.0 / rate)
        return cls.of_tempos(_tempos_of(file), division)

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
        SEEN.note(path, FileIdentity.of(path))
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
        if file.division < 0:
            raise RecordingError(path, "it counts frames and knows no beats; export it with beats.")
        rows, remarks, last = [], list[str](), 0
        for track in file.tracks:
            is_on = ((track.status & 0xF0) == 0x90) & (track.second > 0)
            rows += list(zip(track.tick[is_on].tolist(), track.second[is_on].tolist(), strict=True))
            remarks += [held.decode("latin-1") for _, _, held in file.meta(track, TEXT)]
            last = max(last, int(track.tick.max(initial=0)))
        tempo = next((tempo for tick, tempo in reversed(_tempos_of(file)) if tick == 0), _USUAL_TEMPO)
        columns = np.array(sorted(rows), dtype=np.float64).reshape(-1, 2)
        length = max(float(np.ceil(last / file.division - 1e-3)), 1.0)
        place = frozen(columns[:, 0] / file.division)
        return BeatNotes(place, frozen(columns[:, 1]), length, 60e6 / tempo, tuple(remarks))


def write_part(source: Path, target: Path, change: NoteChange, outputs: OutputSet, *, grid: Grid | None = None) -> None:
    """Write a MIDI file with its notes changed and everything else as it was.

    A note whose time does not change keeps its very tick. One that is moved ends before the next of its pitch begins,
    if it did so before, and never before it begins.

    Parameters
    ----------
    source, target : Path
        The file that was read, and the one that is written.
    change : NoteChange
        For the notes as `read_notes` gives them.
    outputs : OutputSet
        Puts the file in place.
    grid : Grid, optional
        Write its tempo and meters instead of the file's own; every event keeps its moment in seconds.

    Raises
    ------
    RecordingError
        If the source cannot be read, or has other notes than before.
    OutputError
        If the target cannot be written.
    """
    with _readable(source):
        if SEEN.has_changed(source):
            raise RecordingChangedError(source)
        file = _opened(source)
        notes, places = _notes_of(file)
        if len(notes) != len(change.time_s):
            raise RecordingError(source, "the file has other notes than when it was read; add it anew.")
        is_same = grid is None and all(
            np.array_equal(getattr(notes, name), getattr(change, name)) for name in ("time_s", "end_s", "velocity")
        )
        data = file.data if is_same else _changed_file(file, notes, places, change, grid)
    with outputs.writing(target) as out:
        out.write(data)


def _changed_file(file: Smf, notes: Notes, places: list[_NoteAt], change: NoteChange, grid: Grid | None) -> bytes:
    """The bytes of a file with its notes changed, in the tempo and meters of a grid if there is one."""
    clock = _Clock.of_file(file)
    ticks = [track.tick.copy() for track in file.tracks]
    conductor: list[Event] = []
    division = None
    if grid is not None:
        division = file.division if file.division > 0 else _USUAL_DIVISION
        conductor, new_clock = _conducted(division, grid, float(max(change.end_s, default=0.0)))
        ticks = [_rounded(new_clock.tick_at(clock.time_at(at))) for at in ticks]
        clock = new_clock
    tracks = [file.events(track) for track in file.tracks]
    _move(tracks, ticks, places, notes, change, clock)
    laid = []
    for events, at in zip(tracks, ticks, strict=True):
        laid.append(_lay(events, at, conductor, conducted=grid is not None))
        conductor = []
    return file.written(laid, division)


def _tempos_of(file: Smf) -> list[tuple[int, int]]:
    """(tick, microseconds a quarter note) of all tracks, in order of ticks."""
    found = []
    for track in file.tracks:
        for _, tick, held in file.meta(track, TEMPO):
            if len(held) >= 3:
                found.append((tick, max(int.from_bytes(held[:3], "big"), 1)))
    return sorted(found, key=lambda each: each[0])


def _notes_of(file: Smf) -> tuple[Notes, list[_NoteAt]]:
    """All notes in order of time, and where each stands."""
    clock = _Clock.of_file(file)
    rows: list[tuple[int, int, int, int, int, int | None]] = []
    for number, track in enumerate(file.tracks):
        kinds = track.status & 0xF0
        is_on = (kinds == 0x90) & (track.second > 0)
        at = np.flatnonzero(is_on | (kinds == 0x80) | (kinds == 0x90))
        ticks, last = track.tick.tolist(), int(track.tick[-1]) if len(track) else 0
        velocity = track.second.tolist()
        keys = (track.status[at] & 0x0F).astype(np.int64) * 128 + track.first[at]
        sounding: dict[int, deque[int]] = defaultdict(deque)
        for index, key, begins in zip(at.tolist(), keys.tolist(), is_on[at].tolist(), strict=True):
            if begins:
                sounding[key].append(index)
            elif sounding[key]:
                on = sounding[key].popleft()
                rows.append((ticks[on], number, on, ticks[index], velocity[on], index))
        rows += [(ticks[on], number, on, last, velocity[on], None) for held in sounding.values() for on in held]
    rows.sort(key=lambda row: row[:3])
    start, end = np.array([row[0] for row in rows], np.float64), np.array([row[3] for row in rows], np.float64)
    notes = Notes(
        frozen(clock.time_at(start)),
        frozen(clock.time_at(end)),
        frozen([row[4] for row in rows], np.float64),
        frozen([int(file.tracks[row[1]].first[row[2]]) for row in rows], np.int64),
    )
    return notes, [_NoteAt(number, on, off) for _, number, on, _, _, off in rows]


def _move(
    tracks: list[list[Event]],
    ticks: list[IntArray],
    places: list[_NoteAt],
    notes: Notes,
    change: NoteChange,
    clock: _Clock,
) -> None:
    """Write new ticks and velocities over those of the notes that change."""
    starts, ends = _rounded(clock.tick_at(change.time_s)).tolist(), _rounded(clock.tick_at(change.end_s)).tolist()
    moves = (change.time_s != notes.time_s).tolist()
    ends_move = (change.end_s != notes.end_s).tolist()
    louder = (change.velocity != notes.velocity).tolist()
    old = [each.tolist() for each in ticks]
    following: dict[tuple[int, int, int], tuple[int, int]] = {}  # the next note of a pitch: old tick, new tick
    for index in range(len(places) - 1, -1, -1):
        place = places[index]
        at, was = ticks[place.track], old[place.track]
        on = tracks[place.track][place.on]
        key = (place.track, on.status, on.data[-2])
        old_on = was[place.on]
        new_on = starts[index] if moves[index] else old_on
        at[place.on] = new_on
        if place.off is not None:
            old_off = was[place.off]
            new_off = ends[index] if ends_move[index] else old_off
            next_note = following.get(key)
            if next_note is not None and old_off <= next_note[0]:
                new_off = min(new_off, next_note[1])
            at[place.off] = max(new_off, new_on + (old_off > old_on))
        following[key] = (old_on, new_on)
        if louder[index]:
            velocity = bytes((int(change.velocity[index]),))
            tracks[place.track][place.on] = on._replace(data=on.data[:-1] + velocity)


def _lay(events: list[Event], ticks: IntArray, conductor: list[Event], *, conducted: bool) -> list[Event]:
    """Put the events of a track in order of their ticks; those at one tick stay in the order they were read in.

    Parameters
    ----------
    events : list of Event
    ticks : int array
        New ticks of its events.
    conductor : list of Event
        Tempos and meters to put in.
    conducted : bool
        Whether those of the file itself are left out.
    """
    rows = [(event.tick, 0, event) for event in conductor]
    last = 0
    for tick, event in zip(ticks.tolist(), events, strict=True):
        is_meta = event.status == META
        if not (conducted and is_meta and event.data[1] in _CONDUCTING):
            rows.append((tick, 2 if is_meta and event.data[1] == END_OF_TRACK else 1, event))
    last = max((tick for tick, _, _ in rows), default=0)
    rows = [(last, kind, event) if kind == 2 else (tick, kind, event) for tick, kind, event in rows]
    rows.sort(key=lambda row: row[:2])
    return [event._replace(tick=tick) for tick, _, event in rows]


def _conducted(division: int, grid: Grid, end_s: float) -> tuple[list[Event], _Clock]:
    """Tempos and meters of a grid as events, and the clock they make.

    Bar 1 of the grid begins at a bar of the file; the bars before it last as long as the recording does until then.
    """
    bar_beats = grid.meter.bar_beats
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
    events = [meta_event(tick, TEMPO, tempo.to_bytes(3, "big")) for tick, tempo in tempos]
    events += [
        meta_event(tick, METER, bytes((meter.count, meter.unit.bit_length() - 1, _CLOCKS_A_CLICK, _32NDS_A_QUARTER)))
        for tick, meter in meters
        if tick >= 0
    ]
    return events, _Clock.of_tempos(tempos, division)


_CLOCKS_A_CLICK, _32NDS_A_QUARTER = 24, 8
"""As almost every file has them: a click each quarter note."""


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
    with _readable(path):
        file = _opened(path)
        if file.division < 0:
            raise RecordingError(path, "it counts frames and has no tempo; type the tempo, or find it from the hits.")
        clock, division = _Clock.of_file(file), file.division
        tempos = [(tick / division, float(clock.time_at(tick)), 60e6 / tempo) for tick, tempo in _tempos_of(file)]
        held = sorted((tick, data) for track in file.tracks for _, tick, data in file.meta(track, METER))
        meters = [(tick / division, Meter(data[0], 1 << data[1])) for tick, data in held if len(data) >= 2]
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


def _opened(path: Path) -> Smf:
    try:
        file = read_smf(read_bounded(path, _LARGEST_BYTES))
    except FileTooLargeError as error:
        raise RecordingError(path, "the file is far too large for a MIDI part.") from error
    if file.kind == 2:
        raise RecordingError(path, "its tracks are songs of their own (type 2); export it as type 0 or 1.")
    if file.division == 0:
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
    except OSError as error:
        raise RecordingError(path, f"it cannot be read in {path.parent}: {error.strerror}.") from error
    except (ValueError, OverflowError) as error:
        raise RecordingError(path, f"this is not a MIDI file that can be read ({error}); export it again.") from error
