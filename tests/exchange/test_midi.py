"""MIDI parts: notes where they sound, and no file that crashes the reader."""

from __future__ import annotations

from pathlib import Path

import mido
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.errors import RecordingError
from supple_snare.exchange.midi import read_grid, read_notes


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


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
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
