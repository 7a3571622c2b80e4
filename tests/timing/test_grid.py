"""The grid: places and times agree, whatever the tempo, meter and swing."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.course import Bend, Pin, PlayedBeats
from supple_snare.timing.grid import Grid, RuledSection
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.ruling import Ruling, Subdivision

meters = st.sampled_from([Meter(4, 4), Meter(3, 4), Meter(6, 8), Meter(7, 8), Meter(2, 4)])
rulings = st.builds(
    Ruling,
    subdivision=st.builds(Subdivision, st.sampled_from([8, 16, 32]), triplet=st.booleans()),
    also=st.sampled_from([None, Subdivision(8, triplet=True)]),
    swing=st.floats(0.5, 0.75),
    swing_note=st.sampled_from([None, 8, 16]),
)


@st.composite
def courses(draw):
    """A steady grid, one with pins, or beats as played: all within what a band plays."""
    tempo, first = draw(st.floats(50, 250)), draw(st.floats(-5, 60))
    kind = draw(st.sampled_from(["steady", "pins", "played"]))
    gaps = draw(st.lists(st.floats(0.8, 1.2), min_size=3, max_size=12))
    time = first + np.cumsum([0.0, *gaps]) * 60.0 / tempo
    if kind == "pins":
        return {"tempo_bpm": tempo, "first_beat_s": first, "pins": tuple(Pin(n, t) for n, t in enumerate(time[1:], 1))}
    if kind == "played":
        start, stiffness = draw(st.integers(-3, 3)), draw(st.floats(0, 1))
        return {"tempo_bpm": tempo, "played": PlayedBeats(tuple(time), float(start), 1.0, stiffness)}
    return {"tempo_bpm": tempo, "first_beat_s": first}


@st.composite
def any_grids(draw):
    """A grid of any course, with changes of meter and sections ruled each in its way."""
    changes = draw(st.lists(st.integers(-1, 12), max_size=3, unique=True).map(sorted))
    starts = draw(st.lists(st.floats(5, 80), max_size=2).map(sorted))
    return Grid(
        **draw(courses()),
        meter=draw(meters),
        ruling=draw(rulings),
        meter_changes=tuple(MeterChange(bar, draw(meters)) for bar in changes),
        sections=tuple(RuledSection(start, draw(rulings)) for start in ([0.0, *starts] if starts else [])),
    )


grids = any_grids()


@given(grids, st.floats(-50, 500))
def test_bar_and_time_are_inverse(grid, bar):
    """A bar's time lies at that bar."""
    assert grid.bar_at(grid.bar_time_s(bar)) == pytest.approx(bar, abs=1e-6)


@given(grids, st.floats(0, 100), st.floats(0, 30))
def test_slots_increase_and_leave_a_bar_to_spare(grid, start, length):
    """Slots rise, bars and slots count on, and both ends of the span have slots beyond them."""
    slots = grid.slots(start, start + length)
    assert np.all(np.diff(slots.time_s) > 0)
    assert slots.time_s[0] < start
    assert slots.time_s[-1] > start + length
    assert np.all(np.diff(slots.bar) >= 0)
    assert np.all(np.diff(slots.slot)[np.diff(slots.bar) == 0] > 0)
    beat = grid.bars.beat_of(slots.bar) + slots.beat
    assert grid.course.beat_at(slots.time_s) == pytest.approx(beat, abs=1e-6)


@given(grids)
def test_every_course_rises(grid):
    """Beat and moment are one-to-one, wherever one looks."""
    beat = np.linspace(-40, 200, 500)
    time = grid.course.time_at(beat)
    assert np.all(np.diff(time) > 0)
    assert grid.course.beat_at(time) == pytest.approx(beat, abs=1e-6)


def test_swing_moves_every_second_slot_by_its_share_of_the_pair():
    """A swing of two thirds is a triplet feel; swung eighths carry the sixteenths between them along."""
    assert Ruling(Subdivision(8), swing=2 / 3).positions(2.0) == pytest.approx([0, 2 / 3, 1, 5 / 3])
    fine = Ruling(Subdivision(16), swing=0.6, swing_note=8)
    assert fine.positions(1.0) == pytest.approx([0, 0.3, 0.6, 0.8])


def test_triplets_mixtures_and_odd_meters():
    """1/8T has twelve slots in 4/4; a mixture has the lines of both once; dotted notes start anew with the bar."""
    assert Grid(ruling=Ruling.parse("1/8T")).slots_per_bar == 12
    assert Ruling.parse("1/16+1/8T").positions(1.0) == pytest.approx([0, 1 / 4, 1 / 3, 1 / 2, 2 / 3, 3 / 4])
    assert Ruling.parse("1/8D").positions(4.0) == pytest.approx([0, 0.75, 1.5, 2.25, 3.0, 3.75])
    six = Grid(meter=Meter.parse("6/8"))
    slots = six.slots(0.0, 1.0)
    assert np.count_nonzero(slots.on_count[slots.bar == 1]) == 6
    assert Grid(meter=Meter(7, 8), ruling=Ruling(Subdivision(4))).slots_per_bar == 4


def test_meters_change_anywhere_and_a_short_bar_zero_is_a_pick_up():
    """Bars after a change have its length; bar 1 stays where it is."""
    grid = Grid(
        60.0, 10.0, meter_changes=(MeterChange(0, Meter(1, 4)), MeterChange(1, Meter()), MeterChange(3, Meter(7, 8)))
    )
    assert grid.bar_time_s([-1, 0, 1, 2, 3, 4, 5]) == pytest.approx([5, 9, 10, 14, 18, 21.5, 25])


