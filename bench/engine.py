"""What is heard while a take is played: is it the files that would be written, at once, without a gap?

    python bench/engine.py [--seeds 5] [--tracks 16] [--seconds 40]

Made-up tracks with edits are played on the simulated output in real time, through random starts, loops and switches of
the version; every sample that is not in a fade is compared with the rendered files. Then told are how long a key takes
until the first sound is taken, and how much of one core the playing needs.
"""

from __future__ import annotations

import argparse
import os
import random
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from supple_snare.session.handover import plan_files, write_files
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording
from supple_snare.sound.mixing import Click, MixTrack
from supple_snare.sound.playback import LOOP_FADE, Block, Programme
from supple_snare.timing.grid import Grid

RATE_HZ = 48_000
GIVE_UP_S = 20.0
"""No sound after this long will come any more."""


@dataclass(frozen=True)
class Material:
    """A programme and what the files of both versions add up to, each of shape (frames, 2)."""

    programme: Programme
    played: NDArray[np.float32]
    tightened: NDArray[np.float32]


def make_material(folder: Path, *, tracks: int, seconds: float, seed: int) -> Material:
    """Noisy tracks, mono and stereo, in two groups with edits of their own."""
    rng = np.random.default_rng(seed)
    frames = round(seconds * RATE_HZ)
    found: list[MixTrack] = []
    for number in range(tracks):
        path = folder / f"track {number}.wav"
        sound = rng.uniform(-0.06, 0.06, (frames, 1 + number % 2))
        soundfile.write(path, sound, RATE_HZ, subtype=("PCM_24", "PCM_16")[number % 3 == 2])
        found.append(MixTrack(read_recording(path), EditList.identity()))
    edits = [_some_edits(rng, frames) for _ in range(2)]
    mixed = tuple(replace(track, edits=edits[number % 4 == 3]) for number, track in enumerate(found))
    jobs = plan_files([(track.recording, track.edits) for track in mixed], folder / "out")
    sums = []
    for paths in ([track.recording.path for track in mixed], write_files(jobs).files):
        total = np.zeros((frames, 2), dtype=np.float32)
        for path in paths:
            total += soundfile.read(path, dtype="float32", always_2d=True)[0]
        sums.append(total)
    return Material(Programme(mixed, RATE_HZ, frames, lead_edits=edits[0], tightened=True), sums[0], sums[1])


