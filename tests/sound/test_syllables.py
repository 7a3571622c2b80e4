"""Syllables of a voice begin where their consonants do, and each counts once."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from scipy.signal import butter, lfilter, sosfilt

from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.landing import landing_points
from supple_snare.sound.material import Material
from supple_snare.sound.syllables import find_syllables

RATE_HZ = 48_000
FORMANTS_HZ = ((730.0, 1_090.0, 2_440.0), (270.0, 2_290.0, 3_010.0), (570.0, 840.0, 2_410.0))
CONSONANT_S = 0.08


def vowel(number, length_s, pitch_hz):
    """Pulses of a voice that glides, through three formants."""
    time_s = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
    phase = np.cumsum(pitch_hz * (1.0 + 0.1 * np.sin(4.0 * time_s))) / RATE_HZ
    sound = np.diff(np.floor(phase), prepend=0.0)
    for formant_hz in FORMANTS_HZ[number % 3]:
        turn, fall = 2.0 * np.pi * formant_hz / RATE_HZ, np.exp(-np.pi * 90.0 / RATE_HZ)
        sound = lfilter([1.0 - fall], [1.0, -2.0 * fall * np.cos(turn), fall**2], sound)
    fade = np.minimum(1.0, np.minimum(time_s, time_s[::-1]) / 0.02)
    return fade * sound / np.abs(sound).max()


def sung(starts_s, *, hissing):
    """A syllable at each moment, its consonant a hiss or a plosive, its vowel as long as there is room."""
    rng = np.random.default_rng(1)
    sound = 0.0003 * rng.standard_normal(round((starts_s[-1] + 1.0) * RATE_HZ))
    treble = butter(4, 5_000.0, "high", fs=RATE_HZ, output="sos")
    for number, (start_s, end_s) in enumerate(zip(starts_s, [*starts_s[1:], starts_s[-1] + 0.4], strict=True)):
        at, after = round(start_s * RATE_HZ), round((start_s + CONSONANT_S) * RATE_HZ)
        if hissing:
            hiss = sosfilt(treble, rng.standard_normal(after - at))
            sound[at:after] += 0.12 * hiss / np.abs(hiss).max() * np.hanning(after - at)
        else:
            sound[after - 480 : after] += 0.05 * rng.standard_normal(480) * np.linspace(1.0, 0.2, 480)
        voiced = vowel(number, min(end_s - start_s - CONSONANT_S, 0.5), 110.0 + 15.0 * (number % 4))
        sound[after : after + len(voiced)] += 0.4 * voiced
    return sound


@pytest.fixture(params=[True, False], ids=["hissing", "plosive"])
def voice(request, tmp_path):
    """A recording of syllables, some after a pause, and when they begin."""
    starts_s = np.array([0.5, 0.75, 1.05, 1.3, 1.7, 2.0, 3.5, 3.72, 4.0, 4.4, 4.65, 5.0])
    path = tmp_path / "voice.wav"
    soundfile.write(path, sung(starts_s, hissing=request.param), RATE_HZ, subtype="PCM_24")
    return Ear((read_recording(path),), material=Material.VOICE), starts_s


def test_each_syllable_is_found_once_where_it_begins(voice):
    """Also after a pause; none of the changes inside a vowel is one."""
    ear, starts_s = voice
    (verdict,) = judge_group([ear], [analyse(ear)])
    found_s = verdict.time_s[verdict.played]
    assert len(found_s) == len(starts_s)
    assert np.abs(found_s - starts_s).max() < 0.075  # the closure of a plosive is as silent as what was before
    assert np.median(np.abs(found_s - starts_s)) < 0.050


def test_a_syllable_lands_on_its_vowel(voice):
    """As far after its start as the consonant is long."""
    ear, starts_s = voice
    analysis = analyse(ear)
    landing_s = landing_points(analysis.peaks, find_syllables(analysis.levels).start_s)
    assert np.abs(landing_s - starts_s - CONSONANT_S).max() < 0.03


def test_silence_has_no_syllables(tmp_path):
    """Nor does a recording of one frame."""
    for frames in (1, RATE_HZ):
        path = tmp_path / f"{frames}.wav"
        soundfile.write(path, np.zeros(frames), RATE_HZ, subtype="PCM_24")
        ear = Ear((read_recording(path),), material=Material.VOICE)
        assert len(find_syllables(analyse(ear).levels).start_s) == 0
