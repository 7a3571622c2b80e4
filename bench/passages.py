"""Another way to make recordings: passages from a song, each drum heard in each microphone by one level and one way.

Where `rooms` reflects sound off walls, here a way is a delay, a duller direct sound, a few echoes and a tail of noise.
The playing is what `material` and `rooms` leave out: toms that are struck in fills only, triplets, a swung hat, a tempo
that wanders, heads that a later stroke damps, a bass drum under every crash.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter, oaconvolve

from material import RATE_HZ, Kit, Made, Sound, Struck, lay

DRUMS = ("kick", "snare", "tom", "floor", "hat", "crash")
CLOSE = DRUMS[:4]
FAR = ("over-left", "over-right", "room")
FAR_MS = {"over-left": 5.2, "over-right": 5.6, "room": 11.0}
FAR_DB = {"over-left": (-15.0, -9.0), "over-right": (-15.0, -9.0), "room": (-19.0, -15.0)}
NEIGHBOUR_MS = (1.2, 3.4)
ECHOES, ECHO_MS, ECHO_DB = 6, (1.2, 18.0), (-24.0, -12.0)
DAMPED, DAMPING_MS = 0.4, 6.0
"""What is left of a head's ring when it is struck again, and how soon."""

GHOST_DB = (-24.0, -15.0)
BARS = {
    "steady": {"kick": "X.......X.x.....", "snare": "....X.......X...", "hat": "x.s.x.s.x.s.x.s."},
    "ghosts": {"kick": "X.....x...x.....", "snare": "..g.X..g.g..X..g", "hat": "x.s.x.s.x.s.x.s."},
    "fast": {"kick": "X.X.X.XxX.X.X.Xx", "snare": "....X.......X...", "hat": "X...X...X...X..."},
    "triplets": {"kick": "X..x..X.....", "snare": "...X..g..X.g", "hat": "x.sx.sx.sx.s"},
    "fill": {
        "kick": "X.......X.......",
        "snare": "XxXx....Xx......",
        "tom": "....XxXx........",
        "floor": "..........XxXxXx",
    },
}
"""By drum, a bar in steps: X accents, x and s softer strokes, g ghost notes."""

LEVEL_DB = {"X": 0.0, "x": -4.0, "s": -8.0}


@dataclass(frozen=True)
class Passage:
    """A recipe: what is played, and how it is heard; levels in dB."""

    name: str
    plays: str
    tempo_bpm: float
    bars: int = 6
    bleed_db: tuple[float, float] = (-24.0, -13.0)
    wander: float = 0.0
    """By how much of itself the tempo wanders."""
    swing: float = 0.5
    tail_db: float = -26.0
    noise_db: float = -70.0
    far: tuple[str, ...] = FAR

    def build(self, kit: Kit, seed: int) -> Made:
        """Make a recording of a kit."""
        return build(kit, self, seed)


PASSAGES = (
    Passage("steady, toms in the last bar", "steady", 104.0),
    Passage("ghosts under the hat", "ghosts", 92.0, swing=0.58),
    Passage("fast feet", "fast", 176.0, bars=10),
    Passage("triplets", "triplets", 112.0),
    Passage("a tempo that wanders", "ghosts", 98.0, wander=0.05),
    Passage("heavy bleed", "steady", 118.0, bleed_db=(-12.0, -7.0), noise_db=-58.0, tail_db=-20.0),
)


def build(kit: Kit, passage: Passage, seed: int) -> Made:
    """Make a recording of a kit that has all of `DRUMS`."""
    rng = np.random.default_rng([seed, sum(map(ord, passage.name))])
    beats = {drum: _beats(drum, passage, rng) for drum in DRUMS}
    frames = round((max(each[-1][0] for each in beats.values() if each) + 2.0) * RATE_HZ)
    lines, struck = {}, {}
    for drum in DRUMS:
        lines[drum], struck[drum] = _struck(kit[drum], beats[drum], frames, rng)
    tracks = {}
    for microphone in (*CLOSE, *passage.far):
        heard = sum((_heard(lines[drum], drum, microphone, passage, rng) for drum in DRUMS), np.zeros(frames))
        heard = heard / np.abs(heard).max() + rng.normal(size=frames) * 10.0 ** (passage.noise_db / 20.0)
        tracks[microphone] = 0.6 * heard / np.abs(heard).max()
    own = {drum: struck[drum] for drum in CLOSE}
    grid_s = {drum: struck[drum].time_s for drum in CLOSE}
    rest = {drum: struck[drum] for drum in DRUMS if drum not in CLOSE}
    return Made(tracks, own, grid_s, frames / RATE_HZ, rest)


