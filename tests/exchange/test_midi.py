"""MIDI parts: notes where they sound, and no file that crashes the reader."""

from __future__ import annotations

from pathlib import Path

import mido
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.disk.outputs import OutputSet, WriteGuard
from supple_snare.errors import OutputError, RecordingError
from supple_snare.exchange import midi
from supple_snare.exchange.midi import read_grid, read_notes
from supple_snare.exchange.smf import read_smf
from supple_snare.timing.course import Pin
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.notes import NoteChange, Notes, gather_chords, move_notes


def write_part(path: Path, notes: list[tuple[int, int]], tempos: list[tuple[int, float]]) -> None:
    """A part of (tick, velocity) notes and (tick, bpm) tempo changes, 480 ticks a quarter note."""
    file = mido.MidiFile(ticks_per_beat=480)
    events = [(tick, mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(bpm))) for tick, bpm in tempos]
    for tick, velocity in notes:
        events.append((tick, mido.Message("note_on", note=60, velocity=velocity)))
        events.append((tick + 60, mido.Message("note_on", note=60, velocity=0)))
    events.sort(key=lambda event: event[0])
    track, now = mido.MidiTrack(), 0
    for tick, message in events:
        track.append(message.copy(time=tick - now))
        now = tick
    file.tracks.append(track)
    file.save(path)


def test_notes_sound_by_the_files_own_tempo(tmp_path):
    """A tempo change moves what comes after it; a note-on of velocity 0 is no note."""
    path = tmp_path / "part.mid"
    write_part(path, [(0, 90), (480, 64), (960, 100), (1440, 1)], [(0, 120.0), (960, 60.0)])
    notes = read_notes(path)
    assert notes.time_s == pytest.approx([0.0, 0.5, 1.0, 2.0])
    assert notes.velocity.tolist() == [90, 64, 100, 1]


def test_an_empty_part_has_no_notes(tmp_path):
    """Nothing played is not an error."""
    path = tmp_path / "part.mid"
    write_part(path, [], [(0, 120.0)])
    assert len(read_notes(path)) == 0


def test_a_part_that_is_not_there_is_named(tmp_path):
    """The sentence holds the file's name."""
    with pytest.raises(RecordingError, match=r"gone\.mid"):
        read_notes(tmp_path / "gone.mid")


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), min_size=1, max_size=12), st.floats(0.1, 1.0))
def test_a_damaged_part_is_told_and_never_crashes(tmp_path, changes, kept):
    """Any bytes changed, any end cut off: notes in order, or one sentence."""
    path = tmp_path / "part.mid"
    write_part(path, [(240 * number, 80) for number in range(12)], [(0, 104.0)])
    data = bytearray(path.read_bytes())
    for place, value in changes:
        data[min(int(place * len(data)), len(data) - 1)] = value
    path.write_bytes(bytes(data[: max(1, int(kept * len(data)))]))
    try:
        notes = read_notes(path)
    except RecordingError as error:
        assert "part.mid" in str(error)
    else:
        assert (np.diff(notes.time_s) >= 0.0).all()


def test_a_tempo_track_is_a_grid(tmp_path):
    """Changes of tempo keep their moments; a meter changes at its bar; without tempos the file is refused."""
    path = tmp_path / "map.mid"
    write_part(path, [(0, 90)], [(0, 120.0), (1920, 60.0), (3840, 90.0)])
    file = mido.MidiFile(path)
    file.tracks.append(mido.MidiTrack([mido.MetaMessage("time_signature", numerator=3, denominator=4, time=1920)]))
    file.save(path)
    grid = read_grid(path)
    assert grid.course.time_at([0, 2, 4, 6, 8, 10]) == pytest.approx([0, 1, 2, 4, 6, 6 + 4 / 3])
    assert grid.bars.beat_of([1, 2, 3]) == pytest.approx([0, 4, 7])
    write_part(path, [(0, 90)], [])
    with pytest.raises(RecordingError, match="nothing of tempo"):
        read_grid(path)


# ---- written back


