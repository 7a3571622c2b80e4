"""Conversions are inverse to one another, and the struct of hits keeps its promises."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from supple_snare.timing import units
from supple_snare.timing.hits import Hits, Kind, Origin, nearest_index

times = arrays(np.float64, st.integers(0, 30), elements=st.floats(0.0, 3_600.0), unique=True)


@given(st.floats(-3_600.0, 3_600.0), st.sampled_from([44_100, 48_000, 96_000]), st.floats(20.0, 400.0))
def test_conversions_come_back(value, rate_hz, tempo_bpm):
    """There and back is the same, to half a sample where samples are whole."""
    assert units.ms_to_s(units.s_to_ms(value)) == pytest.approx(value)
    assert units.s_to_beats(units.beats_to_s(value, tempo_bpm), tempo_bpm) == pytest.approx(value)
    samples = units.s_to_samples(value, rate_hz)
    assert abs(float(units.samples_to_s(samples, rate_hz)) - value) <= 0.5 / rate_hz + 1e-9


@given(st.floats(-120.0, 20.0))
def test_decibels_come_back(level_db):
    """Amplitude and level are inverse down to the floor; below it is silence."""
    assert float(units.amplitude_to_db(units.db_to_amplitude(level_db))) == pytest.approx(level_db)
    assert float(units.amplitude_to_db(0.0)) == pytest.approx(units.SILENCE_DB)


def test_frozen_values_cannot_be_changed():
    """What stages share is read-only, and no longer tied to where it came from."""
    source = np.array([1.0, 2.0])
    kept = units.frozen(source)
    source[0] = 9.0
    assert kept[0] == 1.0
    with pytest.raises(ValueError, match="read-only"):
        kept[0] = 5.0


@given(times, times)
def test_the_nearest_is_nearest(known, wanted):
    """No other known time is nearer than the one given."""
    if not len(known):
        return
    known = np.sort(known)
    found = known[nearest_index(known, wanted)]
    for time, near in zip(wanted, found, strict=True):
        assert abs(time - near) == pytest.approx(np.abs(known - time).min())


@given(times, times)
def test_hits_stay_in_order_with_what_belongs_to_them(first, second):
    """Merged or picked, times increase and each keeps its level, kind and origin."""
    one = Hits.of(first, level_db=-first / 100.0, kind=Kind.PLAYED)
    two = Hits.of(second, level_db=-second / 100.0, kind=Kind.BLEED, origin=Origin.ADDED)
    both = one.merged(two)
    assert len(both) == len(first) + len(second)
    assert (np.diff(both.time_s) >= 0.0).all()
    assert both.level_db == pytest.approx(-both.time_s / 100.0)
    assert np.array_equal(both.kind == Kind.BLEED, both.origin == Origin.ADDED)
    bleed = both.of_kind(Kind.BLEED)
    assert sorted(bleed.time_s.tolist()) == sorted(second.tolist())
    assert Kind.GRACE.word == "grace"
