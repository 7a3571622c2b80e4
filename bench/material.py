"""Makes multi-microphone recordings with known truth out of one-shots, for the measurements in this folder.

A folder of kits, given with `--kits`, holds one folder a kit, in it one folder a drum, in it one-shots of any level
(`kits/big-room/snare/1.wav`). Without it the demo's own instruments are struck. A drum named hat, ride or crash has no
microphone of its own. Everything else (who plays when, how loud, how far apart the microphones stand, the room, the
noise) is drawn from a seed.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import Protocol, TypeVar

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d
from scipy.signal import butter, oaconvolve, sosfilt

from supple_snare.demo import instruments

Sound = NDArray[np.float64]
Kit = dict[str, list[Sound]]
S = TypeVar("S")
T = TypeVar("T")

RATE_HZ = 48_000
WITHOUT_MICROPHONE = ("hat", "ride", "crash", "block")
FAR = ("over-left", "over-right", "room")
LOW = ("kick", "cajon", "dunun", "djembe_bass")
BACK = ("snare", "slap", "djembe")


@dataclass(frozen=True)
class Recipe:
    """What a made-up recording is like; levels in dB, times in ms."""

    name: str
    tempo_bpm: float = 110.0
    bars: int = 12
    bleed_db: tuple[float, float] = (-24.0, -14.0)
    noise_db: float = -72.0
    scatter_ms: float = 8.0
    feel_ms: float = 0.0
    """How far each sixteenth of the bar is played from its line, as a standard deviation."""
    dynamics_db: float = 8.0
    ghosts_db: tuple[float, float] | None = None
    flams: bool = False
    roll: bool = False
    double_kick: bool = False
    idle_drum: bool = False
    """One drum has a microphone and never plays."""
    seconds: bool = False
    """Bass drum and snare have a second microphone each, before the front head and under the wires."""
    others_db: float | None = None
    """Players of long notes in the same room, so loud in the far microphones, 18 dB softer in the close ones."""
    ways_db: float | None = None
    """How loud, against what bleeds in alike at every stroke, is what takes another way each time: a drum is never
    struck at one place."""
    bounce_db: float | None = None
    """How loud that is which one drum draws after each stroke, always as late: a beater that bounces off its skin."""
    strays_db: float = 0.0
    """How much brighter or duller each stroke sounds than the one-shot it is made of, and by how many half per cent
    higher or lower, as standard deviations: no two strokes are alike then."""

    def build(self, kit: Kit, seed: int) -> Made:
        """Make a recording of a kit."""
        return build(kit, self, seed)


EASY = (
    Recipe("easy, 84 bpm", 84.0),
    Recipe("easy, 110 bpm", 110.0),
    Recipe("easy, 150 bpm", 150.0),
    Recipe("easy, dry, quiet floor", 120.0, noise_db=-90.0, bleed_db=(-40.0, -20.0)),
    Recipe("easy, wide dynamics", 96.0, dynamics_db=14.0),
)
HARD = (
    Recipe("heavy bleed, noisy floor", 108.0, bleed_db=(-10.0, -6.0), noise_db=-52.0),
    Recipe("ghost notes", 92.0, bleed_db=(-20.0, -12.0), ghosts_db=(-22.0, -14.0)),
    Recipe("ghost notes, bleed not alike", 92.0, bleed_db=(-20.0, -12.0), ghosts_db=(-22.0, -14.0), ways_db=-6.0),
    Recipe("ghost notes, little bleed", 96.0, bleed_db=(-40.0, -22.0), ghosts_db=(-28.0, -16.0), strays_db=1.5),
    Recipe("ghost notes, a bouncing beater", 88.0, bleed_db=(-20.0, -12.0), ghosts_db=(-22.0, -14.0), bounce_db=-14.0),
    Recipe("double bass drum, 195 bpm", 195.0, double_kick=True, bars=20),
    Recipe("flams and a roll", 100.0, flams=True, roll=True),
    Recipe("an idle drum", 118.0, idle_drum=True, bars=20),
    Recipe("two microphones a drum", 104.0, seconds=True, ghosts_db=(-20.0, -12.0)),
    Recipe("two, heavy bleed, idle drum", 122.0, bleed_db=(-14.0, -8.0), noise_db=-60.0, seconds=True, idle_drum=True),
)


def varied(seed: int) -> Recipe:
    """A recipe drawn at random: tempos, levels, bleed, noise, and now and then ghosts, flams, rolls or fast feet."""
    rng = np.random.default_rng(seed)
    loudest_db = float(rng.uniform(-28.0, -5.0))
    tempo_bpm = float(rng.uniform(75.0, 205.0))
    softest_ghost_db = float(rng.uniform(-28.0, -14.0))
    recipe = Recipe(
        f"varied {seed}",
        tempo_bpm,
        bars=int(rng.integers(8, 15)),
        bleed_db=(loudest_db - float(rng.uniform(3.0, 12.0)), loudest_db),
        noise_db=float(rng.uniform(-88.0, -50.0)),
        scatter_ms=float(rng.uniform(4.0, 14.0)),
        dynamics_db=float(rng.uniform(4.0, 16.0)),
        ghosts_db=(softest_ghost_db, softest_ghost_db + 7.0) if rng.random() < 0.45 else None,
        flams=bool(rng.random() < 0.3),
        roll=bool(rng.random() < 0.25),
        double_kick=bool(tempo_bpm > 140.0 and rng.random() < 0.5),
        idle_drum=bool(rng.random() < 0.2),
        others_db=float(rng.uniform(-14.0, -2.0)) if rng.random() < 0.35 else None,
        strays_db=float(rng.uniform(0.0, 3.0)),
        seconds=bool(rng.random() < 0.3),
        ways_db=float(rng.uniform(-16.0, -3.0)) if rng.random() < 0.6 else None,
        bounce_db=float(rng.uniform(-24.0, -8.0)) if rng.random() < 0.3 else None,
    )
    return replace(recipe, scatter_ms=float(rng.uniform(0.0, 3.0))) if rng.random() < 0.2 else recipe


@dataclass(frozen=True)
class Struck:
    """When one drum was struck: `time_s` (start of each attack), `level_db` and `kind` of equal length, in order."""

    time_s: NDArray[np.float64]
    level_db: NDArray[np.float64]
    kind: NDArray[np.str_]


@dataclass(frozen=True)
class Made:
    """A made-up recording: its microphones, and the truth of each drum that has one of its own."""

    tracks: dict[str, Sound]
    struck: dict[str, Struck]
    grid_s: dict[str, NDArray[np.float64]]
    """Where each stroke stands on the grid."""
    length_s: float
    without_microphone: dict[str, Struck] = field(default_factory=dict)
    """The truth of those drums that only the others' microphones hear."""

    def write(self, folder: Path, subtype: str = "PCM_24") -> list[Path]:
        """Write the microphones as WAV files."""
        folder.mkdir(parents=True, exist_ok=True)
        paths = []
        for name, sound in self.tracks.items():
            paths.append(folder / f"{name}.wav")
            soundfile.write(paths[-1], sound, RATE_HZ, subtype=subtype)
        return paths


