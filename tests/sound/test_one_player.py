"""One player heard by several microphones: every note counts in each of them, and none is bleed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.material import Material
from supple_snare.sound.one_player import players_of
from tests.conftest import RATE_HZ, write_microphones
from tests.sound.lines import BEATS_S, across, figures, plucked

NOTES_S = np.sort(np.concatenate([BEATS_S, BEATS_S[::3] + 0.25]))


def through_amplifier(sound: np.ndarray) -> np.ndarray:
    """Distorted, without its highest and lowest part, 2 ms later."""
    driven = np.tanh(4.0 * sound / np.abs(sound).max())
    return across(sosfilt(butter(2, [90.0, 4_500.0], "band", fs=RATE_HZ, output="sos"), driven), 0.3, 0.002)


def in_room(rng: np.random.Generator, sound: np.ndarray) -> np.ndarray:
    """Nine metres away."""
    way = 0.1 * rng.normal(size=RATE_HZ // 4) * np.exp(-np.arange(RATE_HZ // 4) / (0.05 * RATE_HZ))
    way[0] = 1.0
    size = 1 << (len(sound) + len(way)).bit_length()
    heard = np.fft.irfft(np.fft.rfft(sound, size) * np.fft.rfft(way, size), size)[: len(sound)]
    return across(heard, 0.5, 0.009)


def heard(folder: Path, tracks: dict[str, np.ndarray]) -> tuple[list[Ear], list[Analysis]]:
    """What is heard of some tracks."""
    write_microphones(folder, np.random.default_rng(1), tracks)
    ears = [Ear.of(read_recording(folder / f"{name}.wav")) for name in tracks]
    return ears, [analyse(ear) for ear in ears]


@pytest.fixture
def guitar(tmp_path: Path) -> tuple[list[Ear], list[Analysis]]:
    """A direct line, the amplifier, the room."""
    rng = np.random.default_rng(4)
    direct = plucked(rng, NOTES_S, 165.0)
    return heard(tmp_path, {"direct": direct, "amp": through_amplifier(direct), "room": in_room(rng, direct)})


def test_every_note_of_a_player_counts_in_all_his_microphones(guitar):
    """None of them takes the others for players who bleed into it, however much later it hears all."""
    ears, analyses = guitar
    assert players_of(analyses).tolist() == [0, 0, 0]
    verdicts = judge_group(ears, analyses)
    assert [verdict.drum for verdict in verdicts] == [0, 0, 0]
    assert not any(verdict.is_far for verdict in verdicts)
    for verdict, late_s in zip(verdicts, (0.0, 0.002, 0.009), strict=True):
        assert min(figures(verdict, NOTES_S + late_s)) > 0.95


def test_what_was_told_of_one_track_holds_for_the_player(guitar):
    """Said to be keys, the direct line makes the others keys, whatever they sound like."""
    ears, analyses = guitar
    ears[0] = Ear(ears[0].recordings, material=Material.KEYS)
    verdicts = judge_group(ears, [analyse(ears[0]), *analyses[1:]])
    assert [verdict.material for verdict in verdicts] == [None, Material.KEYS, Material.KEYS]


@pytest.mark.parametrize(("gain", "polarity"), [(0.05, 1), (1.0, -1)])
def test_neither_gain_nor_polarity_nor_order_makes_another_player(tmp_path: Path, gain: float, polarity: int):
    """Of a line and its amplifier."""
    direct = plucked(np.random.default_rng(7), NOTES_S, 165.0)
    _, analyses = heard(tmp_path, {"amp": gain * polarity * through_amplifier(direct), "direct": direct})
    assert players_of(analyses).tolist() == [0, 0]


def test_two_who_bleed_into_each_other_are_two(tmp_path: Path):
    """Each is 16 dB softer in the other's microphone; half of what they play they play together."""
    rng = np.random.default_rng(9)
    other_s = np.sort(np.concatenate([BEATS_S[::2] + 0.01, BEATS_S[1::2] + 0.125]))
    one, other = plucked(rng, NOTES_S, 165.0, softest=0.3), plucked(rng, other_s, 82.0, softest=0.3)
    _, analyses = heard(tmp_path, {"one": one + across(other, 0.16), "other": other + across(one, 0.16)})
    assert players_of(analyses).tolist() == [0, 1]


def test_two_who_double_one_another_each_keep_their_notes(tmp_path: Path):
    """Plugged in, so that neither hears the other, on the same beats some 10 ms apart."""
    rng = np.random.default_rng(11)
    other_s = NOTES_S + rng.normal(0.0, 0.010, len(NOTES_S))
    one, other = plucked(rng, NOTES_S, 165.0), plucked(rng, other_s, 110.0)
    ears, analyses = heard(tmp_path, {"one": one, "other": other})
    for verdict, played_s in zip(judge_group(ears, analyses), (NOTES_S, other_s), strict=True):
        assert verdict.material is None
        assert min(figures(verdict, played_s)) > 0.95