def _beats(drum: str, passage: Passage, rng: np.random.Generator) -> list[tuple[float, float, str]]:
    """Time, level and kind of each stroke of a drum."""
    found = []
    for bar in range(passage.bars):
        is_fill = bar % 3 == 2
        steps = BARS["fill" if is_fill else passage.plays].get(drum, "")
        if drum == "crash" and bar % 3 == 0:
            steps = "X" + 15 * "."
        for number, stroke in enumerate(steps):
            if stroke == ".":
                continue
            place = 4.0 * number / len(steps)
            if len(steps) == 16 and number % 2:
                place += 0.5 * (passage.swing - 0.5)
            beat = 4.0 * bar + place
            beat += passage.wander * 4.0 * passage.bars / (2.0 * np.pi) * np.sin(np.pi * beat / (2.0 * passage.bars))
            level_db = rng.uniform(*GHOST_DB) if stroke == "g" else LEVEL_DB[stroke] + rng.normal(0.0, 1.5)
            time_s = 0.8 + 60.0 / passage.tempo_bpm * beat + 0.007 * float(rng.standard_normal())
            found.append((time_s, float(level_db), "ghost" if stroke == "g" else "stroke"))
    return found


def _struck(
    shots: list[Sound], beats: list[tuple[float, float, str]], frames: int, rng: np.random.Generator
) -> tuple[Sound, Struck]:
    """What a drum sounds like by itself, and when it was struck."""
    line, starts = np.zeros(frames), []
    damping = np.linspace(1.0, DAMPED, round(DAMPING_MS * RATE_HZ / 1000.0))
    for time_s, level_db, _kind in beats:
        at = round(time_s * RATE_HZ)
        line[at : at + len(damping)] *= damping[: max(frames - at, 0)]
        line[at + len(damping) :] *= DAMPED
        force = np.clip((level_db + 30.0) / 30.0, 0.0, 1.0) * (len(shots) - 1)
        shot = shots[int(np.clip(round(force + rng.normal(0.0, 0.4)), 0, len(shots) - 1))]
        lay(line, 10.0 ** (level_db / 20.0) * shot / np.abs(shot).max(), at)
        starts.append(at / RATE_HZ)
    levels_db, kinds = [level_db for _time_s, level_db, _kind in beats], [kind for *_, kind in beats]
    return line, Struck(np.array(starts), np.array(levels_db), np.array(kinds, dtype=np.str_))


def _heard(line: Sound, drum: str, microphone: str, passage: Passage, rng: np.random.Generator) -> Sound:
    """A drum as a microphone hears it."""
    if drum == microphone:
        return line
    is_far = microphone in FAR
    delay_ms = FAR_MS[microphone] + rng.uniform(-1.5, 1.5) if is_far else rng.uniform(*NEIGHBOUR_MS)
    level_db = rng.uniform(*(FAR_DB[microphone] if is_far else passage.bleed_db))
    way = np.zeros(round(0.5 * RATE_HZ))
    way[round(delay_ms * RATE_HZ / 1000.0)] = 1.0
    for _ in range(ECHOES):
        at = round((delay_ms + rng.uniform(*ECHO_MS)) * RATE_HZ / 1000.0)
        way[at] += rng.choice((-1.0, 1.0)) * 10.0 ** (rng.uniform(*ECHO_DB) / 20.0)
    dull = np.exp(-2.0 * np.pi * (14_000.0 if is_far else rng.uniform(3_000.0, 8_000.0)) / RATE_HZ)
    way = lfilter([1.0 - dull], [1.0, -dull], way)
    time_s = np.arange(len(way)) / RATE_HZ
    tail = rng.standard_normal(len(way)) * np.exp(-6.9 * time_s / (0.35 if is_far else 0.2))
    tail[: round((delay_ms + 6.0) * RATE_HZ / 1000.0)] = 0.0
    way += 10.0 ** ((passage.tail_db + (8.0 if is_far else 0.0)) / 20.0) * tail / np.linalg.norm(tail)
    return 10.0 ** (level_db / 20.0) * oaconvolve(line.astype(np.float32), way.astype(np.float32))[: len(line)]
