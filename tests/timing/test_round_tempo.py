"""Whole numbers behind tempos that drift hides."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.timing.round_tempo import whole_tempo


def measured(tempo_bpm, *, beats, drift_ms=0.0, wave_beats=60.0, phase=0.0, scatter_ms=6.0, seed=0):
    """Eighths to a click, and the straight line through them, as `whole_tempo` takes it."""
    rng = np.random.default_rng(seed)
    line = np.arange(0.0, beats, 0.5)
    late_ms = drift_ms * np.sin(2.0 * np.pi * line / wave_beats + phase) + rng.normal(0.0, scatter_ms, len(line))
    time_s = line * 60.0 / tempo_bpm + late_ms / 1000.0
    start_s, beat_s = np.polynomial.polynomial.polyfit(line, time_s, 1)
    return 60.0 / beat_s, beat_s, line, time_s - start_s - beat_s * line, np.ones(len(line))


@pytest.mark.parametrize("tempo", [84.0, 110.0, 150.0])
@pytest.mark.parametrize("phase", [0.0, 2.0, 4.0])
def test_a_click_is_known_through_slow_drift(tempo, phase):
    """A minute or less that drifts by 15 ms in one wave: its straight line is off, its whole number is not."""
    found = measured(tempo, beats=64, drift_ms=15.0, phase=phase)
    assert found[0] != pytest.approx(tempo, abs=0.02)
    assert whole_tempo(*found) == tempo


@settings(max_examples=40, deadline=None)
@given(st.floats(70.0, 200.0), st.integers(200, 800), st.integers(0, 10**6))
def test_what_is_measured_well_is_left_alone(tempo, beats, seed):
    """Without drift a tempo plainly beside a whole number stays what it is, and a whole number is hit."""
    found = measured(tempo, beats=beats, seed=seed)
    assert whole_tempo(*found) == found[0] or abs(round(tempo) - tempo) < 0.05
    assert whole_tempo(*measured(round(tempo), beats=beats, seed=seed)) == pytest.approx(round(tempo), abs=0.03)


def test_where_little_was_played_nothing_is_taken():
    """Two blocks of beats tell no drift from a tempo."""
    found = measured(110.0, beats=12, drift_ms=15.0)
    assert whole_tempo(*found) == found[0]