def read_made(folder: Path) -> Made:
    """A recording that others made: its WAV files, and a `truth.json` that lists strokes by instrument."""
    told = json.loads((folder / "truth.json").read_text())
    tracks = {Path(name).stem: soundfile.read(folder / name)[0] for name in told["files"].values()}
    struck = {}
    for drum in told["close_mics"]:
        strokes = sorted(
            (each["onset_time"], each["gain_db"], each["kind"].replace("flam_grace", "grace"))
            for each in told["strokes"]
            if each["instrument"] == drum
        )
        time_s, level_db, kind = zip(*strokes, strict=True) if strokes else ((), (), ())
        struck[drum] = Struck(np.array(time_s), np.array(level_db), np.array(kind, dtype=str))
    return Made(tracks, struck, {drum: each.time_s for drum, each in struck.items()}, told["duration"])


def load_kits(folder: Path | None) -> dict[str, Kit]:
    """All kits of a folder, or the demo's instruments."""
    if folder is None:
        return {"demo": _demo_kit()}
    kits: dict[str, Kit] = {}
    for path in sorted(folder.glob("*/*/*")):
        if path.suffix.lower() not in (".wav", ".flac", ".aif", ".aiff"):
            continue
        data, rate = soundfile.read(path, always_2d=True)
        if rate == RATE_HZ:
            kits.setdefault(path.parts[-3], {}).setdefault(path.parts[-2], []).append(_trimmed(data.mean(axis=1)))
    if not kits:
        raise SystemExit(f"{folder}: no one-shots at {RATE_HZ} Hz found in KIT/DRUM/*.wav")
    return kits


