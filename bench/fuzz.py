"""Whether files from elsewhere can do harm: readers are given damaged and forged inputs by the thousand.

    python bench/fuzz.py [--inputs 20000] [--kinds session journal desk groove midi audio] [--seed 1]

Each input is a good one with bytes changed, cut, doubled or put together with another, or with numbers and words
replaced by wild ones. It may be read or refused with a sentence; told are all other ends: other errors, more than 2 s,
more than 500 MB, or a process that died.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import resource
import signal
import struct
import subprocess
import sys
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

LONGEST_S = 2.0
LARGEST_BYTES = 500 << 20

_NUMBERS = (0, -1, 1, 2**31, 2**32 - 1, 2**63, -(2**63), 10**30, 1e-300, 1e300, -1e300, 0.5, 1e9, 255, 65_536)
_WORDS: tuple[Any, ...] = ("", "../../../etc/passwd", "/dev/zero", "\0", "t1" * 5_000, "p1", "g1", None, [], {}, True)
_BYTES = (b"\x00", b"\xff", b"\x7f\xff\xff\xff", b"\xff\xff\xff\xff", b"\x80\x00\x00\x00", b"\x00" * 16)


@dataclass(frozen=True)
class Reader:
    """How one kind of file is read, and good examples of it."""

    examples: Callable[[], list[bytes]]
    read: Callable[[bytes, Path], None]
    is_json: bool = False


# ---- what is read


def _sample_session() -> Any:
    """A session with something of everything."""
    from supple_snare.session import edits
    from supple_snare.session.document import HitRules, Session
    from supple_snare.session.section_edits import split_section
    from supple_snare.session.snapshots import keep_snapshot
    from supple_snare.sound.files import Recording
    from supple_snare.timing.course import Pin
    from supple_snare.timing.grid import Grid
    from supple_snare.timing.meter import Meter
    from supple_snare.timing.ruling import Ruling, Subdivision
    from supple_snare.timing.tighten import Response

    grid = Grid(97.5, 0.25, Meter(6, 8), Ruling(Subdivision(8), swing=0.55), pins=(Pin(0.0, 0.25), Pin(8.0, 4.9)))
    session = Session(name="Lantern Quay", take_grid=grid)
    files = [Recording(Path(f"/takes/{name}.wav"), 480_000, 48_000, 1, "WAV", "PCM_24") for name in ("snare", "drum")]
    session = edits.add_recordings(session, files, group_name="Drums")
    session = edits.change_group(session, "g1", leads=("t2", "t1"), response=Response(0.7, 3.0, 40.0))
    session = edits.hold_range(session, "g1", 1.0, 2.5)
    session = edits.give_moves(session, "g1", {3.5: 12.0})
    session = edits.add_hits(session, "t1", [3.25])
    session = edits.remove_hits(session, "t2", [4.5])
    session = edits.change_track(session, "t1", rules=HitRules(level_limit_db=-24.0))
    session = edits.add_part(session, Path("/takes/accordion.mid"), 48.0)
    session = split_section(session, 5.0, name="Chorus")
    return keep_snapshot(edits.tick_step(session, "gather", done=True), "Before")


def _sessions() -> list[bytes]:
    from supple_snare.demo.session import demo_session
    from supple_snare.session.storage import encode_session

    return [encode_session(each, Path("/takes")) for each in (_sample_session(), demo_session())]


def _use_session(session: Any) -> None:
    from supple_snare.session.storage import encode_session

    session.grid.slots(0.0, session.length_s)
    session.grid.bar_at(session.length_s)
    encode_session(session, Path("/takes"))


def _read_session(data: bytes, folder: Path) -> None:
    from supple_snare.session.storage import FILE_NAME, load_session

    (folder / FILE_NAME).write_bytes(data)
    _use_session(load_session(folder))


def _journals() -> list[bytes]:
    import msgspec

    from supple_snare.session.folder import SessionFolder
    from supple_snare.session.history import History

    history = History(_sample_session())
    with tempfile.TemporaryDirectory() as place:
        folder = SessionFolder.take(Path(place) / "session")
        assert isinstance(folder, SessionFolder)
        for number in range(6):
            session = msgspec.structs.replace(history.present, name=f"Take {number}")
            history = history.step(f"Name {number}", session)
            folder.write(history)
        history = history.undo()
        folder.write(history)
        folder.release()
        return [(folder.path / "journal").read_bytes()]


def _read_journal(data: bytes, folder: Path) -> None:
    from supple_snare.session.folder import open_history

    (folder / "journal").write_bytes(data)
    opened = open_history(folder)
    for session in opened.history.row()[1]:
        _use_session(session)


def _desks() -> list[bytes]:
    import msgspec

    from supple_snare.session.listening import Desk, Heard, Listening

    listening = Listening(levels_db={"t1": -3.0}, pans={"t1": 0.5}, steps={"hits": Heard(("t1",), ("t2",))})
    return [msgspec.json.encode(Desk(step="hits", group="g1", loop_bars=(1, 4), looping=True, listening=listening))]


def _read_desk(data: bytes, folder: Path) -> None:
    from supple_snare.session.listening import read_desk

    (folder / "desk.json").write_bytes(data)
    listening = read_desk(folder).listening
    assert -30.0 <= listening.level_db("t1") <= 6.0
    assert -1.0 <= listening.pan("t1") <= 1.0


def _grooves() -> list[bytes]:
    from supple_snare.demo import GROOVES

    return [path.read_bytes() for path in sorted(GROOVES.glob("*.groove.json"))]


def _read_groove(data: bytes, folder: Path) -> None:
    from supple_snare.exchange.groove_files import read_groove, write_groove
    from supple_snare.timing.grid import Grid
    from supple_snare.timing.groove import groove_moments

    path = folder / "a.groove.json"
    path.write_bytes(data)
    groove = read_groove(path)
    groove_moments(groove, Grid(120.0), 0.0, 30.0)
    write_groove(folder / "again.groove.json", groove)


def _midis() -> list[bytes]:
    import mido

    from supple_snare.demo import TAKE

    found = [path.read_bytes() for path in TAKE.glob("*.mid")]
    with tempfile.TemporaryDirectory() as place:
        for kind, division in ((0, 96), (1, 480)):
            file = mido.MidiFile(type=kind, ticks_per_beat=division)
            track = mido.MidiTrack()
            file.tracks.append(track)
            track.append(mido.MetaMessage("set_tempo", tempo=480_000))
            track.append(mido.MetaMessage("time_signature", numerator=6, denominator=8))
            for number in range(40):
                track.append(mido.Message("note_on", note=60 + number % 7, velocity=90, time=number % 3 * 20))
                track.append(mido.Message("note_off", note=60 + number % 7, time=60))
            file.save(Path(place) / "a.mid")
            found.append((Path(place) / "a.mid").read_bytes())
    return found


def _read_midi(data: bytes, folder: Path) -> None:
    from supple_snare.exchange.groove_files import read_groove
    from supple_snare.exchange.midi import read_grid, read_notes
    from supple_snare.session.document import Session
    from supple_snare.session.edits import add_part

    path = folder / "a.mid"
    path.write_bytes(data)
    for read in (read_grid, read_groove):
        _or_refused(lambda read=read: read(path))
    notes = read_notes(path)
    _use_session(add_part(Session(), path, float(max(notes.end_s, default=0.0))))


def _recordings() -> list[bytes]:
    import numpy as np
    import soundfile

    sound = np.random.default_rng(1).uniform(-0.5, 0.5, (700, 2))
    found = []
    with tempfile.TemporaryDirectory() as place:
        for number, (kind, subtype) in enumerate(
            (("WAV", "PCM_24"), ("WAV", "FLOAT"), ("WAVEX", "PCM_16"), ("RF64", "PCM_16"), ("AIFF", "PCM_24"),
             ("FLAC", "PCM_16"), ("FLAC", "PCM_24"), ("OGG", "VORBIS"))
        ):  # fmt: skip
            path = Path(place) / str(number)
            soundfile.write(path, sound[:, : 1 + number % 2], 48_000, format=kind, subtype=subtype)
            found.append(path.read_bytes())
    stamp = bytes(256 + 32 + 32 + 10 + 8) + struct.pack("<QH", 48_000 * 60, 1) + bytes(254)
    found.append(_with_chunk(found[0], b"bext", stamp))
    return found


def _with_chunk(wave: bytes, name: bytes, data: bytes) -> bytes:
    """A WAV file with one more chunk before its others."""
    body = wave[12:]
    body = name + struct.pack("<I", len(data)) + data + body
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WAVE" + body


def _read_audio(data: bytes, folder: Path) -> None:
    from supple_snare.sound.files import BlockReader, read_recording
    from supple_snare.sound.fingerprint import take_fingerprint

    path = folder / "a.wav"
    path.write_bytes(data)
    recording = read_recording(path)
    take_fingerprint(path)
    with BlockReader(recording, "float32") as reader:
        for start in (0, recording.frames - 600, recording.frames // 2):
            assert reader.read(start, 1_200).shape == (1_200, recording.channels)


def _or_refused(act: Callable[[], object]) -> None:
    from supple_snare.errors import SnareError

    try:
        act()
    except SnareError as error:
        assert str(error)


def _entries() -> list[bytes]:
    import numpy as np

    from supple_snare.session.cache import write_arrays

    rng, count = np.random.default_rng(1), 40
    names = ("edits.at", "edits.shift", "edits.fade", "move", "jump_db")
    arrays = {name: rng.integers(0, 9_000, count) for name in names}
    arrays |= {name: rng.random(count) < 0.5 for name in ("extended", "limited", "near")}
    with tempfile.TemporaryDirectory() as place:
        write_arrays(Path(place) / "a.npz", arrays)
        return [(Path(place) / "a.npz").read_bytes()]


def _read_entry(data: bytes, folder: Path) -> None:
    from supple_snare.session.cache import SPOILT, read_arrays

    (folder / "a.npz").write_bytes(data)
    try:
        arrays = read_arrays(folder / "a.npz")
    except SPOILT:
        return
    assert sum(array.nbytes for array in arrays.values()) <= len(data)


READERS = {
    "session": Reader(_sessions, _read_session, is_json=True),
    "journal": Reader(_journals, _read_journal),
    "desk": Reader(_desks, _read_desk, is_json=True),
    "groove": Reader(_grooves, _read_groove, is_json=True),
    "midi": Reader(_midis, _read_midi),
    "cache": Reader(_entries, _read_entry),
    "audio": Reader(_recordings, _read_audio),
}


# ---- what is made of good examples


def mutated(kind: str, examples: list[bytes], seed: int) -> bytes:
    """A damaged or forged input; the same for the same seed."""
    rng = random.Random(f"{kind}{seed}")
    data = rng.choice(examples)
    if READERS[kind].is_json and rng.random() < 0.6:
        return _forged_json(data, rng)
    if kind == "journal" and rng.random() < 0.7:
        return _forged_journal(data, rng)
    if kind == "cache" and rng.random() < 0.7:
        return _damaged_inside(data, rng)
    for _ in range(rng.choice((1, 1, 1, 2, 4, 16))):
        data = _damaged(data, rng, examples)
    return data


def _damaged(data: bytes, rng: random.Random, examples: list[bytes]) -> bytes:
    # Headers stand at the beginning, where half of the damage is done.
    at = rng.randrange(max(1, min(len(data), 64))) if rng.random() < 0.5 else rng.randrange(len(data) + 1)
    length = rng.choice((1, 1, 2, 4, rng.randrange(1, 64)))
    here = data[at : at + length]
    flipped = bytes([here[0] ^ (1 << rng.randrange(8)), *here[1:]]) if here else b""
    wild, other = rng.choice(_BYTES), rng.choice(examples)
    kept_from, instead = rng.choice(
        (
            (at + length, rng.randbytes(length)),
            (at + length, flipped),
            (at + len(wild), wild),
            (at + length, b""),
            (at + length, here * rng.choice((2, 3, 200))),
            (len(data), b""),
            (len(data), other[rng.randrange(len(other)) :]),
        )
    )
    return data[:at] + instead + data[kept_from:]


def _forged_json(data: bytes, rng: random.Random) -> bytes:
    try:
        value = json.loads(data)
        for _ in range(rng.choice((1, 1, 2, 5))):
            _forge(value, rng)
        return json.dumps(value).encode()
    except RecursionError:  # deeper than this program itself can go
        return b"[" * 5_000 + data + b"]" * 5_000


def _forged_journal(data: bytes, rng: random.Random) -> bytes:
    """Lines forged with their checksums made good, put in another order, or doubled."""
    lines = data.splitlines()
    for _ in range(rng.choice((1, 1, 3))):
        at = rng.randrange(len(lines))
        match rng.randrange(4):
            case 0:
                lines.insert(rng.randrange(len(lines)), lines[at])
            case 1 if len(lines) > 1:
                del lines[at]
            case _:
                text = _forged_json(lines[at].partition(b" ")[2], rng)
                lines[at] = b"%08x %s" % (zlib.crc32(text), text)
    return b"\n".join(lines) + b"\n"


def _damaged_inside(data: bytes, rng: random.Random) -> bytes:
    """An archive whose entries are damaged, with their checksums made good."""
    with zipfile.ZipFile(io.BytesIO(data)) as packed:
        entries = {name: packed.read(name) for name in packed.namelist()}
    name = rng.choice(list(entries))
    entries[name] = _damaged(entries[name], rng, list(entries.values()))
    again = io.BytesIO()
    with zipfile.ZipFile(again, "w") as packed:
        for entry, inside in entries.items():
            packed.writestr(entry, inside)
    return again.getvalue()


def _forge(value: Any, rng: random.Random) -> None:
    """Somewhere in a value, replace, remove or double something."""
    places: list[tuple[Any, Any]] = []

    def walk(inner: Any) -> None:
        keys = inner.keys() if isinstance(inner, dict) else range(len(inner)) if isinstance(inner, list) else ()
        for key in keys:
            places.append((inner, key))
            walk(inner[key])

    walk(value)
    if not places:
        return
    owner, key = rng.choice(places)
    match rng.randrange(8):
        case 0:
            del owner[key]
        case 1:
            owner[key] = rng.choice(_WORDS)
        case 2 if isinstance(owner[key], list) and len(places) < 5_000:
            owner[key] = owner[key] * 60
        case 3:
            other, place = rng.choice(places)
            owner[key] = json.loads(json.dumps(other[place])) if _has(other, place) else None
        case 4:
            deep: Any = 1
            for _ in range(rng.choice((3, 200, 900))):
                deep = [deep]
            owner[key] = deep
        case _:
            owner[key] = rng.choice(_NUMBERS)


def _has(owner: Any, key: Any) -> bool:
    return key in owner if isinstance(owner, dict) else key < len(owner)


# ---- running


def first_fault(kind: str, seeds: range, progress: Callable[[int], None] = lambda _seed: None) -> str | None:
    """Read one input for each seed; what went wrong first, or None."""
    from supple_snare.errors import SnareError

    reader = READERS[kind]
    examples = reader.examples()
    for seed in seeds:
        progress(seed)
        with tempfile.TemporaryDirectory() as folder:
            data = mutated(kind, examples, seed)
            before = time.process_time()
            try:
                reader.read(data, Path(folder))
            except SnareError as error:
                assert str(error)
            except Exception as error:
                return f"{kind} {seed}: {type(error).__name__}: {error}"
            if time.process_time() - before > LONGEST_S:
                return f"{kind} {seed}: {time.process_time() - before:.1f} s"
    return None


def _child(kind: str, first: int, last: int) -> None:
    """Reads in a process that is ended when it takes too much time or memory."""
    signal.signal(signal.SIGALRM, signal.SIG_DFL)

    def progress(seed: int) -> None:
        print(seed, flush=True)
        if seed == first:  # the first input loads what the reader needs
            first_fault(kind, range(1))
            used = int(Path("/proc/self/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")
            resource.setrlimit(resource.RLIMIT_AS, (used + LARGEST_BYTES, used + LARGEST_BYTES))
        signal.setitimer(signal.ITIMER_REAL, 3.0 * LONGEST_S)

    fault = first_fault(kind, range(first, last), progress)
    print(fault or "done", flush=True)


def main() -> None:
    """Measure and tell."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--inputs", type=int, default=20_000)
    parser.add_argument("--kinds", nargs="+", default=list(READERS), choices=list(READERS))
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--child", nargs=3, help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.child:
        _child(options.child[0], int(options.child[1]), int(options.child[2]))
        return
    for kind in options.kinds:
        at, last, faults, begun = options.seed, options.seed + options.inputs, 0, time.monotonic()
        while at < last:
            command = [sys.executable, __file__, "--child", kind, str(at), str(last)]
            child = subprocess.run(command, capture_output=True, text=True, check=False)
            said = child.stdout.split("\n")
            seeds = [int(line) for line in said if line.isdigit()]
            if child.returncode == 0 and said[-2:] == ["done", ""]:
                break
            faults += 1
            reached = seeds[-1] if seeds else at
            why = next((line for line in reversed(said) if line and not line.isdigit()), "")
            print(f"  {why or f'{kind} {reached}: the process ended with {child.returncode}'} {child.stderr[-300:]}")
            at = reached + 1
        print(f"{kind}: {options.inputs} inputs, {faults} faults, {time.monotonic() - begun:.0f} s", flush=True)


if __name__ == "__main__":
    main()
