"""The stages: what follows from a session, kept while it may be, and corrections that outlive everything."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from supple_snare.session import edits
from supple_snare.session.cutting import _first_arrivals, cut_group
from supple_snare.session.document import HitRules, Session
from supple_snare.session.doubts import Doubt, stroke_doubts
from supple_snare.session.mending import snap_to_attack
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.sound.material import Material
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits, Kind, Origin
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import Kept, Response
from supple_snare.timing.units import s_to_samples
from tests.conftest import write_microphones
from tests.sound.kits import struck_s, take


@pytest.fixture(scope="module")
def known(shared_take):
    """A session of the shared take and stages that know its recordings."""
    session = Session(take_grid=Grid(shared_take.tempo_bpm, shared_take.first_beat_s))
    session = edits.add_recordings(session, [read_recording(path) for path in shared_take.files])
    stages = Stages()
    assert not stages.is_ready(session, session.groups[0])
    shares = []
    stages.analyse_all(session, shares.append)
    assert shares == sorted(shares)
    return session, stages


def view_of(session, stages):
    """The only group's view."""
    return stages.view(session, session.groups[0])


def test_the_close_microphones_lead(known, shared_take):
    """Ranks found by themselves: both drums, not the room."""
    session, stages = known
    view = view_of(session, stages)
    assert {session.track(key).name for key in view.leads} == {"Kick", "Snare"}
    assert len(view.strokes) == sum(map(len, shared_take.starts_s.values()))


def test_only_what_depends_on_a_change_is_made_again(known):
    """A turn of Strength makes a new plan, and nothing before it."""
    session, stages = known
    before = view_of(session, stages)
    assert view_of(session, stages).plan is before.plan
    changed = edits.change_group(session, session.groups[0].key, response=Response(strength=0.3))
    after = view_of(changed, stages)
    assert after.offsets is before.offsets
    assert after.plan is not before.plan
    regrid = view_of(msgspec.structs.replace(session, take_grid=Grid(55.0, 0.5)), stages)
    assert regrid.strokes is before.strokes
    assert regrid.offsets is not before.offsets


def test_a_level_limit_rules_and_can_be_given_back(known):
    """Above the limit is played, below it is not; without one all is as before."""
    session, stages = known
    key = view_of(session, stages).leads[0]
    limited = edits.set_rules(session, key, HitRules(level_limit_db=-10.0))
    hits = view_of(limited, stages).hits[key]
    assert np.array_equal(hits.kind == Kind.PLAYED, hits.level_db >= -10.0)
    free = edits.set_rules(limited, key, None)
    assert view_of(free, stages).hits[key].kind.tolist() == view_of(session, stages).hits[key].kind.tolist()


def test_corrections_outlive_limits_grid_and_order(known):
    """A hit added stays and one removed stays away, whatever the settings."""
    session, stages = known
    key = view_of(session, stages).leads[0]
    first = float(view_of(session, stages).hits[key].of_kind(Kind.PLAYED).time_s[0])
    session = edits.add_hits(edits.remove_hits(session, key, [first]), key, [0.123])
    for limit in (None, -60.0, 0.0):
        hits = view_of(edits.set_rules(session, key, HitRules(level_limit_db=limit)), stages).hits[key]
        assert np.min(np.abs(hits.time_s - first)) > 0.01
        added = hits.time_s == 0.123
        assert hits.kind[added].tolist() == [Kind.PLAYED]
        assert hits.origin[added].tolist() == [Origin.ADDED]
    restored = edits.add_hits(session, key, [first])
    assert np.min(np.abs(view_of(restored, stages).hits[key].time_s - first)) < 1e-9


def test_a_hit_by_hand_jumps_to_the_attack_that_is_there(known):
    """Near an attack it takes the attack's time, even bleed's; far from any it stays."""
    session, stages = known
    view = view_of(session, stages)
    key = view.leads[0]
    bleed = float(view.hits[key].of_kind(Kind.BLEED).time_s[0])
    assert snap_to_attack(view.verdicts[key], bleed + 0.009) == pytest.approx(bleed, abs=1e-9)
    lonely = float(view.hits[key].time_s[0]) - 0.2
    assert snap_to_attack(view.verdicts[key], lonely) == lonely


