"""Starts of attacks: the same whether or not something covers them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.sound.rises import BEFORE_S, SHARES, VIEWS, Rises
from supple_snare.sound.shapes import agreed_starts, likeness
from supple_snare.sound.starts import settle_starts
from supple_snare.timing.units import frozen
from tests.conftest import RATE_HZ, drum
from tests.sound.risen import COUNT, TRUTH, mixed_of, rises_of, some_strokes


def test_strokes_in_the_clear_start_where_they_start():
    """To a fifth of a millisecond, at any level."""
    assert settle_starts(rises_of(some_strokes()), 0.0) == pytest.approx(TRUTH, abs=0.0002)


@settings(max_examples=20)
@given(st.floats(-40.0, 20.0))
def test_gain_changes_no_start(gain_db):
    """The shares are of each attack's own peak."""
    gain = 10.0 ** (gain_db / 20.0)
    strokes = some_strokes()
    plain = settle_starts(rises_of(strokes), 0.0)
    assert settle_starts(rises_of([gain * stroke for stroke in strokes]), 0.0) == pytest.approx(plain, abs=1e-9)


@pytest.mark.parametrize("ahead_ms", [3.0, 6.0, 11.0])
def test_a_known_neighbour_ahead_makes_no_stroke_early(ahead_ms):
    """Half the strokes stand over another drum 18 dB down that began before; told so, they start as the others do."""
    rng = np.random.default_rng(5)
    strokes = some_strokes(levels=(0.7, 1.0))
    neighbour = 0.12 * drum(rng, 75.0)
    alone = rises_of(strokes)
    covered = rises_of(strokes, before=neighbour, ahead_s=ahead_ms / 1000.0)
    half = np.arange(COUNT) % 2 == 1
    mixed = mixed_of(half, covered, alone)
    told = np.where(half[:, None], 0.12, 0.0) * np.ones(len(VIEWS))
    untold_error = np.abs(settle_starts(mixed, 0.0) - TRUTH)[half]
    told_error = np.abs(settle_starts(mixed, told) - TRUTH)
    assert np.median(told_error[half]) < 0.001
    assert told_error.max() < ahead_ms / 1000.0
    assert np.median(told_error[half]) <= np.median(untold_error) + 1e-4
    assert told_error[~half].max() < 0.0002


@pytest.mark.parametrize("level", [0.08, 0.16])
def test_a_soft_neighbour_well_ahead_is_not_taken_for_the_start(level):
    """Told of nothing, the stroke with a neighbour's soft one 13.5 ms ahead starts as the others do, and so do they,
    whether it passes one share of their peak or two."""
    strokes = some_strokes(levels=(0.7, 1.0))
    alone = rises_of(strokes)
    covered = rises_of(strokes, before=level * drum(np.random.default_rng(7), 600.0), ahead_s=0.0135)
    one = np.arange(COUNT) == 4
    mixed = mixed_of(one, covered, alone)
    assert mixed.crossing_s[4, 0, 0] < TRUTH[4] - 0.010
    assert settle_starts(mixed, 0.0) == pytest.approx(TRUTH, abs=0.0005)


def test_each_way_to_rise_tells_of_its_own_kind():
    """A drum struck in two ways, one with a click before a deeper body: what covers some clicks makes nobody late."""
    rng = np.random.default_rng(11)
    plain = [drum(rng, 190.0) * rng.uniform(0.7, 1.0) for _ in range(COUNT)]
    lead = round(0.004 * RATE_HZ)
    click = 0.06 * rng.normal(size=lead) * np.hanning(2 * lead)[lead:]
    time = np.arange(12_000) / RATE_HZ
    deep = [np.sin(2 * np.pi * 60 * time) * np.exp(-time / 0.1) * rng.uniform(0.4, 0.6) for _ in range(COUNT)]
    clicked = [np.concatenate([click, stroke[: len(stroke) - lead]]) for stroke in deep]
    kind = np.arange(COUNT) % 2 == 1
    strokes = [clicked[i] if kind[i] else plain[i] for i in range(COUNT)]
    rises = rises_of(strokes)
    hidden = kind & (np.arange(COUNT) % 4 == 3)
    told = np.where(hidden[:, None], 0.1, 0.0) * rises.peak
    crossing_s = rises.crossing_s.copy()
    crossing_s[hidden, :, 0] -= 0.011  # something else passes the first share earlier
    disturbed = replace(rises, crossing_s=frozen(crossing_s))
    expected = settle_starts(rises, 0.0)
    assert settle_starts(disturbed, told) == pytest.approx(expected, abs=0.001)


