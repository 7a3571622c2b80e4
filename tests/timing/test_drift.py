"""Drift found before any line is chosen, and what neighbours have in common."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.timing.drift_path import find_drift, slow_part
from supple_snare.timing.pulse import TEMPLATES, follow, hear_pulses


def offsets_of(place):
    """Distances from the four lines around each place, lines being one apart."""
    return place[:, None] - (np.floor(place)[:, None] + np.arange(-1, 3))


@pytest.mark.parametrize("height", [0.0, 0.2, 0.45])
@pytest.mark.parametrize("density", [0.3, 1.0])
def test_a_slow_drift_is_found_with_strokes_missing_and_wild(height, density):
    """Up to almost half a slot either way, within a tenth of a slot nearly everywhere."""
    rng = np.random.default_rng(8)
    line = np.flatnonzero(rng.random(400) < density).astype(float)
    drift = height * np.sin(line / 25.0)
    place = line + drift + rng.normal(0, 0.04, len(line))
    place[rng.random(len(place)) < 0.03] += 0.45
    place = np.sort(place)
    found = find_drift(place, offsets_of(place), np.zeros((len(place), 4)))
    assert np.percentile(np.abs(found - drift), 95) < 0.12


@settings(max_examples=30)
@given(st.lists(st.floats(0, 300), min_size=1, max_size=80).map(sorted), st.integers(-50, 50))
def test_drift_knows_no_beginning(places, whole):
    """The same strokes so many slots later drift alike."""
    place = np.array(places)
    offset, nothing = offsets_of(place), np.zeros((len(place), 4))
    assert find_drift(place + whole, offset, nothing) == pytest.approx(find_drift(place, offset, nothing), abs=1e-6)


def test_habit_tells_which_line_is_meant():
    """Half-way between two lines, the one that is played elsewhere draws the drift to its side."""
    place = np.arange(60.0) + 0.5
    offset = offsets_of(place)
    prior = np.where(np.round(offset, 6) == 0.5, 0.0, 3.0)
    assert np.median(find_drift(place, offset, prior)) == pytest.approx(0.5, abs=0.08)
    prior = np.where(np.round(offset, 6) == -0.5, 0.0, 3.0)
    assert np.median(find_drift(place, offset, prior)) == pytest.approx(-0.5, abs=0.08)


def test_the_slow_part_is_common_ground_without_wild_values():
    """An even offset is found whole, a wild value changes nothing, a single one is doubted."""
    place = np.arange(100.0)
    values = np.full(100, 0.05)
    plain = slow_part(place, values, width=4.0, wild=0.35, doubt=0.7)
    assert plain[20:80] == pytest.approx(0.05, rel=0.1)
    values[50] = 5.0
    wild = slow_part(place, values, width=4.0, wild=0.35, doubt=0.7)
    assert wild[20:80] == pytest.approx(plain[20:80], rel=0.02)
    alone = slow_part(np.zeros(1), np.full(1, 0.05), width=4.0, wild=0.35, doubt=0.7)
    assert 0.0 < alone[0] < 0.04


@pytest.mark.parametrize("tempo", [72.0, 120.0, 190.0])
@pytest.mark.parametrize("template", range(len(TEMPLATES)))
def test_what_a_template_describes_is_followed_by_it(tempo, template):
    """Its own hits at a steady tempo: the track advances a beat a beat and its beats stand on the beat."""
    places = np.array(TEMPLATES[template].places)
    beat = (np.arange(48)[:, None] + places).ravel()
    time = 1.0 + beat * 60.0 / tempo
    pulses = hear_pulses(time, np.tile(TEMPLATES[template].shares, 48))
    start = int(np.argmin(np.abs(np.log(pulses.tempo_bpm / tempo))))
    track = follow(pulses, start, template)
    assert track.felt_bpm == pytest.approx(tempo, rel=0.003)
    on_beat = track.beat_at(1.0 + np.arange(4, 44) * 60.0 / tempo)
    assert np.diff(on_beat) == pytest.approx(1.0, abs=0.03)
    assert np.abs(on_beat - np.round(on_beat)).max() < 0.06


@pytest.mark.parametrize("seed", range(4))
def test_a_beat_does_not_slip_to_a_place_that_looks_alike(seed):
    """All eighths alike, some missing, the tempo up and down: the beat goes on a beat a beat all the same."""
    rng = np.random.default_rng(seed)
    gaps = 0.25 * (1.0 + 0.03 * np.sin(np.arange(240) / 17.0))
    eighths = 0.5 + np.concatenate([[0.0], np.cumsum(gaps)])
    heard = (eighths + rng.normal(0.0, 0.008, len(eighths)))[rng.random(len(eighths)) < 0.9]
    pulses = hear_pulses(heard, rng.uniform(0.5, 1.0, len(heard)))
    start = int(np.argmin(np.abs(np.log(pulses.tempo_bpm / 120.0))))
    track = follow(pulses, start, [template.name for template in TEMPLATES].index("in two"))
    place = track.beat_at(eighths) - 0.5 * np.arange(len(eighths))
    assert np.ptp(place) < 0.2
