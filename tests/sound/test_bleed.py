"""Bleed: whose the attacks are, judged from all microphones together."""

from __future__ import annotations

import tempfile
from functools import cache, partial
from pathlib import Path

import numpy as np
import pytest
import soundfile
from bench.ratchet import SEED, kit, recipes

from supple_snare.sound.attacks import Analysis, analyse
from supple_snare.sound.bleed import judge_bleed
from supple_snare.sound.files import read_recording
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.kinds import mark_grace_and_rolls
from tests.conftest import RATE_HZ, Take, drum_line, write_microphones

SECONDS = 24
line = partial(drum_line, seconds=SECONDS, softest=0.4)


def judged(folder: Path, names: list[str]) -> dict[str, Verdict]:
    """Verdicts of some tracks of a take, by name."""
    found = [analyse(read_recording(folder / f"{name}.wav")) for name in names]
    return dict(zip(names, judge_bleed(found), strict=True))


def share_found(verdict: Verdict, times: np.ndarray) -> float:
    """How many of some times are among the played hits, within 2 ms."""
    played = verdict.time_s[verdict.played]
    return float(np.mean([np.min(np.abs(played - time), initial=1.0) < 0.002 for time in times]))


def test_neighbours_are_told_from_strokes(shared_take: Take):
    """Every stroke played, and nothing else, within half a millisecond."""
    verdicts = judged(shared_take.root, ["kick", "snare", "room"])
    for name in ("kick", "snare"):
        played = verdicts[name].time_s[verdicts[name].played]
        truth = shared_take.starts_s[name]
        assert len(played) == len(truth)
        assert np.median(np.abs(played - truth)) < 0.0003
        assert np.abs(played - truth).max() < 0.002


def test_tracks_that_hear_nothing_of_each_other_have_no_bleed(tmp_path: Path):
    """Gated or programmed tracks, digital silence between the strokes: every stroke counts."""
    rng = np.random.default_rng(3)
    times = {"kick": np.arange(0.5, 22.0, 1.0), "snare": np.arange(1.0, 22.0, 1.0)}
    for name, pitch_hz in (("kick", 70.0), ("snare", 210.0)):
        soundfile.write(tmp_path / f"{name}.wav", line(rng, times[name], pitch_hz), RATE_HZ, subtype="PCM_24")
    verdicts = judged(tmp_path, list(times))
    for name, struck in times.items():
        assert share_found(verdicts[name], struck) == 1.0
        assert verdicts[name].played.all()


def test_a_room_microphone_plays_nothing(shared_take: Take):
    """All it hears was played elsewhere."""
    room = judged(shared_take.root, ["kick", "snare", "room"])["room"]
    assert len(room.time_s) > 20
    assert np.mean(room.played) < 0.05


def test_one_track_alone_has_no_bleed_to_speak_of(shared_take: Take):
    """Without neighbours, only level speaks: all loud hits count."""
    snare = judged(shared_take.root, ["snare"])["snare"]
    truth = shared_take.starts_s["snare"]
    assert share_found(snare, truth) == 1.0


def test_the_microphone_of_an_idle_drum_plays_nothing(tmp_path):
    """A tom that is never struck only hears the others, however plainly."""
    rng = np.random.default_rng(8)
    snare = line(rng, np.arange(0.5, 23.0, 1.07), 200.0)
    kick = line(rng, np.arange(1.0, 23.0, 0.61), 70.0)
    write_microphones(
        tmp_path,
        rng,
        {
            "snare": snare + 0.2 * np.roll(kick, 100),
            "kick": kick + 0.15 * np.roll(snare, 90),
            "tom": 0.25 * np.roll(snare, 70) + 0.3 * np.roll(kick, 60),
        },
    )
    tom = judged(tmp_path, ["snare", "kick", "tom"])["tom"]
    assert len(tom.time_s) > 30
    assert np.count_nonzero(tom.played) <= 1