def _demo_kit() -> Kit:
    rng = np.random.default_rng(5)
    forces = np.linspace(0.3, 1.0, 6)
    return {
        "kick": [_trimmed(instruments.bass_drum(rng, float(force))) for force in forces],
        "snare": [_trimmed(instruments.snare(rng, float(force))) for force in forces],
        "hat": [_trimmed(instruments.washboard(rng, float(force))) for force in forces],
    }


def start_of(sound: Sound) -> int:
    """First sample whose amplitude, averaged over 0.25 ms, passes 5 % of the attack's peak."""
    envelope = uniform_filter1d(np.abs(sound), round(0.00025 * RATE_HZ))
    peak = envelope[: round(0.1 * RATE_HZ)].max()
    return int(np.argmax(envelope > 0.05 * peak))


def _trimmed(sound: Sound) -> Sound:
    begin = max(0, start_of(sound) - round(0.004 * RATE_HZ))
    cut = sound[begin : begin + round(1.2 * RATE_HZ)].copy()
    tail = min(len(cut), round(0.05 * RATE_HZ))
    cut[-tail:] *= np.linspace(1, 0, tail)
    return cut / np.abs(cut).max()


def _own_places(kit: Kit) -> dict[str, float]:
    """Where in the bar each drum plays that is neither low, nor on the back beat, nor a cymbal: no two together."""
    others = sorted((drum for drum in kit if drum not in (*LOW, *BACK, *WITHOUT_MICROPHONE)), reverse=True)
    return dict(zip(others, (2.5, 3.5, 1.5, 0.5), strict=False))


def _steps(drum: str, bar: int, recipe: Recipe, extra: list[float], place: float) -> list[float]:
    """Places within one bar, in quarter notes, at which a drum plays; most have one of their own."""
    fill = bar % 4 == 3
    eighths = [0.5 * step for step in range(8)]
    if drum in LOW:
        sixteenths = [0.25 * step for step in range(16)]
        return sixteenths if recipe.double_kick and bar % 4 in (1, 2) else [0.0, 2.0, *extra]
    if drum in BACK:
        return [1.0, 2.0, 2.25, 3.0, 3.25] if fill else [1.0, 3.0]
    if drum == "crash":
        return [] if bar % 4 else [0.0]
    if drum in WITHOUT_MICROPHONE:
        return [] if drum == "ride" and bar % 8 < 4 else eighths
    return [place, place + 0.25] if fill else ([3.5] if bar % 2 else [])


def _pattern(drum: str, place: float, recipe: Recipe, rng: np.random.Generator) -> list[tuple[float, float, str]]:
    """(place in quarter notes, level in dB, kind) of all that one drum plays."""
    notes: list[tuple[float, float, str]] = []
    extra = [step for step in (0.75, 1.5, 2.5, 3.25) if rng.random() < 0.4]
    for bar in range(recipe.bars):
        first = 4.0 * bar
        for step in _steps(drum, bar, recipe, extra, place):
            if rng.random() < 0.95:
                notes.append((first + step, -float(rng.uniform(0.0, recipe.dynamics_db)), "stroke"))
        if drum in BACK and recipe.ghosts_db is not None:
            taken = {note[0] for note in notes}
            for step in rng.choice([0.25, 0.75, 1.5, 1.75, 2.25, 2.75, 3.5, 3.75], 3, replace=False):
                if first + step not in taken:
                    notes.append((first + float(step), float(rng.uniform(*recipe.ghosts_db)), "ghost"))
        if drum in BACK and recipe.roll and bar % 8 == 7:
            notes = [note for note in notes if not first + 2.9 < note[0] < first + 4.0]
            notes.append((first + 3.0, -4.0, "roll"))
    return sorted(notes)


