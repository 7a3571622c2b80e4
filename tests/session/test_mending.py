"""Hits by rules and by hand: sections, spacing, ghosts, corrections that outlive everything."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.session import edits, section_edits
from supple_snare.session.document import Ghosts, HitRules, Session, Track
from supple_snare.session.mending import snap_to_attack, track_hits
from supple_snare.session.stages import group_strokes
from supple_snare.sound.files import Recording
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.peaks import PeaksBuilder
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.hits import Hits, Kind, Origin
from supple_snare.timing.units import frozen

RATE_HZ = 48_000
SECONDS = 12
PLAIN = PRESETS[Material.DRUM_CLOSE]


def make_peaks():
    """A steady sound that is twice as loud in its second half."""
    sound = np.full((SECONDS * RATE_HZ, 1), 0.1, dtype=np.float32)
    sound[len(sound) // 2 :] *= 2.0
    builder = PeaksBuilder()
    builder.add(sound)
    return builder.finish(len(sound), RATE_HZ)


PEAKS = make_peaks()


def session_of(tmp_path, count=1):
    """A session of some tracks that need not exist."""
    recordings = [
        Recording(tmp_path / f"{number}.wav", SECONDS * RATE_HZ, RATE_HZ, 1, "WAV", "PCM_24") for number in range(count)
    ]
    return edits.add_recordings(Session(), recordings)


def verdict_of(time_s, level_db=-10.0, log_odds=3.0):
    """Attacks with their odds of having been played."""
    time = np.asarray(time_s, dtype=float)
    return Verdict(
        frozen(time),
        frozen(np.broadcast_to(level_db, time.shape)),
        frozen(np.broadcast_to(log_odds, time.shape)),
        frozen(np.ones(time.shape)),
    )


def hits_of(track, verdict, sections=(), preset=PLAIN):
    """The hits that follow."""
    return track_hits(track, verdict, PEAKS, sections=sections, preset=preset)


def test_each_section_has_its_own_limit(tmp_path):
    """Soft hits count only where the limit lets them; without one the comparison of all tracks rules."""
    session = section_edits.split_section(session_of(tmp_path), 6.0)
    second = session.sections[1].key
    session = edits.set_rules(session, "t1", HitRules(level_limit_db=-20.0), section=second)
    verdict = verdict_of([1.0, 2.0, 7.0, 8.0], [-30.0, -10.0, -30.0, -10.0], [1.0, -1.0, 1.0, -1.0])
    hits = hits_of(session.track("t1"), verdict, session.sections)
    assert hits.kind.tolist() == [Kind.PLAYED, Kind.BLEED, Kind.BLEED, Kind.PLAYED]
    free = edits.set_rules(session, "t1", None, section=second)
    kinds = hits_of(free.track("t1"), verdict, session.sections).kind
    assert kinds.tolist() == [Kind.PLAYED, Kind.BLEED, Kind.PLAYED, Kind.BLEED]


def test_of_hits_nearer_than_the_spacing_the_louder_counts():
    """The softer one moves along: before the louder as its grace, after it as a roll's inside does.

    Of two as loud the second is a bounce.
    """
    track = Track(key="t1", name="", recording=None, rules=HitRules(spacing_ms=100.0))
    verdict = verdict_of([1.0, 1.06, 2.0, 2.06, 3.0, 3.07], [-10.0, -12.0, -14.0, -10.0, -12.0, -11.5])
    kinds = [Kind.PLAYED, Kind.ROLL, Kind.GRACE, Kind.PLAYED, Kind.PLAYED, Kind.ROLL]
    assert hits_of(track, verdict).kind.tolist() == kinds
    free = Track(key="t1", name="", recording=None)
    near = verdict_of([1.0, 1.03, 2.0, 2.05], [-10.0, -9.7, -12.0, -12.0])
    assert hits_of(free, near).kind.tolist() == [Kind.PLAYED, Kind.ROLL, Kind.PLAYED, Kind.PLAYED]


def test_plucked_notes_keep_their_distance_unless_told_otherwise():
    """The material's spacing holds until a rule replaces it."""
    verdict = verdict_of([1.0, 1.025], [-10.0, -11.0])
    track = Track(key="t1", name="", recording=None)
    plucked = PRESETS[Material.PLUCKED]
    assert hits_of(track, verdict, preset=plucked).kind.tolist() == [Kind.PLAYED, Kind.ROLL]
    told = Track(key="t1", name="", recording=None, rules=HitRules(spacing_ms=0.0))
    assert hits_of(told, verdict, preset=plucked).kind.tolist() == [Kind.PLAYED, Kind.PLAYED]


