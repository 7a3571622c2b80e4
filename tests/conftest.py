"""Fixtures shared by all tests: small made-up takes with known truth, and a home that is not the user's."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import pytest
import soundfile
from hypothesis import settings

from supple_snare.sound.material import Band
from supple_snare.sound.novelty import BandLevels, BandLevelsBuilder, level_spectra

# How long an example takes says more of the machine than of the code.
settings.register_profile("calm", deadline=None)
settings.load_profile("calm")

RATE_HZ = 48_000


@pytest.fixture(autouse=True)
def _own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Keep settings away from the user's own."""
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        monkeypatch.setenv(name, str(tmp_path / "home" / name))


def alike(one, other) -> bool:
    """Whether two values hold the same, arrays and all."""
    if isinstance(one, np.ndarray):
        return one.dtype == other.dtype and np.array_equal(one, other, equal_nan=one.dtype.kind == "f")
    if hasattr(one, "__dataclass_fields__"):
        return all(alike(getattr(one, name), getattr(other, name)) for name in one.__dataclass_fields__)
    if isinstance(one, tuple | list):
        return len(one) == len(other) and all(map(alike, one, other))
    return bool(one == other)


@dataclass(frozen=True)
class Take:
    """A small take on disk and when each drum was struck."""

    root: Path
    files: tuple[Path, ...]
    starts_s: dict[str, np.ndarray]
    tempo_bpm: float
    first_beat_s: float


def levels_of(sound: np.ndarray, *, block: int = 1 << 17, band_hz: Band = None) -> BandLevels:
    """Band levels of a sound that comes in blocks."""
    spectra = level_spectra(RATE_HZ)
    builder = BandLevelsBuilder(spectra, RATE_HZ, band_hz)
    for start in range(0, len(sound), block):
        builder.add(spectra.add(sound[start : start + block].astype(np.float32)))
    builder.add(spectra.finish())
    return builder.finish()


def drum(rng: np.random.Generator, pitch_hz: float, length_s: float = 0.25) -> np.ndarray:
    """A drum that starts at its first sample and is never alike."""
    time = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
    tone = np.sin(2 * np.pi * pitch_hz * rng.uniform(0.98, 1.02) * time + rng.uniform(0.8, 1.2))
    sound = tone * np.exp(-time / 0.05) + 0.7 * rng.normal(size=len(time)) * np.exp(-time / 0.02)
    fade = np.minimum(1.0, (len(time) - np.arange(len(time))) / 2_000)
    return 0.4 * sound * fade * np.minimum(1.0, (np.arange(len(time)) + 6) / 24)


def write_microphones(folder: Path, rng: np.random.Generator, microphones: dict[str, np.ndarray]) -> None:
    """Microphones of one take over a little noise, by name."""
    folder.mkdir(exist_ok=True)
    for name, sound in microphones.items():
        noisy = 0.5 * sound + rng.normal(size=sound.shape) * 1e-4
        soundfile.write(folder / f"{name}.wav", noisy, RATE_HZ, subtype="PCM_24")


def drum_line(
    rng: np.random.Generator, times: np.ndarray, pitch_hz: float, *, seconds: int, softest: float
) -> np.ndarray:
    """A drum struck at some times, now louder, now softer."""
    sound = np.zeros(seconds * RATE_HZ)
    for time in times:
        stroke = drum(rng, pitch_hz) * rng.uniform(softest, 1.0)
        at = round(time * RATE_HZ)
        sound[at : at + len(stroke)] += stroke
    return sound


def make_take(
    folder: Path,
    *,
    seed: int = 1,
    bars: int = 8,
    scatter_ms: float = 8.0,
    subtype: str = "PCM_24",
    bleed_db: float = -18.0,
    suffix: str = ".wav",
) -> Take:
    """Two drums with close microphones and one room microphone, at 110 bpm."""
    rng = np.random.default_rng(seed)
    tempo, first = 110.0, 0.5
    beat_s = 60.0 / tempo
    length = round((first + bars * 4 * beat_s + 1.0) * RATE_HZ)
    dry, starts = {}, {}
    for name, beats, pitch in (("kick", (0.0, 2.0, 2.5), 70.0), ("snare", (1.0, 3.0, 3.5), 210.0)):
        line = np.zeros(length)
        times = []
        for bar in range(bars):
            for beat in beats:
                at = round((first + (bar * 4 + beat) * beat_s + rng.normal(0, scatter_ms / 1000)) * RATE_HZ)
                sound = drum(rng, pitch) * rng.uniform(0.6, 1.0)
                line[at : at + len(sound)] += sound
                times.append(at / RATE_HZ)
        dry[name], starts[name] = line, np.array(times)
    bleed = 10 ** (bleed_db / 20)
    mixes = {
        "kick": dry["kick"] + bleed * np.roll(dry["snare"], 110),
        "snare": dry["snare"] + bleed * np.roll(dry["kick"], 95),
        "room": 0.4 * (np.roll(dry["kick"], 260) + np.roll(dry["snare"], 270)),
    }
    folder.mkdir(parents=True, exist_ok=True)
    files = []
    for name, mix in mixes.items():
        path = folder / f"{name}{suffix}"
        soundfile.write(path, mix + rng.normal(size=length) * 3e-5, RATE_HZ, subtype=subtype)
        files.append(path)
    return Take(root=folder, files=tuple(files), starts_s=starts, tempo_bpm=tempo, first_beat_s=first)


@pytest.fixture(scope="session")
def shared_take(tmp_path_factory: pytest.TempPathFactory) -> Take:
    """A take in 24-bit WAV, for tests that only read it."""
    return make_take(tmp_path_factory.mktemp("shared"))


@pytest.fixture
def take(tmp_path: Path, shared_take: Take) -> Take:
    """A copy of it."""
    root = Path(shutil.copytree(shared_take.root, tmp_path / "take"))
    return replace(shared_take, root=root, files=tuple(root / path.name for path in shared_take.files))
