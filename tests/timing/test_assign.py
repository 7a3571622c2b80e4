"""The best path: against all paths on small cases, and what habit and hand have to say."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.timing.assign import assign_slots
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import measure_offsets
from supple_snare.timing.ordered_path import ordered_path
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.strokes import gather_strokes

GRID = Grid(100.0, 1.0)
SLOT_S = 0.15


def every_path(cost, first_slot, skip):
    """What the cheapest path through each choice costs, by trying all of them."""
    count, width = cost.shape
    through, without = np.full(cost.shape, np.inf), np.full(count, np.inf)
    for choice in itertools.product(range(-1, width), repeat=count):
        taken = [first_slot[i] + c for i, c in enumerate(choice) if c >= 0]
        if any(b <= a for a, b in itertools.pairwise(taken)):
            continue
        total = sum(skip[i] if c < 0 else cost[i, c] for i, c in enumerate(choice))
        for i, c in enumerate(choice):
            if c < 0:
                without[i] = min(without[i], total)
            else:
                through[i, c] = min(through[i, c], total)
    return through, without


@settings(max_examples=60)
@given(st.integers(1, 5), st.integers(1, 3), st.integers(0, 10_000))
def test_the_path_is_the_cheapest_of_all(count, width, seed):
    """Every choice's cost is that of the cheapest whole path through it."""
    rng = np.random.default_rng(seed)
    cost, skip = rng.uniform(0, 5, (count, width)), rng.uniform(0, 5, count)
    first_slot = np.cumsum(rng.integers(0, 3, count))
    found = ordered_path(cost, first_slot, skip)
    through, without = every_path(cost, first_slot, skip)
    assert found.through == pytest.approx(through)
    assert found.without == pytest.approx(without)


def test_long_rows_are_not_felt_where_they_are_cut():
    """A row of thousands gives what its middle gives alone."""
    rng = np.random.default_rng(1)
    place = np.cumsum(rng.integers(1, 4, 3_000)) + rng.normal(0, 0.3, 3_000)
    first_slot = np.maximum.accumulate(np.floor(place).astype(int) - 2)
    cost = 10.0 * (first_slot[:, None] + np.arange(6) - place[:, None]) ** 2
    whole = ordered_path(cost, first_slot, np.full(3_000, 5.0))
    part = ordered_path(cost[1_000:1_300], first_slot[1_000:1_300], np.full(300, 5.0))
    margin = whole.through[1_050:1_250] - whole.without[1_050:1_250, None]
    assert margin == pytest.approx(part.through[50:250] - part.without[50:250, None], abs=1e-9)


def pattern(wild_slots):
    """Sixteen bars of one pattern; one stroke lies between two lines, a little nearer to the wrong one."""
    place = np.concatenate([16 * bar + np.array([0, 4, 6, 8, 12, 14]) for bar in range(16)])
    time = 1.0 + SLOT_S * place + np.random.default_rng(0).normal(0, 0.004, len(place))
    index = int(np.flatnonzero(place == 16 * 9 + 6)[0])
    time[index] = 1.0 + SLOT_S * (place[index] + wild_slots)
    return place, time, index


@pytest.mark.parametrize("wild_slots", [0.55, -0.55])
def test_habit_of_the_bars_around_tells_the_slot(wild_slots):
    """Nearer to a place that nobody ever plays, it still gets its own, and is told as a close call."""
    place, time, index = pattern(wild_slots)
    slots = GRID.slots(time[0], time[-1])
    found = assign_slots(time, slots)
    assert np.rint((slots.time_s[found.slot_index] - 1.0) / SLOT_S) == pytest.approx(place)
    assert np.flatnonzero(found.close).tolist() == [index]
    assert found.runner_up[index] - found.slot_index[index] == np.sign(wild_slots)


