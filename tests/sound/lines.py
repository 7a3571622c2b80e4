"""Lines of notes made of numbers, and how well what was played is found."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.verdict import Verdict
from tests.conftest import RATE_HZ, drum_line, write_microphones

SECONDS = 24
strokes = partial(drum_line, seconds=SECONDS, softest=0.4)
BEATS_S = np.arange(0.6, 22.0, 0.5)
KICK_S, SNARE_S = BEATS_S[::2], BEATS_S[1::2]


Tone = Callable[[float, np.ndarray], np.ndarray]
"""The sound of a note of some pitch, at moments since its start."""


def melody(times_s: np.ndarray, lengths_s: np.ndarray, loud: np.ndarray, lowest_hz: float, tone: Tone) -> np.ndarray:
    """Notes of several pitches."""
    line = np.zeros(SECONDS * RATE_HZ)
    for number, (time_s, length_s) in enumerate(zip(times_s, lengths_s, strict=True)):
        place = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
        note = tone(lowest_hz * 2.0 ** ((number * 5 % 13) / 12.0), place)
        line[round(time_s * RATE_HZ) :][: len(place)] += loud[number] * note
    return 0.2 * line


def plucked(
    rng: np.random.Generator, times_s: np.ndarray, lowest_hz: float = 82.0, softest: float = 0.15
) -> np.ndarray:
    """Strings of several pitches, loud and soft, each until the next one."""

    def tone(pitch_hz: float, place: np.ndarray) -> np.ndarray:
        note = sum(np.sin(2 * np.pi * pitch_hz * part * place) / part**0.7 for part in range(1, 25))
        return (
            note * np.minimum(1.0, place / 0.003) * np.exp(-place / 0.5) * np.minimum(1.0, (place[-1] - place) / 0.02)
        )

    lengths_s = 0.9 * np.diff(times_s, append=times_s[-1] + 0.4)
    return melody(times_s, lengths_s, rng.uniform(softest, 0.5, len(times_s)), lowest_hz, tone)


def blown(rng: np.random.Generator, times_s: np.ndarray, length_s: float) -> np.ndarray:
    """Notes of a horn, which grow for some 40 ms and go on."""

    def tone(pitch_hz: float, place: np.ndarray) -> np.ndarray:
        note = sum(np.sin(2 * np.pi * pitch_hz * part * place) / part for part in range(1, 15))
        return note * np.minimum(1.0, place / 0.04) * np.minimum(1.0, (place[-1] - place) / 0.03)

    lengths_s = np.full(len(times_s), length_s)
    return melody(times_s, lengths_s, rng.uniform(0.3, 0.5, len(times_s)), 233.0, tone)


def judged(folder: Path, rng: np.random.Generator, tracks: dict[str, np.ndarray]) -> dict[str, Verdict]:
    """Verdicts of tracks over a little noise, by name."""
    write_microphones(folder, rng, tracks)
    ears = [Ear.of(read_recording(folder / f"{name}.wav")) for name in tracks]
    return dict(zip(tracks, judge_group(ears, [analyse(ear) for ear in ears]), strict=True))


def figures(verdict: Verdict, times_s: np.ndarray) -> tuple[float, float]:
    """How much of what was played is found within 20 ms, and how much of what is found was played."""
    played = verdict.time_s[verdict.played]
    apart = np.abs(played[:, None] - times_s[None, :])
    return float(np.mean(apart.min(axis=0, initial=1.0) < 0.02)), float(np.mean(apart.min(axis=1) < 0.02))


def across(sound: np.ndarray, gain: float, later_s: float = 0.006) -> np.ndarray:
    """What is heard of a sound elsewhere."""
    return gain * np.roll(sound, round(later_s * RATE_HZ))
