"""Makes recordings of a drum kit in a room whose walls are mirrors: the third source of takes with known truth.

Where `material` draws delays and levels at random, here they follow from places: each drum and each microphone stands
somewhere in a room, every sound comes by the straight way and by its mirror images (J. B. Allen and D. A. Berkley,
"Image method for efficiently simulating small-room acoustics", J. Acoust. Soc. Am. 65, 1979), and microphones hear
less from behind. Around that lie the troubles of real kits, one or two a recipe: few microphones, gates, snare wires
and skins that answer other drums, a fader moved in the middle, bleed that differs from stroke to stroke, cymbal wash,
drums that stand idle.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d
from scipy.signal import butter, oaconvolve, sosfilt

from material import RATE_HZ, WITHOUT_MICROPHONE, Kit, Made, Sound, Struck, below, dulled, lay

SPEED_M_PER_S = 343.0
HEAD_M = 0.14
"""A drum is no point: near its head the level falls as if the source lay this far behind it."""

PLACES_M = {
    "low": (0.0, 0.45, 0.35),
    "back": (-0.30, -0.15, 0.70),
    "first": (-0.12, 0.35, 0.95),
    "second": (0.22, 0.35, 0.95),
    "third": (0.55, -0.10, 0.65),
    "hat": (-0.70, 0.10, 0.95),
    "ride": (0.65, 0.40, 1.10),
    "crash": (-0.55, 0.55, 1.30),
}
"""Across, ahead of the player, and up."""

SECONDS_M = {"low": (0.02, 0.66, 0.35), "back": (-0.30, -0.15, 0.58)}
FAR_M = {"over-left": (-0.60, 0.20, 2.0), "over-right": (0.60, 0.20, 2.0), "room": (0.4, 3.2, 1.5)}
TOMS = ("first", "second", "third")
METAL = ("hat", "ride", "crash")


@dataclass(frozen=True)
class Place:
    """A recipe: the room, the microphones, and what is wrong; levels in dB."""

    name: str
    tempo_bpm: float = 108.0
    bars: int = 14
    size_m: tuple[float, float, float] = (5.5, 7.0, 2.8)
    reflected: float = 0.75
    """What a wall gives back of an amplitude."""
    far: tuple[str, ...] = ("over-left", "over-right", "room")
    closer_to: int = 9
    """So many close microphones at most, the bass drum's and the snare's first."""
    hat_microphone: bool = False
    directed: float = 0.7
    """0: microphones hear from everywhere; 1: nothing from behind."""
    near_m: float = 0.06
    noise_db: float = -68.0
    dynamics_db: float = 9.0
    ghosts_db: tuple[float, float] | None = None
    gate_db: float | None = None
    """Below their loudest stroke by so much the gates of toms are shut."""
    wires_db: float | None = None
    """How loud, under the drum that moves them as the snare hears it, its wires buzz."""
    ring_db: float | None = None
    """How loud, under the drum that moves them, skins ring along."""
    jump_db: float | None = None
    """How much louder one microphone is from the middle on."""
    stray_db: float = 0.0
    """How far the way from a drum to a microphone strays from stroke to stroke."""
    wash_db: float | None = None
    idle: bool = False
    seconds: bool = False
    """Before the bass drum's front head stands a second microphone, and one below the snare, where its wires rattle."""

    def build(self, kit: Kit, seed: int) -> Made:
        """Make a recording of a kit."""
        return build(kit, self, seed)


PLACES = (
    Place("a dry room", reflected=0.45),
    Place("a live room", reflected=0.85, size_m=(8.0, 11.0, 4.0)),
    Place("ghosts in a room", ghosts_db=(-24.0, -15.0), tempo_bpm=94.0),
    Place("ghosts, wires that buzz", ghosts_db=(-22.0, -14.0), wires_db=-12.0, tempo_bpm=98.0),
    Place("open microphones", directed=0.2, near_m=0.12, noise_db=-56.0),
    Place("bass drum, snare, one overhead", closer_to=2, far=("over-left",), ghosts_db=(-20.0, -14.0)),
    Place("close ones only", far=(), directed=0.5),
    Place("gated toms", gate_db=-20.0, tempo_bpm=120.0),
    Place("skins that answer", ring_db=-10.0, tempo_bpm=84.0),
    Place("a fader moved", jump_db=7.0, ghosts_db=(-20.0, -13.0)),
    Place("ways that differ", stray_db=2.5, ghosts_db=(-20.0, -13.0)),
    Place("a hat microphone", hat_microphone=True, tempo_bpm=126.0),
    Place("idle toms", idle=True, directed=0.5),
    Place("second microphones", seconds=True, ghosts_db=(-20.0, -13.0)),
    Place("second microphones, open", seconds=True, directed=0.2, near_m=0.1, noise_db=-60.0),
    Place("cymbal wash", wash_db=-14.0, far=("over-left", "over-right")),
)