def lay(line: Sound, sound: Sound, at: int) -> None:
    """Add a sound, its attack starting at a sample."""
    begin = at - start_of(sound)
    line[begin : begin + len(sound)] += sound[: max(0, len(line) - begin)]


def _strike(
    line: Sound, shots: list[Sound], at: int, level_db: float, rng: np.random.Generator, strays_db: float = 0.0
) -> None:
    """Add one of the shots, its attack starting at a sample."""
    shot = shots[rng.integers(len(shots))]
    lay(line, (_astray(shot, strays_db, rng) if strays_db else shot) * 10 ** (level_db / 20), at)


def _astray(shot: Sound, strays_db: float, rng: np.random.Generator) -> Sound:
    """The same drum struck a little otherwise: another pitch, and more or less above some frequency."""
    speed = 1.0 + 0.005 * strays_db * float(rng.normal())
    place = np.arange(int((len(shot) - 1) / speed)) * speed
    sound = np.interp(place, np.arange(len(shot)), shot)
    low = dulled(sound, float(rng.uniform(200.0, 2_000.0)))
    return np.asarray(low + (sound - low) * 10.0 ** (strays_db * float(rng.normal()) / 20.0))


def dulled(sound: Sound, above_hz: float) -> Sound:
    """A sound with less and less of what lies above a frequency."""
    return np.asarray(sosfilt(butter(1, above_hz, fs=RATE_HZ, output="sos"), sound))


def below(sound: Sound, other: Sound, level_db: float) -> Sound:
    """A sound made so loud that its peak lies at that level against another's."""
    return sound * (10.0 ** (level_db / 20.0) * np.abs(other).max() / max(float(np.abs(sound).max()), 1e-9))


def _play(
    drum: str, shots: list[Sound], place: float, recipe: Recipe, frames: int, rng: np.random.Generator
) -> tuple[Sound, Struck, NDArray[np.float64]]:
    """The drum alone, what was struck, and where each stroke stands on the grid."""
    beat_s = 60.0 / recipe.tempo_bpm
    line = np.zeros(frames)
    found: list[tuple[float, float, str, float]] = []

    def strike(time_s: float, level_db: float, kind: str, grid_s: float) -> None:
        _strike(line, shots, round(time_s * RATE_HZ), level_db, rng, recipe.strays_db)
        found.append((time_s, level_db, kind, grid_s))

    feel_s = np.random.default_rng(round(recipe.tempo_bpm)).normal(0.0, recipe.feel_ms / 1000.0, 16)
    for beat, level_db, kind in _pattern(drum, place, recipe, rng):
        grid_s = 0.5 + beat * beat_s
        drift = 0.015 * np.sin(beat / 10.0) + feel_s[round(beat * 4) % 16]
        time_s = round((grid_s + drift + rng.normal(0.0, recipe.scatter_ms / 1000.0)) * RATE_HZ) / RATE_HZ
        if kind == "roll":
            gaps = rng.uniform(0.026, 0.036, 14)
            for number, after_s in enumerate(np.concatenate([[0.0], np.cumsum(gaps)])):
                inside = "roll" if number else "stroke"
                strike(
                    time_s + float(after_s),
                    level_db - (3.0 + float(rng.uniform(0, 3)) if number else 0.0),
                    inside,
                    grid_s,
                )
            continue
        if recipe.flams and drum in BACK and rng.random() < 0.3:
            strike(time_s - float(rng.uniform(0.020, 0.035)), level_db - float(rng.uniform(6, 12)), "grace", grid_s)
        strike(time_s, level_db, kind, grid_s)
    found.sort()
    times, levels, kinds, grid = zip(*found, strict=True) if found else ((), (), (), ())
    return line, Struck(np.array(times), np.array(levels), np.array(kinds, dtype=str)), np.array(grid)


