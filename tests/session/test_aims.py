"""Aims, feels, references and the library in a session."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from supple_snare.errors import GrooveError, SessionError, UsageError
from supple_snare.exchange.groove_files import write_groove
from supple_snare.session import edits
from supple_snare.session.document import Session
from supple_snare.session.feels import FeelOf, see_feel
from supple_snare.session.grid_edits import with_grid
from supple_snare.session.library import Library
from supple_snare.session.stages import Stages, change_of_part
from supple_snare.session.storage import FILE_NAME, load_session, save_session
from supple_snare.sound.files import read_recording
from supple_snare.timing.aim import Aim, AimAt, Unpaired
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.grid import Grid
from supple_snare.timing.groove import Groove, GrooveSlot
from supple_snare.timing.notes import Notes
from supple_snare.timing.offsets import FeelRules
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.tighten import Response

GROOVE = Groove(
    "March", 4.0, tuple(GrooveSlot(n / 2, 0.01 * n, 5.0 * n, accent_db=2.0 * n - 7.0, count=4) for n in range(8)), 120.0
)


def on_beats(late_ms=0.0, beats=range(16), velocity=80.0):
    """Notes on quarter notes at 100 bpm from 1 s on."""
    time = 1.0 + 0.6 * np.array(list(beats), dtype=float) + late_ms / 1000
    return Notes(time, time + 0.3, np.full(len(time), velocity), np.full(len(time), 60))


@pytest.fixture
def parts():
    """A session of two MIDI parts, and stages that know their notes."""
    session = Session(take_grid=Grid(100.0, 1.0))
    stages = Stages()
    for name, late_ms in (("horns", 12.0), ("keys", 30.0)):
        session = edits.add_part(session, Path(f"/takes/{name}.mid"), 11.0)
        stages.learn_part(Path(f"/takes/{name}.mid"), on_beats(late_ms))
    for group in session.groups:
        session = edits.change_group(session, group.key, response=Response(strength=1.0))
    return session, stages


def moved(stages, session, key):
    """Where the strokes of a group will be."""
    view = stages.view(session, session.group(key))
    return view.strokes.time_s + view.plan.move_ms / 1000


def test_a_reference_is_met_where_it_will_be(parts):
    """The keys follow the horns, which follow the grid; when the horns stay as played, so does what is met."""
    session, stages = parts
    session = edits.set_aim(session, "g2", Aim(at=AimAt.REFERENCE, reference="g1", behind_ms=4.0))
    assert moved(stages, session, "g2") == pytest.approx(1.004 + 0.6 * np.arange(16))
    session = edits.change_group(session, "g1", response=Response(strength=0.0))
    assert moved(stages, session, "g2") == pytest.approx(1.016 + 0.6 * np.arange(16))


def test_references_never_go_round_in_a_ring(parts):
    """Neither to itself nor to one that is tightened to it; one that is not there is refused."""
    session, _ = parts
    session = edits.set_aim(session, "g2", Aim(at=AimAt.REFERENCE, reference="g1"))
    with pytest.raises(UsageError, match="itself tightened"):
        edits.set_aim(session, "g1", Aim(at=AimAt.REFERENCE, reference="p2"))
    for lost in ("g1", "p1", "g9", ""):
        with pytest.raises(UsageError, match="Choose"):
            edits.set_aim(session, "g1", Aim(at=AimAt.REFERENCE, reference=lost))
    assert edits.remove_part(session, "p1").groups[0].aim.at is AimAt.GRID


def test_everything_of_an_aim_is_kept_on_disk(parts, tmp_path):
    """Template, amounts, reference, cycle; a ring or a lost reference in the file is damage."""
    session, _ = parts
    aim = Aim(AimAt.GROOVE, 0.7, GROOVE, False, False, "g1", -3.0, Unpaired.STAY, 0.4)
    session = edits.set_aim(session, "g2", aim)
    session = edits.change_group(session, "g2", feel=FeelRules(Cycle(2), by_lead=True))
    session = edits.change_part(session, "p2", ends_follow=True, session_tempo=True)
    save_session(session, tmp_path)
    assert load_session(tmp_path) == session
    text = (tmp_path / FILE_NAME).read_text()
    (tmp_path / FILE_NAME).write_text(text.replace('"at": "groove"', '"at": "reference"').replace('"g1"', '"g2"', 1))
    with pytest.raises(SessionError, match="damaged"):
        load_session(tmp_path)


def test_a_track_of_a_group_can_be_the_reference(take):
    """The hits of the snare alone, moved as its group moves."""
    session, stages = Session(), Stages()
    recordings = [read_recording(path) for path in take.files]
    session = edits.add_recordings(session, recordings, group_name="Drums")
    stages.analyse_all(session)
    session = edits.add_part(session, Path("/takes/keys.mid"), 11.0)
    snare = np.sort(take.starts_s["snare"])
    stages.learn_part(
        Path("/takes/keys.mid"), Notes(snare + 0.02, snare + 0.2, np.full(len(snare), 80.0), np.full(len(snare), 60))
    )
    session = with_grid(session, Grid(take.tempo_bpm, take.first_beat_s))
    track = next(track.key for track in session.tracks if track.name == "Snare")
    session = edits.set_aim(session, "g2", Aim(at=AimAt.REFERENCE, reference=track))
    for key in ("g1", "g2"):
        session = edits.change_group(session, key, response=Response(strength=1.0))
    view = stages.view(session, session.group("g2"))
    assert (view.pairs.partner >= 0).all()
    lines = session.grid.slots(0.0, 20.0).time_s
    away = np.abs(moved(stages, session, "g2")[:, None] - lines).min(axis=1)
    assert np.median(away) < 0.001
    alone = edits.move_track(session, track, None)
    assert alone.group("g2").aim.reference == track


def test_an_aim_that_names_nothing_yet_is_the_grid(parts):
    """A groove that is still to be chosen moves nothing anywhere odd."""
    session, stages = parts
    session = edits.change_group(session, "g2", aim=Aim(at=AimAt.GROOVE))
    assert moved(stages, session, "g2") == pytest.approx(1.0 + 0.6 * np.arange(16))


def test_accents_of_a_groove_go_into_velocities_by_an_amount(parts):
    """None, half, all: louder where the template is, as far as asked; the rest stays."""
    session, stages = parts
    found = []
    for accents in (0.0, 0.5, 1.0):
        aimed = edits.set_aim(session, "g2", Aim(at=AimAt.GROOVE, groove=GROOVE, accents=accents))
        found.append(change_of_part(aimed, stages.view(aimed, aimed.group("g2"))).velocity)
    assert (found[0] == 80.0).all()
    db = 40 * np.log10(found[2][:4] / 80.0)
    assert db == pytest.approx([-7.0, -3.0, 1.0, 5.0], abs=0.4)
    assert 40 * np.log10(found[1][:4] / 80.0) == pytest.approx(db / 2, abs=0.4)


def test_a_feel_seen_is_the_template_and_its_strokes(parts):
    """Of the take, or of a range; nothing selected says so."""
    session, stages = parts
    view = stages.view(session, session.group("g1"))
    seen = see_feel(session, view, FeelOf(), name="Horns")
    assert seen.groove.name == "Horns"
    assert "Horns" in seen.groove.source
    assert len(seen.time_s) == 16
    assert (seen.place_beats < seen.groove.cycle_beats).all()
    assert np.abs(seen.offset_ms).max() < 0.1
    some = see_feel(session, view, FeelOf("range"), range_s=(0.9, 3.0))
    assert len(some.time_s) == 4
    with pytest.raises(UsageError, match="range"):
        see_feel(session, view, FeelOf("range"))
    with pytest.raises(UsageError, match="slot"):
        see_feel(session, view, FeelOf("range"), range_s=(100.0, 101.0))


# ---- library


def test_the_library_keeps_changes_and_deletes(tmp_path):
    """Two of one name have files of their own; what cannot be read is listed with its reason."""
    library = Library(tmp_path / "own", tmp_path / "shipped")
    (tmp_path / "shipped").mkdir()
    write_groove(tmp_path / "shipped" / "a.groove.json", replace(GROOVE, name="Shipped"))
    first, second = library.keep(GROOVE), library.keep(GROOVE)
    assert first != second
    library.change(first, GROOVE.scaled(2.0))
    (tmp_path / "own" / "broken.groove.json").write_text("{")
    found = {kept.path.name: kept for kept in library.all()}
    assert found[first.name].groove == GROOVE.scaled(2.0)
    assert "damaged" in found["broken.groove.json"].problem
    assert not found["a.groove.json"].own
    for forbidden in (lambda: library.change(tmp_path / "shipped" / "a.groove.json", GROOVE),
                      lambda: library.remove(tmp_path / "shipped" / "a.groove.json")):  # fmt: skip
        with pytest.raises(GrooveError, match="comes with the program"):
            forbidden()
    library.remove(first)
    assert not first.exists()


def test_a_name_of_any_letters_is_a_file_name(tmp_path):
    """No name leaves the folder, and none is empty."""
    library = Library(tmp_path / "own", tmp_path / "none")
    for name in ("../../etc/passwd", "", "///", "Ré: «swing»", "x" * 300):
        path = library.keep(replace(GROOVE, name=name))
        assert path.parent == tmp_path / "own"
        assert path.is_file()
    assert len(library.all()) == 5


def test_swung_sections_and_templates_of_other_slots_fit(parts):
    """A template of eighths over a part of sixteenths with swing: what it does not know goes along, in order."""
    session, stages = parts
    session = with_grid(session, Grid(100.0, 1.0, ruling=Ruling(Subdivision(16), swing=0.6)))
    stages.learn_part(Path("/takes/keys.mid"), on_beats(0.0, beats=np.arange(64) / 4))
    stages = Stages()
    stages.learn_part(Path("/takes/horns.mid"), on_beats(12.0))
    stages.learn_part(Path("/takes/keys.mid"), on_beats(0.0, beats=np.arange(64) / 4))
    session = edits.set_aim(session, "g2", Aim(at=AimAt.GROOVE, groove=GROOVE))
    after = moved(stages, session, "g2")
    assert (np.diff(after) > 0.05).all()
    view = stages.view(session, session.group("g2"))
    inside = view.offsets.place % 4
    known = np.abs(inside * 2 - np.rint(inside * 2)) < 1e-6
    wanted = 1.0 + 0.6 * view.offsets.place + 0.6 * 0.02 * inside
    assert after[known] == pytest.approx(wanted[known], abs=1e-6)
