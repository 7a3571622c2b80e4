"""Bands of a sound."""

from __future__ import annotations

import numpy as np
import pytest

from supple_snare.sound.filters import banded, power_kept
from tests.conftest import RATE_HZ


@pytest.mark.parametrize("band_hz", [(100.0, 4_000.0), (None, 900.0), (300.0, None), (None, None)])
@pytest.mark.parametrize("order", [2, 4])
def test_tones_keep_as_much_of_their_power_as_is_said(band_hz, order):
    """In the band, at its edges and an octave outside."""
    tones_hz = np.array([50.0, 100.0, 440.0, 900.0, 4_000.0, 8_000.0])
    tones = np.sin(2 * np.pi * tones_hz[:, None] * np.arange(RATE_HZ) / RATE_HZ)
    settled = banded(tones, *band_hz, rate_hz=RATE_HZ, order=order)[:, RATE_HZ // 2 :]
    kept = power_kept(tones_hz, *band_hz, rate_hz=RATE_HZ, order=order)
    assert 2.0 * np.mean(settled**2, axis=1) == pytest.approx(kept, rel=1e-3, abs=1e-6)
