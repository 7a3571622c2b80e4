"""Twins: two or more microphones on one drum each get all its strokes."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
import pytest

from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_bleed
from supple_snare.sound.events import gather_events
from supple_snare.sound.files import read_recording
from supple_snare.sound.starts import rough_starts
from supple_snare.sound.twins import find_drums, groups_without_twins
from tests.conftest import RATE_HZ, Take, drum_line, write_microphones

SECONDS = 24
line = partial(drum_line, seconds=SECONDS, softest=0.4)
SNARE_S = np.arange(1.0, 22.0, 0.97) + 0.004 * np.sin(np.arange(22))
KICK_S = np.arange(0.6, 22.0, 0.71)


def late(sound: np.ndarray, milliseconds: float) -> np.ndarray:
    """The same later."""
    return np.roll(sound, round(milliseconds * RATE_HZ / 1000))


@pytest.fixture(scope="module")
def analyses(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Analysis]:
    """A snare heard from above and below and once more, a kick from inside and before, and a tom that never plays."""
    rng, folder = np.random.default_rng(11), tmp_path_factory.mktemp("twins")
    snare, kick = line(rng, SNARE_S, 210.0), line(rng, KICK_S, 70.0)
    below = -np.diff(snare, prepend=0.0)
    below *= np.abs(snare).max() / np.abs(below).max()
    microphones = {
        "above": snare + 0.10 * late(kick, 1.5),
        "kick": kick + 0.08 * late(snare, 1.6),
        "below": late(below, 0.25) + 0.16 * late(kick, 1.4),
        "tom": 0.15 * late(snare, 1.3) + 0.11 * late(kick, 1.9),
        "beside": 0.7 * late(snare, 0.15) + 0.13 * late(kick, 1.2),
        "before": 0.8 * late(kick, 0.7) + 0.13 * late(snare, 2.4),
    }
    write_microphones(folder, rng, microphones)
    return {name: analyse(read_recording(folder / f"{name}.wav")) for name in microphones}


def hits_of(analyses: list[Analysis]) -> list[np.ndarray]:
    """What is played into each of some microphones, s."""
    return [verdict.time_s[verdict.played] for verdict in judge_bleed(analyses)]


def drums_of(*paths: Path) -> list[int]:
    """Which drum each of some recordings hears."""
    found = [analyse(read_recording(path)) for path in paths]
    events = gather_events([each.levels for each in found], [rough_starts(each.attacks) for each in found])
    return find_drums(events)[0].tolist()


@pytest.mark.parametrize(
    "names",
    [["above", "kick", "below", "tom"], ["tom", "before", "above", "kick"], ["above", "kick", "beside", "below"]],
)
def test_each_microphone_of_a_drum_gets_all_its_strokes(analyses: dict[str, Analysis], names: list[str]):
    """In whatever order they come, two or three; the one whose drum never plays gets none. Two of the kick's attacks,
    far softer than the snare and under its ring, may pass for strokes of it."""
    for name, found_s in zip(names, hits_of([analyses[name] for name in names]), strict=True):
        struck_s = {"tom": np.zeros(0), "kick": KICK_S, "before": KICK_S}.get(name, SNARE_S)
        apart_s = np.abs(found_s[:, None] - struck_s)
        assert apart_s.min(axis=0, initial=1.0).max(initial=0.0) < 0.002, name
        assert np.count_nonzero(apart_s.min(axis=1, initial=1.0) > 0.002) <= (0 if name == "tom" else 2), name


def test_the_same_recording_twice_has_all_strokes_twice(analyses: dict[str, Analysis]):
    """A copy takes nothing away from what it was copied from."""
    kick, snare, copy = hits_of([analyses["kick"], analyses["above"], analyses["above"]])
    assert len(kick) == len(KICK_S)
    assert len(SNARE_S) <= len(snare) <= len(SNARE_S) + 2
    assert np.array_equal(snare, copy)


def test_microphones_of_several_drums_are_no_twins(shared_take: Take):
    """Nor is a room microphone that hears them all."""
    assert drums_of(*(shared_take.root / f"{name}.wav" for name in ("kick", "snare", "room"))) == [0, 1, 2]


def test_two_toms_that_hear_each_other_are_no_twins(tmp_path: Path):
    """Side by side, seldom struck, each half as loud at the other as the other's own drum."""
    rng = np.random.default_rng(5)
    high, low = (line(rng, np.arange(first, 22.0, 2.9)[:7], pitch) for first, pitch in ((2.0, 150.0), (2.37, 130.0)))
    snare, kick = line(rng, SNARE_S, 210.0), line(rng, KICK_S, 70.0)
    microphones = {
        "kick": kick + 0.3 * (late(snare, 1.6) + late(high, 1.2) + late(low, 1.4)),
        "snare": snare + 0.3 * (late(kick, 1.5) + late(high, 1.0) + late(low, 1.7)),
        "high": high + 0.5 * late(low, 0.15) + 0.3 * (late(kick, 1.1) + late(snare, 1.0)),
        "low": low + 0.5 * late(high, 0.15) + 0.3 * (late(kick, 1.0) + late(snare, 1.5)),
    }
    write_microphones(tmp_path, rng, microphones)
    assert drums_of(*(tmp_path / f"{name}.wav" for name in microphones)) == [0, 1, 2, 3]


def test_groups_hold_one_of_every_set_of_twins():
    """Every microphone is in some group, none with its twin."""
    groups = [group.tolist() for group in groups_without_twins(np.array([2, 4, 2, 3, 4, 2]))]
    assert groups == [[2, 3, 4], [0, 3, 4], [1, 2, 3], [3, 4, 5]]
