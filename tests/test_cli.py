"""The command line: the promised shapes on standard output, words on standard error, and exit statuses."""

from __future__ import annotations

import json
from pathlib import Path

import mido
import numpy as np
import pytest
import soundfile

from supple_snare.cli import main
from supple_snare.exchange.midi import read_notes
from tests.conftest import drum_line, make_take

TIMING = ["--tempo", "110", "--first-beat", "0.5"]


def run(capsys, *words) -> tuple[int, str, str]:
    """Exit status, standard output, standard error."""
    try:
        status = main([str(word) for word in words])
    except SystemExit as leaving:
        status = int(leaving.code or 0)
    out, err = capsys.readouterr()
    assert "Traceback" not in err
    return status, out, err


def test_hits(capsys, shared_take):
    """Every file's hits and the group's strokes, as promised."""
    status, out, said = run(capsys, "hits", *shared_take.files, "--json")
    result = json.loads(out)
    assert status == 0
    assert "snare.wav (drum, close): " in said and "room.wav (drums, overhead): 0 played" in said
    assert result["sample_rate"] == 48_000
    assert [track["file"] for track in result["tracks"]] == ["kick.wav", "snare.wav", "room.wav"]
    for track in result["tracks"]:
        assert all(set(hit) == {"time", "level_db", "kind", "confidence"} for hit in track["hits"])
        assert {hit["kind"] for hit in track["hits"]} <= {"played", "bleed", "grace", "roll"}
    snare = [hit["time"] for hit in result["tracks"][1]["hits"] if hit["kind"] == "played"]
    assert snare == pytest.approx(sorted(shared_take.starts_s["snare"]), abs=0.002)
    assert set(result["strokes"][0]) == {"time", "lead", "level_db"}


def test_leads_as_given(capsys, shared_take):
    """With --leads only those decide, by name with or without ending."""
    status, out, _ = run(capsys, "hits", *shared_take.files, "--leads", "snare", "--json")
    assert status == 0
    assert {stroke["lead"] for stroke in json.loads(out)["strokes"]} == {"snare.wav"}


def test_measure(capsys, shared_take):
    """Offsets against the grid; drift, feel and scatter add up; bars from 1, slots from 0."""
    status, out, _ = run(capsys, "measure", *shared_take.files, *TIMING, "--json")
    strokes = json.loads(out)["strokes"]
    assert status == 0
    keys = {"time", "lead", "bar", "slot", "grid_time", "offset_ms", "drift_ms", "feel_ms", "scatter_ms"}
    assert all(keys < set(stroke) for stroke in strokes)
    assert all(stroke["runner_up"]["slot"] != stroke["slot"] and stroke["margin"] > 0 for stroke in strokes)
    assert (strokes[0]["bar"], strokes[0]["slot"]) == (1, 0)
    for stroke in strokes:
        assert stroke["offset_ms"] == pytest.approx(1000 * (stroke["time"] - stroke["grid_time"]), abs=1e-6)
        assert stroke["offset_ms"] == pytest.approx(stroke["drift_ms"] + stroke["feel_ms"] + stroke["scatter_ms"])
        beats = (stroke["grid_time"] - 0.5) * 110 / 60
        assert beats == pytest.approx((stroke["bar"] - 1) * 4 + stroke["slot"] / 4)


@pytest.mark.parametrize(("grid", "told"), [("1/4T", True), ("1/8", False)])
def test_slots_that_do_not_fit_are_noted(capsys, shared_take, grid, told):
    """Beside the measures, which are made on the slots that were told."""
    status, _, err = run(capsys, "measure", *shared_take.files, *TIMING, "--grid", grid, "--json")
    assert status == 0
    assert ("another --grid fits plainly better: 1/8 explains" in err) is told


def test_tempo(capsys, shared_take):
    """Tempo, meter, first beat and all beats of the small take, with the other readings."""
    status, out, err = run(capsys, "tempo", *shared_take.files, "--json")
    found = json.loads(out)
    assert status == 0
    assert found["tempo"] == pytest.approx(110.0, abs=0.1)
    assert (found["meter"], found["steady"]) == ("4/4", True)
    assert np.diff(found["beats"]) == pytest.approx(60.0 / found["tempo"])
    away = (found["first_beat"] - 0.5) * 110.0 / 60.0
    assert abs(away - round(away)) < 0.02
    assert "110.0" in err and "slots that fit best: 1/8" in err