def rich_file(path: Path, *, kind: int = 1, division: int = 480) -> None:
    """Controllers, chords, overlaps, a pedal, odd meters, texts, system messages: what a part may hold."""
    conductor = mido.MidiTrack(
        [
            mido.MetaMessage("time_signature", numerator=7, denominator=8),
            mido.MetaMessage("set_tempo", tempo=517_241, time=0),
            mido.MetaMessage("marker", text="Verse", time=960),
            mido.MetaMessage("set_tempo", tempo=700_001, time=480),
            mido.MetaMessage("time_signature", numerator=5, denominator=16, time=11),
            mido.MetaMessage("key_signature", key="Eb", time=0),
        ]
    )
    part = mido.MidiTrack([mido.Message("program_change", program=21), mido.Message("sysex", data=(1, 2, 3))])
    for number in range(12):
        for offset, tone in enumerate((57, 60, 64)):
            part.append(mido.Message("note_on", note=tone, velocity=70 + number, time=7 * (offset > 0)))
        part.append(mido.Message("control_change", control=64, value=number, time=30))
        part.append(mido.Message("pitchwheel", pitch=-100 * number, time=3))
        for tone in (57, 60, 64):
            part.append(mido.Message("note_on" if tone == 60 else "note_off", note=tone, velocity=0, time=40))
        part.append(mido.Message("aftertouch", value=5, time=90))
    part.append(mido.Message("note_on", note=40, velocity=9, time=5))  # never let go
    part.append(mido.MetaMessage("end_of_track", time=77))
    file = mido.MidiFile(type=kind, ticks_per_beat=division)
    file.tracks = [conductor, part] if kind else [mido.merge_tracks([conductor, part])]
    file.save(path)


def write_changed(source: Path, target: Path, change: NoteChange, **grid) -> None:
    """A part written, over one that is there."""
    with OutputSet(WriteGuard(replaces_all=True)) as outputs:
        midi.write_part(source, target, change, outputs, **grid)


def events_of(path: Path) -> list[list[tuple[int, mido.Message]]]:
    """The events of each track with their ticks from its start."""
    tracks = mido.MidiFile(path).tracks
    return [list(zip(np.cumsum([m.time for m in track]).tolist(), track, strict=True)) for track in tracks]


def moved(notes: Notes, by_ms: float, *, ends_follow: bool = False) -> NoteChange:
    """All strokes moved alike."""
    chords = gather_chords(notes, together_ms=30.0)
    return move_notes(notes, chords, np.full(len(chords.strokes), by_ms), ends_follow=ends_follow)


@pytest.mark.parametrize("kind", [0, 1])
@pytest.mark.parametrize("division", [24, 96, 480, 960, 32767, -(25 << 8) + 40, -(29 << 8) + 80])
def test_nothing_moved_is_nothing_changed(tmp_path, kind, division):
    """Type 0 and 1, any division, frames too: the same bytes."""
    rich_file(tmp_path / "in.mid", kind=kind, division=division)
    notes = read_notes(tmp_path / "in.mid")
    assert len(notes) == 37
    write_changed(tmp_path / "in.mid", tmp_path / "out.mid", moved(notes, 0.0))
    assert (tmp_path / "in.mid").read_bytes() == (tmp_path / "out.mid").read_bytes()


ODD = b"".join(
    [
        bytes.fromhex("00 f0 03 43 12 00"),  # a system message over two packets
        bytes.fromhex("10 f7 04 01 02 03 f7"),
        bytes.fromhex("80 00 f7 02 f3 01"),  # an escape, after a time longer than need be
        bytes.fromhex("00 90 3c 40 60 3c 00 00 40 50 60 40 00"),  # running status, ends as note-ons of velocity 0
        bytes.fromhex("05 b0 07 64"),
    ]
)
"""Events that few readers keep, and no end of the track."""


def odd_file(path: Path) -> None:
    """A chunk of another kind before the track, bytes behind its end and behind the last chunk."""
    track = ODD + bytes.fromhex("00 ff 2f 00") + b"left over"
    path.write_bytes(
        b"MThd" + bytes.fromhex("00000006000100010060") + b"XFIH\0\0\0\3abc"
        b"MTrk" + len(track).to_bytes(4, "big") + track + b"trailing"
    )