def test_a_click_that_always_comes_as_early_is_the_drums_own():
    """Neighbours might cover every first moment, so no start is sure; what always lies alike is no neighbour's."""
    rng = np.random.default_rng(17)
    lead = round(0.0035 * RATE_HZ)
    time = np.arange(12_000) / RATE_HZ
    strokes = []
    for count in range(COUNT):
        body = np.sin(2 * np.pi * 60.0 * time) * np.exp(-time / 0.1) * rng.uniform(0.5, 0.9)
        stroke = drum(rng, 190.0)[: len(body)] * 0.7
        if count % 2:
            stroke = np.concatenate([0.2 * np.sin(2 * np.pi * 3000.0 * time[:lead]), body])[: len(body)]
        strokes.append(stroke)
    found = settle_starts(rises_of(strokes), 0.2 * rises_of(strokes).peak)
    assert found == pytest.approx(TRUTH, abs=0.001)


def test_noise_above_every_first_moment_makes_no_stroke_early():
    """Where no attack of a track is seen from its first shares on, they are not taken to last as long as the noise."""
    rng, back = np.random.default_rng(21), round(BEFORE_S * RATE_HZ)
    body = [drum(rng, 190.0) * level for level in rng.uniform(0.8, 1.0, COUNT)]
    noise = np.abs(np.concatenate(body)).max() * 0.16
    strokes = [stroke + noise * rng.uniform(-1.0, 1.0, len(stroke)) for stroke in body]
    found = settle_starts(rises_of(strokes, before=noise * rng.uniform(-1.0, 1.0, back), ahead_s=0.043), 0.0)
    assert np.abs(found - TRUTH).max() < 0.003


def test_what_began_just_before_is_no_start():
    """One stroke in twelve: a neighbour passes the first share 4 ms before, and nothing is known of it."""
    strokes, ahead = some_strokes(levels=(0.7, 1.0)), np.arange(COUNT) == 5
    neighbour = 0.09 * drum(np.random.default_rng(3), 3_000.0)
    mixed = mixed_of(ahead, rises_of(strokes, before=neighbour, ahead_s=0.004), rises_of(strokes))
    assert settle_starts(mixed, 0.0) == pytest.approx(TRUTH, abs=0.001)


@pytest.mark.parametrize(("bleed", "every", "seed"), [(0.05, 4, 4), (0.05, 4, 13), (0.10, 2, 1), (0.10, 2, 7)])
def test_few_strokes_over_ring_and_bleed_start_where_they_rise(bleed, every, seed):
    """A tom struck nine times, all but every fourth or second of them over its own ring and a neighbour's stroke."""
    rng, time, count = np.random.default_rng(seed), np.arange(24_000) / RATE_HZ, 9
    sounding = 0.5 * np.sin(2 * np.pi * 95.0 * time) * np.exp(-time / 0.25)
    neighbour, at = bleed * drum(rng, 600.0), round(0.032 * RATE_HZ)
    sounding[at : at + len(neighbour)] += neighbour[: len(sounding) - at]
    strokes = []
    for level in rng.uniform(0.5, 0.8, count):
        ring = np.sin(2 * np.pi * 95.0 * time + rng.uniform(0.0, 0.5)) * np.exp(-time / 0.25)
        click = 0.3 * rng.normal(size=len(time)) * np.exp(-time / 0.003)
        strokes.append(level * ((1.0 - np.exp(-time / 0.004)) * ring + click))
    covered = np.arange(count) % every != 0
    rises = mixed_of(covered, rises_of(strokes, before=sounding, ahead_s=0.043), rises_of(strokes))
    assert np.abs(settle_starts(rises, 0.0) - np.arange(1.0, count + 1.0)).max() < 0.001


def test_shares_are_passed_in_their_order():
    """A higher share is never passed before a lower one, in any view."""
    crossing_s = rises_of(some_strokes(seed=3)).crossing_s
    assert crossing_s.shape == (COUNT, len(VIEWS), len(SHARES))
    assert (np.diff(crossing_s, axis=2) >= 0.0).all()


def test_no_attacks_have_no_starts():
    """The empty answer."""
    assert len(settle_starts(Rises.joined([]), 0.0)) == 0


