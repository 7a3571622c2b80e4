"""Builds multi-microphone recordings with known truth, out of one-shot hits, for the measurements in this folder.

One-shots come from a folder of WAV, FLAC or AIFF files whose names tell the drum (kick, snare, tom, hat …), given
with --hits; without it the demo's own drums are used. Patterns, tempos, levels, bleed, delays and noise vary by seed.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d
from scipy.signal import fftconvolve

Sound = NDArray[np.float64]

DRUMS = {
    "kick": r"kick|bass ?drum|^bd|dununba.*head hit",
    "snare": r"snare|^sn",
    "tom": r"tom|djembe\d tone|bongo",
    "floor": r"floor|tom.?low|tom2|sangban.*head hit|cajonthumps",
    "hat": r"hat|^hh|tambourine|maraca",
}


@dataclass(frozen=True)
class Recipe:
    """What a made-up recording is like."""

    tempo_bpm: float = 110.0
    bars: int = 16
    bleed_db: float = -16.0
    noise_db: float = -70.0
    scatter_ms: float = 8.0
    dynamics_db: float = 8.0
    ghost_db: float | None = None
    rate_hz: int = 48_000


@dataclass(frozen=True)
class Made:
    """A made-up recording: one close microphone a drum, two overheads, and when each drum was struck."""

    rate_hz: int
    tracks: dict[str, Sound]
    starts_s: dict[str, NDArray[np.float64]]
    ghosts_s: NDArray[np.float64]


def load_one_shots(folder: Path) -> dict[str, list[tuple[Sound, int]]]:
    """Sounds of each drum found in a folder, as (samples, rate)."""
    shots: dict[str, list[tuple[Sound, int]]] = {name: [] for name in DRUMS}
    for path in sorted(folder.rglob("*")):
        if path.suffix.lower() not in (".wav", ".flac", ".aif", ".aiff"):
            continue
        for name, pattern in DRUMS.items():
            if re.search(pattern, path.stem, re.IGNORECASE):
                data, rate = soundfile.read(path, always_2d=True)
                mono = data.mean(axis=1)
                if len(mono) > rate // 20 and np.abs(mono).max() > 0.003:
                    shots[name].append((_trimmed(mono, rate), rate))
                break
    return {name: found for name, found in shots.items() if found}


def start_of(sound: Sound, rate_hz: int) -> int:
    """First sample whose amplitude, averaged over 0.25 ms, passes 5 % of the attack's peak."""
    envelope = uniform_filter1d(np.abs(sound), max(1, round(0.00025 * rate_hz)))
    peak = envelope[: round(0.1 * rate_hz)].max()
    return int(np.argmax(envelope > 0.05 * peak))


def _trimmed(sound: Sound, rate_hz: int) -> Sound:
    begin = max(0, start_of(sound, rate_hz) - round(0.004 * rate_hz))
    length = min(len(sound) - begin, round(0.9 * rate_hz))
    cut = sound[begin : begin + length].copy()
    tail = min(length, round(0.05 * rate_hz))
    cut[-tail:] *= np.linspace(1, 0, tail)
    return cut / np.abs(cut).max()


def _pattern(name: str, bars: int, rng: np.random.Generator) -> NDArray[np.float64]:
    """Places in quarter notes."""
    steps = {
        "kick": [0, 2.0] + ([1.5] if rng.random() < 0.5 else []) + ([2.5] if rng.random() < 0.5 else []),
        "snare": [1, 3],
        "tom": [3.5],
        "floor": [3.75],
        "hat": list(np.arange(0, 4, 0.5)),
    }[name]
    keep = []
    for bar in range(bars):
        for step in steps:
            if name in ("tom", "floor") and bar % 2 == 0:
                continue
            if rng.random() < 0.94:
                keep.append(bar * 4 + step)
        if bar % 4 == 3 and name in ("snare", "tom", "floor"):
            offset = {"snare": 0.0, "tom": 0.25, "floor": 0.5}[name]
            keep += [bar * 4 + 2 + offset, bar * 4 + 3 + offset]
    return np.unique(np.array(keep, dtype=float))


