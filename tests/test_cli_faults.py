"""One sentence and a status, whatever happens: odd files and names, closed streams, faults of any kind."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from supple_snare import cli
from supple_snare.cli import main
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings
from supple_snare.session.folder import SessionFolder
from supple_snare.session.history import History
from supple_snare.sound.files import read_recording

TIMING = ["--tempo", "110", "--first-beat", "0.5"]
SOURCE = Path(__file__).parents[1] / "src"


def run(capsys, *words) -> tuple[int, str, str]:
    """Exit status, standard output, standard error, of which the last line is the sentence."""
    status = main([os.fspath(word) for word in words])
    out, err = capsys.readouterr()
    assert "Traceback" not in err
    return status, out, err


def start(*words, stdout=subprocess.PIPE, **environment: str) -> subprocess.Popen[bytes]:
    """The program in a process of its own."""
    command = [sys.executable, "-m", "supple_snare", *map(os.fspath, words)]
    own = os.environ | {"PYTHONPATH": str(SOURCE)} | environment
    return subprocess.Popen(command, stdout=stdout, stderr=subprocess.PIPE, env=own)


COMMANDS = {
    "hits": ["hits", "{file}"],
    "tempo": ["tempo", "{file}"],
    "measure": ["measure", "{file}", *TIMING],
    "groove": ["groove", "{file}", *TIMING, "--out", "{folder}/g.groove.json"],
    "tighten": ["tighten", "{file}", *TIMING, "--out", "{folder}/out"],
}


@pytest.mark.parametrize("command", COMMANDS)
@pytest.mark.parametrize(
    "error",
    [
        OSError(5, "Input/output error", "/disk/a.wav"),
        ValueError("a"),
        KeyboardInterrupt(),
        MemoryError(),
        KeyError("x"),
    ],
    ids=lambda error: type(error).__name__,
)
def test_every_error_becomes_a_sentence(capsys, monkeypatch, shared_take, tmp_path, command, error):
    """Whatever is raised inside whichever command: one line that says what, status 1, nothing on standard output."""

    def fail(*_words, **_more):
        raise error

    monkeypatch.setattr(cli, "_listen", fail)
    words = [word.format(file=shared_take.files[0], folder=tmp_path) for word in COMMANDS[command]]
    status, out, err = run(capsys, *words, "--json")
    assert (status, out) == (1, "")
    assert len(err.splitlines()) == 1
    assert err.startswith("supple-snare: ")
    assert [each.name for each in tmp_path.iterdir() if each.name != "home"] == []


@pytest.mark.timeout(30)
@pytest.mark.parametrize("kind", ["raw", "pipe", "folder", "loop", "text", "empty", "device", "cut flac"])
def test_what_is_no_recording_is_told(capsys, tmp_path, kind):
    """Sentences that are true, and nothing waits for ever."""
    path = tmp_path / ("x.raw" if kind == "raw" else "x.flac" if kind == "cut flac" else "x.wav")
    match kind:
        case "raw" | "text":
            path.write_bytes(b"no sound at all " * 100)
        case "pipe":
            os.mkfifo(path)
        case "folder":
            path.mkdir()
        case "loop":
            path.symlink_to(path)
        case "empty":
            path.write_bytes(b"")
        case "device":
            path.symlink_to("/dev/zero")
        case "cut flac":
            soundfile.write(path, np.random.default_rng(1).normal(size=96_000) * 0.1, 48_000)
            data = path.read_bytes()
            path.write_bytes(data[: len(data) // 2])
    status, out, err = run(capsys, "hits", path, "--json")
    assert (status, out) == (1, "")
    expected = {
        "raw": "not an audio file", "pipe": "a pipe", "folder": "a folder", "loop": "leads to itself", "text": "not an",
        "empty": "empty", "device": "a device", "cut flac": "cut short or damaged",
    }  # fmt: skip
    assert err.startswith(f"supple-snare: {path.name}: ")
    assert expected[kind] in err


def test_any_name_is_read_written_and_shown(capsys, shared_take, tmp_path):
    """Bytes that are no UTF-8, and names as long as a disk allows."""
    for name in (b"snare\xff\xfe.wav", b"n" * 251 + b".wav"):
        source = tmp_path / os.fsdecode(name)
        shutil.copy(shared_take.files[1], source)
        status, out, err = run(capsys, "tighten", source, *TIMING, "--out", tmp_path / "out", "--json")
        assert status == 0, err
        written = json.loads(out)["files"]
        assert os.fsencode(written[0]).endswith(b"/" + name)
        assert Path(written[0]).is_file()
        session = add_recordings(Session(), [read_recording(source)])
        folder = SessionFolder.take(tmp_path / f"session {len(name)}")
        with folder:
            folder.write(History(session))
        from supple_snare.session.storage import load_session

        assert load_session(folder.path) == session


@pytest.mark.parametrize("way", ["closed", "full", "broken pipe"])
def test_standard_output_that_takes_nothing(shared_take, way):
    """A sentence, or silence where whoever read it wanted no more."""
    if way == "full":
        with Path("/dev/full").open("wb") as full:
            process = start("hits", shared_take.files[1], "--json", stdout=full)
            _, err = process.communicate(timeout=60)
    elif way == "closed":
        command = f'exec "{sys.executable}" -m supple_snare hits "{shared_take.files[1]}" --json >&-'
        process = subprocess.Popen(
            ["sh", "-c", command], stderr=subprocess.PIPE, env=os.environ | {"PYTHONPATH": str(SOURCE)}
        )
        _, err = process.communicate(timeout=60)
    else:
        with start("hits", shared_take.files[1], "--json") as process:
            assert process.stdout is not None and process.stderr is not None
            process.stdout.close()
            err = process.stderr.read()
    text = err.decode()
    assert process.returncode == 1
    assert "Traceback" not in text and "Exception ignored" not in text
    assert ("Standard output could not be written" in text) == (way != "broken pipe")


def test_a_locale_of_ascii_changes_no_byte(shared_take):
    """JSON is UTF-8 everywhere, and words are shown as far as the terminal can."""
    outs = []
    for environment in (
        {},
        {"LC_ALL": "C", "PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"},
    ):
        process = start("hits", shared_take.files[1], "--json", **environment)
        out, err = process.communicate(timeout=60)
        assert process.returncode == 0, err
        outs.append(out)
    assert outs[0] == outs[1]


@pytest.mark.parametrize("after_s", [0.25, 0.4, 0.6, 1.0, 2.0])
def test_an_interrupt_at_any_moment_leaves_no_traceback(shared_take, tmp_path, after_s):
    """While the libraries are loaded, while it listens, while it writes; all files are there, or no folder.

    The first tenth of a second is the interpreter's own, and so is what comes when all is written.
    """
    process = start("tighten", *shared_take.files, *TIMING, "--out", tmp_path / "out")
    time.sleep(after_s)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode in (0, 1, -signal.SIGINT, 128 + signal.SIGINT)
    assert b"Traceback" not in err
    if process.returncode == 0 or (tmp_path / "out").exists():
        written = {path.name for path in (tmp_path / "out").iterdir()}
        assert written == {path.name for path in shared_take.files}


def test_samples_that_are_no_numbers_raise_no_warning(capsys, tmp_path, shared_take):
    """NaN and infinity in a float file are silence to the ear, and stay in what is written."""
    sound, rate = soundfile.read(shared_take.files[1])
    sound[5_000:5_010], sound[9_000] = np.nan, np.inf
    path = tmp_path / "nan.wav"
    soundfile.write(path, sound, rate, subtype="FLOAT")
    status, _, err = run(capsys, "tighten", path, *TIMING, "--strength", "0.5", "--out", tmp_path / "out")
    assert status == 0
    assert "Warning" not in err
    written = soundfile.read(tmp_path / "out" / "nan.wav", dtype="float32")[0]
    assert np.isnan(written[5_000:5_010]).all()


@pytest.mark.parametrize("way", ["groove over a recording", "reference", "click", "another take", "MIDI"])
def test_no_file_is_replaced_unasked_and_no_input_ever(capsys, shared_take, tmp_path, way):
    """With --replace other files are; what a run reads is not."""
    take, other = tmp_path / "take", tmp_path / "other"
    for folder in (take, other):
        shutil.copytree(shared_take.root, folder)
    snare = take / "snare.wav"
    (other / "click.wav").write_bytes((other / "room.wav").read_bytes())
    is_input = way != "another take"
    match way:
        case "groove over a recording":
            words = ["groove", snare, *TIMING, "--out", snare]
        case "reference":
            words = ["tighten", snare, *TIMING, "--aim", f"reference={other / 'snare.wav'}", "--out", other]
        case "click":
            words = ["tighten", take / "kick.wav", *TIMING, "--click", "--aim", f"reference={other / 'click.wav'}"]
            words += ["--out", other]
        case "another take":
            (other / "snare.wav").chmod(0o444)
            words = ["tighten", snare, *TIMING, "--out", other]
        case "MIDI":
            words = ["groove", snare, take / "kick.wav", *TIMING, "--out", take / "kick.wav"]
    before = {path: path.read_bytes() for folder in (take, other) for path in folder.iterdir()}
    for replace in ([], ["--replace"]):
        status, _, err = run(capsys, *words, *replace)
        now = {path: path.read_bytes() for folder in (take, other) for path in folder.iterdir()}
        if replace and not is_input:
            assert status == 0
            assert {path for path in before if before[path] != now[path]} == {other / "snare.wav"}
        else:
            assert status == 1, err
            assert now == before
            assert ("would replace" if is_input or replace else "there already") in err or "there already" in err


def test_recordings_of_sessions_open_elsewhere_are_not_replaced(capsys, shared_take, tmp_path):
    """Nor those of a session that waits to be brought back."""
    take, mine = tmp_path / "take", tmp_path / "mine"
    for folder in (take, mine):
        shutil.copytree(shared_take.root, folder)
    session = add_recordings(Session(), [read_recording(take / "snare.wav")])
    with SessionFolder.take(tmp_path / "session") as folder:
        folder.write(History(session))
        words = ["tighten", mine / "snare.wav", *TIMING, "--out", take, "--replace"]
        status, _, err = run(capsys, *words)
        assert (status, "would replace" in err) == (1, True)
    status, _, err = run(capsys, *words)
    assert status == 0, err
