"""Notes of pitched instruments: low ones, bound ones, and one that trembles."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.material import Material
from supple_snare.sound.partials import NewPartialsBuilder
from supple_snare.sound.starts import settle_starts
from tests.conftest import RATE_HZ, alike

TIMES = np.array([0.5, 1.0, 1.25, 1.5, 2.0, 2.5, 2.75, 3.25, 3.5, 4.0])
PITCHES_HZ = np.array([41.2, 55.0, 49.0, 41.2, 61.7, 55.0, 73.4, 65.4, 55.0, 41.2])


def string(pitch_hz: float, seconds: float, bright: int = 30) -> np.ndarray:
    """A plucked string: partials that die away the sooner the higher they are."""
    place = np.arange(round(seconds * RATE_HZ)) / RATE_HZ
    part = np.arange(1, bright + 1)[:, None]
    tone = np.sin(2 * np.pi * pitch_hz * part * place) / part * np.exp(-place * (1.0 + 0.2 * part))
    return tone.sum(axis=0) * np.minimum(1.0, (place[-1] - place) / 0.02)


def pipe(pitch_hz: np.ndarray | float, seconds: float) -> np.ndarray:
    """A held note; its pitch may move."""
    count = round(seconds * RATE_HZ)
    phase = 2 * np.pi * np.cumsum(np.broadcast_to(pitch_hz, count)) / RATE_HZ
    ends = np.minimum(1.0, np.minimum(np.arange(count), np.arange(count)[::-1]) / (0.03 * RATE_HZ))
    return sum(np.sin(part * phase) / part for part in range(1, 9)) * ends


def line(times: np.ndarray, sounds: list[np.ndarray]) -> np.ndarray:
    """Notes laid down over a quiet floor."""
    whole = np.random.default_rng(2).normal(size=round(5.5 * RATE_HZ)) * 1e-4
    for time, sound in zip(times, sounds, strict=True):
        at = round(time * RATE_HZ)
        whole[at : at + len(sound)] += 0.2 * sound
    return whole


def heard(folder: Path, sound: np.ndarray, material: Material | None = None) -> Analysis:
    path = folder / "a.wav"
    soundfile.write(path, sound, RATE_HZ, subtype="FLOAT")
    return analyse(Ear((read_recording(path),), material=material))


def test_the_pulses_of_a_low_note_are_no_hits(tmp_path):
    """A bass line down to its lowest string: each note once, where it is plucked, and taken for what it is."""
    lengths = np.diff(TIMES, append=4.5) * 0.9
    found = heard(tmp_path, line(TIMES, [string(*note) for note in zip(PITCHES_HZ, lengths, strict=True)]))
    assert found.material is Material.PLUCKED
    assert settle_starts(found.attacks, 0.0) == pytest.approx(TIMES, abs=0.001)


def test_short_notes_are_told_from_drums(tmp_path):
    """Eighths at 190 bpm, each of 90 ms, by what sounds just after the pick."""
    pitches_hz = (110.0, 146.8, 164.8, 196.0)
    times = 0.4 + 0.158 * np.arange(30)
    sounds = [string(pitches_hz[number % len(pitches_hz)], 0.09) for number in range(30)]
    found = heard(tmp_path, line(times, sounds))
    assert found.material is Material.PLUCKED
    starts_s = settle_starts(found.attacks, 0.0)
    assert np.abs(starts_s[:, None] - times).min(axis=0).max() < 0.001
    assert len(starts_s) < 1.3 * len(times)


def test_notes_bound_to_one_another_are_found(tmp_path):
    """No note grows louder than the one before; each has another pitch."""
    lengths = np.diff(TIMES, append=4.5) + 0.03
    sounds = [pipe(4.0 * pitch, length) for pitch, length in zip(PITCHES_HZ, lengths, strict=True)]
    found = heard(tmp_path, line(TIMES, sounds))
    assert found.material is Material.BLOWN
    assert settle_starts(found.attacks, 0.0) == pytest.approx(TIMES, abs=0.03)
    told = heard(tmp_path, line(TIMES, sounds), Material.BLOWN)
    assert alike(
        replace(told, note_features=found.note_features), found
    )  # one reading served both the guess and the band that followed from it


@pytest.mark.parametrize(("material", "lowest_hz"), [(Material.PLUCKED, 220.0), (Material.BLOWN, 110.0)])
def test_the_end_of_a_note_is_no_note(tmp_path, material, lowest_hz):
    """Notes that are broken off within 8 ms."""
    times = np.arange(0.5, 5.0, 0.4)
    ends = np.clip((0.14 - np.arange(round(0.24 * RATE_HZ)) / RATE_HZ) / 0.008, 0.0, 1.0)
    sounds = [pipe(lowest_hz * 2.0 ** (number % 5 / 6), 0.24) * ends for number in range(len(times))]
    found = heard(tmp_path, line(times, sounds), material)
    assert settle_starts(found.attacks, 0.0) == pytest.approx(times, abs=0.03)


def test_a_note_that_trembles_is_one_note(tmp_path):
    """Vibrato of a third of a semitone, and a swell of 6 dB with it."""
    wave = np.sin(2 * np.pi * 5.5 * np.arange(2 * RATE_HZ) / RATE_HZ)
    note = pipe(330.0 * 2.0 ** (0.33 * wave / 12.0), 2.0) * 10.0 ** (3.0 * wave / 20.0)
    found = heard(tmp_path, line(np.array([0.5, 3.0]), [note, note]), Material.BLOWN)
    assert settle_starts(found.attacks, 0.0) == pytest.approx([0.5, 3.0], abs=0.02)


@settings(max_examples=25)
@given(st.lists(st.integers(1, 9_000), min_size=1, max_size=12))
def test_blocks_of_any_length_tell_the_same(lengths):
    """Where the sound is cut into blocks makes no difference."""
    sound = line(TIMES[:2], [string(82.4, 0.4), string(110.0, 0.4)])[: 2 * RATE_HZ].astype(np.float32)
    whole, parts = NewPartialsBuilder(RATE_HZ), NewPartialsBuilder(RATE_HZ)
    whole.add(sound)
    for part in np.split(sound, np.minimum(np.cumsum(lengths), len(sound))):
        parts.add(part)
    assert parts.finish().rise_db == pytest.approx(whole.finish().rise_db, abs=0.01)
