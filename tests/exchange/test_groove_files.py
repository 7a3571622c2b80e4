"""Groove templates on disk: the same again, and one sentence for whatever is none."""

import json
from dataclasses import replace
from pathlib import Path

import mido
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.disk.outputs import WriteGuard
from supple_snare.errors import GrooveError, OutputError
from supple_snare.exchange.groove_files import groove_midi, read_groove, write_groove
from supple_snare.timing.groove import Groove, GrooveSlot
from supple_snare.timing.ruling import Ruling, Subdivision

numbers = st.floats(-60.0, 60.0)
rulings = st.builds(
    Ruling, st.builds(Subdivision), swing=st.sampled_from([0.5, 0.61]), swing_note=st.sampled_from([None, 8])
)


def write_over(path: Path, groove: Groove) -> None:
    """A template written, over one that is there."""
    write_groove(path, groove, guard=WriteGuard(replaces_all=True))


@st.composite
def grooves(draw):
    """Any template that a person might have."""
    places = sorted(draw(st.sets(st.integers(0, 31), min_size=1, max_size=12)))
    tempo = draw(st.floats(40.0, 220.0))
    slots = []
    for place in places:
        ms = draw(numbers)
        slots.append(
            GrooveSlot(
                place / 4, ms * tempo / 60_000.0, ms, abs(draw(numbers)), draw(numbers) / 4, draw(st.integers(0, 99))
            )
        )
    name = draw(st.text(max_size=20).filter(lambda text: text.isprintable()))
    return Groove(name, 8.0, tuple(slots), tempo, draw(rulings), draw(st.sampled_from(["", "bars 1–8 of the snare"])))


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(grooves())
def test_written_and_read_it_is_the_same(tmp_path, groove):
    """As JSON and as MIDI, with every name and number."""
    for name in ("a.groove.json", "a.mid"):
        write_over(tmp_path / name, groove)
        assert read_groove(tmp_path / name) == groove


def test_the_json_is_what_is_promised(tmp_path):
    """Field by field, so that other programs can rely on it."""
    write_over(tmp_path / "g.groove.json", Groove("Dockside", 4.0, (GrooveSlot(0.5, 0.01, 6.0, 2.0, -3.0, 7),), 100.0))
    told = json.loads((tmp_path / "g.groove.json").read_text())
    assert told["format"] == "groove template"
    assert (told["version"], told["name"], told["cycle_beats"]) == (1, "Dockside", 4.0)
    assert told["slots"] == [
        {"position_beats": 0.5, "offset_beats": 0.01, "offset_ms": 6.0, "spread_ms": 2.0, "accent_db": -3.0, "count": 7}
    ]


def test_a_sequencer_hears_the_groove(tmp_path):
    """A note for each slot where it is played, an early first one at the end of the loop; louder for an accent."""
    slots = (GrooveSlot(0.0, -0.02, -12.0), GrooveSlot(1.0, 0.05, 30.0, accent_db=6.0), GrooveSlot(2.0, 0.0, 0.0))
    file = groove_midi(Groove("Loop", 4.0, slots, 100.0))
    now, notes = 0, []
    for message in file.tracks[0]:
        now += message.time
        if message.type == "note_on" and message.velocity:
            notes.append((now / file.ticks_per_beat, message.velocity))
    assert [place for place, _ in notes] == pytest.approx([1.05, 2.0, 3.98], abs=0.001)
    assert notes[0][1] > notes[1][1]
    assert now / file.ticks_per_beat == 4.0
    assert file.type == 0


