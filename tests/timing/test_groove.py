"""Groove templates: taken, changed, compared, and laid over other performances."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.grid import Grid, RuledSection
from supple_snare.timing.groove import (
    Groove,
    GrooveSlot,
    groove_accents_db,
    groove_of_notes,
    groove_target_ms,
    likeness,
    look_up,
    take_groove,
)
from supple_snare.timing.hits import Hits
from supple_snare.timing.meter import Meter
from supple_snare.timing.offsets import FeelRules, measure_offsets
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.strokes import gather_strokes

EIGHTHS = Ruling(Subdivision(8))


def groove(offsets_ms, *, step=0.5, tempo=100.0, cycle=None, **more):
    """A template with a slot at every step."""
    beats = np.asarray(offsets_ms) * tempo / 60_000.0
    slots = tuple(
        GrooveSlot(step * i, float(b), float(ms), accent_db=float(i), count=4)
        for i, (b, ms) in enumerate(zip(beats, offsets_ms, strict=True))
    )
    return Groove("G", cycle or step * len(slots), slots, tempo, **more)


def strokes_at(grid, beats, late_ms=0.0, level_db=None):
    """Strokes and offsets of notes at beats from bar 1."""
    time = grid.course.time_at(beats) + np.asarray(late_ms) / 1000.0
    level = np.full(len(time), -12.0) if level_db is None else level_db
    strokes = gather_strokes([Hits.of(time, level_db=level)])
    return strokes, measure_offsets(strokes, grid, rules=FeelRules(Cycle(1)))


offsets_lists = st.lists(st.floats(-30, 30), min_size=8, max_size=8)


@settings(max_examples=25)
@given(offsets_lists, st.sampled_from([70.0, 100.0, 160.0]), st.sampled_from([0.5, 0.58, 0.66]))
def test_a_template_given_to_an_even_performance_is_played_back(offsets, tempo, swing):
    """Whatever the template and the tempo, an even part tightened to it has its offsets, at swing or without."""
    made = groove(offsets).centred()
    grid = Grid(tempo, 1.0, ruling=replace(EIGHTHS, swing=swing))
    slots = grid.slots(1.0, 30.0)
    beats = (slots.place + slots.beat - slots.place % 4)[8:-8]
    strokes, measured = strokes_at(grid, beats)
    target = groove_target_ms(made, measured, grid, by_tempo=True, between=True)
    from_straight = measured.grid_s + target / 1000.0 - grid.course.time_at(measured.place)
    place = np.rint(measured.place % 4 * 2).astype(int)
    assert from_straight * 1000 == pytest.approx(made.offset_ms[place] * 100.0 / tempo, abs=1e-6)
    played = gather_strokes([Hits.of(strokes.time_s + target / 1000.0)])
    plain = Grid(tempo, 1.0, ruling=EIGHTHS)
    again = take_groove(played, measure_offsets(played, plain, rules=FeelRules(Cycle(1))), plain,
                        np.ones(len(played), dtype=bool), name="again")  # fmt: skip
    assert again.offset_beats == pytest.approx(made.offset_beats, abs=tempo / 60_000.0)


def test_offsets_grow_as_the_tempo_falls_or_stay_in_ms():
    """Twice as slow is twice as late, unless kept in ms."""
    grid = Grid(50.0, 0.0, ruling=EIGHTHS)
    _, measured = strokes_at(grid, np.arange(1, 17) * 0.5)
    made = groove([0, 12.0])
    wide = groove_target_ms(made, measured, grid, by_tempo=True, between=True)
    same = groove_target_ms(made, measured, grid, by_tempo=False, between=True)
    assert wide[:2] == pytest.approx([24.0, 0.0], abs=1e-6)
    assert same[:2] == pytest.approx([12.0, 0.0], abs=1e-6)


def test_slots_it_does_not_know_go_along_or_keep_to_the_grid():
    """Sixteenths under a template of eighths: halfway between their neighbours, or on the grid."""
    grid = Grid(100.0, 0.0)
    _, measured = strokes_at(grid, np.arange(16) * 0.25 + 4)
    made = groove([10.0, -6.0, 10.0, -6.0, 10.0, -6.0, 10.0, -6.0])
    along = groove_target_ms(made, measured, grid, by_tempo=True, between=True)
    apart = groove_target_ms(made, measured, grid, by_tempo=True, between=False)
    assert along[:4] == pytest.approx([10.0, 2.0, -6.0, 2.0], abs=1e-6)
    assert apart[:4] == pytest.approx([10.0, 0.0, -6.0, 0.0], abs=1e-6)


def test_swing_of_the_grid_and_of_the_template_do_not_add_up():
    """A swung template over a swung grid stands where it stands over a straight one."""
    made = groove([0.0, 80.0])
    at = []
    for swing in (0.5, 0.6):
        grid = Grid(100.0, 0.0, ruling=Ruling(Subdivision(8), swing=swing))
        beats = np.arange(8, 24) * 0.5
        beats[1::2] += 2 * (swing - 0.5) * 0.5
        _, measured = strokes_at(grid, beats)
        at.append(measured.grid_s * 1000 + groove_target_ms(made, measured, grid, by_tempo=True, between=True))
    assert at[0] == pytest.approx(at[1], abs=1e-6)


def test_a_taken_template_tells_offset_spread_accent_and_count():
    """Swing counts from the straight slot; wild strokes do not; the loud slot has an accent."""
    rng = np.random.default_rng(3)
    grid = Grid(100.0, 1.0, ruling=Ruling(Subdivision(8), swing=0.6))
    beats = np.arange(8 * 24) * 0.5
    late = np.where(np.arange(len(beats)) % 8 == 2, 8.0, 0.0) + rng.normal(0, 3, len(beats))
    late[40] += 90.0
    swung = beats + np.where(np.arange(len(beats)) % 2, 0.1, 0.0)
    level = np.where(np.arange(len(beats)) % 8 == 2, -6.0, -18.0)
    strokes, measured = strokes_at(grid, swung, late, level)
    taken = take_groove(strokes, measured, grid, np.ones(len(strokes), dtype=bool), name="Taken", source="here")
    assert taken.cycle_beats == 4.0
    assert taken.position_beats == pytest.approx(np.arange(8) * 0.5)
    assert taken.offset_ms == pytest.approx([-1, 59, 7, 59, -1, 59, -1, 59], abs=2.0)
    assert taken.mean_ms == pytest.approx(0.0, abs=0.1)
    assert taken.spread_ms == pytest.approx(np.full(8, 3.0), abs=1.4)
    assert taken.accent_db[2] - taken.accent_db[1] == pytest.approx(12.0, abs=0.5)
    assert taken.count.sum() == len(strokes)
    shifted = take_groove(strokes, measured, grid, strokes.time_s > 0, name="Taken", centred=False)
    assert shifted.mean_ms == pytest.approx(np.mean(late[late < 50]), abs=0.7)


def test_a_selection_of_nothing_gives_no_template():
    """In words."""
    grid = Grid(100.0, 1.0)
    strokes, measured = strokes_at(grid, np.arange(4.0))
    with pytest.raises(UsageError, match="slot"):
        take_groove(strokes, measured, grid, np.zeros(4, dtype=bool), name="None")


def test_templates_are_changed_in_words_of_music():
    """Centred, scaled, thinned, one slot dragged, accents taken from another: nothing else changes."""
    made = groove([6.0, 10.0, 2.0, 10.0])
    assert made.mean_ms == pytest.approx(7.0)
    assert made.centred().offset_ms == pytest.approx([-1, 3, -5, 3])
    assert made.scaled(0.5).offset_beats == pytest.approx(made.offset_beats / 2)
    assert made.with_slot(2, -4.0).offset_ms.tolist() == [6.0, 10.0, -4.0, 10.0]
    rare = replace(made, slots=(replace(made.slots[0], count=1), *made.slots[1:]))
    assert len(rare.thinned(2).slots) == 3
    with pytest.raises(UsageError, match="5 strokes"):
        made.thinned(5)
    joined = made.with_accents_of(groove([0.0, 0.0], cycle=1.0))
    assert joined.accent_db.tolist() == [0.0, 1.0, 0.0, 1.0]
    assert joined.offset_ms.tolist() == made.offset_ms.tolist()


def test_comparing_tells_differences_and_one_figure():
    """The same is 1, the opposite below 0, a slot the other does not know is left out."""
    made = groove([6.0, -6.0, 2.0, -2.0])
    difference, rms, alike = likeness(made, made)
    assert (difference == 0.0).all()
    assert (rms, alike) == (0.0, 1.0)
    _, rms, alike = likeness(made, made.scaled(-1.0))
    assert alike == pytest.approx(-1.0)
    assert rms == pytest.approx(2 * np.sqrt(20), rel=1e-6)
    difference, _, _ = likeness(made, groove([9.0], step=2.0))
    assert difference[0] == pytest.approx(3.0)
    assert np.isnan(difference[1:]).all()


def test_a_two_bar_template_begins_with_its_section():
    """Its first bar stands under the first bar of each section; a cycle of a beat begins anew with each bar."""
    quarters = Ruling(Subdivision(4))
    grid = Grid(60.0, 0.0, ruling=quarters, sections=(RuledSection(0.0, quarters), RuledSection(12.0, quarters)))
    _, measured = strokes_at(grid, np.arange(24.0))
    made = groove([20.0] + [0.0] * 7, step=1.0)
    target = groove_target_ms(made, measured, grid, by_tempo=True, between=False)
    assert np.flatnonzero(np.abs(target) > 1).tolist() == [0, 8, 12, 20]
    three = Grid(60.0, 0.0, Meter(3, 4), Ruling(Subdivision(8)))
    _, measured = strokes_at(three, np.arange(12) * 0.5)
    target = groove_target_ms(groove([0.0, 9.0]), measured, three, by_tempo=True, between=False)
    assert np.flatnonzero(np.abs(target) > 1).tolist() == [1, 3, 5, 7, 9, 11]
    accents = groove_accents_db(groove([0.0], step=1.0, cycle=1.0), measured, three)
    assert np.isnan(accents[1])
    assert accents[0] == 0.0


@settings(max_examples=60)
@given(st.sets(st.integers(0, 63), min_size=1, max_size=20), st.floats(0, 15.999))
def test_any_place_lies_between_two_slots_or_on_one(slots, place):
    """Round the end of the cycle too; a value is never outside those of its two slots."""
    made = Groove("G", 16.0, tuple(GrooveSlot(s / 4, 0.01 * s, 5.0) for s in sorted(slots)), 120.0)
    found = look_up(made, np.array([place]))
    value = float(found.of(made.offset_beats)[0])
    ends = made.offset_beats[[found.left[0], found.right[0]]]
    assert min(ends) - 1e-9 <= value <= max(ends) + 1e-9
    near = np.min(np.abs((made.position_beats - place + 8) % 16 - 8)) <= 0.02
    assert bool(found.known[0]) == bool(near)


@pytest.mark.parametrize(
    "changes",
    [
        {"cycle_beats": 0.0},
        {"cycle_beats": float("nan")},
        {"tempo_bpm": 0.0},
        {"slots": ()},
        {"slots": (GrooveSlot(0.0, 0.0, 0.0), GrooveSlot(0.001, 0.0, 0.0))},
        {"slots": (GrooveSlot(5.0, 0.0, 0.0),)},
        {"slots": (GrooveSlot(0.0, 0.0, float("inf")),)},
        {"slots": (GrooveSlot(0.0, 9.0, 0.0),)},
    ],
)
def test_a_template_that_makes_no_sense_is_refused(changes):
    """Before anything is moved by it."""
    with pytest.raises(UsageError):
        replace(groove([0.0] * 8), **changes)


def test_notes_of_a_file_find_their_slots():
    """Swung eighths are late eighths, sixteenths sixteenths, and a note before the start wraps round to it."""
    swung = groove_of_notes(np.array([0, 0.64, 1, 1.66]), np.zeros(4), 2.0, 120.0)
    assert swung.position_beats.tolist() == [0, 0.5, 1, 1.5]
    assert swung.offset_beats == pytest.approx([0, 0.14, 0, 0.16])
    sixteenths = groove_of_notes(np.array([0, 0.27, 0.5, 0.76, 3.99]), np.zeros(5), 4.0, 120.0)
    assert sixteenths.position_beats == pytest.approx([0, 0.25, 0.5, 0.75])
    assert sixteenths.offset_beats[0] == pytest.approx(-0.005)
    assert sixteenths.count[0] == 2
    with pytest.raises(UsageError, match="no notes"):
        groove_of_notes(np.zeros(0), np.zeros(0), 4.0, 120.0)