def build(shots: dict[str, list[tuple[Sound, int]]], recipe: Recipe, seed: int) -> Made:
    """Make a recording."""
    rng = np.random.default_rng(seed)
    rate = next(iter(shots.values()))[0][1]
    shots = {name: [shot for shot in found if shot[1] == rate] for name, found in shots.items()}
    beat_s = 60.0 / recipe.tempo_bpm
    frames = round((recipe.bars * 4 * beat_s + 2.0) * rate)
    struck = [name for name in shots if shots[name]]
    drift = 0.015 * np.sin(np.linspace(0, 2 * np.pi, recipe.bars * 4 + 8))
    dry: dict[str, Sound] = {}
    starts: dict[str, NDArray[np.float64]] = {}
    ghosts: list[float] = []
    for name in struck:
        line = np.zeros(frames)
        when = []
        beats = _pattern(name, recipe.bars, rng)
        level_db = -rng.uniform(0, recipe.dynamics_db, len(beats))
        soft = np.zeros(len(beats), dtype=bool)
        if recipe.ghost_db is not None and name == "snare":
            extra = np.setdiff1d(rng.choice(np.arange(recipe.bars * 16) / 4 + 0.0, recipe.bars * 3), beats)
            beats = np.concatenate([beats, extra])
            level_db = np.concatenate([level_db * 0.4, recipe.ghost_db + rng.uniform(-4, 4, len(extra))])
            soft = np.concatenate([soft, np.ones(len(extra), dtype=bool)])
        for beat, level, ghost in zip(beats, level_db, soft, strict=True):
            place = 0.5 + beat * beat_s + np.interp(beat, np.arange(len(drift)), drift)
            place += rng.normal(0, recipe.scatter_ms / 1000)
            sound = shots[name][rng.integers(len(shots[name]))][0] * 10 ** (level / 20)
            at = round(place * rate)
            line[at : at + len(sound)] += sound[: max(0, frames - at)]
            when.append((at + start_of(sound, rate)) / rate)
            if ghost:
                ghosts.append(when[-1])
        dry[name] = line
        starts[name] = np.sort(np.array(when))
    tracks = {}
    close = [name for name in struck if name != "hat"]
    for mic in [*close, "over-left", "over-right"]:
        mix = np.zeros(frames)
        for name in struck:
            far = mic != name
            gain = 10 ** ((recipe.bleed_db + rng.uniform(-3, 0)) / 20) if far else 1.0
            if mic.startswith("over"):
                gain = 0.5
            delay = round((rng.uniform(0.0008, 0.004) if far else 0.0) * rate)
            heard = np.roll(dry[name], delay) * gain
            if far:  # a distant microphone hears the room and a duller drum
                tail = rng.normal(size=rate // 50) * np.exp(-np.linspace(0, 5, rate // 50))
                kernel = np.concatenate([[1.0], 0.15 * tail / np.sqrt(np.sum(tail**2))])
                heard = fftconvolve(heard, kernel)[:frames]
            mix += heard
        mix += rng.normal(size=frames) * 10 ** (recipe.noise_db / 20)
        tracks[mic] = 0.5 * mix / np.abs(mix).max()
    return Made(rate, tracks, {name: starts[name] for name in close}, np.sort(np.array(ghosts)))


def score(
    found_s: NDArray[np.float64], truth_s: NDArray[np.float64], window_s: float
) -> tuple[float, NDArray[np.float64]]:
    """F measure of a one-to-one match within a window, and the errors in s of what matched."""
    used = np.zeros(len(truth_s), dtype=bool)
    errors = []
    for time in found_s:
        free = np.flatnonzero(~used & (np.abs(truth_s - time) <= window_s))
        if len(free):
            best = free[np.argmin(np.abs(truth_s[free] - time))]
            used[best] = True
            errors.append(time - truth_s[best])
    total = len(found_s) + len(truth_s)
    return (2 * len(errors) / total if total else 1.0), np.array(errors)
