"""Strokes: leads joined by rank, flams and rolls timed once."""

import math

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.kinds import mark_grace_and_rolls
from supple_snare.timing.leads import Stand, suggest_leads
from supple_snare.timing.strokes import gather_strokes

CLOSE, NOTES, FAR = Stand.CLOSE, Stand.NOTES, Stand.FAR

times = st.lists(st.floats(0, 60), max_size=40).map(lambda values: np.unique(np.round(values, 4)))


@given(times, times)
def test_every_hit_of_a_lead_is_in_exactly_one_stroke(first, second):
    """No hit is lost or counted twice, and the first lead decides wherever it plays."""
    strokes = gather_strokes([Hits.of(first), Hits.of(second)])
    for rank, hits in enumerate((first, second)):
        own = strokes.lead_times_s[:, rank]
        assert np.array_equal(np.sort(own[np.isfinite(own)]), hits)
    led = np.isfinite(strokes.lead_times_s[:, 0])
    assert np.array_equal(strokes.time_s[led], strokes.lead_times_s[led, 0])
    assert np.all(np.diff(strokes.time_s) >= 0)
    assert strokes.spread_ms().max(initial=0.0) <= 30.0 + 1e-6


def test_no_leads_make_no_strokes():
    """Silence is an answer."""
    assert len(gather_strokes([])) == 0
    assert len(gather_strokes([Hits.none()]).spread_ms()) == 0


def test_bleed_never_decides():
    """Only played hits make strokes."""
    strokes = gather_strokes([Hits.of([1.0, 2.0], kind=[Kind.BLEED, Kind.PLAYED])])
    assert strokes.time_s.tolist() == [2.0]


def test_a_flam_is_timed_by_its_main_hit():
    """The soft hit just before becomes grace; two equal hits that close stay two strokes."""
    flam = mark_grace_and_rolls(Hits.of([1.0, 1.026], level_db=[-20.0, -8.0]))
    assert flam.kind.tolist() == [Kind.GRACE, Kind.PLAYED]
    pair = mark_grace_and_rolls(Hits.of([1.0, 1.035], level_db=[-8.0, -8.0]))
    assert pair.kind.tolist() == [Kind.PLAYED, Kind.PLAYED]


def test_a_roll_is_timed_by_its_start_and_fast_strokes_are_no_roll():
    """Bounces 35 ms apart are a roll, sixteenths at 195 bpm are not."""
    roll = mark_grace_and_rolls(Hits.of(1.0 + 0.035 * np.arange(12), level_db=-10.0))
    assert roll.kind.tolist() == [Kind.PLAYED] + [Kind.ROLL] * 11
    fast = mark_grace_and_rolls(Hits.of(1.0 + 60 / 195 / 4 * np.arange(12), level_db=-10.0))
    assert set(fast.kind.tolist()) == {Kind.PLAYED}


def test_a_roll_of_which_bounces_were_not_found_is_one_all_the_same():
    """But an accent that follows it soon is a stroke of its own."""
    bounces_s = np.delete(1.0 + 0.030 * np.arange(14), [1, 3, 11])
    time_s = [*bounces_s, bounces_s[-1] + 0.065]
    roll = mark_grace_and_rolls(Hits.of(time_s, level_db=[-3.0, *np.full(10, -12.0), -4.0]))
    assert roll.kind.tolist() == [Kind.PLAYED] + [Kind.ROLL] * 10 + [Kind.PLAYED]


def test_a_roll_of_which_hardly_three_bounces_follow_one_another_is_one():
    """Every third bounce was not found, later every second. Sixteenths at 150 bpm with a flam each are no roll."""
    found_s = 1.0 + 0.036 * np.delete(np.arange(18), [3, 6, 8, 10, 12, 14, 16])
    roll = mark_grace_and_rolls(Hits.of(found_s, level_db=-10.0))
    assert roll.kind.tolist() == [Kind.PLAYED] + [Kind.ROLL] * (len(found_s) - 1)
    main_s = 1.0 + 0.1 * np.arange(10)
    flams = mark_grace_and_rolls(
        Hits.of(np.sort([*main_s, *(main_s - 0.028)]), level_db=np.tile([-18.0, -8.0], len(main_s)))
    )
    assert flams.kind.tolist() == [Kind.GRACE, Kind.PLAYED] * len(main_s)


