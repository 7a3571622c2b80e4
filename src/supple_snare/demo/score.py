"""What the band plays, and how loosely: every note with its place on the grid and the moment it is really struck.

Everything is drawn from one seed, so the same take comes out every time.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

TEMPO_BPM = 104.0
FIRST_BEAT_S = 1.2
BARS = 20
BEAT_S = 60.0 / TEMPO_BPM
LENGTH_S = 49.5
SWUNG_BARS = range(9, 13)
SWING = 0.59
LATE_STROKE = (14, 1.5)
"""Bar and beat (from 0) of the snare stroke that comes more than half a slot late."""


@dataclass(frozen=True)
class Note:
    """One note as played.

    Attributes
    ----------
    player : str
    bar : int
    beat : float
        Quarter notes from the start of the bar, as written.
    time_s : float
        Moment of the attack.
    force : float
        0 to 1.
    kind : str
        "stroke", "ghost", "grace" or "roll".
    pitch : float
        Frequency in Hz for instruments that have one, else 0.
    length_s : float
    """

    player: str
    bar: int
    beat: float
    time_s: float
    force: float
    kind: str = "stroke"
    pitch: float = 0.0
    length_s: float = 0.0


def drift_ms(bar: int, beat: float) -> float:
    """The band's slow push and pull."""
    place = (bar - 1 + beat / 4.0) / BARS
    return float(14.0 * np.sin(2.0 * np.pi * (1.15 * place + 0.08)) + 6.0 * np.sin(2.0 * np.pi * 2.6 * place))


_FEEL_MS = {
    # by sixteenth of the bar: what this player does every time
    "snare": {4: 9.0, 12: 11.0, 6: 4.0, 7: -5.0, 10: 3.0, 15: -6.0},
    "bass drum": {0: -3.0, 8: 2.0, 10: 5.0, 6: 4.0},
    "washboard": {2: 6.0, 6: 7.0, 10: 5.0, 14: 8.0, 3: -4.0, 11: -5.0},
    "sousaphone": {0: 6.0, 8: 9.0, 14: -6.0},
    "cornet one": {2: 5.0, 6: 6.0, 10: 6.0},
    "cornet two": {2: 5.0, 6: 6.0, 10: 6.0},
}
_SCATTER_MS = {
    "snare": 5.0,
    "bass drum": 5.5,
    "washboard": 5.0,
    "sousaphone": 13.0,
    "cornet one": 8.0,
    "cornet two": 12.0,
}
_OWN_LEAN_MS = {"sousaphone": 16.0, "cornet two": 14.0}


def place_of(bar: int, beat: float) -> float:
    """Moment of a written place in seconds; the sixteenths of the swung bars stand where swing puts them."""
    if bar in SWUNG_BARS:
        pair, inside = divmod(beat, 0.5)
        beat = pair * 0.5 + (inside * 2.0 * SWING if inside < 0.26 else inside)
    return FIRST_BEAT_S + ((bar - 1) * 4.0 + beat) * BEAT_S


def rush_ms(bar: int, beat: float) -> float:
    """The fill at the end of bar 8 runs away from the band."""
    return -18.0 * (beat - 2.0) if bar == 8 and beat >= 2.0 else 0.0


def play(seed: int = 1888) -> list[Note]:
    """All notes of the take, in order of time."""
    rng = np.random.default_rng(seed)
    notes = [*_snare(rng), *_bass_drum(rng), *_washboard(rng), *_sousaphone(rng), *_cornets(rng)]
    return sorted(notes, key=lambda note: note.time_s)


def _struck(rng: np.random.Generator, player: str, bar: int, beat: float, force: float, kind: str = "stroke") -> Note:
    sixteenth = int(beat * 4.0) % 16
    late = drift_ms(bar, beat) * (0.4 if player == "sousaphone" else 1.0) + _FEEL_MS[player].get(sixteenth, 0.0)
    late += _OWN_LEAN_MS.get(player, 0.0) + rng.normal(0.0, _SCATTER_MS[player])
    if player in ("snare", "bass drum"):
        late += rush_ms(bar, beat)
    if player == "snare" and (bar, beat) == LATE_STROKE:
        late = 84.0
    force = float(np.clip(force * rng.uniform(0.88, 1.1), 0.02, 1.0))
    return Note(player, bar, float(beat), float(place_of(bar, beat) + late / 1000.0), force, kind)


