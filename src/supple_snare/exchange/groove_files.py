"""Groove templates as JSON, whose schema is in docs/groove-format.md, and as plain MIDI files."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import mido
import msgspec
import numpy as np

from supple_snare.disk.opening import read_bounded
from supple_snare.disk.outputs import NEW_FILES, WriteGuard, output_file
from supple_snare.errors import GrooveError, RecordingError, UsageError
from supple_snare.exchange.midi import MIDI_SUFFIXES, read_beats
from supple_snare.timing.groove import MOST_SLOTS, Groove, GrooveSlot, groove_of_notes
from supple_snare.timing.notes import velocity_to_db
from supple_snare.timing.ruling import Ruling

FORMAT, VERSION = "groove template", 1
JSON_SUFFIX = ".groove.json"
_LARGEST_BYTES = 8 << 20
_DIVISION = 1920
"""Ticks a quarter note of a groove's MIDI file: a quarter of a millisecond at 130 bpm."""

_NOTE, _CHANNEL, _VELOCITY = 38, 9, 80
"""What a MIDI file plays the slots on: the snare drum of the General MIDI percussion channel, at a middle velocity."""

_REMARK = "supple snare groove "


class _Slot(msgspec.Struct, frozen=True):
    position_beats: float
    offset_beats: float
    offset_ms: float | None = None
    spread_ms: Annotated[float, msgspec.Meta(ge=0.0)] = 0.0
    accent_db: float = 0.0
    count: Annotated[int, msgspec.Meta(ge=0)] = 1


class GrooveFile(msgspec.Struct, frozen=True, kw_only=True):
    """What a groove's JSON file holds."""

    format: str
    version: int
    name: str
    cycle_beats: float
    slots: Annotated[tuple[_Slot, ...], msgspec.Meta(max_length=MOST_SLOTS)]
    tempo: float | None = None
    grid: str = "1/16"
    swing: float = 0.5
    swing_of: str | None = None
    source: str = ""

    @classmethod
    def of(cls, groove: Groove) -> GrooveFile:
        """The record of a template."""
        return cls(
            format=FORMAT,
            version=VERSION,
            name=groove.name,
            cycle_beats=groove.cycle_beats,
            slots=tuple(_Slot(**vars(slot)) for slot in groove.slots),
            tempo=groove.tempo_bpm,
            grid=str(groove.ruling),
            swing=groove.ruling.swing,
            swing_of=groove.ruling.swing_of,
            source=groove.source,
        )

    def groove(self) -> Groove:
        """The template of a record.

        Raises
        ------
        GrooveError, UsageError
            If it is of another kind or a newer version, or its numbers make no sense.
        """
        if self.format != FORMAT:
            raise GrooveError("it holds something else than a groove template.")
        if self.version > VERSION:
            raise GrooveError("it was made by a newer version; update the program to read it.")
        tempo = self.tempo if self.tempo is not None else self._told_tempo()
        slots = tuple(
            GrooveSlot(
                slot.position_beats,
                slot.offset_beats,
                slot.offset_beats * 60_000.0 / tempo if slot.offset_ms is None else slot.offset_ms,
                slot.spread_ms,
                slot.accent_db,
                slot.count,
            )
            for slot in self.slots
        )
        notes = {None: None, "1/8": 8, "1/16": 16}
        if self.swing_of not in notes:
            raise GrooveError(f"its swing of {self.swing_of} notes is not known: 1/8 or 1/16.")
        ruling = Ruling.parse(self.grid, swing=self.swing, swing_note=notes[self.swing_of])
        return Groove(self.name, self.cycle_beats, tuple(sorted(slots)), tempo, ruling, self.source)

    def _told_tempo(self) -> float:
        """The tempo at which its milliseconds and its parts of a beat agree; 120 where they tell none."""
        told = [slot for slot in self.slots if slot.offset_ms and slot.offset_beats]
        if not told:
            return 120.0
        most = max(told, key=lambda slot: abs(slot.offset_beats))
        assert most.offset_ms is not None
        return 60_000.0 * most.offset_beats / most.offset_ms


def write_groove(path: Path, groove: Groove, *, guard: WriteGuard = NEW_FILES) -> None:
    """Write a template as MIDI or, under any other name, as JSON.

    Raises
    ------
    OutputError
        If the file may not or cannot be written; what was there stays.
    """
    with output_file(path, guard) as file:
        if path.suffix.lower() in MIDI_SUFFIXES:
            groove_midi(groove).save(file=file)
        else:
            file.write(msgspec.json.format(msgspec.json.encode(GrooveFile.of(groove)), indent=2) + b"\n")


