"""Everything that was in the file: what programs write beside the sound goes along, and markers go where it goes."""

from __future__ import annotations

import struct
import wave
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from mutagen.flac import FLAC, Picture

from supple_snare.disk.outputs import WriteGuard
from supple_snare.exchange.chunks import carry_chunks
from supple_snare.session.handover import Written, plan_files, write_files
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording

RATE = 48_000
EDITS = EditList.of([0, 24_000, 48_000], [0, 480, 0], [0, 240, 240])
"""From half a second on everything comes 10 ms later, for half a second."""


def chunk(name: bytes, body: bytes, order: str = "<") -> bytes:
    """A chunk with its padding."""
    return name + struct.pack(f"{order}I", len(body)) + body + b"\0" * (len(body) % 2)


def bext(history: bytes = b"A=ANALOGUE,M=mono,T=Tape\r\n") -> bytes:
    """A broadcast extension of version 2, ten seconds into the day."""
    body = b"Take 4 of the Dockside March".ljust(256, b"\0") + b"Lantern Quay".ljust(32, b"\0")
    body += b"REF".ljust(32, b"\0") + b"2026-11-2910:11:12" + struct.pack("<QH", 480_000, 2) + bytes(64)
    return body + struct.pack("<5h", -1800, 600, -200, -1700, -1900) + bytes(180) + history


def cue(*places: int) -> bytes:
    """Markers, numbered from 1."""
    rows = [struct.pack("<II4sIII", number, place, b"data", 0, 0, place) for number, place in enumerate(places, 1)]
    return struct.pack("<I", len(places)) + b"".join(rows)


def labels() -> bytes:
    """A name for the first marker, and a stretch that begins at the second."""
    return (
        b"adtl"
        + chunk(b"labl", struct.pack("<I", 1) + b"Verse\0")
        + chunk(b"ltxt", struct.pack("<II4sHHHH", 2, 20_000, b"rgn ", 0, 0, 0, 0))
    )


BEFORE = [
    chunk(b"bext", bext()),
    chunk(b"iXML", b"<BWFXML><PROJECT>Dockside</PROJECT></BWFXML>"),
    chunk(b"minf", b"\1\2\3"),
    chunk(b"JUNK", bytes(20)),
]
AFTER = [
    chunk(b"cue ", cue(10_000, 30_000)),
    chunk(b"LIST", labels()),
    chunk(
        b"smpl", struct.pack("<9I", 0, 0, 20_833, 60, 0, 0, 0, 1, 0) + struct.pack("<6I", 1, 0, 26_000, 40_000, 0, 0)
    ),
    chunk(b"LIST", b"INFO" + chunk(b"IART", b"Lantern Quay\0")),
    chunk(b"plst", struct.pack("<IIII", 1, 2, 20_000, 1)),
    chunk(b"levl", bytes(40)),
    chunk(b"elm1", bytes(9)),
]


def rich_wav(path: Path, **options) -> Path:
    """A WAV file with all that recorders, editors and samplers put in."""
    sound = 0.3 * np.random.default_rng(3).normal(size=2 * RATE)
    soundfile.write(path, sound, RATE, **{"subtype": "PCM_24"} | options)
    data = path.read_bytes()
    at = data.index(b"data", 12)
    body = b"".join(BEFORE) + data[12:at] + data[at:] + b"".join(AFTER)
    path.write_bytes(b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body)
    return path


def chunks_of(path: Path) -> list[tuple[bytes, bytes]]:
    """Names and bodies in the order of the file, which must end with the last one."""
    data, at, found = path.read_bytes(), 12, []
    order = ">" if data[:4] == b"FORM" else "<"
    assert struct.unpack(f"{order}I", data[4:8])[0] == len(data) - 8
    while at < len(data):
        name, size = data[at : at + 4], struct.unpack(f"{order}I", data[at + 4 : at + 8])[0]
        found.append((name, data[at + 8 : at + 8 + size]))
        at += 8 + size + size % 2
    assert at == len(data)
    return found