def slow_stroke(rng: np.random.Generator, level: float) -> np.ndarray:
    """A bass drum: a soft click of the beater, and 4 ms later the head."""
    lead, time = round(0.004 * RATE_HZ), np.arange(12_000) / RATE_HZ
    click = 0.08 * np.sin(2 * np.pi * 900 * time[:lead]) * np.linspace(1.0, 0.3, lead)
    body = (
        np.sin(2 * np.pi * (70 + 90 * np.exp(-time / 0.01)) * time) * np.exp(-time / 0.09) * np.minimum(time / 0.002, 1)
    )
    whole = np.concatenate([click, body])[: len(time)]
    return level * (whole + 0.002 * rng.normal(size=len(whole)))


def test_strokes_of_one_shape_agree_on_their_starts():
    """Some are read 4 ms late, where the head begins, one 5 ms early: all are laid where the others start. One that is
    no stroke of this drum stays where it was."""
    rng = np.random.default_rng(4)
    rises = rises_of([slow_stroke(rng, level) for level in rng.uniform(0.4, 1.0, COUNT)])
    read_s = TRUTH + np.where(np.arange(COUNT) % 4 == 1, 0.004, 0.0) - np.where(np.arange(COUNT) == 6, 0.005, 0.0)
    hidden = np.abs(read_s - TRUTH) > 0.001
    others = np.where(hidden, 0.2, 0.001) * rises.peak[:, 0]
    played = np.arange(COUNT) != 5
    agreed = agreed_starts(rises, read_s, others, played)
    assert agreed[played] == pytest.approx(TRUTH[played], abs=0.0003)
    assert agreed[5] == read_s[5]


def test_a_covered_stroke_is_told_by_the_few_that_are_most_like_it():
    """Two strokes as it was struck tell its start, not the many whose beater made no click and whose head sounds so
    much the same that together they would outweigh them."""
    rng = np.random.default_rng(4)
    strokes = [slow_stroke(rng, level) for level in rng.uniform(0.4, 1.0, COUNT)]
    at = np.arange(round(0.004 * RATE_HZ), 11_000, 1.25)
    strokes[3:] = [np.interp(at, np.arange(len(stroke)), stroke) for stroke in strokes[3:]]
    rises = rises_of(strokes)
    read_s = np.where(np.arange(COUNT) < 3, TRUTH, TRUTH + 0.0005)
    read_s[1] += 0.004
    others = np.where(np.arange(COUNT) == 1, 0.2, 0.001) * rises.peak[:, 0]
    agreed = agreed_starts(rises, read_s, others, np.ones(COUNT, dtype=bool))
    assert agreed[1] == pytest.approx(TRUTH[1], abs=0.0003)


def test_starts_that_come_again_and_again_are_examples_though_a_neighbour_is_expected():
    """A neighbour was expected beside every stroke, and nothing of it is heard: all starts but one are plain."""
    rng = np.random.default_rng(4)
    rises = rises_of([slow_stroke(rng, level) for level in rng.uniform(0.4, 1.0, COUNT)])
    read_s = rises.crossing_s[:, 0, 0].copy()
    read_s[1] += 0.004
    agreed = agreed_starts(rises, read_s, 0.2 * rises.peak[:, 0], np.ones(COUNT, dtype=bool))
    assert agreed[1] == pytest.approx(TRUTH[1], abs=0.0003)


def test_a_stroke_without_the_click_of_the_others_is_not_laid_earlier():
    """The beater of two strokes made no click: where the others have theirs, these have nothing to hear."""
    rng = np.random.default_rng(4)
    strokes = [slow_stroke(rng, level) for level in rng.uniform(0.4, 1.0, COUNT)]
    strokes[3:5] = [stroke[round(0.004 * RATE_HZ) :] for stroke in strokes[3:5]]
    rises = rises_of(strokes)
    clickless_s = TRUTH[3:5] + 0.0005  # 5 % of the peak are passed so late
    read_s = np.concatenate([TRUTH[:3], clickless_s, TRUTH[5:]])
    agreed = agreed_starts(rises, read_s, 0.04 * rises.peak[:, 0], np.ones(COUNT, dtype=bool))
    assert agreed == pytest.approx(read_s, abs=0.0007)


def test_strokes_that_do_not_sound_alike_keep_their_starts():
    """Notes of other pitches, and a lone stroke, have nobody to agree with."""
    rng = np.random.default_rng(8)
    rises = rises_of([drum(rng, tone) for tone in np.geomspace(80.0, 900.0, COUNT)])
    read_s = TRUTH + rng.uniform(-0.003, 0.003, COUNT)
    plain = np.full(COUNT, 0.001)
    assert agreed_starts(rises, read_s, plain, np.ones(COUNT, dtype=bool)) == pytest.approx(read_s)
    one = rises[np.array([0])]
    assert agreed_starts(one, read_s[:1], plain[:1], np.ones(1, dtype=bool)) == pytest.approx(read_s[:1])


