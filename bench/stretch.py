"""How well what rings is stretched: pitch, warble, how partials go on through the next attack, dips, and what stays.

python bench/stretch.py --notes FOLDER [--speech FOLDER] [--only NAME] [--ways cut,ringing,notes] [--seeds 4]

FOLDERs as in `bench/players.py` and `bench/speech.py`. A player plays unsteadily, strokes up to 30 ms from where they
belong, and is moved there. As the players are made of single notes, the same performance can be played at the new times
as well: what a perfect stretch would come near to. Measured on every track:

pitch     how far partials between attacks lie from where they were, cents, 95 % of them
warble    how much their amplitude and frequency waver more than as played, per cent of either; mean and 95 %
join      at the end of each stretched part its partials go on for 15 ms, and are compared with what follows:
          0 the same, 1 unrelated (energy of the difference over the sum of energies); median and 95 %
jump      by which angle partials jump from before to after the next attack, beside as played, degrees
distance  to the same performance played at the new times: bands of a third of an octave, 20 ms apart, dB
dip       how far the level falls below that as played, in 30 ms, dB: of all but a thousandth, and the deepest
exact     samples that are copied bit for bit, per cent
speed     of rendering on one core, times real time for the whole group
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, fields
from functools import partial
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from material import RATE_HZ, Sound
from notes import load_notes
from players import BASSES, CHORD, GUITARS, SINGLE, STRUM, cabinet, close, direct, far_cabinet, played
from supple_snare.session.cutting import SEAMS_OF
from supple_snare.sound.cut import Cut, plan_cut
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import BlockReader, Recording, read_recording
from supple_snare.sound.material import Material
from supple_snare.sound.stretch.ways import Way

MOST_MS = 30.0
_FRAME = 8192
_JOIN_MS, _FIT_MS = 15.0, 60.0
_APART_HZ, _SMOOTH_S = 50.0, 0.05
"""A partial is looked at if no other lies so near, and smoothed over so long."""

Ways = dict[str, Callable[[Sound, np.random.Generator], Sound]]


@dataclass(frozen=True)
class Take:
    """A performance as played, when its strokes begin, where they belong, and the same played there, if it can be."""

    tracks: dict[str, Sound]
    at_s: NDArray[np.float64]
    to_s: NDArray[np.float64]
    ideal: dict[str, Sound] | None
    material: Material


@dataclass(frozen=True)
class Player:
    """Somebody who plays from single notes, as several microphones hear him."""

    name: str
    instruments: tuple[str, ...]
    manner: str
    ways: Ways
    material: Material

    def make(self, folders: dict[str, Path], seed: int) -> Take:
        """One take."""
        instrument = str(np.random.default_rng(seed).choice(self.instruments))
        notes = load_notes(folders["notes"], instrument)
        rng = np.random.default_rng((seed, *self.name.encode()))
        step_s = rng.uniform(0.25, 0.6)
        to_s = 0.5 + np.cumsum(step_s * rng.choice([1, 2, 3], 24, p=[0.5, 0.35, 0.15]))
        at_s = to_s + np.clip(rng.normal(0.0, 0.012, len(to_s)), -MOST_MS / 1000.0, MOST_MS / 1000.0)
        heard = []
        for times_s in (at_s, to_s):
            again = np.random.default_rng((seed, 1))
            sound, _ = played(notes, self.manner, again, times_s)
            frames = round((float(max(at_s[-1], to_s[-1])) + 3.0) * RATE_HZ)
            sound = np.pad(sound, (0, max(0, frames - len(sound))))[:frames]
            heard.append({name: 0.4 * way(sound, again) for name, way in self.ways.items()})
        return Take(heard[0], at_s, to_s, heard[1], self.material)


@dataclass(frozen=True)
class Speaker:
    """Speech whose syllables are known."""

    name: str
    ways: Ways

    def make(self, folders: dict[str, Path], seed: int) -> Take:
        """One take."""
        path = sorted(folders["speech"].glob("*.wav"))[seed * 5 % 24]
        sound = soundfile.read(path, always_2d=True)[0].mean(axis=1)
        at_s = np.loadtxt(path.with_suffix(".csv"), delimiter=",", skiprows=1, ndmin=2)[:, 0]
        at_s = at_s[np.diff(at_s, prepend=-1.0) > 0.06]
        rng = np.random.default_rng((seed, *self.name.encode()))
        to_s = np.maximum(at_s + np.clip(rng.normal(0.0, 0.012, len(at_s)), -0.03, 0.03), 0.03)
        tracks = {name: 0.4 * way(sound / np.abs(sound).max(), rng) for name, way in self.ways.items()}
        return Take(tracks, at_s, to_s, None, Material.VOICE)


SCENES: tuple[Player | Speaker, ...] = (
    Player("guitar", GUITARS, STRUM, {"direct": direct, "amp": cabinet, "room": far_cabinet}, Material.PLUCKED),
    Player("piano", ("piano",), CHORD, {"left": close, "right": close}, Material.KEYS),
    Player("bass", BASSES, SINGLE, {"direct": direct, "amp": cabinet}, Material.PLUCKED),
    Player("wind", ("trumpet", "sax", "flute"), SINGLE, {"close": close, "room": far_cabinet}, Material.BLOWN),
    Speaker("voice", {"close": close}),
)


@dataclass(frozen=True)
class Figures:
    """What one way makes of one take; samples of each figure."""

    pitch: NDArray[np.float64]
    warble: NDArray[np.float64]
    join: NDArray[np.float64]
    jump: NDArray[np.float64]
    distance: NDArray[np.float64]
    dip: NDArray[np.float64]
    exact: NDArray[np.float64]
    speed: NDArray[np.float64]


def stretched(take: Take, way: Way) -> tuple[Cut, list[Sound], float]:
    """A take moved by one way: the plan, all tracks, and how many times real time rendering took."""
    with tempfile.TemporaryDirectory() as folder:
        recordings = []
        for name, sound in take.tracks.items():
            path = Path(folder) / f"{name}.wav"
            soundfile.write(path, sound, RATE_HZ, subtype="FLOAT")
            recordings.append(read_recording(path))
        start = np.rint(take.at_s * RATE_HZ).astype(np.int64)
        move = np.rint((take.to_s - take.at_s) * RATE_HZ).astype(np.int64)
        settings = SEAMS_OF[take.material]
        began = time.process_time()
        cut = plan_cut(recordings, first_arrival=start, arrivals=start, move=move, settings=settings, ways=way)
        sounds = [_rendered(cut.edits, recording) for recording in recordings]
        took_s = time.process_time() - began
    return cut, sounds, len(sounds[0]) / RATE_HZ / took_s


def _rendered(edits: EditList, recording: Recording) -> Sound:
    with BlockReader(recording, "float32") as reader:
        parts = [
            edits.render(reader.read, begin, min(65_536, recording.frames - begin), recording=recording)
            for begin in range(0, recording.frames, 65_536)
        ]
    return np.concatenate(parts)[:, 0].astype(np.float64)


def measure(folders: dict[str, Path], way: Way, job: tuple[Player | Speaker, int]) -> Figures:
    """All figures of one take."""
    scene, seed = job
    take = scene.make(folders, seed)
    cut, sounds, speed = stretched(take, way)
    found: dict[str, list[NDArray[np.float64]]] = {field.name: [] for field in fields(Figures)}
    source_of = cut.edits.source_of(np.arange(len(sounds[0])))
    for (name, played_), result in zip(take.tracks.items(), sounds, strict=True):
        played32 = played_.astype(np.float32).astype(np.float64)
        pitch, warble = partials_waver(played32, result, cut)
        join, jump = joins(played32, result, cut)
        found["pitch"].append(pitch)
        found["warble"].append(warble)
        found["join"].append(join)
        found["jump"].append(jump)
        if take.ideal is not None:
            found["distance"].append(np.array([distance_db(result, take.ideal[name])]))
        found["dip"].append(dips_db(played32, result, source_of))
        inside = (source_of >= 0) & (source_of < len(played32))
        same = result[inside] == played32[source_of[inside]]
        found["exact"].append(np.array([100.0 * same.mean()]))
    found["speed"].append(np.array([speed]))
    return Figures(**{name: np.concatenate(rows) if rows else np.zeros(0) for name, rows in found.items()})


def moved_parts(cut: Cut) -> list[tuple[int, int, int, int]]:
    """Each part between two moves: from, until in the result; from, until in the recording."""
    edits, found, piece = cut.edits, [], 1
    while piece < len(edits):
        last = piece
        while edits.is_stretched[last] or (
            last + 1 < len(edits) and edits.at[last + 1] - edits.fade[last + 1] - edits.at[last] < 0.06 * RATE_HZ
        ):
            last += 1
        begin = int(edits.at[piece] - edits.fade[piece])
        end = int(edits.at[last])
        found.append((begin, end, begin - int(edits.shift[piece - 1]), end - int(edits.shift[last])))
        piece = last + 1
    return found


def _peaks(sound: Sound, most: int = 8) -> tuple[NDArray[np.float64], Sound]:
    """Frequencies, Hz, and amplitudes of the strongest partials."""
    taper = np.hanning(len(sound))
    size = 1 << int(np.ceil(np.log2(len(sound)))) + 2
    spectrum = np.abs(np.fft.rfft(sound * taper, size))
    low = round(40.0 * size / RATE_HZ)
    middle = np.arange(max(low, 1), min(len(spectrum) - 1, round(6_000.0 * size / RATE_HZ)))
    is_peak = (spectrum[middle] >= spectrum[middle - 1]) & (spectrum[middle] > spectrum[middle + 1])
    peaks = middle[is_peak]
    peaks = peaks[spectrum[peaks] > 0.05 * spectrum[peaks].max(initial=1e-9)]
    peaks = peaks[np.argsort(-spectrum[peaks])][:most]
    before, at, after = (np.log(spectrum[peaks + step] + 1e-12) for step in (-1, 0, 1))
    apex = 0.5 * (before - after) / np.minimum(before - 2.0 * at + after, -1e-9)
    return (peaks + apex) * RATE_HZ / size, spectrum[peaks]


def _apart(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Those that no other partial is near enough to, to beat with it."""
    distance = np.abs(hz[:, None] - hz) + np.where(np.eye(len(hz)) > 0, 1e9, 0.0)
    return hz[distance.min(axis=1, initial=1e9) > _APART_HZ]