def _some_edits(rng: np.random.Generator, frames: int) -> EditList:
    """A piece every 0.2 to 0.6 s, moved by up to 25 ms."""
    at = np.cumsum(rng.integers(9_600, 28_800, frames // 9_600))
    at = at[at < frames - 9_600]
    shifts = rng.integers(-1_200, 1_200, len(at))
    return EditList.of([0, *at.tolist()], [0, *shifts.tolist()], [0, *[240] * len(at)])


def wrong_samples(material: Material, blocks: list[Block]) -> tuple[int, int, float]:
    """Of samples compared, how many differ by more than rounding, and the largest difference."""
    compared, wrong, worst = 0, 0, 0.0
    for block in blocks:
        if block.fades:
            continue
        programme = block.programme
        place = block.position + np.arange(len(block.sound))
        first, last = programme.loop or (0, len(material.played))
        heard = np.ones(len(place), dtype=bool)
        if programme.loop is not None:
            heard = (place < last - LOOP_FADE) | (place >= last)
            place = np.where(place >= last, first + (place - last) % (last - first), place)
            heard &= place < last - LOOP_FADE
        inside = heard & (place < len(material.played))
        files = material.tightened if programme.tightened else material.played
        difference = np.abs(block.sound[inside] - files[place[inside]])
        compared += int(np.count_nonzero(inside))
        # A fade between two pieces is rounded to the width of its file there, and not in the mix.
        rounding = len(programme.tracks) * 0.5**15
        wrong += int(np.count_nonzero(difference.max(axis=1, initial=0.0) > rounding))
        worst = max(worst, float(difference.max(initial=0.0)))
    return compared, wrong, worst


def through_operations(
    material: Material, *, seed: int, operations: int, pause_s: float
) -> tuple[list[Block], int, list[float]]:
    """Blocks of a player that is started, looped and switched at random; run-outs; seconds from key to sound."""
    from PyQt6.QtCore import QCoreApplication

    from supple_snare.desk.outputs import SimulatedOutput
    from supple_snare.desk.player import Player

    rng, output = random.Random(seed), SimulatedOutput(keep_blocks=4096)
    player = Player(output)
    player.set_programme(material.programme)
    length_s = len(material.played) / RATE_HZ
    ran_out, waits_s, blocks = 0, [], []

    def start() -> None:
        output.received.clear()
        before = time.monotonic()
        player.play()
        while not output.received and time.monotonic() - before < GIVE_UP_S:
            QCoreApplication.processEvents()
            time.sleep(0.0005)
        waits_s.append(time.monotonic() - before)

    def seek() -> None:
        nonlocal ran_out
        ran_out += player.times_run_out
        player.stop()
        blocks.extend(output.received)
        player.seek(rng.uniform(0.0, length_s - 3.0))
        start()

    def switch() -> None:
        player.change(tightened=not player._programme.tightened)

    def loop() -> None:
        first = rng.randrange(0, len(material.played) - 3 * RATE_HZ)
        span = None if player._programme.loop is not None else (first, first + rng.randrange(4_000, 2 * RATE_HZ))
        player.change(loop=span)

    def turn() -> None:
        tracks = player._programme.tracks
        player.change(tracks=tuple(replace(track, edits=track.edits) for track in tracks))

    deeds: list[Callable[[], None]] = [seek, switch, loop, turn]
    start()
    for _ in range(operations):
        rng.choice(deeds)()
        until = time.monotonic() + rng.uniform(0.2, 1.8) * pause_s
        while time.monotonic() < until:
            QCoreApplication.processEvents()
            time.sleep(0.002)
        if not player.is_playing:  # it came to the end
            seek()
    ran_out += player.times_run_out
    player.stop()
    blocks.extend(output.received)
    player.close()
    return blocks, ran_out, waits_s


def main() -> None:
    """Measure and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--tracks", type=int, default=16)
    parser.add_argument("--seconds", type=float, default=40.0)
    options = parser.parse_args()
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QCoreApplication

    app = QCoreApplication([])
    compared, wrong, worst, ran_out, waits_s = 0, 0, 0.0, 0, []
    for seed in range(options.seeds):
        with tempfile.TemporaryDirectory() as folder:
            material = make_material(Path(folder), tracks=options.tracks, seconds=options.seconds, seed=seed)
            blocks, out, waits = through_operations(material, seed=seed, operations=50, pause_s=0.4)
            numbers = wrong_samples(material, blocks)
            compared, wrong, worst = compared + numbers[0], wrong + numbers[1], max(worst, numbers[2])
            ran_out, waits_s = ran_out + out, waits_s + waits
            if seed == 0:
                busy = _busy(material)
    print(f"{options.seeds * 50} operations, {compared} frames compared: {wrong} wrong, largest difference {worst:.2g}")
    print(f"ran out {ran_out} times; from key to sound {1000 * np.median(waits_s):.1f} ms in the middle, "
          f"{1000 * max(waits_s):.1f} ms at most of {len(waits_s)}")  # fmt: skip
    for name, share in busy.items():
        print(f"{options.tracks} tracks, {name}: {100 * share:.0f} % of one core")
    del app


def _busy(material: Material, seconds: float = 8.0) -> dict[str, float]:
    """Share of one core that playing takes, plain and with all that can be turned on."""
    from PyQt6.QtCore import QCoreApplication

    from supple_snare.desk.outputs import SimulatedOutput
    from supple_snare.desk.player import Player

    found = {}
    plain = material.programme
    busiest = replace(plain, click=Click(Grid(120.0), every_slot=True), mono=True, half_speed=True)
    for name, programme in (("plain", plain), ("half speed, mono, click with slots", busiest)):
        player = Player(SimulatedOutput(keep_blocks=4096))
        player.set_programme(programme)
        player.play()
        before, until = time.process_time(), time.monotonic() + seconds
        while time.monotonic() < until:
            QCoreApplication.processEvents()
            time.sleep(0.01)
        found[name] = (time.process_time() - before) / seconds
        player.close()
    return found


if __name__ == "__main__":
    main()
