"""The coarse search: band levels that do not depend on blocks, and rises where something starts."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.sound.ear import EAR_ORDER
from supple_snare.sound.filters import Bands
from supple_snare.sound.novelty import BAND_EDGES_HZ, BANDS, peaks_of_rise, rise_curve
from tests.conftest import RATE_HZ, drum, levels_of


def candidates_of(sound: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """When something seems to start, in seconds, and how much the spectrum rises there."""
    levels = levels_of(sound)
    curve = rise_curve(levels)
    frames = peaks_of_rise(curve)
    return frames * levels.hop / levels.rate_hz, curve[frames]


def tone(pitch_hz: float, seconds: float = 1.0, level: float = 0.5) -> np.ndarray:
    """A steady tone."""
    return level * np.sin(2 * np.pi * pitch_hz * np.arange(round(seconds * RATE_HZ)) / RATE_HZ)


@settings(max_examples=15)
@given(st.integers(100, 9_000), st.integers(0, 2**16))
def test_blocks_do_not_matter(block, seed):
    """The same levels, however the sound was cut into blocks."""
    sound = np.random.default_rng(seed).normal(size=20_000)
    assert np.array_equal(levels_of(sound).steps, levels_of(sound, block=block).steps)


@pytest.mark.parametrize("band", range(1, BANDS))
def test_a_tone_is_in_its_band(band):
    """The band a tone lies in is far above the bands next but one."""
    pitch_hz = float(np.sqrt(BAND_EDGES_HZ[band] * BAND_EDGES_HZ[band + 1]))
    decibels = levels_of(tone(pitch_hz)).decibels()[100]
    far = [other for other in range(BANDS) if abs(other - band) > 1]
    assert decibels[band] > decibels[far].max() + 30.0


def test_levels_follow_the_amplitude_and_end_at_the_floor():
    """Twice the amplitude is 6 dB more, to the half dB they are kept in; outside there is nothing."""
    loud, soft = levels_of(tone(440.0)), levels_of(tone(440.0, level=0.25))
    middle = np.array([0.5])
    ratio_db = 10.0 * np.log10(loud.loudest(middle, -0.01, 0.01) / soft.loudest(middle, -0.01, 0.01))
    assert ratio_db[0, 2] == pytest.approx(6.02, abs=0.51)
    outside = loud.loudest(np.array([-5.0, 50.0]), -0.01, 0.01)
    assert outside == pytest.approx(np.full((2, BANDS), 1e-11))


def test_candidates_stand_where_something_starts():
    """Each stroke has one within a frame or two, far above what noise lifts by chance."""
    rng = np.random.default_rng(3)
    noise = rng.normal(size=3 * RATE_HZ) * 1e-3
    by_chance_db = candidates_of(noise)[1].max(initial=0.0)
    assert by_chance_db < 5.0
    times = np.array([0.5, 1.1, 1.62, 2.4])
    for time in times:
        stroke = drum(rng, 180.0)
        at = round(time * RATE_HZ)
        noise[at : at + len(stroke)] += stroke
    time_s, rise_db = candidates_of(noise)
    plain_s = time_s[rise_db > by_chance_db + 2.0]
    assert plain_s == pytest.approx(times, abs=0.010)


def test_a_short_or_empty_sound_has_no_candidates():
    """Nothing is found in less than a few frames."""
    for length in (0, 1, 300):
        assert len(candidates_of(np.ones(length))[0]) == 0


def test_the_mean_of_spans_is_told_around_each_moment():
    """Before a tone, in it, and where it has fallen by 12 dB; what lies outside is as the nearest that is known."""
    level = np.repeat([0.0, 1.0, 0.25, 0.25], RATE_HZ // 4)
    mean_db = levels_of(tone(440.0) * level).mean_db(np.array([0.25, 0.5, 0.99]), [(-0.1, -0.02), (0.02, 0.1)])
    assert mean_db[0, 0] < -90.0
    assert mean_db[1, 0] - mean_db[1, 1] == pytest.approx(12.04, abs=0.5)
    assert mean_db[0, 1] == pytest.approx(mean_db[1, 0], abs=0.1)
    assert mean_db[2, 0] == pytest.approx(mean_db[1, 1], abs=0.1)
    assert np.isfinite(mean_db).all()


def test_a_band_is_heard_in_levels_as_a_filter_would_leave_it():
    noise = np.random.default_rng(2).normal(0.0, 0.1, RATE_HZ).astype(np.float32)
    band_hz = (400.0, 3_000.0)
    filtered = levels_of(Bands(noise, RATE_HZ).between(*band_hz, order=EAR_ORDER))
    difference = levels_of(noise, band_hz=band_hz).decibels() - filtered.decibels()
    np.testing.assert_allclose(np.median(difference[10:-10], axis=0)[2:-1], 0.0, atol=1.0)
