"""Overheads: strokes of drums that no microphone is close to are theirs, and nothing else."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.sides import in_stereo
from supple_snare.sound.verdict import Verdict
from tests.conftest import RATE_HZ, drum_line, write_microphones
from tests.sound import lines
from tests.sound.kits import struck_s, take
from tests.sound.lines import across, plucked


def judged(folder: Path, tracks: dict[str, np.ndarray]) -> dict[str, Verdict]:
    """Verdicts of tracks, by name."""
    return lines.judged(folder, np.random.default_rng(1), tracks)


def share(of_s: np.ndarray, among_s: np.ndarray) -> float:
    """How many of some moments have one of others within 15 ms."""
    return float(np.mean([np.abs(among_s - each).min(initial=1.0) < 0.015 for each in of_s]))


def test_what_no_close_microphone_has_was_played_into_the_overheads(tmp_path: Path):
    """A bass drum and a pair: the snare and the cymbals are the pair's, which hears them some ms late."""
    made = take()
    found = judged(tmp_path, {name: made.tracks[name] for name in ("kick", "over-left", "over-right")})
    kick = found["kick"].time_s[found["kick"].played]
    assert share(struck_s("kick"), kick) == share(kick, struck_s("kick")) == 1.0
    alone = np.array([each for each in struck_s() if np.abs(struck_s("kick") - each).min() > 0.03])
    for side in ("over-left", "over-right"):
        played = found[side].time_s[found[side].played]
        assert share(alone, played) > 0.9
        assert share(struck_s("snare"), played) > 0.85
        assert share(played, alone) > 0.9
        assert found[side].is_wide and not found[side].is_far
        assert 0.001 < found[side].later_s < 0.006


def test_a_whole_kit_in_one_file_is_no_bleed(tmp_path: Path):
    """Its hats and soft strokes are as unlike its loud ones as bleed is, but there is nobody whose they could be."""
    made = take()
    pair = np.stack([made.tracks["over-left"], made.tracks["over-right"]], axis=1)
    bass = plucked(np.random.default_rng(2), np.arange(0.6, 12.0, 0.53))
    bass = np.pad(bass, (0, max(0, len(pair) - len(bass))))[: len(pair)]
    found = judged(tmp_path, {"kit": pair, "bass": bass, "room": made.tracks["room"]})
    kit = found["kit"].time_s[found["kit"].played]
    assert share(struck_s(), kit) > 0.95
    assert share(kit, struck_s()) > 0.95
    assert found["room"].is_far
    assert found["room"].played.mean() < 0.1


def test_soft_hats_of_a_loop_in_stereo_are_strokes(tmp_path: Path):
    """26 dB under its drums they would be bleed at the microphone of one drum; here nobody else is heard."""
    rng = np.random.default_rng(8)
    beats = 0.4 + 0.6 * np.arange(20) + rng.normal(0, 0.006, 20)
    low = drum_line(rng, beats[::2], 90.0, seconds=13, softest=0.9)
    high = drum_line(rng, beats[1::2], 190.0, seconds=13, softest=0.9)
    hats_s = 0.4 + 0.15 * np.arange(80)
    hats_s = hats_s[np.abs(hats_s[:, None] - beats).min(axis=1) > 0.05]
    hats = np.zeros_like(low)
    fall = np.exp(-np.arange(2_400) / 500)
    for at in np.rint(hats_s * RATE_HZ).astype(int):
        hats[at : at + 2_400] += 0.02 * np.diff(rng.normal(size=2_401)) * fall
    loop = np.stack([low + 0.8 * high + hats, 0.8 * low + high + 0.6 * hats], axis=1)
    for tracks in ({"loop": loop}, {"left": loop[:, 0], "right": loop[:, 1]}):
        for name, verdict in judged(tmp_path / str(len(tracks)), tracks).items():
            played = verdict.time_s[verdict.played]
            assert verdict.is_wide, name
            assert share(beats, played) == 1.0
            assert share(hats_s, played) > 0.9
            assert share(played, np.concatenate([beats, hats_s])) > 0.97
    lone = judged(tmp_path / "mono", {"drum": loop.mean(axis=1)})["drum"]
    assert not lone.is_wide
    assert share(hats_s, lone.time_s[lone.played]) < 0.7