def _partial(sound: Sound, hz: float) -> NDArray[np.complex128]:
    """A partial brought to 0 Hz and smoothed: its amplitude and phase."""
    turned = sound * np.exp(-2j * np.pi * hz * np.arange(len(sound)) / RATE_HZ)
    taper = np.hanning(round(_SMOOTH_S * RATE_HZ))
    return np.convolve(turned, taper / taper.sum(), mode="valid")[:: RATE_HZ // 1000]


def partials_waver(played_: Sound, result: Sound, cut: Cut) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How far partials lie from their pitch, cents, and how much more they waver, per cent, around each moved part."""
    cents, warble = [], []
    around = round(0.03 * RATE_HZ)
    for first, end, source_first, until in moved_parts(cut):
        more = 4_800 if end - first < 0.1 * RATE_HZ else 0
        begin, source = first - more, source_first - more
        if source < around or until + around > len(played_) or end + around > len(result):
            continue
        before, after = played_[source - around : until + around], result[begin - around : end + around]
        if (before**2).mean() < 1e-7:
            continue
        for hz in _apart(_peaks(before, 24)[0]).tolist():
            one, two = _partial(before, hz), _partial(after, hz)
            if len(one) < 40 or len(two) < 40:
                continue
            there = np.linspace(0.0, len(one) - 1.0, len(two))
            size = np.interp(there, np.arange(len(one)), np.abs(one))
            if size.min() < 0.1 * size.max():
                continue  # not sustained
            moves = [np.diff(np.unwrap(np.angle(each))) * 1000.0 / (2.0 * np.pi) for each in (one, two)]
            weight = np.abs(two[1:]) ** 2
            turn = np.interp(there[1:], np.arange(len(one) - 1) + 1.0, moves[0])
            if np.abs(turn).max() > 20.0:
                continue
            off = moves[1] - turn
            cents.append(abs(1200.0 * np.log2(1.0 + np.average(off, weights=weight) / hz)))
            level = np.log(np.maximum(np.abs(two), 1e-9) / np.maximum(size, 1e-9))
            swell = level - uniform_filter1d(level, min(201, len(level)))
            waver = (off - np.average(off, weights=weight)) / hz
            warble.append(
                100.0 * np.sqrt(np.average(swell[1:] ** 2, weights=weight) + np.average(waver**2, weights=weight))
            )
    return np.array(cents), np.array(warble)


def joins(played_: Sound, result: Sound, cut: Cut) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How unlike the end of each moved part, continued, is to what follows; and the angle of each partial there."""
    fit, on = round(_FIT_MS * RATE_HZ / 1000.0), round(_JOIN_MS * RATE_HZ / 1000.0)
    unlike, angles = [], []
    for begin, end, _, until in moved_parts(cut):
        begin_fit = max(end - fit, begin)
        length = end - begin_fit
        if length < 0.02 * RATE_HZ or until + on + fit > len(played_) or end + on > len(result) or until < length:
            continue
        around = played_[until - length : until + on]
        if (around**2).mean() < 1e-7:
            continue
        hz, _ = _peaks(played_[until - length : until])
        if not len(hz):
            continue
        place = np.arange(-length, on) / RATE_HZ
        waves = np.concatenate(
            [np.cos(2 * np.pi * hz * place[:, None]), np.sin(2 * np.pi * hz * place[:, None])], axis=1
        )
        ways, rests = [], []
        for sound in (result[end - length : end + on], around):
            before = np.linalg.lstsq(waves[:length], sound[:length], rcond=None)[0]
            goes_on, follows = waves[length:] @ before, sound[length:]
            rests.append(((goes_on - follows) ** 2).sum() / max((goes_on**2).sum() + (follows**2).sum(), 1e-12))
            ways.append(before)
        unlike.append(max(0.0, rests[0] - rests[1]))
        count = len(hz)
        phase = [np.arctan2(-each[count:], each[:count]) for each in ways]
        turn = np.degrees(np.abs(np.angle(np.exp(1j * (phase[0] - phase[1])))))
        angles.append(float(np.average(turn, weights=np.hypot(ways[1][:count], ways[1][count:]))))
    return np.array(unlike), np.array(angles)


def distance_db(one: Sound, other: Sound) -> float:
    """Mean distance of third-octave spectra, every 20 ms, where anything sounds."""
    frame, hop = 2048, 960
    edges_hz = 100.0 * 2.0 ** (np.arange(21) / 3.0)
    bins = np.fft.rfftfreq(frame, 1.0 / RATE_HZ)
    band = np.digitize(bins, edges_hz)
    rows = []
    for sound in (one, other):
        views = np.lib.stride_tricks.sliding_window_view(sound, frame)[::hop]
        power = np.abs(np.fft.rfft(views * np.hanning(frame), axis=1)) ** 2
        rows.append(np.stack([power[:, band == number].sum(axis=1) for number in range(1, 21)], axis=1))
    length = min(map(len, rows))
    one_db, other_db = (10.0 * np.log10(row[:length] + 1e-6) for row in rows)
    heard = np.maximum(one_db, other_db).max(axis=1) > np.max(other_db) - 50.0
    return float(np.abs(one_db - other_db)[heard].mean())


def dips_db(played_: Sound, result: Sound, source_of: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far the level lies below that as played, where something sounds, dB."""
    level = [10.0 * np.log10(uniform_filter1d(sound**2, 1_440) + 1e-7) for sound in (played_, result)]
    usual = level[0][np.clip(source_of, 0, len(played_) - 1)]
    heard = usual > -55.0
    return (usual - level[1])[heard][::48]


def told(name: str, rows: list[Figures]) -> str:
    """One row of the table."""
    all_of = {field.name: np.concatenate([getattr(row, field.name) for row in rows]) for field in fields(Figures)}
    percent = lambda key, share: float(np.nanpercentile(all_of[key], share)) if len(all_of[key]) else np.nan  # noqa: E731
    mean = lambda key: float(all_of[key].mean()) if len(all_of[key]) else np.nan  # noqa: E731
    return (
        f"{name:20}{percent('pitch', 95):6.1f}  {mean('warble'):5.2f} {percent('warble', 95):5.1f}  "
        f"{percent('join', 50):5.3f} {percent('join', 95):5.2f}  "
        f"{percent('jump', 50):4.0f} {percent('jump', 95):4.0f}  "
        f"{mean('distance'):6.2f}  {percent('dip', 99.9):5.1f} {percent('dip', 100):5.1f}  {mean('exact'):5.1f}  "
        f"{mean('speed'):5.0f}"
    )


def main() -> None:
    """One row a scene and way."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--notes", type=Path, required=True)
    parser.add_argument("--speech", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--ways", default="cut,ringing,notes")
    parser.add_argument("--seeds", type=int, default=4)
    parser.add_argument("--jobs", type=int, default=2)
    chosen = parser.parse_args()
    folders = {"notes": chosen.notes} | ({"speech": chosen.speech} if chosen.speech else {})
    print(f"{'':20} pitch  warble  95 %  join 95 %   jump 95 %  distance  dip deep  exact  speed")
    with ProcessPoolExecutor(chosen.jobs) as pool:
        for scene in SCENES:
            if chosen.only not in scene.name or (isinstance(scene, Speaker) and not chosen.speech):
                continue
            for way in map(Way, chosen.ways.split(",")):
                jobs = [(scene, seed) for seed in range(chosen.seeds)]
                rows = list(pool.map(partial(measure, folders, way), jobs))
                print(told(f"{scene.name}, {way.value}", rows), flush=True)


if __name__ == "__main__":
    main()