def read_groove(path: Path) -> Groove:
    """Read a template from JSON, or from the notes of a MIDI file.

    Raises
    ------
    GrooveError
        If the file is missing, damaged, or holds no groove.
    """
    try:
        if path.suffix.lower() in MIDI_SUFFIXES:
            return _from_midi(path)
        return msgspec.json.decode(read_bounded(path, _LARGEST_BYTES), type=GrooveFile).groove()
    except OSError as error:
        raise GrooveError(f"{path}: no groove can be read here ({error.strerror}).") from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise GrooveError(f"{path.name}: this is no groove template, or it is damaged ({error}).") from error
    except (GrooveError, UsageError, ZeroDivisionError, OverflowError) as error:
        raise GrooveError(f"{path.name}: this groove cannot be used: {error}") from error


def groove_midi(groove: Groove) -> mido.MidiFile:
    """A MIDI file of one cycle: a note for each slot where it is played, as loud as its accent.

    A slot that is played before the start stands at the end, where it sounds when the file is looped. A remark holds
    what notes cannot say; it counts when the file is read again only if the notes are still the ones it speaks of.
    """
    track = mido.MidiTrack()
    remark = json.dumps(msgspec.to_builtins(GrooveFile.of(groove)), separators=(",", ":"))
    track.append(mido.MetaMessage("track_name", name=_plain(groove.name)))
    track.append(mido.MetaMessage("text", text=_REMARK + remark))
    track.append(mido.MetaMessage("set_tempo", tempo=round(60e6 / groove.tempo_bpm)))
    for count, unit in ((4, 4), (3, 4), (2, 4), (6, 8), (1, 4)):
        if abs(groove.cycle_beats / (count * 4 / unit) % 1.0) < 1e-9:
            track.append(mido.MetaMessage("time_signature", numerator=count, denominator=unit))
            break
    length = round(groove.cycle_beats * _DIVISION)
    events: list[tuple[int, int, mido.Message]] = []
    for tick, velocity in _notes_of(groove):
        on = mido.Message("note_on", channel=_CHANNEL, note=_NOTE, velocity=velocity)
        events.append((tick, 1, on))
        events.append((min(tick + _DIVISION // 16, length), 0, on.copy(velocity=0)))
    now = 0
    for tick, _, message in sorted(events, key=lambda event: event[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=length - now))
    return mido.MidiFile(type=0, ticks_per_beat=_DIVISION, tracks=[track])


def _notes_of(groove: Groove) -> list[tuple[int, int]]:
    """Tick and velocity of every slot's note."""
    length = round(groove.cycle_beats * _DIVISION)
    place = groove.position_beats + groove.offset_beats
    ticks = np.rint(place * _DIVISION).astype(np.int64) % length
    velocity = np.clip(np.rint(_VELOCITY * 10.0 ** (groove.accent_db / 40.0)), 1, 127).astype(np.int64)
    return sorted(zip(ticks.tolist(), velocity.tolist(), strict=True))


def _from_midi(path: Path) -> Groove:
    """The template its remark speaks of if the notes are still its own; else one made from the notes."""
    try:
        notes = read_beats(path)
    except RecordingError as error:
        raise GrooveError(str(error)) from error
    for text in notes.remarks:
        told = _told(text)
        if told is not None:
            own = [(tick / _DIVISION, velocity) for tick, velocity in _notes_of(told)]
            read = sorted(zip(notes.place_beats.tolist(), notes.velocity.tolist(), strict=True))
            if len(own) == len(read) and np.allclose(own, read, atol=1e-6):
                return told
    groove = groove_of_notes(notes.place_beats, velocity_to_db(notes.velocity), notes.length_beats, notes.tempo_bpm)
    return replace(groove, name=path.stem, source=path.name)


def _told(text: str) -> Groove | None:
    """The template of a remark; None if it holds none that can be used."""
    if not text.startswith(_REMARK):
        return None
    try:
        return msgspec.json.decode(text.removeprefix(_REMARK), type=GrooveFile).groove()
    except (msgspec.DecodeError, GrooveError, UsageError, ArithmeticError, RecursionError):
        return None


def _plain(text: str) -> str:
    """Text in the letters that MIDI files are sure to carry."""
    return text.encode("latin-1", "replace").decode("latin-1")


def schema() -> dict[str, Any]:
    """The JSON schema of a groove's file."""
    return msgspec.json.schema(GrooveFile)