def test_a_grace_note_is_as_loud_as_it_is_and_not_as_its_main_stroke(tmp_path):
    """Flams on a drum whose wires rattle on: 6 dB lie between the two, and the louder one is the stroke."""
    rng = np.random.default_rng(12)
    mains = np.arange(1.0, 22.0, 1.0)
    decay = 0.4 * np.exp(-np.arange(RATE_HZ // 2) / RATE_HZ / 0.12)
    sound = np.zeros(SECONDS * RATE_HZ)
    for times, gain in ((mains, 1.0), (mains - 0.030, 0.5)):
        for at in np.rint(times * RATE_HZ).astype(int):
            sound[at : at + len(decay)] += gain * decay * rng.normal(size=len(decay))
    write_microphones(tmp_path, rng, {"tom": sound})
    (verdict,) = judged(tmp_path, ["tom"]).values()
    played = verdict.played
    hits = mark_grace_and_rolls(Hits.of(verdict.time_s[played], level_db=verdict.level_db[played]))
    grace, strokes = hits.of_kind(Kind.GRACE), hits.of_kind(Kind.PLAYED)
    assert np.abs(grace.time_s[:, None] - (mains - 0.030)).min(axis=0).max() < 0.004
    assert np.abs(strokes.time_s[:, None] - mains).min(axis=0).max() < 0.004


def test_a_beater_that_bounces_is_one_stroke(tmp_path):
    """Each time as late and about as loud, with as sharp an attack: no player does that."""
    rng = np.random.default_rng(21)
    struck, others = np.arange(0.5, 23.0, 0.93), np.arange(1.0, 23.0, 0.61)
    kick, bounces, snare = line(rng, struck, 70.0), line(rng, struck + 0.138, 70.0), line(rng, others, 210.0)
    write_microphones(
        tmp_path,
        rng,
        {
            "kick": kick + 0.25 * bounces + 0.1 * np.roll(snare, 90),
            "snare": snare + 0.1 * np.roll(kick + 0.25 * bounces, 90),
        },
    )
    found = judged(tmp_path, ["kick", "snare"])["kick"]
    assert share_found(found, struck) == 1.0
    assert np.count_nonzero(found.played) == len(struck)


def test_two_players_who_double_a_line_are_both_heard(tmp_path):
    """They strike together, never quite, and neither is the other's bleed."""
    rng = np.random.default_rng(9)
    written = np.arange(0.5, 23.0, 0.55)
    times = [written + rng.normal(0.0, 0.010, len(written)) for _ in range(2)]
    first, second = line(rng, times[0], 180.0), line(rng, times[1], 185.0)
    write_microphones(
        tmp_path, rng, {"one": first + 0.15 * np.roll(second, 150), "two": second + 0.15 * np.roll(first, 150)}
    )
    verdicts = judged(tmp_path, ["one", "two"])
    assert share_found(verdicts["one"], times[0]) > 0.9
    assert share_found(verdicts["two"], times[1]) > 0.9


def test_bleed_just_before_a_stroke_does_not_make_it_early(tmp_path):
    """A kick 4 to 12 ms ahead of each snare stroke is heard in its microphone and is not its start."""
    rng = np.random.default_rng(10)
    together = np.arange(0.5, 23.0, 0.8)
    ahead = together - rng.uniform(0.004, 0.012, len(together))
    alone = np.arange(0.9, 23.0, 1.6)
    snare, kick = line(rng, np.sort(np.concatenate([together, alone])), 210.0), line(rng, ahead, 70.0)
    write_microphones(
        tmp_path, rng, {"snare": snare + 0.12 * np.roll(kick, 80), "kick": kick + 0.12 * np.roll(snare, 80)}
    )
    found = judged(tmp_path, ["snare", "kick"])
    assert share_found(found["snare"], together) > 0.75
    assert share_found(found["kick"], ahead) > 0.9


def test_bleed_at_once_before_a_stroke_is_not_a_stroke(tmp_path):
    """A kick 13 to 19 ms ahead of half the snare's strokes: one stroke each in its microphone, not two."""
    rng = np.random.default_rng(14)
    together = np.arange(0.5, 23.0, 0.8)
    ahead = together - rng.uniform(0.013, 0.019, len(together))
    struck = np.sort(np.concatenate([together, np.arange(0.9, 23.0, 1.6)]))
    snare, kick = line(rng, struck, 210.0), line(rng, ahead, 70.0)
    write_microphones(
        tmp_path, rng, {"snare": snare + 0.15 * np.roll(kick, 80), "kick": kick + 0.12 * np.roll(snare, 80)}
    )
    found = judged(tmp_path, ["snare", "kick"])["snare"]
    assert share_found(found, struck) > 0.9
    assert np.count_nonzero(found.played) <= len(struck) + 1


def test_an_overhead_does_not_claim_a_drum_it_hears_well(tmp_path):
    """A bass drum as loud as anything in two overheads is still its own microphone's."""
    rng = np.random.default_rng(15)
    times = {
        "kick": np.arange(0.5, 23.0, 0.43),
        "snare": np.arange(0.71, 23.0, 0.86),
        "cymbal": np.arange(0.5, 23.0, 0.29),
    }
    sounds = {name: line(rng, times[name], hz) for name, hz in (("kick", 70.0), ("snare", 210.0), ("cymbal", 4_000.0))}
    write_microphones(
        tmp_path,
        rng,
        {
            "kick": sounds["kick"] + 0.1 * np.roll(sounds["snare"] + sounds["cymbal"], 60),
            "snare": sounds["snare"] + 0.1 * np.roll(sounds["kick"] + sounds["cymbal"], 70),
            "left": 0.5 * np.roll(sounds["kick"] + 0.6 * sounds["snare"] + 0.8 * sounds["cymbal"], 150),
            "right": 0.5 * np.roll(sounds["kick"] + 0.5 * sounds["snare"] + 0.9 * sounds["cymbal"], 170),
        },
    )
    found = judged(tmp_path, ["kick", "snare", "left", "right"])
    for name in ("kick", "snare"):
        assert not found[name].is_far
        assert share_found(found[name], times[name]) > 0.95
        assert np.count_nonzero(found[name].played) <= 1.05 * len(times[name])


def test_an_overhead_that_alone_hears_a_horn_is_still_far(tmp_path):
    """Nobody else hears these notes as well; but it hears both drums as loud."""
    rng = np.random.default_rng(8)
    struck = np.arange(0.5, 22.0, 0.5) + rng.normal(0.0, 0.008, 43)
    kick, snare = line(rng, struck[::2], 70.0), line(rng, struck[1::2], 210.0)
    horn, blown = np.zeros(len(kick)), np.arange(round(0.6 * RATE_HZ)) / RATE_HZ
    shape = np.minimum(1.0, blown / 0.03) * np.minimum(1.0, (0.6 - blown) / 0.05)
    for number, time in enumerate(np.arange(0.73, 22.0, 0.75)):
        pitch_hz = 150.0 * 2.0 ** ((number * 5 % 12) / 12.0)
        note = sum(np.sin(2 * np.pi * pitch_hz * part * blown) / part for part in range(1, 7))
        horn[round(time * RATE_HZ) :][: len(note)] += 0.1 * note * shape
    far = {name: 0.15 * np.roll(sound, 150) for name, sound in (("kick", kick), ("snare", snare), ("horn", horn))}
    close = {"kick": kick + far["snare"] + far["horn"], "snare": snare + far["kick"] + far["horn"]}
    write_microphones(tmp_path, rng, close | {"over": np.roll(kick + snare, 150) + horn})
    verdicts = judged(tmp_path, ["kick", "snare", "over"])
    assert [verdict.is_far for verdict in verdicts.values()] == [False, False, True]


def test_no_tracks_and_silent_tracks(tmp_path):
    """Nothing in, nothing out."""
    assert judge_bleed([]) == []
    path = tmp_path / "silent.wav"
    soundfile.write(path, np.zeros(48_000), RATE_HZ)
    silent = analyse(read_recording(path))
    assert silent.is_silent
    assert len(judge_bleed([silent])[0].time_s) == 0


@pytest.mark.parametrize(
    ("delay", "gain_db", "behind"), [(54, 0.0, 0), (0, -17.3, 0), (0, 0.0, 30_000), (9_001, -6.0, 77)]
)
def test_place_gain_and_length_change_no_verdict(shared_take: Take, tmp_path: Path, delay, gain_db, behind):
    """A whole take moved by some samples, turned down, with silence behind it: the same strokes, moved by as much; and
    the far microphone, which has none of its own and never leads beside these, is told as far."""
    names = ["kick", "snare", "room"]
    plain = judged(shared_take.root, names)
    for name in names:
        sound, _ = soundfile.read(shared_take.root / f"{name}.wav")
        moved = np.concatenate([np.zeros(delay), sound * 10 ** (gain_db / 20), np.zeros(behind)])
        soundfile.write(tmp_path / f"{name}.wav", moved, RATE_HZ, subtype="FLOAT")
    for name, verdict in judged(tmp_path, names).items():
        assert verdict.is_far == plain[name].is_far == (name == "room")
        if verdict.is_far:
            continue
        expected = plain[name].time_s[plain[name].played]
        found = verdict.time_s[verdict.played]
        assert len(found) == len(expected)
        # What covers a start is told by frames of some samples, so that a hidden one may shift by one or two.
        shift = np.abs((found - expected) * RATE_HZ - delay)
        assert shift.max() <= 2.0
        assert np.median(shift) < 0.01


@cache
def analysis_of(sound: bytes) -> Analysis:
    """What is heard in the samples of a track."""
    with tempfile.TemporaryDirectory() as folder:
        soundfile.write(Path(folder) / "track.wav", np.frombuffer(sound), RATE_HZ, subtype="FLOAT")
        return analyse(read_recording(Path(folder) / "track.wav"))


def played(tracks: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """When strokes were played into each track."""
    verdicts = judge_bleed([analysis_of(sound.tobytes()) for sound in tracks.values()])
    return {name: verdict.time_s[verdict.played] for name, verdict in zip(tracks, verdicts, strict=True)}


@pytest.fixture(scope="module")
def kit_and_strokes():
    """A kit with ghost notes, a fader moved in the middle, and what is judged of it as it is."""
    tracks = recipes()["a fader moved"].build(kit(), SEED).tracks
    return tracks, played(tracks)


@pytest.mark.parametrize(
    "change",
    [
        pytest.param(lambda tracks: dict(reversed(tracks.items())), id="order"),
        pytest.param(lambda tracks: tracks | {"idle": np.zeros(len(tracks["snare"]))}, id="a silent track"),
        pytest.param(lambda tracks: tracks | {"snare": -tracks["snare"]}, id="polarity"),
        pytest.param(lambda tracks: tracks | {"snare": 0.3 * tracks["snare"]}, id="gain of one track"),
        pytest.param(lambda tracks: tracks | {"copy": tracks["snare"].copy()}, id="a copy of a track"),
    ],
)
def test_what_changes_no_stroke_changes_no_verdict(kit_and_strokes, change):
    """Names, order, gain, polarity, what is silent, and what is there twice: every stroke stays where it was."""
    tracks, before = kit_and_strokes
    found = played(change(tracks))
    for name in tracks:
        assert found[name] == pytest.approx(before[name], abs=0.01), name
    if "copy" in found:
        assert found["copy"] == pytest.approx(before["snare"], abs=0.01)


def test_a_microphone_alone_is_never_far(shared_take: Take, monkeypatch):
    """Whatever its strokes look like: nobody is closer."""
    monkeypatch.setattr("supple_snare.sound.bleed.own_drum_odds", lambda _closeness, _signs, _odds: -1.0)
    assert not judged(shared_take.root, ["kick"])["kick"].is_far
    assert judged(shared_take.root, ["kick", "room"])["room"].is_far
