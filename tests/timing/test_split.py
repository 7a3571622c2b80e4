"""The split into drift, feel and scatter: each part is found, the sum is the offset, wild strokes bend nothing."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.cycle import CYCLES, Cycle, cells_of, find_cycle
from supple_snare.timing.grid import Grid, RuledSection
from supple_snare.timing.hits import Hits
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.offsets import FeelRules, measure_offsets
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.split import robust_weights, shrunk_means, split_offsets
from supple_snare.timing.strokes import gather_strokes

GRID = Grid(100.0, 1.0)
BAR_S = 2.4


def performance(seed, *, bars=16, slots=16, scatter_ms=8.0, wild=0.02):
    """Offsets with every part known: (offset, time, cell, drift, feel)."""
    rng = np.random.default_rng(seed)
    cell = np.tile(np.arange(slots), bars)
    time = np.arange(len(cell)) * BAR_S / slots
    feel = rng.uniform(-12, 12, slots)
    feel -= feel.mean()
    drift = 25 * np.sin(2 * np.pi * time / (BAR_S * 11) + rng.uniform(0, 6))
    scatter = rng.normal(0, scatter_ms, len(cell))
    off = rng.random(len(cell)) < wild
    scatter[off] += rng.choice([-70, 70], np.count_nonzero(off))
    return drift + feel[cell] + scatter, time, cell, drift, feel


def rms(values):
    return float(np.sqrt(np.mean(np.square(values))))


@pytest.mark.parametrize("seed", range(4))
def test_every_part_is_found_within_what_scatter_allows(seed):
    """Sixteen bars, 8 ms of scatter, 25 ms of drift: drift within 3 ms, feel near the 2 ms no estimate can beat."""
    offset, time, cell, drift, feel = performance(seed)
    parts = split_offsets(offset, time, cell, bar_s=BAR_S)
    assert rms(parts.drift_ms - drift) < 3.0
    assert rms(parts.feel_ms - feel[cell]) < 2.5
    assert parts.drift_ms + parts.feel_ms + parts.scatter_ms == pytest.approx(offset)
    assert float(np.mean(parts.feel_ms)) == pytest.approx(0.0, abs=0.3)


def test_wild_strokes_bend_nothing():
    """One stroke in fifty 70 ms off changes what is found by less than half a millisecond or so."""
    calm = performance(3, wild=0.0)
    parts = split_offsets(*calm[:3], bar_s=BAR_S)
    offset = calm[0].copy()
    offset[::50] += 70.0
    bent = split_offsets(offset, *calm[1:3], bar_s=BAR_S)
    assert rms(bent.drift_ms - parts.drift_ms) < 0.8
    assert rms(bent.feel_ms - parts.feel_ms) < 0.8


def test_feel_never_shifts_the_whole_and_a_slot_heard_once_is_drawn_to_zero():
    """An even delay is drift, not feel; one stroke far off is hardly a habit."""
    rng = np.random.default_rng(2)
    cell = np.append(np.tile([0, 1, 2, 3], 12), 4)
    offset = np.append(15.0 + np.tile([4.0, -4.0, 4.0, -4.0], 12) + rng.normal(0, 3, 48), 33.0)
    parts = split_offsets(offset, np.arange(49) * 0.3, cell, bar_s=BAR_S)
    assert np.median(parts.drift_ms) == pytest.approx(15.0, abs=2.0)
    assert parts.feel_ms[:4] == pytest.approx([4.0, -4.0, 4.0, -4.0], abs=2.0)
    assert abs(parts.feel_ms[-1]) < 12.0


def test_each_block_has_a_mean_of_its_own():
    """Two sections: the feel of each is centred by itself."""
    offset, time, cell, *_ = performance(5)
    block = (time > time[-1] / 2).astype(int)
    parts = split_offsets(offset, time, cell + 16 * block, bar_s=BAR_S, block=block)
    weight = robust_weights(parts.scatter_ms)
    for number in (0, 1):
        here = block == number
        assert np.average(parts.feel_ms[here], weights=weight[here]) == pytest.approx(0.0, abs=0.2)


@settings(max_examples=50)
@given(st.lists(st.tuples(st.floats(-80, 80), st.integers(0, 5), st.integers(0, 3)), min_size=1, max_size=60))
def test_the_parts_of_anything_are_finite_and_add_up(rows):
    """One stroke, equal strokes, any strokes, in sections of which some hold none."""
    offset, cell, section = (np.array(column) for column in zip(*rows, strict=True))
    section.sort()
    parts = split_offsets(offset, np.arange(len(offset)) * 0.31, cell + 6 * section, bar_s=2.0, block=section)
    assert np.isfinite(parts.feel_ms).all()
    assert parts.drift_ms + parts.feel_ms + parts.scatter_ms == pytest.approx(offset, abs=1e-9)


def test_means_are_drawn_to_zero_as_far_as_they_are_uncertain():
    """The fewer values a cell has, the nearer to zero its mean is drawn; leaving one out leaves out just that one."""
    rng = np.random.default_rng(1)
    cell = np.repeat(np.arange(6), [40, 40, 40, 40, 2, 1])
    values = np.array([6.0, -6.0, 6.0, -6.0, 6.0, 6.0])[cell] + rng.normal(0, 5, len(cell))
    weight = np.ones(len(cell))
    means = shrunk_means(values, cell, weight)
    raw = np.bincount(cell, values) / np.bincount(cell)
    share = means[np.searchsorted(cell, np.arange(6))] / raw
    assert share[:4].min() > 0.95
    assert share[0] > share[4] > share[5] > 0.2
    assert shrunk_means(values, cell, weight, without_own=True)[-1] == 0.0


@pytest.mark.parametrize("true", CYCLES, ids=str)
def test_the_cycle_is_found_from_the_offsets(true):
    """Forty bars with a feel that repeats over anything from a beat to eight bars."""
    rng = np.random.default_rng(4)
    slots = np.flatnonzero(rng.random(16 * 40) < 0.7)
    feel = rng.normal(0, 7, int(true.beats(GRID) * 4))
    time = 1.0 + 0.15 * slots + (feel[slots % len(feel)] + rng.normal(0, 6, len(slots)) + 12.0) / 1000
    offsets = measure_offsets(gather_strokes([Hits.of(time)]), GRID)
    assert offsets.cycles == (true,)


def test_a_cycle_set_by_hand_counts_and_noise_has_the_shortest():
    """Told two bars it is two bars; offsets without any habit have a cycle of a bar at most."""
    rng = np.random.default_rng(4)
    time = 1.0 + 0.15 * np.arange(320) + rng.normal(0, 0.008, 320)
    strokes = gather_strokes([Hits.of(time)])
    assert measure_offsets(strokes, GRID).cycles[0] in CYCLES[:3]
    told = measure_offsets(strokes, GRID, rules=FeelRules(Cycle(2)))
    assert told.cycles == (Cycle(2),)
    assert told.cycle_place[33] == pytest.approx(0.25)
    assert CYCLES[find_cycle(np.zeros(0), [np.zeros(0, dtype=int)] * 6, [1.0] * 6)] == Cycle()


def test_leads_told_apart_have_feels_of_their_own():
    """A snare that lies back and a bass drum that pushes at the same slots of other beats."""
    rng = np.random.default_rng(9)
    lead = np.tile([0, 1], 80)
    time = 1.0 + 0.6 * np.arange(160) + (np.where(lead == 0, 9.0, -9.0) + rng.normal(0, 2, 160)) / 1000
    strokes = gather_strokes([Hits.of(time[lead == 0]), Hits.of(time[lead == 1])])
    apart = measure_offsets(strokes, GRID, rules=FeelRules(Cycle(1, False), by_lead=True))
    together = measure_offsets(strokes, GRID, rules=FeelRules(Cycle(1, False)))
    assert apart.feel_ms[lead == 0].mean() == pytest.approx(9.0, abs=1.5)
    assert np.abs(together.feel_ms).max() < 1.0


def test_places_of_a_cycle_begin_with_their_section_and_follow_the_meter():
    """Bars of a section count from its own first bar; beats begin anew with each bar."""
    grid = Grid(60.0, 0.0, meter_changes=(MeterChange(5, Meter(3, 4)),))
    bar = np.array([3, 4, 5, 6])
    place = grid.bars.beat_of(bar) + 1.5
    assert Cycle(2).places(grid, place, bar, 4).tolist() == [5.5, 1.5, 4.5, 1.5]
    assert Cycle(1, False).places(grid, place, bar, 1).tolist() == [0.5] * 4
    cut = Grid(60.0, 0.0, sections=(RuledSection(0.0, Ruling()), RuledSection(12.1, Ruling())))
    assert cut.first_bars.tolist() == [1, 4]
    assert cells_of(np.array([0.0, 0.5, 0.0]), np.array([0, 0, 1])).tolist() == [0, 2, 1]


@pytest.mark.parametrize("text", ["", "0 bars", "1", "two bars", "65 bars", "1 bat"])
def test_a_cycle_that_is_none_is_refused(text):
    """In words."""
    with pytest.raises(UsageError, match="cycle"):
        Cycle.parse(text)
    assert Cycle.parse(" 2 bars") == Cycle(2)
    assert str(Cycle.parse("1 beat")) == "1 beat"