def test_a_recording_without_a_click_is_measured_on_its_own_tempo(capsys, tmp_path):
    """Four per cent up and down: against one tempo strokes lie anywhere, on the grid that follows they lie near."""
    rng = np.random.default_rng(7)
    beats = np.arange(96)
    start = 0.6 + np.concatenate([[0.0], np.cumsum(0.52 * (1 + 0.04 * np.sin(beats[:-1] / 9.0)))])
    paths = []
    for name, which, pitch in (("kick", 0, 70.0), ("snare", 1, 210.0)):
        times = start[which::2] + rng.normal(0, 0.005, len(start[which::2]))
        paths.append(tmp_path / f"{name}.wav")
        soundfile.write(paths[-1], drum_line(rng, times, pitch, seconds=53, softest=0.6), 48_000, subtype="PCM_24")
    status, out, _ = run(capsys, "tempo", *paths, "--json")
    found = json.loads(out)
    assert status == 0
    assert not found["steady"]
    assert len(found["beats"]) == pytest.approx(len(start), abs=2)
    nearest = np.abs(np.array(found["beats"])[:, None] - start).min(axis=0)
    assert np.mean(nearest < 0.035) > 0.97
    spreads = []
    for stiffness in ("0.2", "1"):
        status, out, err = run(
            capsys, "measure", *paths, "--follow", "--stiffness", stiffness, "--grid", "1/8", "--json"
        )
        assert status == 0
        assert "following the band" in err
        spreads.append(json.loads(out)["summary"]["spread_ms"])
    assert spreads[0] < 12.0 < spreads[1]


def lag_of(source: np.ndarray, result: np.ndarray, start_s: float) -> int:
    """By how many samples an attack moved, found by correlation alone."""
    at = round(start_s * 48_000)
    piece = source[at - 10 : at + 900]
    around = result[at - 10 - 1_500 : at + 900 + 1_500]
    match = np.correlate(around, piece, "valid")
    energy = np.convolve(around**2, np.ones(len(piece)), "valid")
    return int(np.argmax(match / np.sqrt(energy + 1e-9))) - 1_500


@pytest.mark.parametrize("seed", [2, 3])
def test_tighten_at_full_strength_lands_on_the_grid_in_every_file(capsys, tmp_path, seed):
    """Found again by correlation: strokes within 2 ms of their lines, all microphones moved alike to the sample."""
    take = make_take(tmp_path / "take", seed=seed)
    status, out, err = run(
        capsys, "tighten", *take.files, *TIMING, "--strength", "1", "--out", tmp_path / "o", "--json"
    )
    assert status == 0
    assert "strokes moved" in err
    result = json.loads(out)
    assert [Path(file).name for file in result["files"]] == ["kick.wav", "snare.wav", "room.wav"]
    pairs = [(soundfile.read(path)[0], soundfile.read(tmp_path / "o" / path.name)[0]) for path in take.files]
    truth = np.sort(np.concatenate(list(take.starts_s.values())))
    for stroke in result["strokes"]:
        assert set(stroke) == {"time", "grid_time", "new_time", "moved_ms", "kept", "doubts"}
        assert stroke["kept"] is None
        assert stroke["new_time"] - stroke["time"] == pytest.approx(stroke["moved_ms"] / 1000, abs=1e-9)
        start = truth[np.argmin(np.abs(truth - stroke["time"]))]
        lags = {lag_of(source, made, start) for source, made in pairs}
        assert len(lags) == 1
        assert abs(start + lags.pop() / 48_000 - stroke["grid_time"]) < 0.002


def test_strength_nothing_changes_nothing(capsys, tmp_path):
    """The files are the recordings, byte for byte."""
    take = make_take(tmp_path / "take", bars=2, subtype="PCM_16")
    status, out, _ = run(capsys, "tighten", *take.files, *TIMING, "--strength", "0", "--out", tmp_path / "o", "--json")
    assert status == 0
    assert all(stroke["moved_ms"] == 0 for stroke in json.loads(out)["strokes"])
    assert all(path.read_bytes() == (tmp_path / "o" / path.name).read_bytes() for path in take.files)


def test_windows_are_told(capsys, shared_take, tmp_path):
    """Tolerance and reach keep strokes and say so."""
    _, out, _ = run(
        capsys, "tighten", *shared_take.files, *TIMING, "--tolerance", "4", "--reach", "12", "--out", tmp_path, "--json"
    )
    strokes = json.loads(out)["strokes"]
    assert {stroke["kept"] for stroke in strokes} == {None, "tolerance", "reach"}
    for stroke in strokes:
        offset = abs(1000 * (stroke["time"] - stroke["grid_time"]))
        assert stroke["kept"] == ("tolerance" if offset <= 4 else "reach" if offset > 12 else None)
        assert ("past the reach" in stroke["doubts"]) == (stroke["kept"] == "reach")


