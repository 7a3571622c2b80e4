"""Tempo, beats and rulings found from hits alone."""

import numpy as np
import pytest

from supple_snare.timing.meter import Meter
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.suggest import suggest_ruling
from supple_snare.timing.tempo import find_tempo
from tests.timing.bands import band


@pytest.mark.parametrize("tempo", [92.0, 97.37, 120.0, 143.5, 172.25])
@pytest.mark.parametrize(("counts", "off_beat"), [(4, 0.5), (4, 0.64), (3, 0.5)])
def test_a_steady_tempo_is_found_exactly(tempo, counts, off_beat):
    """Straight or swung, in four or three: tempo, first beat and meter; half and double are among the runners-up."""
    time, level, lead, start = band(tempo, counts=counts, off_beat=off_beat)
    readings = find_tempo(time, level, lead)
    best = readings[0]
    assert best.steady
    assert best.grid.tempo_bpm == pytest.approx(tempo, abs=0.03)
    assert best.grid.meter == Meter(counts, 4)
    away = (best.grid.first_beat_s - start[0]) * tempo / 60.0
    assert abs(away - round(away)) * 60.0 / tempo < 0.006
    assert sum(reading.confidence for reading in readings) <= 1.0 + 1e-9
    assert len({round(np.log(reading.felt_bpm), 1) for reading in readings}) == len(readings)


def test_a_whole_number_is_read_where_drift_hides_it():
    """What the hits alone say is the last reading, and said beside the first."""
    time, level, lead, start = band(110.0, bars=16)
    late_s = 0.015 * np.sin((time - start[0]) * 110.0 / 600.0)
    best, *others = find_tempo(time + late_s, level, lead)
    assert best.grid.tempo_bpm == 110.0
    beats = (start[0] - best.grid.bar_time_s(1)) / (60.0 / 110.0)
    assert beats == pytest.approx(round(beats), abs=0.01)
    assert best.measured_bpm == others[-1].grid.tempo_bpm != pytest.approx(110.0, abs=0.02)
    assert others[-1].felt_bpm == pytest.approx(best.felt_bpm, rel=0.01)
    assert f"or {best.measured_bpm:.2f} with no drift" in best.in_words


@pytest.mark.parametrize("tempo", [84.0, 118.0, 150.0])
def test_a_wandering_tempo_is_followed_beat_by_beat(tempo):
    """Four per cent up and down: every beat within 35 ms."""
    time, level, lead, start = band(tempo, wander=0.04, bars=32)
    best = find_tempo(time, level, lead)[0]
    assert not best.steady
    beats = best.beats_s(0.0, float(start[-1]) + 0.1)
    nearest = np.abs(beats[:, None] - start).min(axis=0)
    assert np.mean(nearest < 0.035) > 0.97
    assert best.wander == pytest.approx(0.04, abs=0.02)


def test_eighths_in_threes_are_six_eight():
    """All three of a beat played: dotted beats, told as quarter notes a minute."""
    rng = np.random.default_rng(2)
    eighth = 0.21
    place = np.arange(6 * 24)
    time = 0.4 + place * eighth + rng.normal(0, 0.005, len(place))
    lead = np.select([place % 6 == 0, place % 6 == 3], [0, 1], 2)
    best = find_tempo(time, np.where(lead < 2, -3.0, -10.0), lead)[0]
    assert best.grid.meter == Meter(6, 8)
    assert best.grid.tempo_bpm == pytest.approx(60.0 / (2 * eighth), abs=0.05)


def song(start_s, tempo, *, without=0, pick_up=()):
    """Sixteen bars of four for low drum, back beat and timekeeper, every eighth with a fill; the first at `start_s`."""
    rng = np.random.default_rng(5)
    low, back, hat = (0.0, 2.5), (1.0, 3.0), np.arange(8) / 2
    rows = []
    for bar in range(16):
        fill = bar % 8 == 7
        rows += [(4 * bar + beat, -3.0, 0) for beat in low if not fill or beat < 2.0]
        rows += [(4 * bar + beat, -4.0, 1) for beat in (np.arange(8, 16) / 4 if fill else back)]
        rows += [(4 * bar + beat, -12.0, 2) for beat in hat]
    rows = [row for row in rows if row[0] >= without] + [(-beat, -5.0, 1) for beat in pick_up]
    beat, level, lead = (np.array(column) for column in zip(*sorted(rows), strict=True))
    time = start_s + beat * 60.0 / tempo + rng.normal(0, 0.006, len(beat))
    order = np.argsort(time)
    return time[order], level[order], lead[order].astype(np.int64)


