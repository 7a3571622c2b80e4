"""Masked strokes: those that fall on a neighbour's bleed and make one attack with it are found all the same."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
import pytest

from supple_snare.sound import bleed
from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_bleed
from supple_snare.sound.files import read_recording
from supple_snare.sound.likeliest import starts_later
from supple_snare.sound.verdict import Verdict
from supple_snare.sound.weighing import weigh_signs
from tests.conftest import RATE_HZ, drum_line, write_microphones

SECONDS = 30
line = partial(drum_line, seconds=SECONDS, softest=0.6)
SNARE_S = np.arange(1.0, 28.0, 1.0)
AFTER_S = np.arange(0.009, 0.0181, 0.001)
"""So soon after the bass drum some strokes of the snare come."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Bass drum, snare and a tom, some 8 dB down in one another's microphones."""
    rng = np.random.default_rng(5)
    kick_s = np.sort(np.concatenate([np.arange(0.5, 28.0, 1.0), SNARE_S[2::2][: len(AFTER_S)] - AFTER_S]))
    drums = {
        "snare": line(rng, SNARE_S, 210.0),
        "kick": line(rng, kick_s, 65.0),
        "tom": line(rng, np.arange(0.75, 28.0, 2.0), 130.0),
    }
    folder = tmp_path_factory.mktemp("masked")
    later = round(0.002 * RATE_HZ)
    heard = {
        name: own + sum(0.4 * np.roll(sound, later) for other, sound in drums.items() if other != name)
        for name, own in drums.items()
    }
    write_microphones(folder, rng, heard)
    return folder


def snare_of(folder: Path) -> Verdict:
    return judge_bleed([analyse(read_recording(folder / f"{name}.wav")) for name in ("snare", "kick", "tom")])[0]


def far_ms(verdict: Verdict) -> np.ndarray:
    """How far the nearest played hit lies from each stroke of the snare."""
    return 1000.0 * np.abs(verdict.time_s[verdict.played] - SNARE_S[:, None]).min(axis=1)


def test_strokes_on_bleed_are_found_where_they_begin(folder, monkeypatch):
    """And nothing else; without a second look one is missed."""
    verdict = snare_of(folder)
    assert np.count_nonzero(verdict.played) == len(SNARE_S)
    assert far_ms(verdict).max() < 0.5
    monkeypatch.setattr(bleed, "find_masked", lambda _weighed, start_s, log_odds: (start_s, log_odds))
    assert far_ms(snare_of(folder)).max() > 20.0


def test_a_later_start_is_looked_for_in_what_is_not_its_own(folder):
    """Within some 30 ms after what had begun; what is its own stays where it is, and all does where nothing is."""
    names = ("snare", "kick", "tom")
    snare = weigh_signs([analyse(read_recording(folder / f"{name}.wav")) for name in names]).tracks[0]
    own = np.abs(snare.start_s[:, None] - SNARE_S).min(axis=1) < 0.005
    later_s = starts_later(snare.bare, snare.others, snare.start_s, own)
    by_ms = 1000.0 * (later_s - snare.start_s)
    assert (by_ms[own] == 0.0).all()
    assert 1000.0 * np.abs(later_s[by_ms > 0.0, None] - SNARE_S).min() < 0.5
    assert ((by_ms[~own] == 0.0) | ((by_ms[~own] > 1.9) & (by_ms[~own] < 33.0))).all()
    nothing = np.zeros(len(own), dtype=bool)
    assert starts_later(snare.bare, snare.others, snare.start_s, nothing) == pytest.approx(snare.start_s)
