"""The demo take: as it was made, as it is described, and found again by the program."""

from __future__ import annotations

import json

import numpy as np
import pytest

from supple_snare.demo import TAKE, score
from supple_snare.demo.instruments import snare
from supple_snare.demo.make import write_accordion
from supple_snare.demo.session import demo_session
from supple_snare.errors import RecordingError
from supple_snare.exchange.midi import read_notes
from supple_snare.session.stages import Stages
from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.timing.hits import Kind


@pytest.fixture(scope="module")
def truth():
    """What was played, as shipped."""
    return json.loads((TAKE / "truth.json").read_text())


def test_the_truth_is_what_the_score_plays(truth):
    """The generator is deterministic and the shipped truth is its."""
    notes = score.play()
    assert [(n.player, round(n.time_s, 6), n.kind) for n in notes] == [
        (n["player"], n["time"], n["kind"]) for n in truth["notes"]
    ]


def test_the_take_is_small_and_has_what_editors_meet(truth):
    """Under 20 MB; ghosts, flams, a roll, a swung section, and one stroke more than half a slot late."""
    assert sum(path.stat().st_size for path in TAKE.iterdir()) < 20e6
    kinds = {note["kind"] for note in truth["notes"]}
    assert kinds == {"stroke", "ghost", "grace", "roll"}
    slot_s = 60 / truth["tempo"] / 4
    lateness = [
        note["time"] - score.place_of(note["bar"], note["beat"])
        for note in truth["notes"]
        if note["player"] == "snare" and note["kind"] == "stroke"
    ]
    assert max(lateness) > slot_s / 2
    assert truth["swung_bars"] == [9, 12]
    session = demo_session()
    assert {track.recording.rate_hz for track in session.tracks} == {48_000}
    assert {track.recording.subtype for track in session.tracks} == {"PCM_24"}
    assert 40 <= session.length_s <= 60
    assert [group.name for group in session.groups] == ["Drums", "Sousaphone", "Cornet one", "Cornet two", "Accordion"]


def test_no_two_strokes_are_alike():
    """The same force, another sound."""
    rng = np.random.default_rng(1)
    one, other = snare(rng, 0.8), snare(rng, 0.8)
    assert abs(np.corrcoef(one, other)[0, 1]) < 0.9


def test_the_accordion_part_is_what_is_written(tmp_path):
    """Made again, it is the same file; its notes are three a chord, four chords a bar."""
    write_accordion(tmp_path / "a.mid")
    assert (tmp_path / "a.mid").read_bytes() == (TAKE / "accordion.mid").read_bytes()
    notes = read_notes(TAKE / "accordion.mid")
    assert len(notes) == score.BARS * 4 * 3
    assert np.all(np.diff(notes.time_s) >= 0)
    assert notes.time_s[0] == pytest.approx(score.place_of(1, 0.5), abs=0.06)


def test_broken_midi_is_one_sentence(tmp_path):
    """Missing, not MIDI, cut off."""
    data = (TAKE / "accordion.mid").read_bytes()
    for name, content in (("words.mid", b"no music"), ("cut.mid", data[:40]), ("empty.mid", b"")):
        (tmp_path / name).write_bytes(content)
        with pytest.raises(RecordingError, match=f"{name}: this is not a MIDI file"):
            read_notes(tmp_path / name)
    with pytest.raises(RecordingError, match="no such file"):
        read_notes(tmp_path / "gone.mid")


def test_the_program_finds_what_was_played(truth):
    """On the drums of the demo: few strokes missed, hardly any invented, and those laid to the right slots."""
    session = demo_session()
    drums = session.groups[0]
    stages = Stages()
    for _track, ear in stages.missing(session, session.tracks_of(drums)):
        stages.learn(ear, analyse(ear))
    for _group, ensemble, analyses in stages.unjudged(session):
        stages.learn_verdicts(ensemble, judge_group(ensemble.ears, analyses))
    view = stages.view(session, drums)
    for track in view.tracks[:3]:
        player = track.recording.path.stem.replace("-", " ")
        strokes = np.array([n["time"] for n in truth["notes"] if n["player"] == player and n["kind"] == "stroke"])
        everything = np.array([n["time"] for n in truth["notes"] if n["player"] == player])
        hits = view.hits[track.key]
        found = hits.time_s[hits.kind != Kind.BLEED]
        missed = [time for time in strokes if np.min(np.abs(found - time)) > 0.010]
        nearest = [np.min(np.abs(found - time)) for time in strokes]
        assert np.median(nearest) < 0.001
        counted = hits.time_s[np.isin(hits.kind, (Kind.PLAYED, Kind.GRACE))]  # nothing is timed inside a roll
        invented = [time for time in counted if np.min(np.abs(everything - time)) > 0.010]
        assert len(missed) <= 0.03 * len(strokes)
        ghosts = [n["time"] for n in truth["notes"] if n["player"] == player and n["kind"] == "ghost"]
        assert sum(np.min(np.abs(found - time)) <= 0.010 for time in ghosts) >= 0.6 * len(ghosts)
        rolls = any(n["kind"] == "roll" for n in truth["notes"] if n["player"] == player)
        assert np.any(hits.kind == Kind.ROLL) == rolls
        assert len(invented) <= 0.02 * len(counted)
    room = next(track for track in view.tracks if track.recording.path.stem == "boathouse")
    assert view.verdicts[room.key].is_far and not np.any(view.hits[room.key].kind == Kind.PLAYED)
    straight = [n for n in truth["notes"] if n["player"] == "snare" and n["kind"] == "stroke"]
    wrong = 0
    for note in straight:
        index = int(np.argmin(np.abs(view.strokes.time_s - note["time"])))
        late = (note["bar"], note["beat"]) == score.LATE_STROKE
        place = (view.offsets.bar[index], view.offsets.slot[index])
        wrong += not late and place != (note["bar"], round(note["beat"] * 4))
    assert wrong <= 1
