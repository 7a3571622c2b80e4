"""Edits of the grid: tempo, beats that are followed, pins, meters, slots of sections, and slots given by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import msgspec
import numpy as np

from supple_snare.errors import UsageError
from supple_snare.session.document import Session, SlotGiven
from supple_snare.session.edits import change_group
from supple_snare.session.stages import SAME_STROKE_S, GroupView
from supple_snare.timing.course import Bend, Pin, PlayedBeats, check_tempo
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.units import FloatArray, IntArray

_SAME_BEAT = 1e-6


def with_grid(session: Session, grid: Grid) -> Session:
    """The session on another grid; how its sections are ruled stays theirs."""
    return msgspec.structs.replace(session, take_grid=replace(grid, sections=()))


def one_tempo(session: Session, tempo_bpm: float, first_beat_s: float | None = None) -> Session:
    """A steady grid in place of pins and followed beats; bar 1 stays where it is unless told.

    Raises
    ------
    UsageError
        If the tempo makes no sense.
    """
    grid = session.take_grid
    first_s = float(session.grid.bar_time_s(1)) if first_beat_s is None else first_beat_s
    return with_grid(session, replace(grid, tempo_bpm=tempo_bpm, first_beat_s=first_s, pins=(), played=None))


def take_reading(session: Session, grid: Grid) -> Session:
    """The session on a grid that was found, with the slots it has now; pins and changes of meter go."""
    return with_grid(session, replace(grid, ruling=session.take_grid.ruling))


def scale_tempo(session: Session, factor: float) -> Session:
    """Count the same music in beats that are so many times as fast; bar 1 stays where it is.

    Raises
    ------
    UsageError
        If that leaves the range of tempos.
    """
    grid = session.take_grid
    played = grid.played
    if played is not None:
        played = replace(
            played,
            first_beat=played.first_beat * factor,
            step=played.step * factor,
            bends=tuple(
                Bend(bend.from_beat * factor, bend.to_beat * factor, bend.tempo_bpm * factor) for bend in played.bends
            ),
        )
    pins = tuple(Pin(pin.beat * factor, pin.time_s) for pin in grid.pins)
    return with_grid(session, replace(grid, tempo_bpm=grid.tempo_bpm * factor, played=played, pins=pins))


def place_first_beat(session: Session, time_s: float) -> Session:
    """Let bar 1 begin at a moment; beats that are followed keep their moments and are counted from the nearest one."""
    grid = session.take_grid
    if grid.played is None:
        by_s = time_s - grid.first_beat_s
        pins = tuple(Pin(pin.beat, pin.time_s + by_s) for pin in grid.pins)
        return with_grid(session, replace(grid, first_beat_s=time_s, pins=pins))
    step = grid.meter.felt_beats
    beats = step * round(float(grid.course.beat_at(time_s)) / step)
    return count_from(session, beats)


def count_from(session: Session, beats: float) -> Session:
    """Let bar 1 begin so many quarter notes later (earlier if negative); all lines stay where they are."""
    grid = session.take_grid
    first_beat_s = float(grid.course.time_at(beats))
    pins = tuple(Pin(pin.beat - beats, pin.time_s) for pin in grid.pins)
    played = grid.played
    if played is not None:
        bends = tuple(Bend(b.from_beat - beats, b.to_beat - beats, b.tempo_bpm) for b in played.bends)
        played = replace(played, first_beat=played.first_beat - beats, bends=bends)
    elif grid.pins:  # what was bar 1 stays tied to its moment
        pins = tuple(sorted((*pins, Pin(-beats, grid.first_beat_s))))
        pins = tuple(pin for pin in pins if abs(pin.beat) > _SAME_BEAT)
    session = with_grid(session, replace(grid, first_beat_s=first_beat_s, pins=pins, played=played))
    groups = tuple(
        msgspec.structs.replace(
            group, slots_given=tuple(SlotGiven(given.time_s, given.place - beats) for given in group.slots_given)
        )
        for group in session.groups
    )
    return msgspec.structs.replace(session, groups=groups)


def span_beats(session: Session, start_s: float, end_s: float, beats: float) -> Session:
    """The tempo at which so many beats lie between two moments; the first of them becomes a line.

    Raises
    ------
    UsageError
        If no tempo does that.
    """
    if end_s - start_s < 0.05 or beats <= 0.0:
        raise UsageError("Choose a range from one hit to a later one, and say how many beats lie between them.")
    beat_s = (end_s - start_s) / beats
    first_beat_s = start_s + round((session.take_grid.first_beat_s - start_s) / beat_s) * beat_s
    return one_tempo(session, 60.0 / beat_s, first_beat_s)


def follow_beats(session: Session, played: PlayedBeats | None) -> Session:
    """Follow beats as they were played, or, with None, go back to one tempo."""
    return with_grid(session, replace(session.take_grid, played=played))


def beats_of_strokes(session: Session, view: GroupView) -> PlayedBeats:
    """The beats of the present grid as the strokes play them: each drawn along by what the strokes around it drift.

    Raises
    ------
    UsageError
        If hardly anything has a slot.
    """
    grid, placed = session.grid, view.offsets.placed
    if np.count_nonzero(placed) < 4:
        raise UsageError("Too few strokes have slots on this grid to follow them: find or set the tempo first.")
    step = grid.meter.felt_beats
    time_s = view.strokes.time_s[placed]
    drift_ms = view.offsets.drift_ms[placed]
    first, last = grid.course.beat_at(time_s[[0, -1]])
    numbers = np.arange(np.floor(first / step), np.ceil(last / step) + 1.0)
    lines = grid.course.time_at(numbers * step)
    beats = lines + np.interp(lines, time_s, drift_ms) / 1000.0
    if len(beats) < 2 or np.any(np.diff(beats) <= 0.0):
        raise UsageError("The strokes lie too far from this grid to be followed: find or set the tempo first.")
    return PlayedBeats(tuple(beats.tolist()), first_beat=float(numbers[0] * step), step=step)


def raw_course_tempo(played: PlayedBeats) -> tuple[FloatArray, FloatArray]:
    """Middles, in seconds, and tempos of the beats as they were played."""
    time_s = np.array(played.time_s)
    return 0.5 * (time_s[1:] + time_s[:-1]), 60.0 * played.step / np.diff(time_s)


def pin_line(session: Session, beat: float, time_s: float) -> Session:
    """Tie a place of the music to a moment.

    Raises
    ------
    UsageError
        If that leaves no tempo to a neighbouring pin.
    """
    grid = session.take_grid
    if abs(beat) < _SAME_BEAT and grid.played is None:
        return with_grid(session, replace(grid, first_beat_s=time_s))
    others = (pin for pin in grid.pins if abs(pin.beat - beat) > _SAME_BEAT)
    return with_grid(session, replace(grid, pins=tuple(sorted((*others, Pin(beat, time_s))))))


def unpin_line(session: Session, beat: float) -> Session:
    """Let a place of the music go free again."""
    grid = session.take_grid
    return with_grid(session, replace(grid, pins=tuple(pin for pin in grid.pins if abs(pin.beat - beat) > _SAME_BEAT)))


def set_section_tempo(session: Session, section: str, tempo_bpm: float) -> Session:
    """One tempo from the first bar line of a section to that of the next; all later lines move along as a block.

    Raises
    ------
    UsageError
        If the tempo makes no sense, or beats are followed.
    """
    check_tempo(tempo_bpm)
    grid = session.take_grid
    if grid.played is not None:
        raise UsageError(
            "The grid follows the band here: take the tick from Follow the band to give a section a tempo."
        )
    number = [each.key for each in session.sections].index(section)
    starts = [each.start_s for each in session.sections[number : number + 2]]
    beats = grid.bars.beat_of(np.round(grid.bar_at(starts)))
    if number == 0:
        beats[0] = 0.0
    times = grid.course.time_at(beats)
    pins = {
        pin.beat: pin.time_s for pin in grid.pins if not beats[0] < pin.beat < (beats[1] if len(beats) > 1 else 1e9)
    }
    if beats[0] > 0.0:
        pins[float(beats[0])] = float(times[0])
    if len(beats) == 1:  # the last one: nothing after it has to move
        changed = replace(grid, tempo_bpm=tempo_bpm)
    else:
        end_s = float(times[0]) + float(beats[1] - beats[0]) * 60.0 / tempo_bpm
        by_s = end_s - float(times[1])
        pins = {beat: time + by_s if beat > beats[0] else time for beat, time in pins.items()}
        pins[float(beats[1])] = end_s
        changed = grid
    return with_grid(session, replace(changed, pins=tuple(sorted(Pin(beat, time) for beat, time in pins.items()))))


def bend_tempo(session: Session, bar: int, tempo_bpm: float | None) -> Session:
    """Ask for a tempo over one bar of followed beats, or take that back.

    Raises
    ------
    UsageError
        If the tempo makes no sense.
    """
    grid = session.take_grid
    if grid.played is None:
        return session
    first, last = (float(beat) for beat in grid.bars.beat_of([bar, bar + 1]))
    bends = [bend for bend in grid.played.bends if abs(bend.from_beat - first) > _SAME_BEAT]
    if tempo_bpm is not None:
        bends.append(Bend(first, last, tempo_bpm))
    return with_grid(session, replace(grid, played=replace(grid.played, bends=tuple(sorted(bends)))))


def set_meter(session: Session, meter: Meter, *, from_bar: int | None = None) -> Session:
    """The meter of the take, or from a bar on."""
    grid = session.take_grid
    if from_bar is None:
        return with_grid(session, replace(grid, meter=meter))
    changes = {change.bar: change.meter for change in grid.meter_changes} | {from_bar: meter}
    return with_grid(session, replace(grid, meter_changes=_needed(grid.meter, changes)))


def remove_meter_change(session: Session, bar: int) -> Session:
    """Let the meter of the bars before go on."""
    grid = session.take_grid
    changes = {change.bar: change.meter for change in grid.meter_changes if change.bar != bar}
    return with_grid(session, replace(grid, meter_changes=_needed(grid.meter, changes)))


def set_pick_up(session: Session, counts: int) -> Session:
    """Let bar 0 have so many counts; 0 for a whole bar."""
    grid = session.take_grid
    changes = {change.bar: change.meter for change in grid.meter_changes if change.bar not in (0, 1)}
    if counts:
        changes |= {0: Meter(counts, grid.meter.unit), 1: grid.meter}
    return with_grid(session, replace(grid, meter_changes=_needed(grid.meter, changes)))


def pick_up_counts(grid: Grid) -> int:
    """Counts of a short bar 0; 0 if it is a whole one."""
    return next((change.meter.count for change in grid.meter_changes if change.bar == 0), 0)


def _needed(first: Meter, changes: dict[int, Meter]) -> tuple[MeterChange, ...]:
    """Changes in order, without those that change nothing."""
    kept: list[MeterChange] = []
    before = first
    for bar, meter in sorted(changes.items()):
        if meter != before:
            kept.append(MeterChange(bar, meter))
        before = meter
    return tuple(kept)


def set_ruling(session: Session, section: str | None, ruling: Ruling | None) -> Session:
    """The slots of the take, or of one section; None gives a section those of the take."""
    if section is None:
        return with_grid(session, replace(session.take_grid, ruling=ruling or Ruling()))
    sections = tuple(
        msgspec.structs.replace(each, ruling=ruling) if each.key == section else each for each in session.sections
    )
    return msgspec.structs.replace(session, sections=sections)


def give_slots(session: Session, group: str, time_s: FloatArray, place: FloatArray) -> Session:
    """Give strokes their slots by hand.

    Parameters
    ----------
    session : Session
    group : str
        Key of their group.
    time_s, place : float array, shape (n,)
        Strokes, and the places of their slots as in `Offsets.place`.
    """
    kept = _without(session.group(group).slots_given, time_s)
    given = [SlotGiven(float(time), float(at)) for time, at in zip(time_s, place, strict=True)]
    return change_group(session, group, slots_given=tuple(sorted((*kept, *given), key=lambda each: each.time_s)))


def free_slots(session: Session, group: str, time_s: FloatArray) -> Session:
    """Let the path decide again for strokes."""
    return change_group(session, group, slots_given=tuple(_without(session.group(group).slots_given, time_s)))


def places_beside(session: Session, view: GroupView, strokes: IntArray, slots: int) -> FloatArray:
    """Places so many slots later (earlier if negative) than those of some strokes."""
    time_s = view.strokes.time_s[strokes]
    around = session.grid.slots(float(time_s.min()) - 1.0, float(time_s.max()) + 1.0)
    index = around.at(view.offsets.place[strokes]) + slots
    return around.place[np.clip(index, 0, len(around) - 1)]


def _without(given: Sequence[SlotGiven], time_s: FloatArray) -> list[SlotGiven]:
    return [each for each in given if not np.any(np.abs(time_s - each.time_s) <= SAME_STROKE_S)]