def test_what_few_readers_keep_is_kept(tmp_path):
    """To the byte where nothing moves; where a note moves, all else stays as it stood."""
    source, target = tmp_path / "in.mid", tmp_path / "out.mid"
    odd_file(source)
    notes = read_notes(source)
    assert notes.pitch.tolist() == [60, 64]
    write_changed(source, target, moved(notes, 0.0))
    assert source.read_bytes() == target.read_bytes()
    write_changed(source, target, moved(notes, 20.0))
    after = target.read_bytes()
    assert after.startswith(source.read_bytes()[: 14 + 11])
    assert after.endswith(b"\xff\x2f\x00left overtrailing")
    for kept in ("f0 03 43 12 00 10 f7 04 01 02 03 f7 80 00 f7 02 f3 01", "b0 07 64"):
        assert bytes.fromhex(kept) in after
    assert read_notes(target).time_s == pytest.approx(notes.time_s + 0.02, abs=0.003)


def test_a_track_without_an_end_gets_none(tmp_path):
    """And tempos of 0 stop nothing."""
    path = tmp_path / "in.mid"
    track = bytes.fromhex("00 ff 51 03 00 00 00") + ODD
    path.write_bytes(b"MThd" + bytes.fromhex("00000006000000010060") + b"MTrk" + len(track).to_bytes(4, "big") + track)
    with pytest.raises(RecordingError, match="makes no sense"):
        read_grid(path)
    write_changed(path, tmp_path / "out.mid", moved(read_notes(path), 1000.0))
    assert b"\xff\x2f" not in (tmp_path / "out.mid").read_bytes()


def test_running_status_is_read_and_nothing_of_it_lost(tmp_path):
    """Bytes as a keyboard sends them: status bytes left out, note-ons of velocity 0 for ends."""
    data = bytes.fromhex("00903c40 60 3c00 00 4050 60 4000 00ff2f00".replace(" ", ""))
    path = tmp_path / "running.mid"
    path.write_bytes(b"MThd" + bytes.fromhex("00000006000000010060") + b"MTrk" + len(data).to_bytes(4, "big") + data)
    notes = read_notes(path)
    assert notes.pitch.tolist() == [60, 64]
    write_changed(path, tmp_path / "out.mid", moved(notes, 0.0))
    assert mido.MidiFile(path).tracks == mido.MidiFile(tmp_path / "out.mid").tracks


def test_moved_notes_take_their_ends_along_and_leave_all_else(tmp_path):
    """Ten ms later, to half a tick; controllers, texts and tempos stay at their ticks."""
    rich_file(tmp_path / "in.mid", division=960)
    before = read_notes(tmp_path / "in.mid")
    write_changed(tmp_path / "in.mid", tmp_path / "out.mid", moved(before, 10.0))
    after = read_notes(tmp_path / "out.mid")
    assert after.time_s - before.time_s == pytest.approx(np.full(37, 0.010), abs=0.0005)
    assert after.end_s[:-1] - before.end_s[:-1] == pytest.approx(np.full(36, 0.010), abs=0.0005)
    for one, two in zip(events_of(tmp_path / "in.mid"), events_of(tmp_path / "out.mid"), strict=True):
        others = [[(tick, m.copy(time=0)) for tick, m in events if "note" not in m.type] for events in (one, two)]
        assert others[0] == others[1]


def test_chords_keep_their_spread_and_lengths_are_kept_or_follow(tmp_path):
    """Three notes of a chord move by one amount; ends go with their notes, or with what is played at them."""
    notes = Notes(
        np.array([0.0, 0.01, 0.02, 0.5, 1.0]), np.array([0.48, 0.48, 0.48, 0.98, 1.5]), np.full(5, 80.0), np.arange(5)
    )
    chords = gather_chords(notes, together_ms=30.0)
    assert chords.of_note.tolist() == [0, 0, 0, 1, 2]
    assert chords.strokes.time_s.tolist() == [0.0, 0.5, 1.0]
    move = np.array([10.0, 30.0, -10.0])
    kept = move_notes(notes, chords, move, ends_follow=False)
    assert kept.time_s - notes.time_s == pytest.approx([0.01, 0.01, 0.01, 0.03, -0.01])
    assert kept.end_s - kept.time_s == pytest.approx(notes.end_s - notes.time_s)
    follow = move_notes(notes, chords, move, ends_follow=True)
    assert follow.end_s[2] - notes.end_s[2] == pytest.approx(0.0292)


