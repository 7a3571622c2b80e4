"""The response and the plan."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import measure_offsets
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import Kept, Response, plan_moves

responses = st.tuples(st.floats(0, 1), st.floats(0, 50), st.floats(0, 100)).map(
    lambda v: Response(strength=v[0], tolerance_ms=v[1], reach_ms=v[1] + v[2] + 1.0)
)
deviations = st.floats(-200, 200)


@given(responses, deviations)
def test_a_deviation_never_grows_or_changes_side(response, deviation):
    """What is kept lies between nothing and what was played, the same for early and late."""
    kept = float(response.kept_deviation_ms(np.array([deviation]))[0])
    assert abs(kept) <= abs(deviation) + 1e-9
    assert kept * deviation >= 0
    assert float(response.kept_deviation_ms(np.array([-deviation]))[0]) == pytest.approx(-kept)


@given(responses)
def test_the_inner_edge_is_continuous(response):
    """Just inside and just outside the tolerance are treated almost alike."""
    edge = response.tolerance_ms
    inside, outside = response.kept_deviation_ms(np.array([edge, edge + 1e-6]))
    assert outside == pytest.approx(inside, abs=1e-5)


@given(responses, deviations)
def test_again_is_the_same_done_to_what_is_left(response, deviation):
    """Twice is one response after the other."""
    once = response.kept_deviation_ms(np.array([deviation]))
    twice = replace(response, times=2).kept_deviation_ms(np.array([deviation]))
    assert twice == pytest.approx(response.kept_deviation_ms(once), abs=1e-9)


@given(responses, deviations)
def test_tolerance_and_reach_leave_strokes_alone(response, deviation):
    """Inside the tolerance and past the reach nothing changes at all."""
    if abs(deviation) <= response.tolerance_ms or abs(deviation) > response.reach_ms:
        assert float(response.kept_deviation_ms(np.array([deviation]))[0]) == deviation


@pytest.mark.parametrize(
    "values", [{"strength": 7}, {"tolerance_ms": -1}, {"reach_ms": 0}, {"tolerance_ms": 9, "reach_ms": 5}, {"times": 9}]
)
def test_nonsense_is_refused(values):
    """Values out of range say so."""
    with pytest.raises(UsageError, match=r"makes no sense|larger than"):
        Response(**values)


def plan_for(offsets_ms, response, held=()):
    """Plan of strokes on every beat with given offsets."""
    grid = Grid(120.0, 1.0)
    time = 1.0 + 0.5 * np.arange(len(offsets_ms)) + np.array(offsets_ms) / 1000
    strokes = gather_strokes([Hits.of(time)])
    offsets = measure_offsets(strokes, grid)
    mask = np.isin(np.arange(len(time)), held)
    return strokes, offsets, plan_moves(strokes, offsets, response, held=mask)


def test_full_strength_lands_on_the_grid():
    """Strength 1 without windows leaves no offset."""
    strokes, offsets, plan = plan_for([5, -12, 30, 0, -44], Response(strength=1.0))
    assert strokes.time_s + plan.move_ms / 1000 == pytest.approx(offsets.grid_s)


def test_every_reason_to_stay_is_told():
    """Tolerance, reach and hold, each by its word."""
    _, _, plan = plan_for([2, 20, 55, 20], Response(0.8, 4.0, 45.0), held=[3])
    assert [Kept(code).word for code in plan.kept] == ["tolerance", None, "reach", "held"]
    assert plan.move_ms.tolist()[0] == plan.move_ms.tolist()[2] == plan.move_ms.tolist()[3] == 0
    assert plan.move_ms[1] == pytest.approx(-0.8 * 16)


def test_kept_drift_stays():
    """With all drift kept, only the difference from it goes."""
    drift = [10 + 2 * math.sin(k / 6) for k in range(40)]
    _, offsets, plan = plan_for(drift, Response(strength=1.0, keep_drift=1.0))
    after = offsets.offset_ms + plan.move_ms
    assert after == pytest.approx(offsets.drift_ms)
    assert np.abs(after - drift).max() < 2.5


@settings(max_examples=50)
@given(st.lists(st.floats(0.5, 30), min_size=2, max_size=50), st.integers(0, 2**30), st.floats(0, 1))
def test_no_stroke_passes_another(times, seed, strength):
    """Held strokes among moved ones: the order of the performance stays."""
    strokes = gather_strokes([Hits.of(np.unique(np.round(times, 3)))])
    held = np.random.default_rng(seed).random(len(strokes)) < 0.3
    offsets = measure_offsets(strokes, Grid(100.0, 1.0))
    plan = plan_moves(strokes, offsets, Response(strength=strength), held=held)
    assert np.all(np.diff(strokes.time_s + plan.move_ms / 1000) > 0)
    assert np.all(plan.move_ms[held] == 0)


def test_what_has_no_slot_moves_as_the_stroke_beside_it_does():
    """A bass 45 ms after its drum goes with it exactly; a stray one in the open goes between its neighbours."""
    rng = np.random.default_rng(8)
    drum = 0.5 + 0.5 * np.arange(64) + rng.normal(0.0, 0.012, 64)
    stray = 0.5 * (drum[10] + drum[11])
    strokes = gather_strokes([Hits.of(drum), Hits.of(np.sort(np.append(drum[::2] + 0.045, stray)))])
    offsets = measure_offsets(strokes, Grid(120.0, 0.5, ruling=Ruling.parse("1/4")))
    moves = plan_moves(strokes, offsets, Response(strength=1.0), held=np.zeros(len(strokes), dtype=bool)).move_ms
    late = np.flatnonzero((strokes.lead == 1) & (strokes.time_s != stray))
    assert np.all(moves[late] == moves[late - 1])
    alone = int(np.flatnonzero(strokes.time_s == stray)[0])
    assert min(moves[alone - 1], moves[alone + 1]) < moves[alone] < max(moves[alone - 1], moves[alone + 1])
