"""How well the syllables of a voice are found, on speech that synthesisers make.

python bench/speech.py --speech FOLDER [--make]

`--make` fills FOLDER with speech of two synthesisers (Debian: `apt-get install festival festvox-kallpc16k
festvox-us-slt-hts libespeak-ng1`), each recording a WAV file with a CSV file beside it: when each syllable's consonants
and its vowel begin. A start is right within 50 ms of the consonants: where in the closure of a plosive a syllable
begins is a matter of definition.
"""

from __future__ import annotations

import argparse
import csv
import ctypes
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from math import gcd
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.signal import resample_poly

from material import RATE_HZ, Sound, score
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings, change_track
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.sound.material import Material

TEXTS = (
    "down by the harbour the lanterns are low, tapping a rhythm the sailors all know. "
    "over the water the music will go, nobody hurries and nobody is slow.",
    "carry me home when the morning is red, borrow a minute from under the bed. "
    "seven small windows and one of them blue, every last penny I gave it to you.",
    "people are dancing on top of the pier, tell me the story I wanted to hear. "
    "bright copper kettle and paper and string, give me a reason, I give you a ring.",
)
FIRST, SECOND = ("voice_kal_diphone", "voice_cmu_us_slt_arctic_hts"), ("en", "en-us", "en+f3", "en+m5")
STRETCHES, PACES = (1.0, 1.35), (100, 125, 145)
FESTIVAL_VOWELS = set("aa ae ah ao aw ax ay eh er ey ih iy ow oy uh uw axr ix".split())  # noqa: SIM905
PLOSIVES, GLIDES = "p t k b d g f th sh T S v", "r l w y j"
ONSETS = {f"{one} {other}" for one in PLOSIVES.split() for other in GLIDES.split()}
ONSETS |= {f"s {other}" for other in "tpklwnm"}
"""Pairs of consonants that may begin a syllable; of others only the last does."""

PHONEME, LIST_END, SYNCHRONOUS, PHONEME_EVENTS, RATE, PITCH = 7, 0, 2, 1, 1, 3

Syllables = NDArray[np.float64]
"""When the consonants and the vowel of each syllable begin, shape (n, 2)."""


class Event(ctypes.Structure):
    """What the second synthesiser tells of a moment (`espeak_EVENT` of its header)."""

    _fields_ = (
        ("type", ctypes.c_int), ("unique", ctypes.c_uint), ("place", ctypes.c_int), ("length", ctypes.c_int),
        ("position_ms", ctypes.c_int), ("sample", ctypes.c_int), ("user", ctypes.c_void_p),
        ("name", ctypes.c_char * 8),
    )  # fmt: skip


def syllables_of(phonemes: Sequence[tuple[float, str, bool]]) -> Syllables:
    """Syllables of phonemes: when each begins, its name ("" for a pause), and whether it is a vowel."""
    found, consonants = [], []
    for start_s, name, is_vowel in phonemes:
        if not name:
            consonants = []
        elif not is_vowel:
            consonants.append((start_s, name))
        else:
            first = max(len(consonants) - 1, 0)
            if first and f"{consonants[first - 1][1]} {consonants[first][1]}" in ONSETS:
                first -= 1
            found.append((consonants[first][0] if consonants else start_s, start_s))
            consonants = []
    return np.array(found)


def make_first(folder: Path) -> None:
    """Speech of the first synthesiser, which reads a text and writes what it says when."""
    for voice in FIRST:
        for number, text in enumerate(TEXTS):
            for stretch in STRETCHES:
                with tempfile.TemporaryDirectory() as made:
                    sound, segments, script = (Path(made) / name for name in ("a.wav", "a.seg", "a.scm"))
                    script.write_text(
                        f"({voice}) (Parameter.set 'Duration_Stretch {stretch})"
                        f'(set! u (Utterance Text "{text}")) (utt.synth u)'
                        f'(utt.save.wave u "{sound}") (utt.save.segs u "{segments}")'
                    )
                    subprocess.run(["festival", "-b", str(script)], check=True)
                    samples, rate_hz = soundfile.read(sound)
                    rows = [line.split() for line in segments.read_text().splitlines()[1:]]
                ends_s = [float(row[0]) for row in rows]
                names = ["" if row[2] in ("pau", "#") else row[2] for row in rows]
                starts = zip([0.0, *ends_s[:-1]], names, strict=True)
                phonemes = [(start_s, name, name in FESTIVAL_VOWELS) for start_s, name in starts]
                keep(folder / f"first-{voice}-{number}-{stretch}", samples, rate_hz, syllables_of(phonemes))


