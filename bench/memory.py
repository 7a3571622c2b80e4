"""Memory and time on long takes and on many files: each command in a process of its own.

    python bench/memory.py [--minutes 20 60 180] [--tracks 1 8 24] [--track-minutes 60] [--files 60] [--folder DIR]

Makes takes of one drum a microphone with bleed between them, and tells the largest memory that `hits` and `tighten`
held, in MB, with their time. The first rows have one track of growing length, then many tracks of one length, the last
many short files.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

_RATE_HZ = 48_000
_TEMPO = 110.0
_PITCHES_HZ = (60.0, 200.0, 110.0, 90.0, 300.0, 400.0, 150.0, 500.0)


def _stroke(rng: np.random.Generator, pitch_hz: float) -> np.ndarray:
    time_s = np.arange(round(0.25 * _RATE_HZ)) / _RATE_HZ
    tone = np.sin(2 * np.pi * pitch_hz * rng.uniform(0.98, 1.02) * time_s + 1.0) * np.exp(-time_s / 0.05)
    noise = 0.7 * rng.normal(size=len(time_s)) * np.exp(-time_s / 0.02)
    return 0.4 * rng.uniform(0.5, 1.0) * (tone + noise) * np.minimum(1.0, (np.arange(len(time_s)) + 6) / 24)


def make_take(into: Path, tracks: int, seconds: int) -> None:
    """Files of 16 bits, written a minute at a time."""
    rng = np.random.default_rng(5)
    into.mkdir(parents=True, exist_ok=True)
    drums = len(_PITCHES_HZ)
    strokes = [[_stroke(rng, pitch_hz) for _ in range(12)] for pitch_hz in _PITCHES_HZ]
    gains = 10.0 ** (rng.uniform(-32, -16, (tracks, drums)) / 20.0)
    delays = rng.integers(20, 300, (tracks, drums))
    for track in range(tracks):
        gains[track, track % drums] = 1.0 if track < drums else rng.uniform(0.1, 0.5)
        if track < drums:
            delays[track, track] = 0
    paths = [into / f"t{track:02d}.wav" for track in range(tracks)]
    files = [soundfile.SoundFile(path, "w", _RATE_HZ, 1, "PCM_16") for path in paths]
    at_s, number, over = 0.5, 0, np.zeros((drums, _RATE_HZ))
    for minute in range(0, seconds, 60):
        length = min(60, seconds - minute) * _RATE_HZ
        dry = np.zeros((drums, length + _RATE_HZ))
        dry[:, :_RATE_HZ] += over
        while at_s * _RATE_HZ < length:
            for drum in [number % 2] if number % 4 else [number % 2, 2 + (number // 4) % 6]:
                stroke = strokes[drum][rng.integers(12)]
                at = max(round((at_s + rng.normal(0.0, 0.006)) * _RATE_HZ), 0)
                dry[drum, at : at + len(stroke)] += stroke
            at_s, number = at_s + 30.0 / _TEMPO, number + 1
        at_s, over = at_s - length / _RATE_HZ, dry[:, length:].copy()
        for track, file in enumerate(files):
            mix = rng.normal(size=length) * 1e-4
            for drum in range(drums):
                mix += gains[track, drum] * np.roll(dry[drum, :length], delays[track, drum])
            file.write(0.6 * mix)
    for file in files:
        file.close()


def run(command: str, paths: list[Path], out: Path) -> tuple[float, float, float, int]:
    """Largest memory in MB, seconds of the clock and of the processor, and the status."""
    words = [sys.executable, "-m", "supple_snare", command, *map(str, paths)]
    if command == "tighten":
        words += ["--tempo", str(_TEMPO), "--first-beat", "0.5", "--out", str(out), "--replace"]
    began = time.monotonic()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    spent_s = usage.ru_utime + usage.ru_stime
    return usage.ru_maxrss / 1024.0, time.monotonic() - began, spent_s, os.waitstatus_to_exitcode(status)


def main() -> None:
    """Print a line for each take and command."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=int, nargs="*", default=[20, 60, 180], help="of one track")
    parser.add_argument("--tracks", type=int, nargs="*", default=[8, 24], help="of one take")
    parser.add_argument("--track-minutes", type=int, default=60)
    parser.add_argument("--files", type=int, nargs="*", default=[20, 40, 60], help="of 40 s each")
    parser.add_argument("--folder", type=Path, help="where the takes are made; else they are temporary")
    options = parser.parse_args()
    takes = [(1, 60 * minutes) for minutes in options.minutes]
    takes += [(tracks, 60 * options.track_minutes) for tracks in options.tracks]
    takes += [(files, 40) for files in options.files]
    for tracks, seconds in takes:
        with tempfile.TemporaryDirectory(dir=options.folder) as folder:
            # In a process of its own: a child's largest memory is at least what its parent held when it was made.
            maker = multiprocessing.get_context("spawn").Process(
                target=make_take, args=(Path(folder) / "take", tracks, seconds)
            )
            maker.start()
            maker.join()
            paths = sorted((Path(folder) / "take").iterdir())
            for command in ("hits", "tighten"):
                most_mb, clock_s, spent_s, status = run(command, paths, Path(folder) / "out")
                told = f"{most_mb:6.0f} MB, {clock_s:6.0f} s, {spent_s:6.0f} s of CPU"
                print(
                    f"{tracks:3d} tracks of {seconds / 60:6.1f} min  {command:8s} {told}, status {status}", flush=True
                )


if __name__ == "__main__":
    main()
