"""Makes the demo take: `python -m supple_snare.demo.make` writes it into `demo/take`, the same every time."""

from __future__ import annotations

import sys
from pathlib import Path

import mido
import msgspec
import numpy as np
import soundfile

from supple_snare.demo import TAKE, score
from supple_snare.demo.instruments import RATE_HZ, bass_drum, brass, snare, washboard
from supple_snare.demo.room import MICROPHONES, record
from supple_snare.demo.score import Note
from supple_snare.timing.units import FloatArray

TICKS_PER_BEAT = 480

_KEPT_BITS = 16
"""The converter's real resolution: what lies below is noise, and would only make the files large."""


def sound_of(note: Note, rng: np.random.Generator) -> FloatArray:
    """The dry sound of one note."""
    match note.player:
        case "snare":
            return snare(rng, note.force)
        case "bass drum":
            return bass_drum(rng, note.force)
        case "washboard":
            return washboard(rng, note.force)
        case "sousaphone":
            return brass(rng, note.force, note.pitch, note.length_s, rise_s=0.028)
        case _:
            return brass(rng, note.force, note.pitch, note.length_s, rise_s=0.014)


def dry_players(notes: list[Note], rng: np.random.Generator) -> dict[str, FloatArray]:
    """Each player's part without room or microphone, shape (samples,)."""
    length = round(score.LENGTH_S * RATE_HZ)
    parts = {player: np.zeros(length) for player in {note.player for note in notes}}
    for note in notes:
        sound = sound_of(note, rng)
        at = round(note.time_s * RATE_HZ)
        room = min(len(sound), length - at)
        parts[note.player][at : at + room] += sound[:room]
    return parts


def write_take(into: Path) -> None:
    """Render every microphone, the accordion part and the truth."""
    into.mkdir(parents=True, exist_ok=True)
    notes = score.play()
    rng = np.random.default_rng(1889)
    dry = dry_players(notes, rng)
    for microphone in MICROPHONES:
        heard = record(microphone, dry, rng)
        step = 2.0 ** (1 - _KEPT_BITS)
        path = into / f"{microphone.name.replace(' ', '-')}.flac"
        soundfile.write(path, np.rint(heard / step) * step, RATE_HZ, subtype="PCM_24", compression_level=1.0)
    write_accordion(into / "accordion.mid")
    truth = {
        "tempo": score.TEMPO_BPM,
        "first_beat": score.FIRST_BEAT_S,
        "swung_bars": [score.SWUNG_BARS.start, score.SWUNG_BARS.stop - 1],
        "swing": score.SWING,
        "notes": [
            {"player": n.player, "time": round(n.time_s, 6), "bar": n.bar, "beat": n.beat, "kind": n.kind}
            for n in notes
        ],
    }
    (into / "truth.json").write_bytes(msgspec.json.format(msgspec.json.encode(truth), indent=1))


def write_accordion(path: Path) -> None:
    """Chords on the off-beats, played in by hand."""
    rng = np.random.default_rng(1890)
    part = mido.MidiTrack()
    part.append(mido.MetaMessage("track_name", name="Accordion"))
    part.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(score.TEMPO_BPM)))
    part.append(mido.MetaMessage("time_signature", numerator=4, denominator=4))
    part.append(mido.Message("program_change", program=21))
    chords = ((57, 60, 64), (57, 60, 64), (55, 59, 62), (52, 56, 59))
    events: list[tuple[float, mido.Message]] = []
    for bar in range(1, score.BARS + 1):
        for beat in (0.5, 1.5, 2.5, 3.5):
            chord_s = score.place_of(bar, beat) + (score.drift_ms(bar, beat) + rng.normal(4.0, 7.0)) / 1000.0
            for tone in chords[(bar - 1) % 4]:
                start = chord_s + abs(rng.normal(0.0, 0.004))
                velocity = int(rng.integers(58, 84))
                events.append((start, mido.Message("note_on", note=tone, velocity=velocity)))
                events.append((start + 0.21, mido.Message("note_off", note=tone, velocity=40)))
    events.sort(key=lambda event: event[0])
    ticks_per_s = TICKS_PER_BEAT / score.BEAT_S
    last = 0
    for time, message in events:
        tick = round(time * ticks_per_s)
        part.append(message.copy(time=tick - last))
        last = tick
    file = mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_BEAT)
    file.tracks.append(part)
    file.save(path)


if __name__ == "__main__":
    write_take(Path(sys.argv[1]) if len(sys.argv) > 1 else TAKE)
