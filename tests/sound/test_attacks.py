"""Attacks: found to the sample, wherever they lie and however loud they are."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.errors import CancelledError
from supple_snare.sound.attacks import analyse, keep_distinct
from supple_snare.sound.files import read_recording
from supple_snare.sound.starts import settle_starts
from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.kinds import mark_grace_and_rolls
from tests.conftest import RATE_HZ, drum

SECONDS = 4
TIMES = np.array([0.4, 0.9, 1.37, 1.8, 2.5, 2.8, 3.3])


def performance(levels=(1.0, 0.8, 0.3, 0.9, 0.15, 1.0, 0.7), noise: float = 2e-5) -> np.ndarray:
    """Seven strokes of one drum at known samples."""
    rng = np.random.default_rng(11)
    sound = rng.normal(size=SECONDS * RATE_HZ) * noise
    for time, level in zip(TIMES, levels, strict=True):
        at = round(time * RATE_HZ)
        stroke = drum(rng, 190.0) * level
        sound[at : at + len(stroke)] += stroke
    return sound


def starts(folder: Path, sound: np.ndarray, rate: int = RATE_HZ, subtype: str = "FLOAT") -> np.ndarray:
    """What the detector finds."""
    path = folder / "a.wav"
    soundfile.write(path, sound, rate, subtype=subtype)
    return settle_starts(analyse(read_recording(path)).attacks, 0.0)


def test_loud_and_soft_strokes_are_found_within_a_fifth_of_a_millisecond(tmp_path):
    """16 dB between strokes makes none of them late."""
    found = starts(tmp_path, performance())
    assert len(found) == len(TIMES)
    assert np.abs(found - TIMES).max() < 0.0002


def test_fast_feet_are_found_amid_their_own_ring(tmp_path):
    """Sixteenths at 195 bpm on a bass drum whose shell rings on: the soft strokes lift the sound little."""
    rng = np.random.default_rng(21)
    times = 0.4 + 0.0769 * np.arange(40)
    sound = rng.normal(size=SECONDS * RATE_HZ) * 2e-4
    span = np.arange(RATE_HZ // 2) / RATE_HZ
    for time in times:
        shell = 0.2 * rng.normal(size=len(span)) * np.exp(-span / 0.1)
        stroke = (np.sin(2 * np.pi * 55.0 * span) * np.exp(-span / 0.15) + shell) * np.minimum(1.0, span / 0.004)
        at = round(time * RATE_HZ)
        part = (10 ** (-rng.uniform(0.0, 6.0) / 20) * stroke)[: len(sound) - at]
        sound[at : at + len(part)] += part
    found = starts(tmp_path, 0.3 * sound)
    near = [np.abs(found - time).min() < 0.010 for time in times]
    assert np.mean(near) > 0.7
    assert len(found) <= len(times)


def test_stereo_files_are_heard_on_both_sides(tmp_path):
    """A hit on one side only is found."""
    left, right = performance(), performance(levels=(0, 1, 0, 0, 0, 0, 0))
    assert len(starts(tmp_path, np.stack([left, right], axis=1))) == len(TIMES)


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(1, 40_000))
def test_a_delay_delays_every_hit_by_as_much(tmp_path, delay):
    """Silence in front moves the hits by just that many samples."""
    plain = starts(tmp_path, performance())
    later = starts(tmp_path, np.concatenate([np.zeros(delay), performance()]))
    assert np.rint((later - plain) * RATE_HZ).astype(int).tolist() == [delay] * len(TIMES)


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(1, 40_000))
def test_silence_behind_changes_no_hit(tmp_path, length):
    """However long the file goes on."""
    plain = starts(tmp_path, performance())
    longer = starts(tmp_path, np.concatenate([performance(), np.zeros(length)]))
    assert longer.tolist() == plain.tolist()


@settings(max_examples=10, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.floats(-30, 0))
def test_gain_changes_no_hit(tmp_path, gain_db):
    """Turned down or not, the same hits at the same samples."""
    plain = starts(tmp_path, performance())
    quiet = starts(tmp_path, performance() * 10 ** (gain_db / 20))
    assert quiet == pytest.approx(plain, abs=1.5 / RATE_HZ)


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_other_rates(tmp_path, rate):
    """The lengths of the search are in seconds, not in samples."""
    from scipy.signal import resample_poly

    sound = resample_poly(performance(), rate // 300, RATE_HZ // 300)
    found = starts(tmp_path, sound, rate)
    assert len(found) == len(TIMES)
    assert np.abs(found - TIMES).max() < 0.0004


@pytest.mark.parametrize("sound", [np.zeros(90_000), np.zeros(100), np.full(50_000, 0.2)])
def test_no_attack_is_invented(tmp_path, sound):
    """Silence, next to nothing, and a constant hold no hits."""
    assert len(starts(tmp_path, sound)) == 0


@pytest.mark.parametrize("seed", range(4))
def test_steady_noise_holds_no_attack_but_its_own_beginning(tmp_path, seed):
    """However it swells by chance."""
    noise = 0.01 * np.random.default_rng(seed).normal(size=6 * RATE_HZ)
    assert (starts(tmp_path, noise) < 0.05).all()


def test_a_sound_broken_off_is_no_attack(tmp_path):
    """A tone that stops at once clicks, but nothing was struck there."""
    time = np.arange(RATE_HZ) / RATE_HZ
    tone = 0.3 * np.sin(2 * np.pi * 220 * time) * np.minimum(1.0, time / 0.001)
    found = starts(tmp_path, np.concatenate([np.zeros(RATE_HZ), tone, np.zeros(RATE_HZ)]))
    assert found == pytest.approx([1.0], abs=0.0005)


def test_a_low_sustained_note_is_one_attack(tmp_path):
    """The pulses of a 46 Hz tone are not attacks."""
    time = np.arange(2 * RATE_HZ) / RATE_HZ
    note = sum(np.sin(2 * np.pi * 46 * h * time) / h for h in range(1, 20)) * np.minimum(1, time / 0.004)
    assert len(starts(tmp_path, 0.2 * np.concatenate([np.zeros(RATE_HZ), note]))) == 1


def test_a_ring_does_not_hide_the_next_stroke(tmp_path):
    """A stroke into the loud tail of the one before starts where it starts."""
    rng = np.random.default_rng(2)
    sound = np.zeros(3 * RATE_HZ)
    truth = np.array([0.5, 0.9, 1.3, 1.7, 1.85, 2.1, 2.22])
    for time in truth:
        at = round(time * RATE_HZ)
        samples = np.arange(RATE_HZ // 2)
        long = np.sin(2 * np.pi * 180 * samples / RATE_HZ) * np.exp(-samples / 6_000) * (1 - samples / len(samples))
        sound[at : at + RATE_HZ // 2] += 0.15 * long
        stroke = drum(rng, 190.0)
        sound[at : at + len(stroke)] += stroke
    found = starts(tmp_path, sound)
    assert len(found) == len(truth)
    assert np.abs(found - truth).max() < 0.001


def test_analysis_can_be_stopped(tmp_path):
    """A progress report that raises ends the work."""
    path = tmp_path / "a.wav"
    soundfile.write(path, performance(), RATE_HZ)

    def stop(_share: float) -> None:
        raise CancelledError

    with pytest.raises(CancelledError):
        analyse(read_recording(path), stop)


def test_the_better_of_two_finds_stays():
    """One attack found twice is one attack."""
    assert keep_distinct(np.array([1.0, 1.004, 2.0]), np.array([0.2, 0.5, 0.1])).tolist() == [1, 2]


@pytest.mark.parametrize("seed", [2, 4, 5])
def test_a_buzz_roll_is_one_stroke(tmp_path, seed):
    """Thirty soft bounces after a stroke are not thirty hits, nor a few that chance lifted."""
    rng = np.random.default_rng(seed)
    sound = rng.normal(size=4 * RATE_HZ) * 2e-5
    times = [0.5, 1.0, 1.5, *(1.5 + np.cumsum(rng.uniform(0.028, 0.036, 30))), 3.2]
    for number, time in enumerate(times):
        stroke = drum(rng, 190.0) * (rng.uniform(0.35, 0.45) if 3 <= number < 33 else 1.0)
        at = round(time * RATE_HZ)
        sound[at : at + len(stroke)] += stroke
    path = tmp_path / "a.wav"
    soundfile.write(path, sound, RATE_HZ, subtype="FLOAT")
    attacks = analyse(read_recording(path)).attacks
    hits = mark_grace_and_rolls(Hits.of(settle_starts(attacks, 0.0), level_db=attacks.level_db))
    assert hits.of_kind(Kind.PLAYED).time_s == pytest.approx([0.5, 1.0, 1.5, 3.2], abs=0.002)