def _snare(rng: np.random.Generator) -> list[Note]:
    notes: list[Note] = []
    for bar in range(1, BARS + 1):
        strokes = [(1.0, 0.85), (3.0, 0.9), (1.5, 0.55), (2.5, 0.5)]
        if bar % 2 == 0:
            strokes += [(1.75, 0.5), (3.75, 0.6)]
        if bar in SWUNG_BARS:
            strokes += [(0.75, 0.5), (2.75, 0.55)]
        if bar == 8:
            strokes = [(1.0, 0.85)] + [(2.0 + 0.25 * step, 0.6 + 0.04 * step) for step in range(8)]
        if bar == 16:
            strokes = [(1.0, 0.85), (1.5, 0.55)]
        if bar == LATE_STROKE[0]:
            strokes = sorted({*strokes, (1.75, 0.5)})
        notes += [_struck(rng, "snare", bar, beat, force) for beat, force in strokes]
        if bar not in (8, 16):
            ghosts = rng.choice([0.25, 0.75, 2.25, 3.25], size=2, replace=False)
            taken = {beat for beat, _ in strokes}
            notes += [_struck(rng, "snare", bar, b, 0.11, "ghost") for b in sorted(ghosts) if b not in taken]
        if bar in (4, 12, 20):  # flams on the second backbeat
            main = next(note for note in notes if note.bar == bar and note.beat == 3.0)
            before = main.time_s - rng.uniform(0.022, 0.032)
            notes.append(Note("snare", bar, 3.0, float(before), 0.3, "grace"))
    start = _struck(rng, "snare", 16, 2.0, 0.6)
    notes.append(start)
    time, force = start.time_s, 0.55
    while time < place_of(17, 0.0) - 0.12:  # a buzz roll to the end of the bar
        time += rng.uniform(0.028, 0.044)
        force = float(np.clip(force * 0.985 + rng.normal(0, 0.03), 0.3, 0.6))
        notes.append(Note("snare", 16, 2.0, float(time), force, "roll"))
    return notes


def _bass_drum(rng: np.random.Generator) -> list[Note]:
    notes = []
    for bar in range(1, BARS + 1):
        strokes = [(0.0, 0.9), (2.0, 0.85)]
        if bar % 4 in (2, 3):
            strokes.append((2.5, 0.6))
        if bar in SWUNG_BARS:
            strokes.append((1.75, 0.55))
        if bar == 8:
            strokes = [(0.0, 0.9)]
        notes += [_struck(rng, "bass drum", bar, beat, force) for beat, force in strokes]
    return notes


def _washboard(rng: np.random.Generator) -> list[Note]:
    notes = []
    for bar in range(1, BARS + 1):
        for beat in np.arange(0.0, 4.0, 0.5):
            if (bar == 8 and beat >= 2.0) or (bar, beat) == LATE_STROKE:
                continue
            notes.append(_struck(rng, "washboard", bar, float(beat), 0.7 if beat % 1 else 0.5))
        if bar % 2:
            notes += [_struck(rng, "washboard", bar, beat, 0.35) for beat in (0.75, 2.75)]
    return notes


def _hz(semitones_from_a4: float) -> float:
    return float(440.0 * 2.0 ** (semitones_from_a4 / 12.0))


_BASS_LINE = ((-36, -29), (-36, -29), (-31, -36), (-29, -34))
_TUNE = (
    ((0.0, -12), (1.0, -9), (1.5, -7), (2.5, -5), (3.0, -5)),
    ((0.0, -7), (1.0, -9), (2.0, -12), (3.5, -14)),
    ((0.0, -12), (0.5, -10), (1.0, -9), (2.0, -7), (3.0, -9)),
    ((0.0, -10), (1.0, -14), (2.0, -12)),
)


def _sousaphone(rng: np.random.Generator) -> list[Note]:
    notes = []
    for bar in range(1, BARS + 1):
        low, high = _BASS_LINE[(bar - 1) % 4]
        for beat, tone in ((0.0, low), (2.0, high)):
            note = _struck(rng, "sousaphone", bar, beat, 0.8)
            notes.append(_sung(note, _hz(tone), 0.42))
        if bar % 4 == 0:
            notes.append(_sung(_struck(rng, "sousaphone", bar, 3.5, 0.65), _hz(low + 5), 0.2))
    return notes


def _cornets(rng: np.random.Generator) -> list[Note]:
    notes = []
    for bar in range(1, BARS + 1):
        tune = _TUNE[(bar - 1) % 4]
        for index, (beat, tone) in enumerate(tune):
            until = tune[index + 1][0] if index + 1 < len(tune) else 4.0
            length = 0.82 * (until - beat) * BEAT_S
            for player in ("cornet one", "cornet two"):
                notes.append(_sung(_struck(rng, player, bar, beat, 0.7), _hz(tone), length))
    return notes


def _sung(note: Note, pitch: float, length_s: float) -> Note:
    return Note(note.player, note.bar, note.beat, note.time_s, note.force, note.kind, pitch, length_s)