def test_notes_moved_in_a_sequencer_count_more_than_the_remark(tmp_path):
    """The remark of a changed file is not believed; any other file of notes is a groove too."""
    groove = Groove("Old", 4.0, tuple(GrooveSlot(float(n), 0.01, 6.0) for n in range(4)), 100.0)
    file = groove_midi(groove)
    ons = [m for m in file.tracks[0] if m.type == "note_on" and m.velocity]
    ons[2].time += 96
    file.tracks[0][file.tracks[0].index(ons[2]) + 1].time -= 96
    file.save(tmp_path / "new.mid")
    changed = read_groove(tmp_path / "new.mid")
    assert changed.name == "new"
    assert changed.offset_beats == pytest.approx([0.01, 0.01, 0.06, 0.01], abs=0.001)
    track = mido.MidiTrack(
        [mido.Message("note_on", note=36, velocity=90, time=500), mido.Message("note_off", note=36, time=400)]
    )
    mido.MidiFile(tracks=[track]).save(tmp_path / "plain.mid")
    assert read_groove(tmp_path / "plain.mid").slots[0].offset_beats == pytest.approx(20 / 480)


@pytest.mark.parametrize(
    "change",
    [
        {"format": "a recipe"},
        {"version": 2},
        {"cycle_beats": 0},
        {"cycle_beats": "four"},
        {"slots": []},
        {"slots": [{"position_beats": 9.0, "offset_beats": 0.0}]},
        {"slots": [{"position_beats": 0.0, "offset_beats": 1e9}]},
        {"slots": [{"position_beats": 0.0, "offset_beats": 0.0, "count": -1}]},
        {"tempo": 0},
        {"grid": "1/5"},
        {"swing": 0.9},
        {"swing_of": "1/4"},
    ],
)
def test_what_makes_no_sense_is_refused_in_words(tmp_path, change):
    """The sentence names the file, nothing is guessed."""
    path = tmp_path / "bad.groove.json"
    write_over(path, Groove("G", 4.0, (GrooveSlot(0.0, 0.01, 6.0),), 100.0))
    path.write_text(json.dumps(json.loads(path.read_text()) | change))
    with pytest.raises(GrooveError, match=r"bad\.groove\.json"):
        read_groove(path)


def test_the_least_that_is_promised_is_enough(tmp_path):
    """Positions and offsets in beats alone; slots in any order."""
    path = tmp_path / "least.groove.json"
    slots = [{"position_beats": 1, "offset_beats": 0.02}, {"position_beats": 0, "offset_beats": 0}]
    path.write_text(
        json.dumps({"format": "groove template", "version": 1, "name": "L", "cycle_beats": 2, "slots": slots})
    )
    groove = read_groove(path)
    assert groove.offset_ms == pytest.approx([0.0, 10.0])
    told = replace(groove.slots[1], offset_ms=20.0)
    write_over(path, replace(groove, slots=(groove.slots[0], told)))
    without = json.loads(path.read_text())
    del without["tempo"]
    path.write_text(json.dumps(without))
    assert read_groove(path).tempo_bpm == pytest.approx(60.0)


@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from(["f.groove.json", "f.mid"]),
    st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), min_size=1, max_size=9),
)
def test_a_damaged_file_is_told_and_never_crashes(tmp_path, name, changes):
    """Any bytes changed: a groove, or one sentence."""
    path = tmp_path / name
    write_over(path, Groove("G", 4.0, tuple(GrooveSlot(float(n), 0.01, 6.0) for n in range(4)), 100.0))
    data = bytearray(path.read_bytes())
    for place, value in changes:
        data[min(int(place * len(data)), len(data) - 1)] = value
    path.write_bytes(bytes(data))
    try:
        read_groove(path)
    except GrooveError as error:
        assert name in str(error)


def test_a_file_that_is_not_there_is_named(tmp_path):
    """And one that cannot be written leaves nothing behind."""
    with pytest.raises(GrooveError, match="gone"):
        read_groove(tmp_path / "gone.groove.json")
    with pytest.raises(OutputError, match="could not be written"):
        write_over(Path(tmp_path / "no" / "g.groove.json"), Groove("G", 4.0, (GrooveSlot(0.0, 0.0, 0.0),)))
    assert list(tmp_path.iterdir()) == []