@pytest.mark.parametrize(
    ("without", "pick_up"), [(0, ()), (0, (1.0, 0.5)), (0, (2.0, 1.5, 1.0, 0.75, 0.5, 0.25)), (1, ()), (2, ()), (5, ())]
)
@pytest.mark.parametrize("knows_sound", [True, False])
def test_bars_begin_where_the_pattern_does(without, pick_up, knows_sound):
    """Not with the first stroke: after a pick-up, and before what is missing of the first bar."""
    time, level, lead = song(6.0, 104.0, without=without, pick_up=pick_up)
    centre = np.array([80.0, 400.0, 6000.0]) if knows_sound else None
    best = find_tempo(time, level, lead, centre_hz=centre)[0]
    assert best.grid.meter == Meter()
    first = 6.0 + (without // 4 + (without % 4 >= 2)) * 4 * 60.0 / 104.0
    assert best.grid.first_beat_s == pytest.approx(first, abs=0.01)
    assert not (knows_sound and best.is_bar_unsure)


def test_bar_1_begins_within_the_recording():
    """Where the bar of the first stroke began before the recording does, its rest is a pick-up."""
    time, level, lead = song(-0.2, 104.0, without=1)
    best = find_tempo(time, level, lead)[0]
    assert best.grid.first_beat_s == pytest.approx(-0.2 + 4 * 60.0 / 104.0, abs=0.01)


def test_too_little_tells_nothing():
    """A handful of hits is no tempo, and a few strokes are no ruling."""
    few = np.arange(6) * 0.5
    assert find_tempo(few, np.zeros(6), np.zeros(6, dtype=np.int64)) == []
    assert suggest_ruling(few, 0.5) == []


_PLAYED = {
    "1/8": ([0.0, 0.5], 0.5),
    "1/16": ([0.0, 0.25, 0.5, 0.75], 0.5),
    "1/8T": ([0.0, 1 / 3, 2 / 3], 0.5),
    "1/8 swung": ([0.0, 0.62], 0.62),
    "1/16 swung": ([0.0, 0.29, 0.5, 0.79], 0.58),
    "1/16, 1/8 swung": ([0.0, 0.295, 0.59, 0.795], 0.59),
}


@pytest.mark.parametrize("name", _PLAYED)
@pytest.mark.parametrize("drift", [0.0, 0.08])
def test_the_ruling_played_is_suggested(name, drift):
    """With scatter, gaps and drift; the swing within a point of what was played."""
    places, swing = _PLAYED[name]
    rng = np.random.default_rng(len(name))
    beat = (np.arange(32)[:, None] + places).ravel()
    beat = beat[rng.random(len(beat)) < 0.85]
    played = beat + drift * np.sin(beat / 6.0) + rng.normal(0, 0.010, len(beat))
    best = suggest_ruling(np.sort(played), 0.5)[0]
    assert best.ruling.in_words.startswith(name)
    assert best.ruling.swing == pytest.approx(swing, abs=0.012)
    assert best.share > 0.9
    assert best.spread_ms == pytest.approx(5.0, abs=2.0)


def test_straight_and_triplet_beats_side_by_side_are_a_mixture():
    """Every fourth beat in triplets among sixteenths."""
    rng = np.random.default_rng(4)
    beats = [number + np.array([0, 1 / 3, 2 / 3] if number % 4 == 3 else [0, 0.25, 0.5, 0.75]) for number in range(32)]
    played = np.concatenate(beats) + rng.normal(0, 0.008, sum(map(len, beats)))
    assert str(suggest_ruling(np.sort(played), 0.55)[0].ruling) == "1/16+1/8T"


@pytest.mark.parametrize(
    ("name", "now", "better"),
    [("1/8T", "1/16", "1/8T"), ("1/16 swung", "1/16", "1/16"), ("1/16", "1/16", None), ("1/8", "1/16", None)],
)
def test_slots_that_do_not_fit_are_told_from_those_that_do(name, now, better):
    """Triplets and swing on plain sixteenths are; what stands on some of its lines only is not."""
    rng = np.random.default_rng(7)
    beat = (np.arange(24)[:, None] + _PLAYED[name][0]).ravel()
    played = np.sort(beat + rng.normal(0, 0.014, len(beat)))
    candidates = suggest_ruling(played, 0.5, now=Ruling.parse(now))
    in_force = next(each for each in candidates if each.ruling == Ruling.parse(now))
    assert candidates[0].is_plainly_better(in_force) is (better is not None)
    if better is not None:
        assert str(candidates[0].ruling) == better


def test_loose_swing_on_plain_sixteenths_is_told():
    """58 % played with 12 ms of scatter: no lines more are needed to explain it."""
    rng = np.random.default_rng(12)
    beat = (np.arange(48)[:, None] + np.array([0.0, 0.29, 0.5, 0.79])).ravel()
    played = np.sort(beat + rng.normal(0, 0.012 / 0.65, len(beat)))
    candidates = suggest_ruling(played, 0.65, now=Ruling())
    in_force = next(each for each in candidates if each.ruling == Ruling())
    assert candidates[0].spread_ms > 10.0
    assert candidates[0].is_plainly_better(in_force)
    taken = candidates[0].ruling
    assert [each.ruling for each in suggest_ruling(played, 0.65, now=taken) if each.ruling.is_like(taken)] == [taken]


def test_loose_playing_is_not_sent_to_denser_slots():
    """Quarters with 22 ms of scatter, laid to triplets: a mixture of all lines lies nearer to them by chance."""
    for seed in range(6):
        played = np.sort(np.arange(150) + np.random.default_rng(seed).normal(0, 0.022 / 0.577, 150))
        candidates = suggest_ruling(played, 0.577, now=Ruling.parse("1/8T"))
        assert not candidates[0].is_plainly_better(next(c for c in candidates if c.ruling == Ruling.parse("1/8T")))


_WRITTEN = {  # low drum, snare, hat; sixteenths
    "back beat in eighths": (128.0, "x.......x.x.....", "....x.......x...", "x.o.x.o.x.o.x.o."),
    "sixteenths throughout": (78.0, "x.....o.x.......", "....x.......x...", "xoooxoooxoooxooo"),
    "accents between beats": (110.0, "x...x...x...x...", "ggxgggxgggxgggxg", "................"),
    "nothing on one": (68.0, "........x.......", "........x.....g.", "x.x.x.x.x.x.x.xo"),
    "across the beat": (73.0, "x..xx..xx..xx..x", "x..x..x...x..x..", "xoxoxoxoxoxoxoxo"),
    "feet throughout": (101.0, "xxxxxxxxxxxxxxxx", "....x.......x...", "x...x...x...x..."),
    "march, with a tom in fills": (112.0, "x.......x.......", "x.oox.o.xgoox.oo", "................"),
}


@pytest.mark.parametrize("wander", [0.0, 0.03])
@pytest.mark.parametrize("name", _WRITTEN)
def test_a_written_rhythm_is_counted_as_it_is_written(name, wander):
    """However busy: no twice the tempo, no beat between the beats, none that slips to a place that looks alike."""
    tempo, *rows = _WRITTEN[name]
    rng = np.random.default_rng(5)
    quarter_s = 60.0 / (tempo * (1.0 + wander * np.sin(np.arange(4 * 24 + 1) / 9.0)))
    beats_s = 0.5 + np.concatenate([[0.0], np.cumsum(quarter_s)])
    found = []
    for lead, row in enumerate(rows):
        for bar in range(24):
            marks = "..oooo.oo" if "tom" in name and lead == 2 and bar % 8 == 7 else row
            found += [(bar * 4 + slot / 4, lead, mark) for slot, mark in enumerate(marks) if mark != "."]
    place, lead, mark = (np.array(column) for column in zip(*found, strict=True))
    time = np.interp(place, np.arange(len(beats_s)), beats_s) + rng.normal(0.0, 0.006, len(place))
    level = np.array([{"x": -3.0, "o": -9.0, "g": -20.0}[each] for each in mark]) + rng.normal(0.0, 1.0, len(mark))
    order = np.argsort(time)
    best = find_tempo(time[order], level[order], lead[order])[0]
    beats = best.beats_s(0.0, float(beats_s[-2]))
    nearest = np.abs(beats[:, None] - beats_s[:-2]).min(axis=0)
    assert len(beats) == pytest.approx(4 * 24, abs=3)
    assert np.mean(nearest < 0.035) > 0.97
