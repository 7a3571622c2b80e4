"""Edits of the grid: what they leave where it is, and that a session keeps all of it on disk."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.session import grid_edits as edits
from supple_snare.session.document import SlotGiven
from supple_snare.session.edits import change_group
from supple_snare.session.section_edits import split_section
from supple_snare.session.storage import load_session, save_session
from supple_snare.timing.course import Bend, Pin, PlayedBeats
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter, MeterChange
from supple_snare.timing.ruling import Ruling
from tests.session.samples import sample_session

PLAYED = PlayedBeats(tuple(0.5 + 0.5 * n + 0.004 * (n % 3) for n in range(40)), 0.0, 1.0, 0.3, (Bend(8, 12, 118.0),))
GRIDS = {
    "steady": Grid(104.0, 1.2),
    "pinned": Grid(104.0, 1.2, pins=(Pin(8.0, 5.9), Pin(16.0, 10.4))),
    "followed": Grid(120.0, 0.5, played=PLAYED, pins=(Pin(20.0, 10.52),)),
}


def on(name: str):
    """The sample session on one of the grids, with a slot given by hand."""
    session = edits.with_grid(sample_session(), GRIDS[name])
    return change_group(session, "g1", slots_given=(SlotGiven(3.0, 5.25),))


@pytest.mark.parametrize("name", GRIDS)
def test_all_of_it_is_kept_on_disk(tmp_path, name):
    """Pins, beats, bends, meters, slots of sections, slots given by hand."""
    session = edits.set_meter(on(name), Meter(7, 8), from_bar=5)
    session = edits.set_pick_up(session, 1)
    session = split_section(session, 6.0)
    session = edits.set_ruling(session, "s2", Ruling.parse("1/16+1/8T", swing=0.58, swing_note=16))
    save_session(session, tmp_path)
    assert load_session(tmp_path) == session


@pytest.mark.parametrize("name", GRIDS)
@settings(max_examples=30)
@given(beats=st.integers(-9, 9))
def test_counting_from_another_beat_moves_no_line(name, beats):
    """Bar 1 is that beat, and counting back brings everything back."""
    before = on(name)
    after = edits.count_from(before, float(beats))
    places = np.arange(-4.0, 30.0)
    assert after.grid.course.time_at(places - beats) == pytest.approx(before.grid.course.time_at(places), abs=1e-6)
    assert after.group("g1").slots_given[0].place == pytest.approx(5.25 - beats)
    back = edits.count_from(after, float(-beats))
    assert back.grid.course.time_at(places) == pytest.approx(before.grid.course.time_at(places), abs=1e-6)


@pytest.mark.parametrize("name", GRIDS)
@pytest.mark.parametrize("factor", [0.5, 2 / 3, 1.5, 2.0])
def test_counting_in_other_beats_moves_no_line(name, factor):
    """Twice as many beats in the same time."""
    before = on(name)
    after = edits.scale_tempo(before, factor)
    places = np.arange(0.0, 30.0)
    assert after.grid.course.time_at(places * factor) == pytest.approx(before.grid.course.time_at(places), abs=1e-6)


def test_the_first_beat_is_placed(tmp_path):
    """A steady grid moves as a whole; followed beats stay and are counted from the nearest."""
    steady = edits.place_first_beat(on("pinned"), 1.25)
    assert steady.grid.bar_time_s([1, 3, 5]) == pytest.approx([1.25, 5.95, 10.45])
    followed = edits.place_first_beat(on("followed"), float(GRIDS["followed"].course.time_at(3.1)))
    assert float(followed.grid.bar_time_s(1)) == pytest.approx(float(GRIDS["followed"].course.time_at(3.0)), abs=1e-6)


def test_each_section_may_be_given_a_tempo():
    """From its first bar line to that of the next; what is before stays, what is after moves along."""
    session = edits.with_grid(sample_session(), Grid(120.0, 1.0))
    for start_s in (3.0, 7.0):
        session = split_section(session, start_s)
    session = edits.set_section_tempo(session, "s2", 100.0)
    session = edits.set_section_tempo(session, "s3", 150.0)
    session = edits.set_section_tempo(session, "s1", 96.0)
    assert np.diff(session.grid.bar_time_s([1, 2, 3, 4, 5, 6])) == pytest.approx([2.5, 2.4, 2.4, 1.6, 1.6])
    assert float(session.grid.bar_time_s(1)) == 1.0
    with pytest.raises(UsageError, match="follows the band"):
        edits.set_section_tempo(edits.follow_beats(session, PLAYED), "s2", 100.0)


def test_what_no_tempo_gives_is_refused():
    """Pins that cross, a range of nothing, a tempo out of all bounds: a sentence, and the session as it was."""
    session = on("pinned")
    for deed in (
        lambda: edits.pin_line(session, 12.0, 3.0),
        lambda: edits.span_beats(session, 2.0, 2.0, 4.0),
        lambda: edits.scale_tempo(edits.scale_tempo(session, 2.0), 2.0),
    ):
        with pytest.raises(UsageError, match=r"\.$"):
            deed()


def test_changes_of_meter_that_change_nothing_are_not_kept():
    """A pick-up taken back, a meter like the one before."""
    session = edits.set_pick_up(on("steady"), 2)
    assert edits.pick_up_counts(session.grid) == 2
    assert edits.set_pick_up(session, 0).take_grid.meter_changes == ()
    session = edits.set_meter(session, Meter(3, 4), from_bar=9)
    session = edits.set_meter(session, Meter(3, 4), from_bar=12)
    kept = (MeterChange(0, Meter(2, 4)), MeterChange(1, Meter()), MeterChange(9, Meter(3, 4)))
    assert session.take_grid.meter_changes == kept
    assert edits.remove_meter_change(session, 9).take_grid.meter_changes == kept[:2]