def test_holds_keep_their_range(known):
    """Strokes inside stay, the others move; doubts of held strokes are answered."""
    session, stages = known
    group = session.groups[0].key
    held = edits.hold_range(edits.change_group(session, group, response=Response(strength=1.0)), group, 2.0, 6.0)
    view = view_of(held, stages)
    inside = (view.strokes.time_s >= 2.0) & (view.strokes.time_s <= 6.0)
    assert np.all(view.plan.kept[inside] == Kept.HELD)
    assert not view.plan.move_ms[inside].any()
    assert np.abs(view.plan.move_ms[~inside]).min() > 0
    assert all(not doubts for doubts, mine in zip(stroke_doubts(view), inside, strict=True) if mine)


def test_the_cut_moves_what_the_plan_moves(known):
    """Moves are the plan's to the sample, and the edit list carries every stroke there."""
    session, stages = known
    full = edits.change_group(session, session.groups[0].key, response=Response(strength=1.0))
    view = view_of(full, stages)
    cut = cut_group(full, view)
    assert not cut.limited.any()
    attack = np.rint(view.strokes.time_s * session.rate_hz).astype(int)
    assert np.array_equal(cut.edits.result_of(attack), attack + cut.move)
    assert (attack + cut.move) / session.rate_hz == pytest.approx(view.offsets.grid_s, abs=1.1 / session.rate_hz)


def test_far_strokes_are_doubts(known):
    """What stays because it is past the reach asks for an ear, worst reason first."""
    session, stages = known
    tight = edits.change_group(session, session.groups[0].key, response=Response(0.8, 1.0, 6.0))
    view = view_of(tight, stages)
    doubts = stroke_doubts(view)
    past = view.plan.kept == Kept.REACH
    assert past.any()
    assert all(doubts[index][0] == Doubt.PAST_REACH for index in np.flatnonzero(past))


def test_a_grace_note_goes_with_its_own_stroke_even_if_another_lead_times_it(known):
    """A kick just before a flam of the snare: the flam's grace note is no early arrival of the stroke after."""
    session, stages = known
    view = stages.view(session, session.groups[0])
    kick = Hits.of(np.array([1.0, 2.0]))
    snare = Hits.of(
        np.array([1.006, 1.020, 1.2, 1.99, 2.01]), kind=[Kind.GRACE, Kind.PLAYED, Kind.PLAYED, Kind.GRACE, Kind.PLAYED]
    )
    strokes = gather_strokes([kick, snare], together_ms=30.0)
    fields = {"strokes": strokes, "hits": {"t1": kick, "t2": snare}, "columns": ("t1", "t2")}
    flam = type(view)(**(vars(view) | fields))
    attack = s_to_samples(strokes.start_s, 48_000)
    first = _first_arrivals(flam, attack, np.zeros(0, dtype=np.int64), 48_000) / 48_000
    assert strokes.time_s == pytest.approx([1.0, 1.2, 2.0])
    assert first == pytest.approx([1.0, 1.2, 1.99], abs=1e-4)


def test_strokes_that_only_an_overhead_has_are_timed_as_they_were_struck(tmp_path):
    """It hears them some 3 ms late, and is cut where it hears them; the drum that has a microphone goes before."""
    kit = take().tracks
    write_microphones(
        tmp_path, np.random.default_rng(6), {"OH L": kit["over-left"], "Kick": kit["kick"], "OH R": kit["over-right"]}
    )
    files = [read_recording(tmp_path / f"{name}.wav") for name in ("OH L", "Kick", "OH R")]
    session, stages = edits.add_recordings(Session(), files), Stages()
    stages.analyse_all(session)
    view = view_of(session, stages)
    names = [session.track(key).name for key in view.leads]
    assert names in (["Kick", "OH L"], ["Kick", "OH R"])
    own = view.strokes.lead > 0
    snare_s = struck_s("snare")
    snare_s = snare_s[np.abs(snare_s[:, None] - struck_s("hat")).min(axis=1) > 0.002]
    error_s = np.array([min(view.strokes.time_s[own] - each, key=abs) for each in snare_s])
    assert abs(np.median(error_s)) < 0.001
    later_s = view.strokes.start_s[own] - view.strokes.time_s[own]
    assert np.all((later_s > 0.002) & (later_s < 0.006))
    assert view.materials[view.leads[1]] is Material.DRUM_OVERHEAD