def test_a_moved_hit_is_known_by_where_it_was_found(tmp_path):
    """Moved twice, it is one correction; restored, it is back where it was; removed, nothing of it is left."""
    verdict = verdict_of([1.0, 2.0, 3.0])
    session = edits.move_hit(session_of(tmp_path), "t1", 2.0, 2.02)
    session = edits.move_hit(session, "t1", 2.02, 2.05)
    hits = hits_of(session.track("t1"), verdict)
    assert hits.time_s.tolist() == [1.0, 2.05, 3.0]
    assert hits.origin.tolist() == [Origin.FOUND, Origin.MOVED, Origin.FOUND]
    assert hits.level_db[1] == pytest.approx(-20.0, abs=0.1)
    back = edits.restore_hits(session, ["t1"], 1.9, 2.1)
    assert not back.track("t1").is_corrected
    gone = edits.remove_hits(session, "t1", [2.05])
    assert hits_of(gone.track("t1"), verdict).time_s.tolist() == [1.0, 3.0]


def test_an_added_hit_is_as_loud_as_the_sound_there(tmp_path):
    """Where no attack was found the sound itself tells."""
    session = edits.add_hits(session_of(tmp_path), "t1", [3.0, 9.0])
    level_db = hits_of(session.track("t1"), verdict_of([])).level_db
    assert level_db == pytest.approx([-20.0, -14.0], abs=0.1)


@given(st.lists(st.tuples(st.sampled_from("amrx"), st.integers(1, 10)), max_size=12))
def test_restoring_all_leaves_nothing_by_hand(tmp_path_factory, deeds):
    """Whatever was added, moved and removed, restoring the whole take gives the hits as found."""
    session = session_of(tmp_path_factory.getbasetemp())
    verdict = verdict_of(np.arange(1.0, 11.0))
    for deed, place in deeds:
        if deed == "a":
            session = edits.add_hits(session, "t1", [place + 0.4])
        elif deed == "m":
            session = edits.move_hit(session, "t1", float(place), place + 0.1)
        elif deed == "r":
            session = edits.remove_hits(session, "t1", [float(place), place + 0.1])
        else:
            session = edits.land_hit(session, "t1", float(place), place + 0.02)
        times = hits_of(session.track("t1"), verdict).time_s
        assert (np.diff(times) > 0.003).all()
    back = edits.restore_hits(session, ["t1"], 0.0, float(SECONDS))
    assert hits_of(back.track("t1"), verdict).time_s.tolist() == verdict.time_s.tolist()


def test_a_hit_placed_by_hand_jumps_to_the_attack_beside_it():
    """To bleed as well, and to one that was removed; far from any it stays."""
    verdict = verdict_of([1.0, 2.0], log_odds=[3.0, -3.0])
    assert snap_to_attack(verdict, 2.012) == 2.0
    assert snap_to_attack(verdict, 1.5) == 1.5
    assert snap_to_attack(verdict_of([]), 1.5) == 1.5


def test_a_landing_is_set_by_hand_and_never_before_the_start(tmp_path):
    """It moves what meets the grid, not where the sound starts."""
    session = edits.land_hit(session_of(tmp_path), "t1", 2.0, 2.03)
    session = edits.land_hit(session, "t1", 1.0, 0.9)
    hits = hits_of(session.track("t1"), verdict_of([1.0, 2.0]))
    assert hits.time_s.tolist() == [1.0, 2.0]
    assert hits.landing_s.tolist() == [1.0, 2.03]
    session = edits.move_hit(session, "t1", 2.0, 2.01)
    assert hits_of(session.track("t1"), verdict_of([1.0, 2.0])).landing_s.tolist() == [1.0, 2.03]
    session = edits.move_hit(session, "t1", 2.01, 2.04)
    assert hits_of(session.track("t1"), verdict_of([1.0, 2.0])).landing_s.tolist() == [1.0, 2.04]


