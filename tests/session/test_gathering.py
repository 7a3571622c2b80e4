"""Files as they come in."""

from dataclasses import replace

import mido
import msgspec
import pytest

from supple_snare.session.account import account
from supple_snare.session.document import Session
from supple_snare.session.gathering import gather, read_files
from supple_snare.session.handover import Written


@pytest.fixture
def click_map(tmp_path):
    """A bar of 4/4 at 120 bpm, then 7/8 at 132 bpm; no note in it."""
    tempos = mido.MidiTrack(
        [
            mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(120)),
            mido.MetaMessage("time_signature", numerator=7, denominator=8, time=4 * 480),
            mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(132)),
            mido.MetaMessage("end_of_track", time=7 * 240),
        ]
    )
    path = tmp_path / "click map.mid"
    mido.MidiFile(ticks_per_beat=480, tracks=[tempos]).save(path)
    return path


def test_a_midi_file_without_notes_tells_the_tempo(click_map, take):
    """It is no part; recordings given with it stand on its tempos and meters."""
    found = gather(Session(), read_files([click_map, *take.files]))
    assert (found.session.parts, found.problems, found.tempo_of) == ((), [], click_map)
    assert [group.name for group in found.session.groups] == ["Group 1"]
    assert found.session.grid.course.time_at([0, 4, 4 + 3.5]) == pytest.approx([0, 2, 2 + 3.5 * 60 / 132])
    assert found.session.grid.bars.beat_of([1, 2, 3]) == pytest.approx([0, 4, 7.5])
    assert "Grid: 120 to 132 bpm; 4/4, 7/8 from bar 2; 1/16\n" in account(found.session, [], Written(()))


def test_a_grid_somebody_set_is_kept(click_map):
    """The file is named, with the way to take its tempos all the same."""
    session = msgspec.structs.replace(Session(), take_grid=replace(Session().take_grid, tempo_bpm=90.0))
    found = gather(session, read_files([click_map]))
    assert found.session == session
    assert "click map.mid: it has no notes" in found.problems[0]


def test_what_cannot_be_used_is_named_and_the_rest_taken(take, tmp_path):
    """Neither notes nor tempos, and no sound; recordings stand before parts, in whatever order they came."""
    silent, broken, keys = tmp_path / "silent.mid", tmp_path / "broken.wav", tmp_path / "keys.mid"
    mido.MidiFile(tracks=[mido.MidiTrack()]).save(silent)
    broken.write_text("no sound")
    note = [mido.Message("note_on", note=60, velocity=70), mido.Message("note_off", note=60, time=480)]
    mido.MidiFile(tracks=[mido.MidiTrack(note)]).save(keys)
    found = gather(Session(), read_files([keys, silent, broken, *take.files]))
    assert [group.name for group in found.session.groups] == ["Group 1", "Keys"]
    assert sorted(problem.split(":")[0] for problem in found.problems) == ["broken.wav", "silent.mid"]
    assert len(found.notes[keys]) == 1