def struck_at(
    shots: list[Sound], times_s: NDArray[np.float64], levels_db: NDArray[np.float64], frames: int, seed: int
) -> tuple[Sound, Struck]:
    """A drum struck at given times, to the sample, and what was struck."""
    line, rng = np.zeros(frames), np.random.default_rng(seed)
    at = np.rint(times_s * RATE_HZ).astype(int)
    for place, level_db in zip(at, levels_db, strict=True):
        _strike(line, shots, int(place), float(level_db), rng)
    return line, Struck(at / RATE_HZ, levels_db, np.full(len(at), "stroke"))


def build(kit: Kit, recipe: Recipe, seed: int) -> Made:
    """Make a recording."""
    rng = np.random.default_rng(seed)
    frames = round((recipe.bars * 4 * 60.0 / recipe.tempo_bpm + 2.5) * RATE_HZ)
    dry: dict[str, Sound] = {}
    struck: dict[str, Struck] = {}
    grid: dict[str, NDArray[np.float64]] = {}
    places = _own_places(kit)
    if recipe.bounce_db is not None:
        kit = _bouncing(kit, recipe.bounce_db, np.random.default_rng(seed + 1))
    for drum, shots in kit.items():
        silent = recipe.idle_drum and drum in ("floor", "tom2", "sangban", "bongo2")
        played = replace(recipe, bars=0) if silent else recipe
        dry[drum], struck[drum], grid[drum] = _play(drum, shots, places.get(drum, 0.0), played, frames, rng)
    others = _long_notes(recipe, frames, rng) if recipe.others_db is not None else None
    tracks = recorded(kit, dry, others, recipe, rng)
    for drum in (*LOW, *BACK) if recipe.seconds else ():
        if drum in kit:
            name = f"{drum}-second"
            delay_s, tracks[name] = _second(drum, dry, others, recipe, rng)
            struck[name], grid[name] = replace(struck[drum], time_s=struck[drum].time_s + delay_s), grid[drum]
    close = [drum for drum in struck if drum in tracks]
    rest = {drum: struck[drum] for drum in struck if drum not in tracks}
    own = {drum: struck[drum] for drum in close}
    return Made(tracks, own, {drum: grid[drum] for drum in close}, frames / RATE_HZ, rest)


def _bouncing(kit: Kit, bounce_db: float, rng: np.random.Generator) -> Kit:
    """The same kit with a drum, most often the low one, whose strokes are each followed by a softer, duller one."""
    low, close = ([drum for drum in kit if drum in LOW], [drum for drum in kit if drum not in WITHOUT_MICROPHONE])
    drum = str(rng.choice(low if low and rng.random() < 0.6 else close))
    late_s = float(rng.uniform(0.06, 0.22))
    shots = []
    for shot in kit[drum]:
        late = round((late_s + float(rng.normal(0.0, 0.003))) * RATE_HZ)
        dull = dulled(shot, float(rng.uniform(500.0, 8_000.0)))
        bounce = below(dull, shot, bounce_db + float(rng.normal(0.0, 2.0)))
        shots.append(np.append(shot, np.zeros(late)) + np.append(np.zeros(late), bounce))
    return {**kit, drum: shots}