def build(kit: Kit, place: Place, seed: int) -> Made:
    """Make a recording."""
    rng = np.random.default_rng([seed, sum(map(ord, place.name))])
    where = _places(kit)
    frames = round((place.bars * 240.0 / place.tempo_bpm + 2.5) * RATE_HZ)
    beats = {drum: _beats(where[drum], place, rng) for drum in kit}
    lines: dict[str, list[Sound]] = {}
    struck: dict[str, Struck] = {}
    for drum, shots in kit.items():
        lines[drum], struck[drum] = _struck(shots, beats[drum], place, frames, rng)
    close = [drum for drum in where if drum not in WITHOUT_MICROPHONE][: place.closer_to]
    close += ["hat"] if place.hat_microphone and "hat" in kit else []
    _answer(lines, where, place, rng)
    tracks, own = {}, {}
    jumping = close[int(rng.integers(len(close)))]
    drum_of = {name: name for name in close}
    if place.seconds:
        drum_of |= {f"{name}-second": name for name in close if where[name] in SECONDS_M}
    for name in (*drum_of, *place.far):
        near = drum_of.get(name)
        mic_m, axis = _far(name) if near is None else _close(where[near], place, is_second=near != name)
        mix = np.zeros(frames)
        for drum, ways in lines.items():
            kernel, lag = _way(np.array(PLACES_M[where[drum]]), mic_m, axis, place, rng)
            gains = 10.0 ** (place.stray_db * rng.normal(size=len(ways)) / 20.0) if drum != near else np.ones(len(ways))
            heard = sum(gain * way for gain, way in zip(gains, ways, strict=True))
            if drum == near != name:
                heard = _other_side(heard, where[drum], rng)
            mix += oaconvolve(heard.astype(np.float32), kernel.astype(np.float32))[:frames]
            if drum == near:
                own[name] = Struck(struck[drum].time_s + lag / RATE_HZ, struck[drum].level_db, struck[drum].kind)
        mix /= np.abs(mix).max()
        if place.wash_db is not None and not near:
            mix += 10.0 ** (place.wash_db / 20.0) * _wash(frames, rng)
        if place.gate_db is not None and near and where[near] in TOMS:
            mix *= _gate(mix, place.gate_db)
        if place.jump_db is not None and name == jumping:
            mix[frames // 2 :] *= 10.0 ** (place.jump_db / 20.0)
        mix += rng.normal(size=frames) * 10.0 ** (place.noise_db / 20.0)
        tracks[name] = mix * (0.6 / np.abs(mix).max())
    rest = {drum: each for drum, each in struck.items() if drum not in own}
    return Made(tracks, own, {drum: own[drum].time_s for drum in own}, frames / RATE_HZ, rest)


def _far(name: str) -> tuple[Sound, Sound]:
    """Where a far microphone stands, and where it points: down."""
    return np.array(FAR_M[name]), np.array([0.0, 0.0, -1.0])


def _close(place_of: str, place: Place, *, is_second: bool) -> tuple[Sound, Sound]:
    """Where a microphone of a drum stands, and where it points: at the drum."""
    drum_m = np.array(PLACES_M[place_of])
    if is_second:
        mic_m = np.array(SECONDS_M[place_of])
        return mic_m, drum_m - mic_m
    above_m = np.array([0.0, 0.02, place.near_m])
    return drum_m + above_m, -above_m


def _places(kit: Kit) -> dict[str, str]:
    """Which place each drum takes: the first two of a kit low and behind, as its names or their order tell."""
    skins = [drum for drum in kit if drum not in WITHOUT_MICROPHONE]
    order = sorted(
        skins, key=lambda drum: (drum not in ("kick", "cajon", "dunun"), drum not in ("snare", "slap", "djembe"))
    )
    where = dict(zip(order, ("low", "back", "first", "third", "second"), strict=False))
    metal = [drum for drum in kit if drum in WITHOUT_MICROPHONE]
    return where | {drum: drum if drum in PLACES_M else "hat" for drum in metal}


def _beats(place_of: str, place: Place, rng: np.random.Generator) -> list[tuple[float, float, str]]:
    """(place in quarter notes, level in dB, kind) by how likely each sixteenth of a bar is."""
    likely = {
        "low": [0.95, 0, 0.05, 0.25, 0.15, 0, 0.35, 0.1, 0.6, 0, 0.4, 0.1, 0.1, 0, 0.3, 0.1],
        "back": [0, 0, 0, 0, 0.97, 0, 0, 0.05, 0, 0, 0, 0, 0.97, 0, 0.05, 0.1],
        "hat": [0.9, 0.25, 0.9, 0.25] * 4,
        "ride": [0.7, 0, 0.7, 0.3] * 4,
        "crash": [0.3] + [0.0] * 15,
    }.get(place_of, [0.0] * 16)
    notes = []
    for bar in range(place.bars):
        now = list(likely)
        if bar % 4 == 3 and place_of in TOMS:
            start = {"first": 8, "second": 10, "third": 12}[place_of]
            now[start : start + 4] = [0.85, 0.5, 0.7, 0.4][: 16 - start]
        if bar % 4 == 3 and place_of == "back":
            now[12:] = [0.3, 0.5, 0.3, 0.5]
        if (place.idle and place_of in ("second", "third")) or (place_of == "ride" and bar % 8 < 4):
            now = [0.0] * 16
        if place_of == "hat" and bar % 8 >= 4:
            now = [0.0, 0.0, 0.6, 0.0] * 4
        for step in np.flatnonzero(rng.random(16) < now):
            notes.append((4.0 * bar + step / 4.0, -float(rng.uniform(0.0, place.dynamics_db)), "stroke"))
        if place_of == "back" and place.ghosts_db is not None:
            free = [step for step in range(16) if now[step] < 0.1]
            for step in rng.choice(free, 4, replace=False):
                notes.append((4.0 * bar + step / 4.0, float(rng.uniform(*place.ghosts_db)), "ghost"))
    return sorted({beat: (beat, level, kind) for beat, level, kind in notes}.values())


def _struck(
    shots: list[Sound], notes: list[tuple[float, float, str]], place: Place, frames: int, rng: np.random.Generator
) -> tuple[list[Sound], Struck]:
    """The drum alone, on three lines whose ways may differ, and what was struck. Soft strokes take soft one-shots."""
    lines = [np.zeros(frames) for _ in range(3)]
    drift_s = 0.010 * np.sin(np.arange(4 * place.bars + 1) / 7.0 + rng.uniform(0.0, 6.0))
    time_s = []
    for beat, level_db, _kind in notes:
        at = round((0.5 + beat * 60.0 / place.tempo_bpm + drift_s[int(beat)] + rng.normal(0.0, 0.006)) * RATE_HZ)
        softness = np.clip((level_db + 18.0) / 18.0 + rng.normal(0.0, 0.15), 0.0, 0.999)
        shot = shots[int(softness * len(shots))]
        dull = dulled(shot, 16_000.0 * 10.0 ** (level_db / 40.0))
        lay(lines[int(rng.integers(3))], dull * 10.0 ** (level_db / 20.0) / np.abs(dull).max(), at)
        time_s.append(at / RATE_HZ)
    levels, kinds = [note[1] for note in notes], [note[2] for note in notes]
    return lines, Struck(np.array(time_s), np.array(levels), np.array(kinds, dtype=str))


def _answer(lines: dict[str, list[Sound]], where: dict[str, str], place: Place, rng: np.random.Generator) -> None:
    """Snare wires buzz and skins ring when other drums are struck."""
    loud = {drum: np.sum(ways, axis=0) for drum, ways in lines.items() if where[drum] not in METAL}
    for drum in loud:
        others = sum(sound for other, sound in loud.items() if other != drum)
        if place.wires_db is not None and where[drum] == "back":
            lines[drum].append(below(_wires(others, 0.004, rng), others, place.wires_db - 18.0))
        if place.ring_db is not None and where[drum] in TOMS:
            pitch_hz = {"first": 160.0, "second": 120.0, "third": 80.0}[where[drum]]
            late_s = np.arange(round(0.5 * RATE_HZ)) / RATE_HZ
            ring = oaconvolve(others, np.sin(2.0 * np.pi * pitch_hz * late_s) * np.exp(-late_s / 0.12))[: len(others)]
            lines[drum].append(below(ring, others, place.ring_db - 18.0))


def _wires(moving: Sound, span_s: float, rng: np.random.Generator) -> Sound:
    """Snare wires that rattle as loud as what moves them, over a span."""
    noise = sosfilt(butter(2, 1_500.0, "high", fs=RATE_HZ, output="sos"), rng.normal(size=len(moving)))
    return np.asarray(noise * uniform_filter1d(np.abs(moving), round(span_s * RATE_HZ)))


def _way(from_m: Sound, to_m: Sound, axis: Sound, place: Place, rng: np.random.Generator) -> tuple[Sound, int]:
    """What a microphone hears of a click, to the second mirror image, and how many samples late it begins."""
    size = np.array(place.size_m)
    middle = np.array([size[0] / 2.0, size[1] / 3.0, 0.0])
    kernel = np.zeros(round(0.09 * RATE_HZ))
    from_m, to_m = from_m + middle, to_m + middle
    first = len(kernel)
    for mirror in product((-1, 0, 1), repeat=3):
        order = sum(map(abs, mirror))
        if order > 2:
            continue
        side = np.array(mirror)
        image = np.where(side == 0, from_m, np.where(side > 0, 2.0 * size - from_m, -from_m))
        way = image - to_m
        far_m = float(np.linalg.norm(way))
        faces = float(way @ axis) / (far_m * float(np.linalg.norm(axis)) + 1e-9)
        heard = 1.0 - place.directed * 0.5 * (1.0 - faces)
        at = round(far_m / SPEED_M_PER_S * RATE_HZ)
        if at + 64 < len(kernel):
            click = np.zeros(64)
            click[0] = place.reflected**order * heard / (far_m + HEAD_M)
            kernel[at : at + 64] += dulled(click, 18_000.0 / (1.0 + 0.25 * far_m + order))
            first = min(first, at)
    late_s = np.arange(len(kernel)) / RATE_HZ
    tail = rng.normal(size=len(kernel)) * np.exp(-late_s / (0.02 + 0.05 * place.reflected))
    tail[: first + round(0.006 * RATE_HZ)] = 0.0
    kernel += tail * 0.03 * place.reflected**2
    return kernel, first


def _other_side(sound: Sound, place_of: str, rng: np.random.Generator) -> Sound:
    """What the other head gives: of a bass drum the low part; of a snare a thin sound, turned over, and its wires."""
    if place_of == "low":
        return dulled(sound, float(rng.uniform(600.0, 2_500.0)))
    wires = _wires(sound, 0.003, rng)
    thin = -sosfilt(butter(1, float(rng.uniform(150.0, 500.0)), "high", fs=RATE_HZ, output="sos"), sound)
    return np.asarray(thin + below(wires, sound, float(rng.uniform(-14.0, -6.0))))


def _gate(sound: Sound, below_db: float) -> Sound:
    """Open for 180 ms from 1 ms before the level passes the threshold."""
    level = np.abs(sound)
    is_open = (level > 10.0 ** (below_db / 20.0) * level.max()).astype(np.float64)
    held = maximum_filter1d(is_open, round(0.182 * RATE_HZ), origin=round(0.089 * RATE_HZ))
    return np.asarray(uniform_filter1d(held, round(0.002 * RATE_HZ)))


def _wash(frames: int, rng: np.random.Generator) -> Sound:
    """Cymbals that never come to rest: high noise that swells and falls."""
    noise = sosfilt(butter(2, 3_000.0, "high", fs=RATE_HZ, output="sos"), rng.normal(size=frames))
    swells = frames // (RATE_HZ // 2) + 2
    swell = np.interp(np.arange(frames), np.linspace(0, frames, swells), rng.uniform(0.3, 1.0, swells))
    return np.asarray(noise * swell * 0.25)