WRONG_USE = {
    "tempo": ["measure", "{file}", "--tempo", "-3", "--first-beat", "0"],
    "words for a tempo": ["measure", "{file}", "--tempo", "fast", "--first-beat", "0"],
    "no tempo": ["measure", "{file}", "--first-beat", "0"],
    "a tempo beside one that is found": ["measure", "{file}", "--follow", "--tempo", "100"],
    "a strange stiffness": ["measure", "{file}", "--follow", "--stiffness", "7"],
    "strange swing": ["measure", "{file}", "--tempo", "100", "--first-beat", "0", "--swing-of", "1/4"],
    "strength": ["tighten", "{file}", *TIMING, "--strength", "7", "--out", "{out}"],
    "meter": ["tighten", "{file}", *TIMING, "--meter", "4/5", "--out", "{out}"],
    "grid": ["tighten", "{file}", *TIMING, "--grid", "1/7", "--out", "{out}"],
    "swing": ["tighten", "{file}", *TIMING, "--swing", "0.9", "--out", "{out}"],
    "windows crossed": ["tighten", "{file}", *TIMING, "--tolerance", "9", "--reach", "5", "--out", "{out}"],
    "no folder": ["tighten", "{file}", *TIMING],
    "lead": ["hits", "{file}", "--leads", "nobody.wav"],
    "aim": ["tighten", "{file}", *TIMING, "--aim", "moon", "--out", "{out}"],
    "option": ["hits", "{file}", "--loud"],
}


@pytest.mark.parametrize("kind", WRONG_USE)
def test_wrong_use_is_status_2(capsys, shared_take, tmp_path, kind):
    """Values that make no sense: one line, nothing on standard output, nothing written."""
    words = [word.format(file=shared_take.files[0], out=tmp_path / "out") for word in WRONG_USE[kind]]
    status, out, err = run(capsys, *words)
    assert (status, out) == (2, "")
    assert len(err.strip().splitlines()) == 1
    assert not (tmp_path / "out").exists()


def test_failed_work_is_status_1_and_names_the_file(capsys, tmp_path, take):
    """Missing, silent, other rate, a target that is a recording's own folder."""
    silent = tmp_path / "silent.wav"
    soundfile.write(silent, np.zeros(48_000), 48_000)
    slow = tmp_path / "slow.wav"
    soundfile.write(slow, np.zeros(48_000), 44_100)
    cases = {
        "missing.wav": ["hits", tmp_path / "missing.wav"],
        "silent.wav": ["hits", silent],
        "slow.wav": ["hits", take.files[0], slow],
        "kick.wav": ["tighten", take.files[0], *TIMING, "--out", take.root],
    }
    before = take.files[0].read_bytes()
    for name, words in cases.items():
        status, out, err = run(capsys, *words, "--json")
        assert (status, out) == (1, "")
        assert f"{name}: " in err.splitlines()[-1].removeprefix("supple-snare: ")
    assert take.files[0].read_bytes() == before


def test_a_silent_track_goes_along_with_the_others(capsys, take, tmp_path):
    """A microphone that caught nothing is noted, and cut like the rest."""
    silent = take.root / "tom.wav"
    soundfile.write(silent, np.zeros(soundfile.info(take.files[0]).frames), 48_000, subtype="PCM_24")
    status, _, err = run(capsys, "tighten", *take.files, silent, *TIMING, "--out", tmp_path / "o")
    assert status == 0
    assert "tom.wav is silent" in err
    assert (tmp_path / "o" / "tom.wav").exists()


def test_help_and_version(capsys):
    """Both answer and leave with 0."""
    for words in (["--help"], ["--version"], ["tighten", "--help"]):
        status, out, _ = run(capsys, *words)
        assert status == 0
        assert "supple-snare" in out


def test_without_a_screen_the_window_says_so(capsys, monkeypatch):
    """One sentence instead of Qt's complaint."""
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    status, _, err = run(capsys)
    assert status == 1
    assert "no screen" in err


# ---- feel


def test_a_groove_is_taken_and_given(capsys, shared_take, tmp_path):
    """Taken from the drums as JSON and as MIDI, given back at full strength: every stroke where it has it."""
    for name in ("drums.groove.json", "drums.mid"):
        status, out, _ = run(
            capsys, "groove", *shared_take.files, *TIMING, "--bars", 1, "--out", tmp_path / name, "--json"
        )
        assert status == 0
    told = json.loads(out)
    assert (told["format"], told["version"], told["cycle_beats"]) == ("groove template", 1, 4.0)
    keys = {"position_beats", "offset_beats", "offset_ms", "spread_ms", "accent_db", "count"}
    assert all(set(slot) == keys for slot in told["slots"])
    assert json.loads((tmp_path / "drums.groove.json").read_text()) == told
    for name in ("drums.groove.json", "drums.mid"):
        aim = f"groove={tmp_path / name}"
        words = [
            "tighten",
            *shared_take.files,
            *TIMING,
            "--aim",
            aim,
            "--strength",
            1,
            "--out",
            tmp_path / "out",
            "--json",
            "--replace",
        ]
        status, out, _ = run(capsys, *words)
        assert status == 0
        offsets = {slot["position_beats"]: slot["offset_ms"] for slot in told["slots"]}
        for stroke in json.loads(out)["strokes"]:
            place = round((stroke["grid_time"] - 0.5) * 110 / 60, 3) % 4
            assert 1000 * (stroke["new_time"] - stroke["grid_time"]) == pytest.approx(offsets[place], abs=0.3)