def make_second(folder: Path) -> None:
    """Speech of the second one, which is a library that calls back."""
    library = ctypes.CDLL("libespeak-ng.so.1")
    blocks: list[NDArray[np.int16]] = []
    events: list[tuple[float, str]] = []
    kind = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.POINTER(ctypes.c_short), ctypes.c_int, ctypes.POINTER(Event))

    def hear(sound: object, count: int, event: Sequence[Event]) -> int:
        if sound and count > 0:
            blocks.append(np.ctypeslib.as_array(sound, (count,)).copy())  # type: ignore[call-overload]
        number = 0
        while event[number].type != LIST_END:
            if event[number].type == PHONEME:
                events.append((event[number].position_ms / 1000.0, event[number].name.decode("utf8", "ignore")))
            number += 1
        return 0

    callback = kind(hear)
    rate_hz = library.espeak_Initialize(SYNCHRONOUS, 500, None, PHONEME_EVENTS)
    library.espeak_SetSynthCallback(callback)
    for voice in SECOND:
        for number, (text, pace) in enumerate(zip(TEXTS, PACES, strict=True)):
            blocks.clear()
            events.clear()
            library.espeak_SetVoiceByName(voice.encode())
            library.espeak_SetParameter(RATE, pace, 0)
            library.espeak_SetParameter(PITCH, 40 + 10 * number, 0)
            told = text.encode()
            library.espeak_Synth(told, len(told) + 1, 0, 1, 0, 1, None, None)
            library.espeak_Synchronize()
            phonemes = [
                (at_s, "" if name[:1] in ("", "_") else name, name[:1] in tuple("aeiouAEIOU@V03"))
                for at_s, name in events
            ]
            keep(folder / f"second-{voice}-{number}", np.concatenate(blocks) / 32768.0, rate_hz, syllables_of(phonemes))


def keep(path: Path, sound: Sound, rate_hz: int, syllables: Syllables) -> None:
    """Write a recording between two silences, with noise 60 dB below it, and its syllables beside it."""
    common = gcd(RATE_HZ, rate_hz)
    sound = resample_poly(sound, RATE_HZ // common, rate_hz // common)
    silence = np.zeros(RATE_HZ // 2)
    sound = np.concatenate([silence, 0.5 * sound / np.abs(sound).max(), silence])
    sound += 0.0005 * np.random.default_rng(len(sound)).standard_normal(len(sound))
    soundfile.write(path.with_name(path.name + ".wav"), sound, RATE_HZ, subtype="PCM_24")
    with path.with_name(path.name + ".csv").open("w", newline="") as file:
        csv.writer(file).writerows([("consonants_s", "vowel_s"), *(syllables + 0.5).round(4).tolist()])


def recordings(folder: Path) -> Iterator[tuple[Path, Syllables]]:
    """Every recording of a folder and its syllables."""
    for path in sorted(folder.glob("*.wav")):
        yield path, np.loadtxt(path.with_suffix(".csv"), delimiter=",", skiprows=1, ndmin=2)


def main() -> None:
    """Print a row for each synthesiser, with the material told and guessed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--speech", type=Path, required=True, help="folder of recordings")
    parser.add_argument("--make", action="store_true", help="make them first")
    chosen = parser.parse_args()
    if chosen.make:
        chosen.speech.mkdir(parents=True, exist_ok=True)
        make_first(chosen.speech)
        make_second(chosen.speech)
    print(f"{'synthesiser':14}{'sound':10}F 50 ms  worst  F 20 ms  bias (ms)  taken for a voice")
    for synthesiser in ("first", "second"):
        for told in (None, Material.VOICE):
            rows, taken = [], 0
            for path, syllables in recordings(chosen.speech):
                if path.name.startswith(synthesiser):
                    session = add_recordings(Session(), [read_recording(path)])
                    session = change_track(session, session.tracks[0].key, material=told)
                    stages = Stages()
                    stages.analyse_all(session)
                    view = stages.view(session, session.groups[0])
                    (key,) = view.hits
                    taken += view.materials[key] is Material.VOICE
                    found_s = view.verdicts[key].time_s[view.verdicts[key].played]
                    wide, near = (score(found_s, syllables[:, 0], window_s) for window_s in (0.050, 0.020))
                    bias_ms = 1000.0 * float(np.median(score(found_s, syllables[:, 0], 0.120).errors_s))
                    rows.append((wide.f_measure, near.f_measure, bias_ms))
            f_wide, f_near, bias_ms = np.array(rows).T
            print(
                f"{synthesiser:14}{'told' if told else 'guessed':10}{f_wide.mean():7.3f}  {f_wide.min():5.3f}  "
                f"{f_near.mean():7.3f}  {bias_ms.mean():+9.1f}  {taken} of {len(rows)}"
            )


if __name__ == "__main__":
    main()
