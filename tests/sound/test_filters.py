"""Bands of a sound."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from supple_snare.sound.filters import Bands, power_kept
from tests.conftest import RATE_HZ


@pytest.mark.parametrize("band_hz", [(100.0, 4_000.0), (None, 900.0), (300.0, None), (None, None)])
@pytest.mark.parametrize("order", [2, 4])
def test_tones_keep_as_much_of_their_power_as_is_said(band_hz, order):
    """In the band, at its edges and an octave outside."""
    tones_hz = np.array([50.0, 100.0, 440.0, 900.0, 4_000.0, 8_000.0])
    tones = np.sin(2 * np.pi * tones_hz[:, None] * np.arange(RATE_HZ) / RATE_HZ)
    settled = Bands(tones, RATE_HZ).between(*band_hz, order=order)[:, RATE_HZ // 2 :]
    kept = power_kept(tones_hz, *band_hz, rate_hz=RATE_HZ, order=order)
    assert 2.0 * np.mean(settled**2, axis=1) == pytest.approx(kept, rel=1e-3, abs=1e-6)


@pytest.mark.parametrize(("samples", "rate_hz"), [(4_080, 48_000), (3_749, 44_100), (8_160, 96_000)])
def test_a_band_is_what_butterworth_filters_leave(samples, rate_hz):
    """Single precision stays single, to the last of its digits; rows do not hear each other."""
    sound = np.random.default_rng(4).normal(0.0, 0.1, (3, samples)).astype(np.float32)
    band = Bands(sound, rate_hz).between(300.0, 4_000.0, low_order=1)
    edges = [(1, 300.0, "high"), (2, 4_000.0, "low")]
    sections = np.concatenate([butter(*edge, fs=rate_hz, output="sos") for edge in edges])
    assert band.dtype == np.float32
    np.testing.assert_allclose(band, sosfilt(sections, sound.astype(np.float64)), atol=1e-6)


def test_a_band_does_not_hear_what_is_still_to_come():
    """Not a millisecond before a stroke, whichever band: else soft starts would seem early."""
    sound = np.zeros(4_080)
    sound[2_000:] = np.sin(np.arange(2_080) / 10.0)
    bands = Bands(sound, RATE_HZ)
    for edges in ((None, 300.0), (300.0, 2_400.0), (2_400.0, None)):
        assert np.abs(bands.between(*edges)[480:2_000]).max() < 1e-9  # before, what the end left behind dies away
