"""Aims: what is kept of each part, and partners in a reference."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.aim import Aim, AimAt, Unpaired, aim_strokes
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import FeelRules, measure_offsets
from supple_snare.timing.pairing import pair_strokes
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import Kept, Response, plan_moves

GRID = Grid(100.0, 1.0)
SLOT_S = 0.15
OWN = Aim(at=AimAt.OWN_FEEL)


def measured(time):
    """Strokes at these times on the grid, with a feel of one bar."""
    strokes = gather_strokes([Hits.of(time)])
    return strokes, measure_offsets(strokes, GRID, rules=FeelRules(Cycle(1)))


@pytest.fixture(scope="module")
def loose():
    """Sixteen bars of eighths with drift, feel and scatter."""
    rng = np.random.default_rng(8)
    slot = np.arange(0, 256, 2)
    feel = np.tile([8.0, -6.0, 0.0, 4.0, -8.0, 6.0, 0.0, -4.0], 16)
    drift = 22 * np.sin(slot / 30.0)
    return measured(1.0 + SLOT_S * slot + (feel + drift + rng.normal(0, 6, len(slot))) / 1000)


def planned(strokes, offsets, aim, *, keep_drift=0.0, strength=0.8, held=None, pairs=None, **more):
    """The plan, and the offsets after it."""
    response = Response(strength=strength, keep_drift=keep_drift, **more)
    aimed = aim_strokes(strokes, offsets, GRID, aim, keep_drift=keep_drift, pairs=pairs)
    held = np.zeros(len(strokes), dtype=bool) if held is None else held
    plan = plan_moves(strokes, offsets, response, held=held, aimed=aimed)
    return plan, offsets.offset_ms + plan.move_ms


@settings(max_examples=30)
@given(st.floats(0, 1), st.floats(0, 2), st.floats(0, 1))
def test_each_part_has_one_control(loose, keep_drift, amount, strength):
    """Own feel: keep-drift decides on the drift, amount on the feel, strength on the scatter alone."""
    strokes, offsets = loose
    aim = Aim(at=AimAt.OWN_FEEL, amount=amount)
    _, after = planned(strokes, offsets, aim, keep_drift=keep_drift, strength=strength)
    parts = keep_drift * offsets.drift_ms + amount * offsets.feel_ms + (1 - strength) * offsets.scatter_ms
    assert after == pytest.approx(parts, abs=1e-6)


def test_own_feel_kept_whole_moves_nothing(loose):
    """All drift, all feel, none of the scatter gone: as played."""
    plan, _ = planned(*loose, OWN, keep_drift=1.0, strength=0.0)
    assert np.abs(plan.move_ms).max() < 1e-9


def test_after_tightening_to_its_own_feel_the_feel_is_there_and_the_drift_is_gone(loose):
    """Measured anew: feel within 1 ms, drift below 2 ms, scatter a fifth."""
    strokes, offsets = loose
    _, after = planned(strokes, offsets, OWN)
    again = measured(offsets.grid_s + after / 1000)[1]
    assert np.abs(again.feel_ms - offsets.feel_ms).max() < 1.0
    assert np.sqrt(np.mean(again.drift_ms**2)) < 2.0
    share = np.std(again.scatter_ms) / np.std(offsets.scatter_ms)
    assert share == pytest.approx(0.2, abs=0.03)


def test_past_the_reach_a_stroke_stays_as_played_and_within_the_tolerance_it_goes_with_the_drift(loose):
    """A wild stroke does not even lose its drift; a small scatter stays, its drift does not."""
    strokes, offsets = loose
    plan, after = planned(strokes, offsets, OWN, tolerance_ms=4.0, reach_ms=11.0)
    far = plan.kept == Kept.REACH
    near = plan.kept == Kept.TOLERANCE
    assert far.any()
    assert (plan.move_ms[far] == 0.0).all()
    assert after[near] == pytest.approx(offsets.feel_ms[near] + offsets.scatter_ms[near])


def test_an_aim_that_names_nothing_is_refused(loose):
    """No template, no reference, an amount below nothing."""
    for at in (AimAt.GROOVE, AimAt.REFERENCE):
        with pytest.raises(UsageError, match="Choose"):
            aim_strokes(*loose, GRID, Aim(at=at))
    with pytest.raises(UsageError, match="amount"):
        Aim(amount=-1.0)
    with pytest.raises(UsageError, match="reference"):
        Aim(behind_ms=900.0)


# ---- reference


def bass_and_drums(seed, *, scatter_ms=25.0, lean_ms=14.0):
    """A bass line of a two-bar pattern over drums, both drifting; times of both, true partners."""
    rng = np.random.default_rng(seed)
    slots = np.flatnonzero(np.tile(rng.random(32) < 0.6, 12))
    drift = 0.03 * np.sin(slots / 40.0)
    drums = 1.0 + SLOT_S * slots + drift + rng.normal(0, 0.006, len(slots))
    plays = np.isin(slots % 32, rng.choice(np.unique(slots % 32), 7, replace=False))
    bass = 1.0 + SLOT_S * slots[plays] + drift[plays] + rng.normal(lean_ms, scatter_ms, plays.sum()) / 1000
    return bass, drums, np.flatnonzero(plays)


@pytest.mark.parametrize("seed", range(6))
def test_strokes_find_their_partners(seed):
    """25 ms of scatter: no stroke nearer than 60 % of a slot to its true partner has another one."""
    bass, drums, true = bass_and_drums(seed)
    order = np.argsort(bass)
    strokes = gather_strokes([Hits.of(bass[order])])
    _, reference = measured(drums)
    pairs = pair_strokes(strokes, GRID, reference, drums)
    near = np.abs(drums[true[order]] - bass[order]) < 0.6 * SLOT_S
    assert (pairs.partner == true[order])[near].all()


def test_paired_strokes_lie_where_the_reference_has_them():
    """Full strength, 5 ms behind: each paired stroke 5 ms after its partner, to the microsecond."""
    bass, drums, _ = bass_and_drums(1)
    strokes, offsets = measured(np.sort(bass))
    _, reference = measured(drums)
    pairs = pair_strokes(strokes, GRID, reference, drums)
    aim = Aim(at=AimAt.REFERENCE, behind_ms=5.0)
    plan, _ = planned(strokes, offsets, aim, strength=1.0, pairs=pairs)
    met = pairs.partner >= 0
    assert met.mean() > 0.95
    after = strokes.time_s + plan.move_ms / 1000
    assert after[met] == pytest.approx(drums[pairs.partner[met]] + 0.005, abs=1e-6)


@pytest.mark.parametrize("unpaired", Unpaired)
def test_a_stroke_without_a_partner_does_as_chosen(unpaired):
    """On its own between two paired ones: with its neighbours, to the grid, or as played."""
    drums = 1.0 + SLOT_S * np.array([0, 4, 8, 12, 16, 20, 24, 28]) + 0.010
    bass = np.sort(np.append(1.0 + SLOT_S * np.array([0, 4, 8, 12, 16, 20, 24, 28]) + 0.030, 1.0 + SLOT_S * 10 + 0.030))
    strokes, offsets = measured(bass)
    _, reference = measured(drums)
    pairs = pair_strokes(strokes, GRID, reference, drums)
    alone = np.flatnonzero(pairs.partner < 0)
    assert alone.tolist() == [3]
    aim = Aim(at=AimAt.REFERENCE, unpaired=unpaired)
    plan, after = planned(strokes, offsets, aim, strength=1.0, pairs=pairs)
    wanted = {Unpaired.NEIGHBOURS: 10.0, Unpaired.GRID: 0.0, Unpaired.STAY: 30.0}[unpaired]
    assert after[3] == pytest.approx(wanted, abs=1e-6)
    assert (plan.kept[3] == Kept.STAYS) == (unpaired is Unpaired.STAY)
    assert Kept.STAYS.word == "held"


def test_without_a_reference_stroke_nobody_has_a_partner():
    """An empty reference, or an empty part."""
    strokes, _ = measured(np.array([1.0, 2.0]))
    nothing, reference = measured(np.zeros(0))
    assert (pair_strokes(strokes, GRID, reference, np.zeros(0)).partner == -1).all()
    assert len(pair_strokes(nothing, GRID, measured(np.array([1.0]))[1], np.array([1.0]))) == 0