def test_bleed_upon_a_stroke_makes_no_roll():
    """A low drum that beats with itself seems to begin again and again, as loud as it was struck."""
    hits = Hits.of(1.0 + 0.034 * np.arange(8), level_db=-10.0, kind=[Kind.PLAYED] + [Kind.BLEED] * 7)
    roll = mark_grace_and_rolls(Hits.of([*hits.time_s, 3.0], level_db=-10.0, kind=[*hits.kind, Kind.PLAYED]))
    assert roll.kind.tolist() == [*hits.kind, Kind.PLAYED]


def test_close_microphones_lead_the_busiest_drum_first():
    """A drum of soft strokes under loud bleed leads too; one that never plays does not."""
    snare = Hits.of(np.arange(8.0), level_db=-6.0)
    soft = Hits.of(np.arange(20.0), level_db=[-30.0] * 10 + [-8.0] * 10, kind=[0] * 10 + [Kind.BLEED] * 10)
    idle = Hits.of(np.arange(20.0), level_db=-12.0, kind=[Kind.BLEED] * 20)
    assert suggest_leads([idle, snare, soft], [CLOSE] * 3, [math.inf, 300.0, 120.0]) == [2, 1]


def test_a_far_microphone_does_not_lead_beside_a_close_one():
    """It is the only one to hear the cymbals, and hears everything late; alone it must do."""
    over, close = Hits.of(np.arange(20.0)), Hits.of(np.arange(8.0))
    assert suggest_leads([over, close], [FAR, CLOSE], [900.0, 300.0]) == [1]
    assert suggest_leads([over, close], [FAR, FAR], [900.0, 300.0]) == [0, 1]


def test_a_hat_leads_only_where_no_drum_is_struck():
    """It has the most strokes, but what is struck with it covers it."""
    hat, snare, kick = Hits.of(np.arange(32.0)), Hits.of(np.arange(8.0)), Hits.of(np.arange(10.0))
    assert suggest_leads([hat, snare, kick], [CLOSE] * 3, [7_000.0, 400.0, 110.0]) == [2, 1, 0]


def test_notes_follow_the_drums():
    """A bass may play more than anyone: struck together, the drum decides."""
    bass, snare, hat = Hits.of(np.arange(32.0)), Hits.of(np.arange(8.0)), Hits.of(np.arange(20.0) + 0.5)
    assert suggest_leads([bass, snare, hat], [NOTES, CLOSE, CLOSE], [90.0, 400.0, 7_000.0]) == [1, 2, 0]


def test_an_overhead_leads_after_the_few_drums_that_have_a_microphone():
    """It has more strokes than they, and goes before notes. Where a third drum has one, only cymbals are left to it."""
    over, snare, bass = Hits.of(np.arange(32.0)), Hits.of(np.arange(8.0)), Hits.of(np.arange(40.0) + 0.5)
    stands, centre_hz = [NOTES, Stand.WIDE, CLOSE], [90.0, 500.0, 400.0]
    assert suggest_leads([bass, over, snare], stands, centre_hz) == [2, 1, 0]
    kick, below, tom = Hits.of(np.arange(12.0) + 0.25), Hits.of(np.arange(8.0) + 0.0004), Hits.of(np.arange(6.0) + 0.7)
    two = [bass, over, snare, below, kick]
    assert suggest_leads(two, [*stands, CLOSE, CLOSE], [*centre_hz, 3_000.0, 90.0]) == [4, 2, 3, 1, 0]
    assert suggest_leads([*two, tom], [*stands, *[CLOSE] * 3], [*centre_hz, 3_000.0, 90.0, 200.0]) == [4, 2, 3, 5, 0]


def test_of_a_pair_one_side_leads():
    """They hear the same strokes, give or take; two kits that play along with one another both lead."""
    rng = np.random.default_rng(2)
    left_s = np.arange(0.0, 20.0, 0.25)
    right_s = left_s[:-9] + rng.normal(0.0, 0.003, len(left_s) - 9)
    left, right, other = (Hits.of(each) for each in (left_s, right_s, left_s + rng.normal(0.0, 0.012, len(left_s))))
    assert suggest_leads([right, left], [Stand.WIDE] * 2, [900.0, 900.0]) == [1]
    assert len(suggest_leads([right, left, other], [Stand.WIDE] * 3, [900.0] * 3)) == 2


def test_of_two_microphones_of_one_drum_the_nearer_leads():
    """Although the one from below hears a stroke more, and sounds as high as a hat."""
    struck_s = np.arange(12.0)
    below, kick, above = Hits.of(struck_s + 0.0004), Hits.of(np.arange(10.0) + 0.5), Hits.of(struck_s[:-1])
    assert suggest_leads([below, kick, above], [CLOSE] * 3, [3_000.0, 90.0, 400.0]) == [2, 0, 1]