def _second(
    drum: str, dry: dict[str, Sound], others: Sound | None, recipe: Recipe, rng: np.random.Generator
) -> tuple[float, Sound]:
    """What a second microphone of a drum hears, and how much later: a bass drum before its front head, duller; any
    other from below, thinner, turned over, with wires that rattle. It hears more of the others."""
    low, high = recipe.bleed_db
    own, delay_s = dry[drum], float(rng.uniform(0.0006, 0.0013) if drum in LOW else rng.uniform(0.0001, 0.0004))
    if drum in LOW:
        own = dulled(own, float(rng.uniform(800.0, 3_000.0)))
    else:
        rattle = rng.normal(size=RATE_HZ // 8) * np.exp(-np.linspace(0.0, float(rng.uniform(4.0, 9.0)), RATE_HZ // 8))
        wires = sosfilt(butter(2, 2_000.0, "high", fs=RATE_HZ, output="sos"), oaconvolve(own, rattle)[: len(own)])
        wires = below(wires, own, float(rng.uniform(-14.0, -6.0)))
        own = -sosfilt(butter(1, float(rng.uniform(150.0, 600.0)), "high", fs=RATE_HZ, output="sos"), own) + wires
    delay = round(delay_s * RATE_HZ)
    own = np.concatenate([np.zeros(delay), own])[: len(own)] / max(float(np.abs(own).max()), 1e-9)
    louder = replace(recipe, bleed_db=(low, high + float(rng.uniform(0.0, 4.0))))
    return delay / RATE_HZ, heard(drum, {**dry, drum: own * np.abs(dry[drum]).max()}, others, louder, rng)


def _long_notes(recipe: Recipe, frames: int, rng: np.random.Generator) -> Sound:
    """A line of blown notes, each an eighth to a half long."""
    line = np.zeros(frames)
    beat_s = 60.0 / recipe.tempo_bpm
    time_s = 0.5
    while time_s < frames / RATE_HZ - 2.5:
        length_s = beat_s * float(rng.choice([0.5, 1.0, 2.0]))
        place = np.arange(round(length_s * 0.9 * RATE_HZ)) / RATE_HZ
        pitch_hz = 110.0 * 2.0 ** (float(rng.integers(0, 30)) / 12.0)
        tone = sum(np.sin(2 * np.pi * pitch_hz * part * place) / part for part in range(1, 9))
        rise = np.minimum(1.0, place / float(rng.uniform(0.012, 0.040)))
        note = tone * rise * np.minimum(1.0, (place[-1] - place) / 0.03) * float(rng.uniform(0.4, 1.0))
        at = round((time_s + float(rng.normal(0.0, 0.012))) * RATE_HZ)
        line[at : at + len(note)] += note[: max(0, frames - at)]
        time_s += length_s
    return line / max(float(np.abs(line).max()), 1e-9)


def recorded(
    kit: Kit, dry: dict[str, Sound], others: Sound | None, recipe: Recipe, rng: np.random.Generator
) -> dict[str, Sound]:
    """What all microphones of a kit hear: one close to each drum that has its own, and the far ones."""
    close = [drum for drum in kit if drum not in WITHOUT_MICROPHONE]
    return {mic: heard(mic, dry, others, recipe, rng) for mic in (*close, *FAR)}


def heard(mic: str, dry: dict[str, Sound], others: Sound | None, recipe: Recipe, rng: np.random.Generator) -> Sound:
    """What one microphone hears of all drums: its own at once, the others later, duller and with some room."""
    frames = len(next(iter(dry.values())))
    mix = np.zeros(frames)
    overhead = mic.startswith("over")
    far_s, room = (rng.uniform(0.009, 0.018), 1.0) if mic == "room" else (0.0, 0.25)
    for drum, line in dry.items():
        if drum == mic:
            mix += line
            continue
        low, high = (-8.0, -3.0) if overhead or far_s else recipe.bleed_db
        gain = 10 ** (rng.uniform(low, high) / 20)
        delay = round((far_s + rng.uniform(*((0.0025, 0.0045) if overhead else (0.0008, 0.004)))) * RATE_HZ)
        length = RATE_HZ // 4 if far_s else RATE_HZ // 25
        tail = rng.normal(size=length) * np.exp(-np.linspace(0, 6, length))
        kernel = np.concatenate([np.zeros(delay), [1.0], room * tail / np.sqrt(np.sum(tail**2))])
        heard = oaconvolve(line, kernel)[:frames]
        if recipe.ways_db is not None:
            heard += 10 ** (recipe.ways_db / 20) * _other_ways(line, delay, rng)
        if not overhead:
            heard = dulled(heard, rng.uniform(4000, 12000))
        mix += gain * heard
    if others is not None and recipe.others_db is not None:
        level_db = recipe.others_db if overhead or far_s else recipe.others_db - 18.0
        delay = round((far_s + rng.uniform(0.004, 0.012)) * RATE_HZ)
        mix += 10 ** (level_db / 20) * np.concatenate([np.zeros(delay), others])[:frames]
    mix += rng.normal(size=frames) * 10 ** (recipe.noise_db / 20)
    return mix * (0.5 / np.abs(mix).max())


def _other_ways(line: Sound, delay: int, rng: np.random.Generator) -> Sound:
    """A drum as it reaches a microphone by ways that change every tenth of a second, as loud as it is by itself."""
    steps = rng.normal(size=10 * len(line) // RATE_HZ + 2)
    turned = line * np.interp(np.arange(len(line)) * 10.0 / RATE_HZ, np.arange(len(steps)), steps)
    tail = rng.normal(size=RATE_HZ // 100) * np.exp(-np.linspace(0, 3, RATE_HZ // 100))
    kernel = np.concatenate([np.zeros(delay), tail / np.sqrt(np.sum(tail**2))])
    return np.asarray(oaconvolve(turned, kernel)[: len(line)])


@dataclass(frozen=True)
class Score:
    """A one-to-one match of found and true times: F measure, and the errors in s of what matched."""

    hits: int
    found: int
    matched: int
    errors_s: NDArray[np.float64]
    missed: NDArray[np.intp]
    invented: NDArray[np.intp]

    @property
    def precision(self) -> float:
        """How much of what was found is true; 0 where nothing was found."""
        return self.matched / max(self.found, 1)

    @property
    def recall(self) -> float:
        """How much of what is true was found; 0 where there was nothing to find."""
        return self.matched / max(self.hits, 1)

    @property
    def f_measure(self) -> float:
        """Harmonic mean of precision and recall; 1 where there was nothing to find and nothing was found."""
        total = self.hits + self.found
        return 2.0 * self.matched / total if total else 1.0


def score(found_s: NDArray[np.float64], truth_s: NDArray[np.float64], window_s: float) -> Score:
    """Match found times to true ones, each to the nearest free one, in order of distance."""
    pairs = [
        (abs(found - truth), i, j)
        for i, found in enumerate(found_s)
        for j in range(*np.searchsorted(truth_s, [found - window_s, found + window_s]))
        for truth in [truth_s[j]]
    ]
    left, right = set(range(len(found_s))), set(range(len(truth_s)))
    errors = []
    for _, i, j in sorted(pairs):
        if i in left and j in right:
            left.discard(i)
            right.discard(j)
            errors.append(found_s[i] - truth_s[j])
    return Score(
        len(truth_s), len(found_s), len(errors), np.array(errors), np.array(sorted(right)), np.array(sorted(left))
    )


def options(description: str) -> argparse.ArgumentParser:
    """The options all measurements share."""
    parser = argparse.ArgumentParser(description=description)
    parser.add_argument("--kits", type=Path, help="folder of one-shots: KIT/DRUM/*.wav at 48 kHz")
    parser.add_argument("--only", default="", help="only recipes or kits whose name contains this")
    parser.add_argument("--seeds", type=int, default=1, help="recordings of each kind")
    parser.add_argument("--jobs", type=int, default=2, help="processes to share the work")
    return parser


class Maker(Protocol):
    """Makes recordings of one kind."""

    @property
    def name(self) -> str:
        """What the kind is called."""

    def build(self, kit: Kit, seed: int) -> Made:
        """Make a recording of a kit."""


@dataclass(frozen=True)
class Case:
    """One recording to make: which kit, which recipe, which seed."""

    kits: Path | None
    kit: str
    recipe: Maker
    seed: int

    def make(self) -> Made:
        """Make it."""
        return self.recipe.build(kits_once(self.kits)[self.kit], self.seed)


@cache
def kits_once(folder: Path | None) -> dict[str, Kit]:
    """`load_kits`, read once in each process."""
    return load_kits(folder)


def cases(chosen: argparse.Namespace, recipes: Sequence[Maker]) -> list[Case]:
    """Every chosen recipe with every chosen kit."""
    return [
        Case(chosen.kits, name, recipe, 1000 * seed + number)
        for recipe in recipes
        for number, name in enumerate(kits_once(chosen.kits))
        if chosen.only in name or chosen.only in recipe.name
        for seed in range(chosen.seeds)
    ]


def in_processes(work: Callable[[S], T], all_cases: Sequence[S], jobs: int) -> Iterator[T]:
    """The results of all cases, in their order."""
    with ProcessPoolExecutor(jobs) as pool:
        yield from pool.map(work, all_cases)