@pytest.mark.parametrize("turn", [2, 4])
def test_habit_of_every_second_or_fourth_bar_tells_the_slot(turn):
    """A place played in other bars alone is not taken by a stroke nearer to it, whose own place this bar always has."""
    place = np.concatenate([16 * bar + np.array([0, 4, 8, 12, 6 if bar % turn else 7]) for bar in range(24)])
    place.sort()
    time = 1.0 + SLOT_S * place + np.random.default_rng(0).normal(0, 0.004, len(place))
    for late, meant in ((0.6, 16 * (3 * turn + 1) + 6), (-0.6, 16 * 4 * turn + 7)):
        time[place == meant] += SLOT_S * late
    slots = GRID.slots(time[0], time[-1])
    found = assign_slots(time, slots)
    assert np.rint((slots.time_s[found.slot_index] - 1.0) / SLOT_S) == pytest.approx(place)


def test_a_slot_given_by_hand_is_kept():
    """Even against order and nearness of all others, as long as no other stroke was given the same."""
    place, time, index = pattern(0.2)
    strokes = gather_strokes([Hits.of(time)])
    told = np.full(len(time), np.nan)
    told[index] = (place[index] + 1) / 4.0
    offsets = measure_offsets(strokes, GRID, told=told)
    assert offsets.place[index] == pytest.approx(told[index])
    assert np.flatnonzero(offsets.fixed).tolist() == [index]
    assert not offsets.close_call[index]
    others = np.arange(len(time)) != index
    assert offsets.place[others] == pytest.approx(place[others] / 4.0)


def test_strokes_of_an_hour_keep_their_order():
    """Whatever the length, slots rise strictly."""
    rng = np.random.default_rng(2)
    time = 1.0 + SLOT_S * (np.sort(rng.choice(60_000, 30_000, replace=False)) + rng.normal(0, 0.15, 30_000))
    chosen = assign_slots(np.sort(time), GRID.slots(time.min(), time.max())).slot_index
    assert np.all(np.diff(chosen[chosen >= 0]) > 0)
    assert np.mean(chosen >= 0) > 0.97


def test_a_fill_is_placed_where_nobody_plays_otherwise():
    """Sixteen strokes in one bar among bars of four, rushed by a fifth of a slot: each has its slot."""
    place = np.concatenate([16 * bar + (np.arange(16) if bar == 7 else np.array([0, 4, 8, 12])) for bar in range(16)])
    time = 1.0 + SLOT_S * place + np.random.default_rng(5).normal(0, 0.006, len(place))
    fill = place // 16 == 7
    time[fill] -= 0.2 * SLOT_S * np.linspace(0, 1, 16)
    slots = GRID.slots(time[0], time[-1])
    found = assign_slots(time, slots)
    assert np.rint((slots.time_s[found.slot_index] - 1.0) / SLOT_S) == pytest.approx(place)


@pytest.mark.parametrize("tempo_bpm", [100.0, 144.0])
def test_a_player_who_lags_takes_nobodys_slot(tempo_bpm):
    """A bass 36 to 50 ms behind every low drum, past what is joined: it has no slot, and the drums keep theirs.

    Also where that is about halfway to the next slot, and the bass a lead of its own nowhere else.
    """
    rng = np.random.default_rng(3)
    slots, slot_s = Grid(tempo_bpm, 1.0).slots(1.0, 80.0), 15.0 / tempo_bpm
    drum = np.sort(np.concatenate([np.arange(0, 512, 4), rng.choice(np.arange(2, 512, 4), 60, replace=False)]))
    followed = drum[rng.random(len(drum)) < 0.6]
    drum_s = 1.0 + drum * slot_s + rng.normal(0.0, 0.01, len(drum))
    lagging_s = drum_s[np.isin(drum, followed)] + rng.uniform(0.036, 0.05, len(followed))
    time_s = np.concatenate([drum_s, lagging_s])
    lead = np.repeat([0, 1], [len(drum), len(followed)])
    order = np.argsort(time_s)
    found = assign_slots(time_s[order], slots, lead=lead[order])
    assert np.all(found.slot_index[lead[order] == 1] == -1)
    np.testing.assert_allclose(slots.time_s[found.slot_index[lead[order] == 0]], 1.0 + drum * slot_s)