def test_own_feel_keeps_the_feel(capsys, shared_take, tmp_path):
    """Scatter shrinks, drift goes, what repeats stays: measured in the files written."""
    timing = [*TIMING, "--cycle", "1 bar", "--leads", "kick,snare"]
    words = ["tighten", *shared_take.files, *timing, "--aim", "own-feel", "--out", tmp_path / "out", "--json"]
    _, before, _ = run(capsys, "measure", *shared_take.files, *timing, "--json")
    status, _, _ = run(capsys, *words)
    written = [tmp_path / "out" / path.name for path in shared_take.files]
    _, after, _ = run(capsys, "measure", *written, *timing, "--json")
    assert status == 0
    one, two = (json.loads(text)["summary"] for text in (before, after))
    assert two["scatter_rms_ms"] / one["scatter_rms_ms"] == pytest.approx(0.2, abs=0.05)
    assert two["drift_rms_ms"] < 2.0
    assert two["feel_rms_ms"] == pytest.approx(one["feel_rms_ms"], abs=1.0)


def test_a_midi_part_follows_a_recording(capsys, shared_take, tmp_path):
    """Measured, tightened to the snare 5 ms behind it, written with its name; nothing else is written."""
    snare = np.sort(shared_take.starts_s["snare"])
    track, now = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(110))]), 0
    for time in snare + np.random.default_rng(2).normal(0.01, 0.01, len(snare)):
        tick = round(time * 960 * 110 / 60)
        track += [mido.Message("note_on", note=50, time=tick - now), mido.Message("note_off", note=50, time=60)]
        now = tick + 60
    mido.MidiFile(ticks_per_beat=960, tracks=[track]).save(tmp_path / "bass.mid")
    status, out, _ = run(capsys, "measure", tmp_path / "bass.mid", *TIMING, "--json")
    assert (status, len(json.loads(out)["strokes"])) == (0, len(snare))
    aim = ["--aim", f"reference={shared_take.root / 'snare.wav'}", "--behind", 5, "--strength", 1]
    status, out, _ = run(capsys, "tighten", tmp_path / "bass.mid", *TIMING, *aim, "--out", tmp_path / "out", "--json")
    assert status == 0
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["bass.mid"]
    new = read_notes(tmp_path / "out" / "bass.mid").time_s
    assert new == pytest.approx(snare + 0.005, abs=0.003)
    assert new == pytest.approx([stroke["new_time"] for stroke in json.loads(out)["strokes"]], abs=0.0005)


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (["--aim", "rhumba"], 2, "not understood"),
        (["--aim", "groove"], 2, "not understood"),
        (["--aim", "grid=x"], 2, "not understood"),
        (["--aim", "groove=gone.groove.json"], 1, "gone.groove.json"),
        (["--aim", "reference=gone.wav"], 1, "gone.wav"),
        (["--aim", "own-feel", "--amount", "3"], 2, "amount"),
        (["--aim", "own-feel", "--cycle", "9 lives"], 2, "cycle"),
        (["--unpaired", "flee"], 2, "flee"),
    ],
)
def test_an_aim_that_makes_no_sense_is_told(capsys, shared_take, tmp_path, words, status, told):
    """One sentence on standard error, nothing on standard output, nothing written."""
    files = [path for path in shared_take.files if path.stem == "kick"]
    found, out, err = run(capsys, "tighten", *files, *TIMING, *words, "--out", tmp_path / "out")
    assert (found, out) == (status, "")
    assert told in err
    assert not (tmp_path / "out").exists()


def test_a_midi_file_goes_alone_and_a_reference_is_another_performance(capsys, shared_take, tmp_path):
    """Files that cannot be one group, and a reference among the files."""
    kick = shared_take.files[0]
    status, _, err = run(capsys, "measure", kick, tmp_path / "a.mid", *TIMING)
    assert (status, "by itself" in err or "alone" in err) == (2, True)
    words = ["tighten", kick, *TIMING, "--aim", f"reference={kick}", "--out", tmp_path / "out"]
    status, _, err = run(capsys, *words)
    assert (status, "another performance" in err) == (2, True)
    mido.MidiFile(tracks=[mido.MidiTrack()]).save(tmp_path / "empty.mid")
    status, _, err = run(capsys, "measure", tmp_path / "empty.mid", *TIMING)
    assert (status, "holds no notes" in err) == (1, True)