def hand_over(
    source: Path, folder: Path, edits: EditList = EDITS, container: str | None = None
) -> tuple[Path, Written]:
    """The file written, and what was said of it."""
    guard = WriteGuard(replaces_all=True)
    jobs = plan_files([(read_recording(source), edits)], folder, guard=guard, container=container)
    written = write_files(jobs, guard=guard, container=container)
    return written.files[0], written


def test_all_that_still_holds_goes_along(tmp_path):
    """In its place before or after the sound; markers, loops and stretches move as the sound does."""
    source = rich_wav(tmp_path / "take.wav")
    target, written = hand_over(source, tmp_path / "out")
    found = chunks_of(target)
    names = [name for name, _ in found]
    assert names.index(b"bext") < names.index(b"data") < names.index(b"cue ")
    assert [name for name in names if name not in (b"fmt ", b"data")] == [
        *(b"bext", b"iXML", b"minf", b"JUNK", b"cue ", b"LIST", b"smpl", b"LIST", b"plst"),
    ]
    held = dict(found)
    assert held[b"bext"].startswith(bext()[:412])
    assert held[b"bext"][412:422] == b"\xff\x7f" * 5
    history = held[b"bext"][602:]
    assert history.startswith(b"A=ANALOGUE,M=mono,T=Tape\r\nA=PCM,F=48000,W=24,M=mono,T=Supple Snare")
    assert read_recording(target).start_s == pytest.approx(10.0)
    assert held[b"cue "] == cue(10_000, 30_480)
    assert struct.unpack("<6I", held[b"smpl"][36:])[2:4] == (26_480, 40_480)
    assert struct.unpack("<IIII", held[b"plst"])[2] == 50_000 - 30_480
    labelled = next(body for name, body in found if body.startswith(b"adtl"))
    assert b"Verse" in labelled
    assert written.left_out == ("take.wav: “levl” (overview of levels), “elm1” (not known to this program)",)
    assert np.array_equal(
        soundfile.read(target, dtype="int32")[0], EDITS.render(_reader(source), 0, 2 * RATE, quantum=256)[:, 0]
    )


def _reader(path: Path):
    sound = soundfile.read(path, dtype="int32", always_2d=True)[0]

    def read(start: int, count: int) -> np.ndarray:
        block = np.zeros((count, 1), dtype=np.int32)
        first, last = max(start, 0), min(start + count, len(sound))
        block[first - start : last - start] = sound[first:last]
        return block

    return read


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".aiff"])
def test_where_nothing_is_edited_the_file_is_the_recording(tmp_path, suffix):
    """To the last byte, whatever it holds."""
    source = tmp_path / f"take{suffix}"
    if suffix == ".wav":
        rich_wav(source)
    else:
        soundfile.write(source, np.random.default_rng(1).normal(size=RATE) * 0.1, RATE, subtype="PCM_24")
    target, written = hand_over(source, tmp_path / "out", EditList.identity())
    assert target.read_bytes() == source.read_bytes()
    assert not written.left_out


def _by_wave_module(path: Path) -> None:
    with wave.open(str(path), "wb") as file:
        file.setnchannels(2)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes((np.random.default_rng(2).normal(size=4 * RATE) * 3_000).astype("<i2").tobytes())


def _by_libsndfile(path: Path, container: str) -> None:
    with soundfile.SoundFile(path, "w", RATE, 1, "FLOAT", format=container) as file:
        file.title, file.artist, file.comment = "Dockside March", "Lantern Quay", "Fourth try"
        file.write(np.random.default_rng(2).normal(size=2 * RATE) * 0.1)