@pytest.mark.parametrize("lean_ms", [14.0, 20.0])
def test_a_beat_of_sixteenths_and_triplets_side_by_side_is_of_one_kind(lean_ms):
    """Sixteenths that lean halfway to the triplet's line and past it are told by the others of their beat."""
    grid = Grid(130.0, 1.0, ruling=Ruling.parse("1/16+1/8T"))
    rng = np.random.default_rng(int(lean_ms))
    beats = [number + np.array([0, 1 / 3, 2 / 3] if number % 4 == 3 else [0, 0.25, 0.5, 0.75]) for number in range(96)]
    meant = np.concatenate(beats)
    late_s = np.where(np.isclose(meant % 1.0, 0.25), lean_ms / 1000.0, 0.0) + rng.normal(0.0, 0.003, len(meant))
    slots = grid.slots(1.0, 50.0)
    found = assign_slots(1.0 + meant * 60.0 / 130.0 + late_s, slots)
    assert np.mean(np.isclose(slots.place[found.slot_index], meant)) > 0.99


def test_a_lead_that_keeps_leaning_to_the_other_kind_is_a_close_call():
    """A cowbell alone on a sixteenth that leans to the triplet's line, where others play triplets in that beat.

    Runs of triplets in a beat that else is straight, which stand for themselves, are none.
    """
    grid = Grid(110.0, 1.0, ruling=Ruling.parse("1/16+1/8T"))
    rng = np.random.default_rng(3)
    bars = np.arange(32)
    leaning = 4.0 * bars[bars % 4 != 3] + 1.25 + 0.03
    straight = (4.0 * bars[bars % 8 != 5][:, None] + [2.0, 2.25, 2.5, 2.75]).ravel()
    runs = (4.0 * bars[bars % 8 == 5][:, None] + [2.0, 7 / 3, 8 / 3]).ravel()
    drums = np.concatenate([(4.0 * bars[bars % 4 == 3][:, None] + [4 / 3, 5 / 3]).ravel(), straight, runs])
    beat, lead = np.append(leaning, drums), np.repeat([1, 0], [len(leaning), len(drums)])
    order = np.argsort(beat)
    beat, lead = beat[order], lead[order]
    slots = grid.slots(1.0, 75.0)
    found = assign_slots(1.0 + beat * 60.0 / 110.0 + rng.normal(0.0, 0.002, len(beat)), slots, lead=lead)
    assert found.close[lead == 1].mean() > 0.9
    assert not found.close[lead == 0].any()


@pytest.mark.parametrize("late_s", [-0.035, 0.035])
def test_of_two_leads_that_come_close_once_the_higher_has_the_slot(late_s):
    """Though the lower one lies nearer to the line, and the slot before is played in half of the bars."""
    place = np.concatenate([16 * bar + np.array([0, 3, 4, 8, 12] if bar % 2 else [0, 4, 8, 12]) for bar in range(16)])
    rng = np.random.default_rng(4)
    time_s = 1.0 + SLOT_S * place + rng.normal(0.0, 0.003, len(place))
    index = int(np.flatnonzero(place == 16 * 8 + 4)[0])
    time_s[index] -= late_s
    both, lead = np.append(time_s, 1.0 + SLOT_S * place[index]), np.append(np.zeros(len(place), dtype=np.int64), 1)
    order = np.argsort(both)
    slots = GRID.slots(1.0, 40.0)
    found = assign_slots(both[order], slots, lead=lead[order])
    np.testing.assert_allclose(slots.time_s[found.slot_index[lead[order] == 0]], 1.0 + SLOT_S * place)
    assert found.slot_index[lead[order] == 1].tolist() == [-1]
