"""Drums that ring: notes by themselves, drums beside the others; lines stay what they are."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.material import PRESETS, Material
from tests.conftest import RATE_HZ, write_microphones
from tests.sound.lines import BEATS_S, KICK_S, SECONDS, SNARE_S, figures, plucked, strokes

TOM_S = np.sort(np.concatenate([SNARE_S[::2] + 0.25, SNARE_S[::2] + 0.375]))


def singing(rng: np.random.Generator, times_s: np.ndarray, vary: float = 0.0) -> np.ndarray:
    """A drum whose head sounds on as steadily as a string, at one pitch, brighter or duller from stroke to stroke."""
    line = np.zeros(SECONDS * RATE_HZ)
    place = np.arange(round(0.5 * RATE_HZ)) / RATE_HZ
    for time_s in times_s:
        duller = 1.0 + vary * rng.uniform(-1.0, 1.0)
        body = sum(np.sin(2 * np.pi * 210.0 * part * place) / part**duller for part in range(1, 12))
        noise = rng.normal(size=len(place)) * np.exp(-place / 0.008)
        stroke = (body * np.exp(-place / 0.12) + noise) * np.minimum(1.0, place / 0.001)
        line[round(time_s * RATE_HZ) :][: len(place)] += rng.uniform(0.2, 0.3) * stroke
    return line


def listened_to(folder: Path, tom_s: np.ndarray, vary: float = 0.0) -> dict[str, Ear]:
    """A bass drum, a snare and a tom that sings, each a little in the others' microphones; a bass, plugged in."""
    rng = np.random.default_rng(3)
    kick, snare, tom = strokes(rng, KICK_S, 60.0), strokes(rng, SNARE_S, 190.0), singing(rng, tom_s, vary)
    tracks = {
        "kick": kick + 0.12 * snare + 0.1 * tom,
        "snare": snare + 0.12 * kick + 0.12 * tom,
        "tom": tom + 0.1 * kick + 0.14 * snare,
        "bass": plucked(rng, BEATS_S + 0.012, softest=0.3),
    }
    write_microphones(folder, rng, tracks)
    return {name: Ear.of(read_recording(folder / f"{name}.wav")) for name in tracks}


@pytest.fixture
def ears(tmp_path: Path) -> dict[str, Ear]:
    return listened_to(tmp_path, TOM_S)


def test_a_drum_that_rings_is_told_by_its_group(ears):
    """Its strokes are its own, the neighbours' are not; and nobody is confused by it."""
    analyses = [analyse(ear) for ear in ears.values()]
    assert PRESETS[analyses[2].material].is_pitched  # who hears it alone takes it for a line
    found = dict(zip(ears, judge_group(list(ears.values()), analyses), strict=True))
    assert [verdict.material for verdict in found.values()] == [None, None, Material.DRUM_CLOSE, None]
    assert figures(found["tom"], TOM_S) == (1.0, 1.0)
    for name, times_s in (("kick", KICK_S), ("snare", SNARE_S)):
        assert min(figures(found[name], times_s)) > 0.97
    assert min(figures(found["bass"], BEATS_S + 0.012)) > 0.95


def test_a_drum_that_is_seldom_struck_and_never_alike_is_told_too(tmp_path):
    """Six strokes, each brighter or duller than the next."""
    seldom_s = TOM_S[::4]
    ears = listened_to(tmp_path, seldom_s, vary=3.0)
    analyses = [analyse(ear) for ear in ears.values()]
    assert PRESETS[analyses[2].material].is_pitched
    found = dict(zip(ears, judge_group(list(ears.values()), analyses), strict=True))
    assert [verdict.material for verdict in found.values()] == [None, None, Material.DRUM_CLOSE, None]
    assert figures(found["tom"], seldom_s) == (1.0, 1.0)


def test_what_somebody_said_a_track_is_no_group_gainsays(ears):
    """Said to be plucked, the tom is judged as a line is."""
    said = [Ear(ear.recordings, ear.band_hz, Material.PLUCKED if name == "tom" else None) for name, ear in ears.items()]
    assert all(verdict.material is None for verdict in judge_group(said, [analyse(ear) for ear in said]))