@pytest.mark.parametrize("writer", ["wave", "WAV", "WAVEX", "RF64", "rich"])
def test_files_of_several_writers_are_read_again(tmp_path, writer):
    """Same rate, width, channels and length; what one writer puts in, another reads."""
    source = tmp_path / "take.wav"
    match writer:
        case "wave":
            _by_wave_module(source)
        case "rich":
            rich_wav(source, subtype="FLOAT")
        case container:
            _by_libsndfile(source, container)
    target, _ = hand_over(source, tmp_path / "out")
    one, two = read_recording(source), read_recording(target)
    assert (one.frames, one.rate_hz, one.channels, one.container, one.subtype) == (
        two.frames, two.rate_hz, two.channels, two.container, two.subtype,
    )  # fmt: skip
    with soundfile.SoundFile(source) as before, soundfile.SoundFile(target) as after:
        assert (before.title, before.artist, before.comment) == (after.title, after.artist, after.comment)
    if writer != "RF64":
        kept = [name for name, _ in chunks_of(source) if name not in (b"levl", b"elm1")]
        assert sorted(set(kept)) == sorted({name for name, _ in chunks_of(target)})


def test_markers_and_texts_of_aiff_files(tmp_path):
    """Names stay, markers move."""
    source = tmp_path / "take.aiff"
    soundfile.write(source, 0.1 * np.random.default_rng(1).normal(size=2 * RATE), RATE, subtype="PCM_16")
    marks = (
        struct.pack(">H", 2)
        + struct.pack(">HIB", 1, 10_000, 5)
        + b"Verse"
        + struct.pack(">HIB", 2, 30_000, 2)
        + b"No\0"
    )
    body = source.read_bytes()[12:] + chunk(b"NAME", b"Dockside", ">") + chunk(b"MARK", marks, ">")
    source.write_bytes(b"FORM" + struct.pack(">I", 4 + len(body)) + b"AIFF" + body)
    target, written = hand_over(source, tmp_path / "out")
    held = dict(chunks_of(target))
    assert held[b"NAME"] == b"Dockside"
    assert struct.unpack_from(">I", held[b"MARK"], 4)[0] == 10_000
    assert struct.unpack_from(">I", held[b"MARK"], 16)[0] == 30_480
    assert not written.left_out


def test_comments_pictures_and_application_data_of_flac_files(tmp_path):
    """Every comment, also those that no standard names."""
    source = tmp_path / "take.flac"
    soundfile.write(source, 0.1 * np.random.default_rng(1).normal(size=2 * RATE), RATE, subtype="PCM_24")
    file = FLAC(source)
    file["title"], file["lantern_quay_take"] = "Dockside March", "4"
    picture = Picture()
    picture.data, picture.mime, picture.type = b"\x89PNG...", "image/png", 3
    file.add_picture(picture)
    file.save()
    target, written = hand_over(source, tmp_path / "out")
    after = FLAC(target)
    assert (after["title"], after["lantern_quay_take"]) == (["Dockside March"], ["4"])
    assert [each.data for each in after.pictures] == [b"\x89PNG..."]
    assert soundfile.info(target).frames == 2 * RATE
    assert not written.left_out


def test_in_another_container_texts_go_along_and_the_rest_is_named(tmp_path):
    """Title and artist become comments; a broadcast extension has no place in FLAC."""
    source = rich_wav(tmp_path / "take.wav")
    target, written = hand_over(source, tmp_path / "out", container="FLAC")
    assert FLAC(target)["artist"] == ["Lantern Quay"]
    assert "“bext”" in written.left_out[0] and "“iXML”" in written.left_out[0]


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    changes=st.lists(st.tuples(st.floats(0.0, 1.0), st.integers(0, 255)), max_size=8),
    kept=st.floats(0.0, 1.0),
)
def test_damaged_chunks_are_left_out_and_never_crash(tmp_path, changes, kept):
    """Whatever their sizes say: what is carried fits into the file it came from, but for a line of history."""
    path = tmp_path / "take.wav"
    head = (
        b"".join(BEFORE)
        + chunk(b"fmt ", struct.pack("<HHIIHH", 1, 1, RATE, 2 * RATE, 2, 16))
        + chunk(b"data", bytes(64))
    )
    data = bytearray(b"RIFF\0\0\0\0WAVE" + head + b"".join(AFTER))
    for place, value in changes:
        data[int(place * (len(data) - 1))] = value
    path.write_bytes(bytes(data[: max(12, int(kept * len(data)))]))
    carried = carry_chunks(path, lambda places: [place + 7 for place in places], "A=PCM")
    assert len(carried.before) + len(carried.after) < len(data) + 200