def test_a_stroke_under_another_drum_is_still_like_its_own():
    """Soft strokes of one drum, half of them with another drum sounding as loud: they are like the loud ones of their
    own drum; strokes of the other drum are not. None is compared with itself."""
    rng = np.random.default_rng(6)
    own = [drum(rng, 190.0) * level for level in rng.uniform(0.5, 1.0, COUNT)]
    soft = [0.1 * stroke + 0.1 * (number % 2) * drum(rng, 75.0) for number, stroke in enumerate(own)]
    other = [drum(rng, 75.0) * level for level in rng.uniform(0.5, 1.0, COUNT)]
    rises = rises_of([*own, *soft, *other])
    start_s = np.arange(1.0, 3 * COUNT + 1.0)
    kind = np.repeat(np.arange(3), COUNT)
    most, more = likeness(rises, start_s, kind == 0)
    assert (more <= most).all()
    assert most[kind == 1].min() > most[kind == 2].max() + 0.1
    assert most[kind == 0].max() < 0.9999
    nobody, _ = likeness(rises, start_s, np.zeros(3 * COUNT, dtype=bool))
    assert not nobody.any()


def test_a_stroke_into_the_loud_ring_of_another_is_laid_over_its_like():
    """Shares of its peak are passed long before it begins: where the spectrum rises tells its start and its shape."""
    rng = np.random.default_rng(9)
    time = np.arange(12_000) / RATE_HZ
    ring = 1.2 * np.exp(-time / 0.4) * np.sin(2 * np.pi * 55.0 * time)
    plain = rises_of([drum(rng, 190.0) for _ in range(COUNT)])
    hidden = rises_of([drum(rng, 190.0) for _ in range(COUNT)], before=ring, ahead_s=0.03)
    mixed = Rises.joined([plain, replace(hidden, **later(hidden, COUNT))])
    assert (hidden.crossing_s[:, 0, 0] < TRUTH - 0.01).all()
    start_s = settle_starts(mixed, 0.0)
    assert np.abs(start_s - np.arange(1.0, 2 * COUNT + 1.0)).max() < 0.006
    most, _ = likeness(mixed, start_s, np.arange(2 * COUNT) < COUNT)
    assert most.min() > 0.3


def later(rises: Rises, by_s: float) -> dict[str, np.ndarray]:
    """Where attacks lie, some seconds later."""
    return {"crossing_s": frozen(rises.crossing_s + by_s), "centre_s": frozen(rises.centre_s + by_s)}


@pytest.mark.parametrize("away_s", [-0.009, 0.009])
def test_a_stroke_deep_under_what_sounds_is_laid_where_it_is_most_like_the_others_by_far(away_s):
    """A quarter of what is heard is something else, and the start was read 9 ms off: alike is it nowhere else."""
    rng = np.random.default_rng(12)
    strokes = [slow_stroke(rng, level) for level in rng.uniform(0.6, 1.0, COUNT)]
    noise = np.convolve(rng.normal(size=12_000), np.ones(24) / 24.0, "same")
    strokes[3] = strokes[3] + noise * 0.6 * np.std(strokes[3][:700]) / np.std(noise)
    rises = rises_of(strokes)
    read_s = TRUTH + np.where(np.arange(COUNT) == 3, away_s, 0.0)
    others = np.where(np.arange(COUNT) == 3, 0.5, 0.001) * rises.peak[:, 0]
    agreed = agreed_starts(rises, read_s, others, np.ones(COUNT, dtype=bool))
    assert agreed == pytest.approx(TRUTH, abs=0.0005)


def test_tones_that_are_alike_a_period_later_keep_their_starts():
    """A low tone that begins at any phase is as much like another of them here as a period away."""
    rng, time = np.random.default_rng(5), np.arange(12_000) / RATE_HZ
    phases = rng.uniform(0.0, 2.0 * np.pi, COUNT)
    rises = rises_of([np.sin(2.0 * np.pi * 110.0 * time + phase) * (1.0 - np.exp(-time / 0.004)) for phase in phases])
    others = np.where(np.arange(COUNT) % 2, 0.2, 0.001) * rises.peak[:, 0]
    agreed = agreed_starts(rises, TRUTH, others, np.ones(COUNT, dtype=bool))
    assert np.abs(agreed - TRUTH).max() <= 0.002
