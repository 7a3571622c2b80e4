"""By hand and proofing: what a person decides counts, outlives other changes, and asks again when it must."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.session import edits
from supple_snare.session.account import account
from supple_snare.session.document import Session
from supple_snare.session.doubts import Doubt, leads_apart_ms, stroke_doubts
from supple_snare.session.handover import Written
from supple_snare.session.proof import answer_fine, ask_again, questions
from supple_snare.session.section_edits import split_section
from supple_snare.session.snapshots import drop_snapshot, exchange_snapshot, keep_snapshot, take_snapshot
from supple_snare.session.stages import Stages
from supple_snare.session.storage import load_session, save_session
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.notes import Notes
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import ByHand, Kept, Plan, Response, settle_moves

LATE_MS = np.array([20.0, -30.0, 25.0, 80.0, -10.0, 15.0, 30.0, -20.0])


@pytest.fixture
def part():
    """Eight notes a beat apart, each as late as `LATE_MS` says; strength 1, reach 50 ms."""
    time = 1.0 + 0.6 * np.arange(8) + LATE_MS / 1000
    stages, path = Stages(), Path("/takes/horn.mid")
    stages.learn_part(path, Notes(time, time + 0.3, np.linspace(40.0, 110.0, 8), np.full(8, 60)))
    session = edits.add_part(Session(take_grid=Grid(100.0, 1.0)), path, 7.0)
    session = edits.change_group(session, "g1", response=Response(strength=1.0, reach_ms=50.0))
    return session, stages, time


def view_of(session, stages):
    return stages.view(session, session.group("g1"))


def after_ms(session, stages):
    """Offsets after tightening."""
    view = view_of(session, stages)
    return view.offsets.offset_ms + view.plan.move_ms


def test_moves_by_hand_go_before_everything_but_holds(part):
    """Given, held, given and held; what is given outlives a change of strength."""
    session, stages, time = part
    session = edits.give_moves(session, "g1", {float(time[0]): 7.0, float(time[3]): -50.0})
    assert after_ms(session, stages) == pytest.approx([27.0, 0, 0, 30.0, 0, 0, 0, 0])
    assert view_of(session, stages).plan.kept[[0, 3]].tolist() == [Kept.GIVEN] * 2
    session = edits.hold_range(session, "g1", float(time[0]) - 0.01, float(time[0]) + 0.01)
    session = edits.change_group(session, "g1", response=Response(strength=0.0))
    assert after_ms(session, stages) == pytest.approx([20.0, -30, 25, 30.0, -10, 15, 30, -20])


def test_a_range_is_evened_out_between_its_ends(part):
    """The first and the last go where they go, those between in proportion."""
    session, stages, time = part
    session = edits.give_moves(session, "g1", {float(time[1]): 0.0, float(time[5]): 40.0})
    session = edits.even_range(session, "g1", float(time[1]) - 0.01, float(time[5]) + 0.01)
    moves = view_of(session, stages).plan.move_ms
    share = (time[1:6] - time[1]) / (time[5] - time[1])
    assert moves[1:6] == pytest.approx(40.0 * share)


def test_a_range_travels_as_one_piece(part):
    """With its first stroke, however that moves; a stroke held or moved by hand afterwards goes its own way."""
    session, stages, time = part
    session = edits.give_moves(session, "g1", {float(time[2]): 4.0})
    session = edits.join_range(session, "g1", float(time[1]) - 0.01, float(time[4]) + 0.01)
    moves = view_of(session, stages).plan.move_ms
    assert moves[1:5] == pytest.approx(30.0)
    assert moves[[0, 5]] == pytest.approx([-20.0, -15.0])
    session = edits.give_moves(session, "g1", {float(time[1]): 2.0, float(time[3]): 9.0})
    session = edits.hold_range(session, "g1", float(time[4]) - 0.01, float(time[4]) + 0.01)
    assert view_of(session, stages).plan.move_ms[1:5] == pytest.approx([2.0, 2.0, 9.0, 0.0])
    free = edits.even_range(session, "g1", float(time[0]) - 0.01, float(time[5]) + 0.01)
    moves = view_of(free, stages).plan.move_ms  # evened: its first stroke lies between others, and the rest with it
    assert moves[2] == moves[1]


def test_only_a_range_is_tightened(part):
    """All else is held as played; holds inside it stay."""
    session, stages, time = part
    session = edits.hold_range(session, "g1", float(time[3]) - 0.01, float(time[3]) + 0.01)
    session = edits.hold_others(session, "g1", float(time[2]) - 0.01, float(time[4]) + 0.01)
    moves = view_of(session, stages).plan.move_ms
    assert np.flatnonzero(moves).tolist() == [2, 4]


def test_the_sound_of_a_range_is_slid_more_and_more(part):
    """One range is one slide; another one over it takes its place; too short a one is refused."""
    session, _stages, _time = part
    session = edits.slide_range(session, "g1", 2.0, 2.2, 5.0)
    session = edits.slide_range(session, "g1", 2.0, 2.2, -2.0)
    assert [slide.move_ms for slide in session.group("g1").slides] == [3.0]
    assert edits.slide_range(session, "g1", 2.0, 2.2, -3.0).group("g1").slides == ()
    session = edits.slide_range(session, "g1", 2.1, 2.3, 4.0)
    assert [slide.start_s for slide in session.group("g1").slides] == [2.1]
    assert edits.drop_edits(session, "g1", 2.25, 2.3).group("g1").slides == ()
    with pytest.raises(UsageError, match="longer range"):
        edits.slide_range(session, "g1", 1.0, 1.01, 4.0)


def test_every_edit_of_a_range_is_dropped_at_once(part):
    """Holds, moves, evens and slots inside it; those outside stay."""
    session, _stages, time = part
    clean = session
    for index in (1, 6):
        session = edits.give_moves(session, "g1", {float(time[index]): 3.0})
        session = edits.hold_range(session, "g1", float(time[index]) - 0.01, float(time[index]) + 0.01)
    session = edits.even_range(session, "g1", float(time[0]), float(time[2]))
    dropped = edits.drop_edits(session, "g1", 0.0, 2.5).group("g1")
    assert len(dropped.moves_given) == len(dropped.holds) == 1
    assert dropped.evens == ()
    assert edits.drop_edits(session, "g1", 0.0, 20.0) == clean


def test_leads_left_free_and_soft_strokes_go_along(part):
    """Nothing moves by itself: all go along with the loud ones."""
    session, stages, _time = part
    soft = edits.change_group(session, "g1", softest_db=-8.0)
    view = view_of(soft, stages)
    loud = view.strokes.level_db >= -8.0
    assert 0 < np.count_nonzero(loud) < 8
    assert (view.plan.kept[~loud] == Kept.RIDES).all()
    assert after_ms(soft, stages)[loud] == pytest.approx(0.0, abs=1e-6)
    free = edits.change_group(session, "g1", free_leads=("p1",))
    assert not view_of(free, stages).plan.move_ms.any()


def test_sections_are_tightened_by_settings_of_their_own(part, tmp_path):
    """Strength and aim differ; the rest follows the take; all of it is kept on disk; one step goes back to the take."""
    session, stages, _time = part
    session = split_section(session, 3.3, name="B")
    second = session.sections[1].key
    session = edits.set_response(session, "g1", Response(strength=0.5), section=second)
    assert after_ms(session, stages) == pytest.approx([0, 0, 0, 80.0, -5.0, 7.5, 15.0, -10.0])
    session = edits.set_aim(session, "g1", Aim(at=AimAt.OWN_FEEL), section=second)
    assert session.group("g1").settings_in(second).response.strength == 0.5
    assert session.group("g1").aim.at is AimAt.GRID
    save_session(session, tmp_path)
    assert load_session(tmp_path) == session
    assert edits.follow_take(session, "g1", second).group("g1").section_settings == ()


moves = st.lists(st.floats(-30, 30), min_size=1, max_size=40)


@settings(max_examples=80)
@given(moves, st.floats(0.1, 5.0))
def test_neighbours_that_move_alike_travel_together(wanted, join_ms):
    """Each changes by no more than allowed, order is kept, and no fewer pieces would do."""
    count = len(wanted)
    strokes = gather_strokes([Hits.of(np.arange(count) * 0.5)])
    zero, nan = np.zeros(count), np.full(count, np.nan)
    plan = Plan(zero, zero, np.array(wanted), zero, np.zeros(count, dtype=np.int8), zero, nan)
    joined = settle_moves(strokes, plan, ByHand.nothing(count), join_ms=join_ms).move_ms
    assert np.abs(joined - wanted).max() <= join_ms + 1e-9
    pieces = 1 + np.count_nonzero(np.diff(joined))
    least, low, high = 1, -np.inf, np.inf
    for each in wanted:
        low, high = max(low, each - join_ms), min(high, each + join_ms)
        if low > high:
            least, low, high = least + 1, each - join_ms, each + join_ms
    assert pieces <= least
    held = np.zeros(count, dtype=bool)
    held[0] = True
    by_hand = replace(ByHand.nothing(count), held=held)
    assert settle_moves(strokes, plan, by_hand, join_ms=join_ms).move_ms[0] == 0.0


# ---- proof


def asked(session, stages):
    return questions(session, view_of(session, stages), None)


def test_answers_count_until_what_they_were_about_changes(part):
    """Fine stays fine under another setting elsewhere; another move or slot asks again."""
    session, stages, time = part
    open_ones = [question for question in asked(session, stages) if not question.answered]
    worst = open_ones[0]
    assert worst.stroke == 3
    assert worst.reasons[0] is Doubt.PAST_REACH
    assert worst.figures[0].startswith("80 ms")
    session = answer_fine(session, view_of(session, stages), worst)
    assert [question.answered for question in asked(session, stages) if question.stroke == 3] == [True]
    elsewhere = edits.give_moves(session, "g1", {float(time[0]): 1.0})
    assert [question.answered for question in asked(elsewhere, stages) if question.stroke == 3] == [True]
    moved = edits.change_group(session, "g1", response=Response(strength=0.5, reach_ms=70.0))
    assert [question.answered for question in asked(moved, stages) if question.stroke == 3] == [True]
    farther = edits.give_moves(session, "g1", {float(time[3]): -9.0})
    again = [question for question in asked(farther, stages) if question.stroke == 3]
    assert all(not question.answered for question in again)
    back = ask_again(session, view_of(session, stages), 3)
    assert [question.answered for question in asked(back, stages) if question.stroke == 3] == [False]


def test_answers_are_kept_on_disk(part, tmp_path):
    """With moves, evens and everything else by hand."""
    session, stages, time = part
    session = answer_fine(session, view_of(session, stages), asked(session, stages)[0])
    session = edits.give_moves(session, "g1", {float(time[0]): 1.0})
    session = edits.even_range(session, "g1", 1.0, 3.0)
    session = edits.change_group(session, "g1", join_ms=1.0, free_leads=("p1",), softest_db=-30.0)
    save_session(session, tmp_path)
    assert load_session(tmp_path) == session


def test_leads_that_lie_apart_more_than_usual_are_doubtful():
    """12 ms beside leads that lie 2 ms apart; not where all lie so."""
    rng = np.random.default_rng(3)
    base = np.arange(40) * 0.5
    other = base + rng.normal(0.002, 0.0015, 40)
    other[7] += 0.012
    strokes = gather_strokes([Hits.of(base), Hits.of(other)])
    assert np.flatnonzero(leads_apart_ms(strokes)).tolist() == [7]
    loose = gather_strokes([Hits.of(base), Hits.of(base + rng.normal(0.0, 0.009, 40))])
    assert np.count_nonzero(leads_apart_ms(loose)) <= 2


def test_an_account_tells_what_was_done(part):
    """Settings, figures and files, in words."""
    session, stages, time = part
    session = edits.give_moves(session, "g1", {float(time[0]): 1.0})
    told = account(session, [(view_of(session, stages), None)], Written((Path("/out/horn.mid"),)))
    for words in (
        "toward the grid; strength 100%",
        "1 moved by hand",
        "1 left alone past the reach",
        "horn.mid",
        "100 bpm",
    ):
        assert words in told


def test_a_snapshot_is_exchanged_taken_back_and_kept_on_disk(part, tmp_path):
    """Twice exchanged is nothing done; the snapshot is what was decided then."""
    session, _stages, _time = part
    kept = keep_snapshot(session, "Loose")
    tight = edits.change_group(kept, "g1", response=Response(strength=0.2))
    there = exchange_snapshot(tight, "Loose")
    assert there.groups == session.groups
    assert exchange_snapshot(there, "Loose") == tight
    assert take_snapshot(tight, "Loose") == kept
    save_session(there, tmp_path)
    assert load_session(tmp_path) == there
    assert drop_snapshot(there, "Loose").snapshots == ()


def test_a_held_stroke_is_no_doubt(part):
    """What a person keeps needs no ear."""
    session, stages, time = part
    held = edits.hold_range(session, "g1", float(time[3]) - 0.01, float(time[3]) + 0.01)
    assert stroke_doubts(view_of(held, stages))[3] == ()