def test_accents_go_into_velocities(tmp_path):
    """Six decibels up is √2 times the velocity; the order of loudness in a chord stays; 127 is the top."""
    notes = Notes(np.array([0.0, 0.0, 1.0]), np.array([0.2, 0.2, 1.2]), np.array([60.0, 50.0, 120.0]), np.arange(3))
    chords = gather_chords(notes, together_ms=30.0)
    louder = move_notes(notes, chords, np.zeros(2), ends_follow=False, level_by_db=np.array([6.0206, 6.0]))
    assert louder.velocity.tolist() == [85.0, 71.0, 127.0]


def test_a_note_that_catches_up_with_the_next_of_its_pitch_ends_before_it(tmp_path):
    """No note is cut off by the end of the one before, and none ends before it begins."""
    write_part(tmp_path / "in.mid", [(0, 80), (60, 80), (200, 80)], [(0, 125.0)])
    notes = read_notes(tmp_path / "in.mid")
    chords = gather_chords(notes, together_ms=5.0)
    later = move_notes(notes, chords, np.array([0.0, 120.0, 0.0]), ends_follow=False)
    write_changed(tmp_path / "in.mid", tmp_path / "out.mid", later)
    after = read_notes(tmp_path / "out.mid")
    assert (after.end_s >= after.time_s).all()
    assert (after.end_s[:-1] <= after.time_s[1:] + 1e-9).all()
    assert len(after) == 3


@pytest.mark.parametrize(
    "grid",
    [
        Grid(104.0, 1.2),
        Grid(90.0, 0.0, Meter(3, 4), meter_changes=(MeterChange(3, Meter(7, 8)),)),
        Grid(100.0, 0.7, pins=(Pin(8.0, 6.0), Pin(16.0, 10.0))),
    ],
)
def test_the_tempo_of_the_session_keeps_every_moment_and_lays_bars(tmp_path, grid):
    """Notes and controllers sound when they did; a line of the grid is a whole beat of the file."""
    rich_file(tmp_path / "in.mid", division=960)
    before = read_notes(tmp_path / "in.mid")
    write_changed(tmp_path / "in.mid", tmp_path / "out.mid", moved(before, 0.0), grid=grid)
    after = read_notes(tmp_path / "out.mid")
    assert after.time_s == pytest.approx(before.time_s, abs=0.0008)
    clock = midi._Clock.of_file(read_smf((tmp_path / "out.mid").read_bytes()))
    bar_ticks = clock.tick_at(grid.bar_time_s([1, 2])) / 960 / grid.meter.bar_beats
    assert bar_ticks == pytest.approx(np.rint(bar_ticks), abs=1e-3)
    meters = [m for m in mido.MidiFile(tmp_path / "out.mid").tracks[0] if m.type == "time_signature"]
    assert [(m.numerator, m.denominator) for m in meters] == [
        (each.count, each.unit) for each in (grid.meter, *(change.meter for change in grid.meter_changes))
    ]


def test_a_part_that_changed_or_has_nowhere_to_go_is_told(tmp_path):
    """The file was replaced since it was read; the folder is not there."""
    rich_file(tmp_path / "in.mid")
    change = moved(read_notes(tmp_path / "in.mid"), 3.0)
    with pytest.raises(OutputError, match="could not be written"):
        write_changed(tmp_path / "in.mid", tmp_path / "no" / "out.mid", change)
    write_part(tmp_path / "in.mid", [(0, 9)], [(0, 100.0)])
    with pytest.raises(RecordingError, match="changed or exchanged"):
        write_changed(tmp_path / "in.mid", tmp_path / "out.mid", change)
    assert not (tmp_path / "out.mid").exists()