class TestGhosts:
    """Timed, carried along or ignored, by lead and section."""

    def strokes(self, session, rule, section=None):
        """Strokes of one lead that plays four accents and a ghost between each two, in two sections."""
        session = edits.set_rules(session, "t1", HitRules(ghosts=rule), section=section)
        time = np.arange(1.0, 11.0, 0.5)
        verdict = verdict_of(time, np.where(np.arange(len(time)) % 2, -28.0, -8.0))
        hits = hits_of(session.track("t1"), verdict, session.sections)
        assert hits.ghost.tolist() == (np.arange(len(time)) % 2 == 1).tolist()
        return group_strokes(session, session.groups[0], ("t1",), ("t1",), [hits])

    def test_each_rule(self, tmp_path):
        """Timed ones have a time of their own, carried ones ride, ignored ones make no stroke."""
        session = session_of(tmp_path)
        timed, carried, ignored = (self.strokes(session, rule) for rule in Ghosts)
        assert (len(timed), len(carried), len(ignored)) == (20, 20, 10)
        assert not timed.rides.any()
        assert carried.rides.tolist() == [False, True] * 10

    def test_by_section(self, tmp_path):
        """Only the section that says so ignores them."""
        session = section_edits.split_section(session_of(tmp_path), 6.0)
        strokes = self.strokes(session, Ghosts.IGNORED, session.sections[1].key)
        assert (np.count_nonzero(strokes.time_s < 5.9), np.count_nonzero(strokes.time_s > 5.9)) == (10, 5)

    def test_a_soft_consonant_is_no_ghost(self, tmp_path):
        """The notes of a voice begin as softly as they like."""
        verdict = verdict_of(np.arange(1.0, 9.0), np.where(np.arange(8) % 2, -40.0, -12.0))
        hits = hits_of(session_of(tmp_path).track("t1"), verdict, preset=PRESETS[Material.VOICE])
        assert not hits.ghost.any()

    def test_a_carried_ghost_beside_a_timed_hit_decides_nothing(self, tmp_path):
        """Even of a lead that ranks higher."""
        session = edits.set_rules(session_of(tmp_path, 2), "t1", HitRules(ghosts=Ghosts.CARRIED))
        ghost = Hits.of([1.01, 2.0], ghost=[True, False])
        other = Hits.of([1.0])
        strokes = group_strokes(session, session.groups[0], ("t1", "t2"), ("t1", "t2"), [ghost, other])
        assert strokes.time_s.tolist() == [1.0, 2.0]
        assert strokes.lead.tolist() == [1, 0]
        assert strokes.lead_times_s[0].tolist() == [1.01, 1.0]


def test_sections_may_rank_their_leads_differently(tmp_path):
    """In the second section the other track wins, and a track that leads nowhere else leads too."""
    session = section_edits.split_section(session_of(tmp_path, 3), 6.0)
    group = session.groups[0].key
    session = edits.set_leads(session, group, ("t1", "t2"))
    session = edits.set_leads(session, group, ("t2", "t3"), section=session.sections[1].key)
    hits = [Hits.of([1.0, 7.0, 8.0]), Hits.of([1.01, 7.01]), Hits.of([9.0])]
    strokes = group_strokes(session, session.groups[0], ("t1", "t2"), ("t1", "t2", "t3"), hits)
    assert strokes.time_s.tolist() == [1.0, 7.01, 9.0]
    assert strokes.lead.tolist() == [0, 1, 2]


class TestSections:
    """Drawn, split, joined; what was set for one goes with it."""

    def test_a_split_section_starts_with_the_settings_it_had(self, tmp_path):
        """The new half keeps the limit until it is changed."""
        session = section_edits.split_section(session_of(tmp_path), 4.0)
        first, second = (section.key for section in session.sections)
        session = edits.set_rules(session, "t1", HitRules(level_limit_db=-9.0), section=second)
        session = section_edits.split_section(session, 8.0)
        third = session.sections[2].key
        assert session.track("t1").rules_in(third).level_limit_db == -9.0
        assert session.track("t1").rules_in(first).level_limit_db is None
        joined = section_edits.join_section(session, third)
        assert [section.key for section in joined.sections] == [first, second]
        alone = section_edits.join_section(joined, second)
        assert alone.sections == ()
        assert alone.track("t1").section_rules == ()

    @given(st.lists(st.tuples(st.sampled_from("sdjm"), st.floats(0.0, 12.0), st.floats(0.0, 12.0)), max_size=15))
    def test_sections_always_tile_the_take(self, tmp_path_factory, deeds):
        """Whatever is done, they are in order, named apart, and the first starts with the take."""
        session = session_of(tmp_path_factory.getbasetemp())
        for deed, one, two in deeds:
            if deed == "s":
                session = section_edits.split_section(session, one)
            elif deed == "d":
                session = section_edits.draw_section(session, min(one, two), max(one, two))
            elif session.sections:
                key = session.sections[int(one * len(session.sections) / 12.001)].key
                if deed == "j":
                    session = section_edits.join_section(session, key)
                else:
                    session = section_edits.move_section(session, key, two)
            spans = section_edits.section_spans(session)
            assert all(span.end_s > span.section.start_s for span in spans)
            assert not spans or spans[0].section.start_s == 0.0
            assert len({span.section.key for span in spans}) == len(spans) != 1