def test_a_side_that_hears_the_hats_too_softly_is_one_of_its_pair(tmp_path: Path):
    """What is loud to the right is the bass drum alone."""
    made = take()
    kick = np.concatenate([np.zeros(180), made.tracks["kick"][:-180]])
    tracks = {name: made.tracks[name] for name in ("kick", "snare", "over-left")}
    tracks["over-right"] = 0.3 * kick + 0.1 * made.tracks["over-right"]
    found = judged(tmp_path, tracks)
    assert found["over-left"].is_wide and found["over-right"].is_wide


def test_two_toms_are_no_pair(tmp_path: Path):
    """The one to the right is not struck, and hears a whole kit."""
    made, rng = take(), np.random.default_rng(4)
    far = np.concatenate([np.zeros(100), made.tracks["over-left"][:-100]])
    tracks = {"kick": made.tracks["kick"], "Tom R": 0.05 * far + 1e-4 * rng.normal(size=len(far)), "over-left": far}
    tom = drum_line(rng, np.arange(1.0, 11.0, 2.0), 150.0, seconds=12, softest=0.6)
    tracks["Tom L"] = 0.05 * far + np.pad(tom, (0, max(0, len(far) - len(tom))))[: len(far)]
    found = judged(tmp_path, tracks)
    assert not found["Tom R"].is_wide and not found["Tom L"].is_wide


def test_two_microphones_of_one_drum_are_no_pair_though_a_neighbour_hears_it_late(tmp_path: Path):
    """All hear both drums loud, low and high; the high one has strokes of its own, so that nobody hears them all."""
    rng = np.random.default_rng(6)
    low = drum_line(rng, np.arange(0.5, 23.0, 0.75), 60.0, seconds=24, softest=0.7)
    high = drum_line(rng, np.arange(0.7, 23.0, 1.13), 2_500.0, seconds=24, softest=0.7)
    tracks = {
        "low in": low + across(high, 0.5, 0.003),
        "low out": across(low, 1.0, 0.0005) + across(high, 0.45, 0.0026),
        "high": high + across(low, 0.4, 0.008),
    }
    found = judged(tmp_path, {name: sound + 1e-4 * rng.normal(size=len(sound)) for name, sound in tracks.items()})
    assert not any(verdict.is_wide for verdict in found.values())
    assert np.count_nonzero(found["high"].played) == 20
    assert np.count_nonzero(found["low in"].played) == 30


def test_close_microphones_are_judged_as_if_the_overheads_were_no_pair(tmp_path: Path):
    """Whatever an overhead claims."""
    made = take()
    left_out = {name: sound for name, sound in made.tracks.items() if name != "over-right"}
    one, both = judged(tmp_path / "one", left_out), judged(tmp_path / "both", made.tracks)
    for drum in made.struck:
        hits = [each[drum].time_s[each[drum].played] for each in (one, both)]
        assert share(hits[0], hits[1]) == share(hits[1], hits[0]) == 1.0
    assert one["over-left"].is_far


@pytest.mark.parametrize(
    ("names", "sides"),
    [
        (["Snare", "over-left", "over-right", "room"], {(1, 2)}),
        (["OH R", "OH L", "Tom L", "Room_r"], {(0, 1)}),
        (["OverL", "Bell", "OverR", "Clave r", "Clave l"], {(0, 2), (3, 4)}),
        (["Left tom", "right tom 2"], set()),
        (["l", "R", "Reel"], {(0, 1)}),
    ],
)
def test_names_tell_the_sides_of_a_pair(tmp_path: Path, names: list[str], sides: set[tuple[int, ...]]):
    """Where both are there."""
    write_microphones(tmp_path, np.random.default_rng(1), {name: np.zeros(RATE_HZ // 10) for name in names})
    found = in_stereo([Ear.of(read_recording(tmp_path / f"{name}.wav")) for name in names])
    assert {tuple(sorted(each)) for each in found} == sides