def test_a_section_has_its_own_slots():
    """Triplets in the middle, sixteenths before and after; bar lines are not touched by it."""
    parts = (RuledSection(0.0, Ruling()), RuledSection(8.0, Ruling.parse("1/8T")), RuledSection(16.0, Ruling()))
    slots = Grid(60.0, 0.0, sections=parts).slots(0.0, 24.0)
    per_bar = [np.count_nonzero(slots.bar == bar) for bar in (1, 2, 3, 4, 5, 6)]
    assert per_bar == [16, 16, 12, 12, 16, 16]
    assert slots.time_s[slots.slot == 0] == pytest.approx(4.0 * (slots.bar[slots.slot == 0] - 1))


WANDERING = 1.0 + np.cumsum(0.5 * (1.0 + 0.03 * np.sin(np.arange(160) / 12.0)))


def test_stiffness_leads_from_every_beat_to_one_tempo():
    """0 is the beats themselves; the stiffer, the less the tempo changes; 1 is one tempo."""
    rough = WANDERING + np.random.default_rng(3).normal(0, 0.006, len(WANDERING))
    courses = [Grid(played=PlayedBeats(tuple(rough), stiffness=s)).course for s in (0.0, 0.3, 0.6, 1.0)]
    assert courses[0].time_s == pytest.approx(rough)
    changes = [np.abs(np.diff(60.0 / np.diff(course.time_s))).mean() for course in courses]
    assert changes == sorted(changes, reverse=True)
    assert np.ptp(60.0 / np.diff(courses[-1].time_s)) < 0.05
    assert np.std(courses[1].time_s - WANDERING) < 0.6 * 0.006


def test_each_section_may_have_its_one_tempo():
    """At full stiffness a band that steps from 100 to 125 at a section's start keeps both."""
    time = 1.0 + np.cumsum(np.repeat([0.6, 0.48], 48))
    start = float(time[47])
    parts = (RuledSection(0.0, Ruling()), RuledSection(start, Ruling()))
    grid = Grid(played=PlayedBeats(tuple(time), stiffness=1.0), sections=parts)
    assert grid.tempo_at([start - 5.0, start + 5.0]) == pytest.approx([100.0, 125.0], rel=2e-3)


@pytest.mark.parametrize("stiffness", [0.0, 0.4, 1.0])
def test_pins_hold_and_bends_bend(stiffness):
    """A pinned line stands where it was put, and a bent stretch has the tempo asked for."""
    pins = (Pin(20.0, float(WANDERING[20]) + 0.05), Pin(41.5, float(WANDERING[41:43].mean()) - 0.04))
    course = Grid(played=PlayedBeats(tuple(WANDERING), stiffness=stiffness), pins=pins).course
    assert course.time_at([pin.beat for pin in pins]) == pytest.approx([pin.time_s for pin in pins], abs=2e-4)
    bent = Grid(played=PlayedBeats(tuple(WANDERING), stiffness=stiffness, bends=(Bend(16, 20, 100.0),))).course
    assert 60.0 / np.diff(bent.time_at(np.arange(16, 21))) == pytest.approx(np.full(4, 100.0), rel=0.01)


@pytest.mark.parametrize(
    "make",
    [
        lambda: Grid(tempo_bpm=-3),
        lambda: Grid(tempo_bpm=float("nan")),
        lambda: Ruling(swing=0.9),
        lambda: Ruling(swing_note=4),
        lambda: Grid(pins=(Pin(4.0, -1.0),)),
        lambda: Grid(pins=(Pin(4.0, float("nan")),)),
        lambda: Grid(meter_changes=(MeterChange(2, Meter()), MeterChange(2, Meter(3, 4)))),
        lambda: PlayedBeats((1.0,)),
        lambda: PlayedBeats((1.0, 0.5)),
        lambda: PlayedBeats((1.0, 1.5), stiffness=2.0),
        lambda: Bend(0.0, 4.0, 1e4),
        lambda: Grid(first_beat_s=float("inf")),
        lambda: Meter.parse("4/5"),
        lambda: Meter.parse("waltz"),
        lambda: Subdivision.parse("1/7"),
        lambda: Ruling.parse("1/8+"),
    ],
)
def test_nonsense_is_refused_in_one_sentence(make):
    """Values that make no sense say so."""
    with pytest.raises(UsageError, match=r"\."):
        make()


@given(grids, st.floats(0, 100), st.floats(1, 30))
def test_every_slot_is_found_again_by_its_place(grid, start, length):
    """Places name slots, whatever the swing: each leads back to a slot of that place, from a little beside as well."""
    slots = grid.slots(start, start + length)
    assert np.array_equal(slots.place[slots.at(slots.place)], slots.place)
    rising = np.sort(slots.place)
    beside = rising[:-1] + 0.3 * np.diff(rising)
    assert np.array_equal(slots.place[slots.at(beside)], rising[:-1])
    bar, slot = grid.slot_numbers(slots.place, slots.time_s)
    known, times = np.unique(slots.place, return_counts=True)
    once = np.isin(slots.place, known[times == 1])
    assert np.array_equal(bar[once], slots.bar[once])
    assert np.array_equal(slot[once], slots.slot[once])
