"""Ears: what is listened to for attacks; and what a sound is taken for."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from supple_snare.sound.attacks import analyse
from supple_snare.sound.ear import Ear, EarReader
from supple_snare.sound.files import Recording, read_recording
from supple_snare.sound.landing import landing_points
from supple_snare.sound.material import Material
from supple_snare.sound.peaks import PeaksBuilder
from tests.conftest import RATE_HZ, drum

SECONDS = 6
TIMES = np.arange(0.5, 5.5, 0.5)


def recording(folder: Path, name: str, sound: np.ndarray) -> Recording:
    """A sound on disk."""
    path = folder / f"{name}.wav"
    soundfile.write(path, 0.4 * sound / np.abs(sound).max(), RATE_HZ, subtype="FLOAT")
    return read_recording(path)


def notes(rise_s: float, fall_s: float | None, times: np.ndarray = TIMES, pitch_hz: float = 220.0) -> np.ndarray:
    """Notes of 0.42 s, held, or falling by e in `fall_s`."""
    line = np.random.default_rng(4).normal(size=SECONDS * RATE_HZ) * 1e-5
    place = np.arange(round(0.42 * RATE_HZ)) / RATE_HZ
    note = sum(np.sin(2 * np.pi * pitch_hz * part * place) / part for part in (1, 2, 3))
    shape = np.minimum(1.0, place / rise_s) * np.minimum(1.0, (place[-1] - place) / 0.03)
    note *= shape if fall_s is None else np.minimum(1.0, place / rise_s) * np.exp(-place / fall_s)
    for time in times:
        at = round(time * RATE_HZ)
        line[at : at + len(note)] += note
    return line


def strokes(pitch_hz: float, times: np.ndarray = TIMES) -> np.ndarray:
    """A drum struck at some times."""
    rng = np.random.default_rng(6)
    line = rng.normal(size=SECONDS * RATE_HZ) * 1e-5
    for time in times:
        at = round(time * RATE_HZ)
        stroke = drum(rng, pitch_hz)
        line[at : at + len(stroke)] += stroke
    return line


def times_of(ear: Ear | Recording) -> np.ndarray:
    """Where attacks start, roughly."""
    return np.sort(analyse(ear).attacks.crossing_s[:, 0, 1])


def test_a_band_hides_what_lies_outside_it(tmp_path):
    """Of a low and a high line only the one that is listened to is found, where it is."""
    low = notes(0.02, 0.05, TIMES, pitch_hz=70.0)
    high = 0.5 * notes(0.001, 0.03, TIMES + 0.21, pitch_hz=3_000.0)
    mixed = recording(tmp_path, "mixed", low + high)
    assert len(times_of(mixed)) > 1.5 * len(TIMES)
    found = times_of(Ear((mixed,), band_hz=(2_000.0, 20_000.0)))
    assert found == pytest.approx(TIMES + 0.21, abs=0.002)


def test_reading_a_band_in_pieces_is_reading_it_whole(tmp_path):
    """No seam where blocks meet, and nothing before the file begins."""
    ear = Ear((recording(tmp_path, "a", strokes(190.0)),), band_hz=(300.0, 4_000.0))
    with EarReader(ear) as reader:
        whole = reader.read_each(np.array([0]), 100_000)[0]
        parts = np.concatenate(reader.read_each(np.arange(0, 100_000, 12_500), 12_500))
        assert parts == pytest.approx(whole, abs=2e-5)
        assert np.abs(reader.read_each(np.array([-5_000]), 5_000)).max() < 1e-6


@pytest.mark.parametrize("apart", [500, 40_000])
def test_stretches_are_read_in_any_order(tmp_path, apart):
    """Near together they come from one reading, far apart each from its own; attacks need not begin in order."""
    with EarReader(Ear.of(recording(tmp_path, "a", strokes(190.0)))) as reader:
        whole = reader.read_whole(0, 150_000)
        first = np.array([2, 0, 3, 1]) * apart
        read = reader.read_each(first, 1_000)
        assert np.array_equal(read, [whole[start : start + 1_000] for start in first])


def test_a_mix_hears_what_each_of_them_hears(tmp_path):
    """Strokes of both files, each where it is; its peaks are those of the mix."""
    first = recording(tmp_path, "first", strokes(190.0, TIMES[::2]))
    second = recording(tmp_path, "second", strokes(400.0, TIMES[1::2]))
    both = Ear((first, second))
    assert times_of(both) == pytest.approx(TIMES, abs=0.002)
    assert analyse(both).peaks.frames == first.frames


@pytest.mark.parametrize(
    ("sound", "material"),
    [
        (strokes(190.0), Material.DRUM_CLOSE),
        (notes(0.002, 0.03), Material.DRUM_CLOSE),
        (notes(0.002, 0.5), Material.PLUCKED),
        (notes(0.05, None), Material.BLOWN),
    ],
)
def test_a_sound_is_taken_for_what_it_goes_on_like(tmp_path, sound, material):
    """Strokes fall at once, with a pitch or without, strings ring on, what is blown is held; told, it is that."""
    found = analyse(recording(tmp_path, "a", sound))
    assert found.material is material
    told = analyse(Ear((recording(tmp_path, "a", sound),), material=Material.KEYS))
    assert told.material is Material.KEYS


def test_held_notes_are_found_once_each(tmp_path):
    """What grows inside a blown note is no attack of its own."""
    assert times_of(recording(tmp_path, "a", notes(0.06, None))) == pytest.approx(TIMES, abs=0.02)


class TestLandings:
    """Where inside a soft attack the note is felt to begin."""

    def landings(self, rise_s: float) -> np.ndarray:
        """How long after their start notes land that rise so fast."""
        builder = PeaksBuilder()
        sound = notes(rise_s, None).astype(np.float32)
        builder.add(sound[:, None])
        return landing_points(builder.finish(len(sound), RATE_HZ), TIMES) - TIMES

    def test_slow_notes_land_later(self):
        """At 10 dB below their maximum, which a straight rise passes at a third of it; never before they start."""
        for rise_s in (0.03, 0.09, 0.15):
            assert self.landings(rise_s) == pytest.approx(0.316 * rise_s, abs=0.006)
        assert (self.landings(0.0005) < 0.004).all()
        assert (self.landings(0.0005) >= 0.0).all()

    def test_nothing_lands_after_the_next_note(self):
        """Two starts close together: the first sees only what lies between them."""
        builder = PeaksBuilder()
        sound = notes(0.1, None).astype(np.float32)
        builder.add(sound[:, None])
        peaks = builder.finish(len(sound), RATE_HZ)
        landed = landing_points(peaks, np.array([0.5, 0.51, 1.0]))
        assert (np.diff(landed) > 0.0).all()
        assert len(landing_points(peaks, np.zeros(0))) == 0
