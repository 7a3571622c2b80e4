"""Chunks of WAV and AIFF files besides the sound: which still hold after an edit, and with which places.

WAV, RF64: Microsoft and IBM, Multimedia Programming Interface 1.0 (1991); EBU Tech 3285 (bext), 3306 (RF64).
AIFF: Apple, Audio Interchange File Format 1.3 (1989). What is read may be damaged: sizes are held against the file.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from supple_snare.disk.opening import open_for_reading

MovePlaces = Callable[[Sequence[int]], Sequence[int]]
"""Frames of the recording to frames of the result."""

_MOST_BYTES = 64 << 20
"""A chunk larger than this is left out: nothing that describes a recording is."""

_MOST_CHUNKS = 10_000

_WRITTEN_ANEW = {b"fmt ", b"data", b"fact", b"ds64", b"PEAK", b"COMM", b"SSND", b"FVER"}
"""Chunks that whoever writes the sound writes itself."""

_PADDING = {b"JUNK", b"junk", b"PAD ", b"FLLR"}
_TEXTS = {b"NAME", b"AUTH", b"(c) ", b"ANNO"}
"""Title, author, copyright and remark of an AIFF file."""

_STILL_HOLD = {
    b"INFO",
    *(b"iXML", b"axml", b"bxml", b"chna", b"umid", b"_PMX", b"id3 ", b"ID3 ", b"inst", b"acid", b"DISP"),
    *_TEXTS,
    *(b"COMT", b"INST", b"MIDI", b"AESD", b"APPL", b"CHAN"),
    *_PADDING,
}
"""Chunks without places in the sound: true of the edited file as of the recording."""

_NO_LONGER_HOLD = {b"levl": "overview of levels", b"MD5 ": "checksum", b"cart": "cart timers"}
"""Chunks that tell something of the sound itself."""

_BEXT_BYTES = 602
"""Of a bext chunk without its coding history."""

_BEXT_LOUDNESS = slice(412, 422)
"""Five loudness values in hundredths; 0x7FFF stands for none (EBU Tech 3285, version 2)."""


@dataclass(frozen=True)
class Carried:
    """What goes along into an edited file.

    Attributes
    ----------
    before, after : bytes
        Whole chunks that go before and after the sound.
    left_out : tuple of str
        What does not go along, each in a few words.
    """

    before: bytes = b""
    after: bytes = b""
    left_out: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Chunk:
    name: bytes
    body: bytes
    is_before_sound: bool
    is_too_large: bool = False

    def describe(self) -> str:
        text = self.name.decode("latin-1").strip()
        reason = _NO_LONGER_HOLD.get(self.name, "not known to this program")
        return f"“{text}” ({'too large' if self.is_too_large else reason})"


def carry_chunks(path: Path, move: MovePlaces, history: str) -> Carried:
    """Return the chunks of a WAV or AIFF file that go along when its sound is edited.

    Markers and loops go to where their places go; the coding history of a broadcast wave grows by a line. Chunks that
    are not known are kept where they come before the sound, since recorders put their own there; behind the sound
    other programs keep what they worked out of it.

    Parameters
    ----------
    path : Path
    move : callable
        Frames of the recording to frames of the result.
    history : str
        Line for the coding history, without its end.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    before, after, left_out = list[bytes](), list[bytes](), list[str]()
    order, chunks = _read(path)
    edit = _Edit(move, history, _cue_places(chunks))
    for chunk in chunks:
        if chunk.name in _WRITTEN_ANEW:
            continue
        body = None if chunk.is_too_large else edit.body_of(chunk)
        if body is None:
            left_out.append(chunk.describe())
        else:
            packed = chunk.name + struct.pack(f"{order}I", len(body)) + body + b"\0" * (len(body) % 2)
            (before if chunk.is_before_sound else after).append(packed)
    return Carried(b"".join(before), b"".join(after), tuple(left_out))


def name_chunks(path: Path) -> tuple[str, ...]:
    """Return what a WAV or AIFF file holds besides its sound and its texts, each in a few words.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    return tuple(
        f"“{chunk.name.decode().strip()}”"
        for chunk in _read(path)[1]
        if chunk.name not in _WRITTEN_ANEW | _PADDING | _TEXTS and chunk.body[:4] != b"INFO"
    )


@dataclass(frozen=True)
class _Edit:
    """What an edit does to chunks: where frames go, a line for the coding history, and the frame of each marker."""

    move: MovePlaces
    history: str
    cues: dict[int, int]

    def body_of(self, chunk: _Chunk) -> bytes | None:
        """The body of a chunk as it holds after the edit; None if it does not."""
        kind = chunk.body[:4] if chunk.name == b"LIST" else chunk.name
        change = {
            b"bext": self._with_history,
            b"cue ": lambda body: self._moved_rows(body, first=4, size=24, places=(4, 20)),
            b"smpl": lambda body: self._moved_rows(body, first=36, size=24, places=(8, 12)),
            b"plst": self._moved_lengths,
            b"adtl": self._moved_labels,
            b"MARK": self._moved_markers,
        }.get(kind)
        if change is not None:
            try:
                return change(chunk.body)
            except (struct.error, ValueError, IndexError):
                return None
        still_holds = kind in _STILL_HOLD or (chunk.is_before_sound and kind not in _NO_LONGER_HOLD)
        return chunk.body if still_holds else None

    def _with_history(self, body: bytes) -> bytes:
        """A bext chunk with one more line of history, and no loudness, which was measured before the edit."""
        if len(body) < _BEXT_BYTES:
            raise ValueError("a bext chunk cut short")
        fixed = bytearray(body[:_BEXT_BYTES])
        if struct.unpack_from("<H", fixed, 346)[0] >= 2:
            fixed[_BEXT_LOUDNESS] = struct.pack("<5H", *[0x7FFF] * 5)
        lines = body[_BEXT_BYTES:].rstrip(b"\0")
        if lines and not lines.endswith(b"\n"):
            lines += b"\r\n"
        return bytes(fixed) + lines + self.history.encode("ascii", "replace") + b"\r\n"

    def _moved_rows(self, body: bytes, *, first: int, size: int, places: Sequence[int]) -> bytes:
        """A chunk of rows of one size from some byte on, with the 32-bit places at some offsets of each row moved."""
        data = bytearray(body)
        at = [row + offset for row in range(first, len(body) - size + 1, size) for offset in places]
        for each, new in zip(at, self._moved([struct.unpack_from("<I", data, each)[0] for each in at]), strict=True):
            struct.pack_into("<I", data, each, new)
        return bytes(data)

    def _moved_lengths(self, body: bytes) -> bytes:
        """A play list: each row a marker and how many frames are played from there."""
        data = bytearray(body)
        for at in range(4, len(body) - 11, 12):
            self._move_length(data, at)
        return bytes(data)

    def _moved_labels(self, body: bytes) -> bytes:
        """Texts of markers; those that speak of a stretch have its length in frames."""
        data, at = bytearray(body), 4
        while at + 8 <= len(body):
            name, size = struct.unpack_from("<4sI", data, at)
            if name == b"ltxt" and size >= 8 and at + 16 <= len(body):
                self._move_length(data, at + 8)
            at += 8 + size + size % 2
        return bytes(data)

    def _move_length(self, data: bytearray, at: int) -> None:
        """Change the number of frames that follows the number of a marker."""
        cue, length = struct.unpack_from("<II", data, at)
        if cue in self.cues:
            first, last = self._moved([self.cues[cue], self.cues[cue] + length])
            struct.pack_into("<I", data, at + 4, max(last - first, 0))

    def _moved_markers(self, body: bytes) -> bytes:
        """The markers of an AIFF file: number, place, and a name of any length."""
        data, at = bytearray(body), 2
        for _ in range(struct.unpack_from(">H", data, 0)[0]):
            (place,) = struct.unpack_from(">I", data, at + 2)
            struct.pack_into(">I", data, at + 2, self._moved([place])[0])
            length = data[at + 6] + 1
            at += 6 + length + length % 2
        return bytes(data)

    def _moved(self, places: Sequence[int]) -> list[int]:
        return np.clip(np.asarray(self.move(places), dtype=np.int64), 0, 0xFFFF_FFFF).tolist() if places else []


def _cue_places(chunks: Sequence[_Chunk]) -> dict[int, int]:
    """The frame of each marker of a WAV file by its number."""
    found = {}
    for chunk in chunks:
        if chunk.name == b"cue ":
            for at in range(4, len(chunk.body) - 23, 24):
                number, _, _, _, _, place = struct.unpack_from("<II4sIII", chunk.body, at)
                found[number] = place
    return found


def _read(path: Path) -> tuple[str, list[_Chunk]]:
    """Byte order ("<" or ">") and chunks of a file; none if it is of another kind."""
    descriptor = open_for_reading(path)
    try:
        head = os.pread(descriptor, 12, 0)
        if head[:4] in (b"RIFF", b"RF64") and head[8:] == b"WAVE":
            order = "<"
        elif head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC"):
            order = ">"
        else:
            return "<", []
        return order, list(_chunks(descriptor, order))
    finally:
        os.close(descriptor)


def _chunks(descriptor: int, order: str) -> Iterator[_Chunk]:
    end, at, sound_bytes, is_before = os.fstat(descriptor).st_size, 12, None, True
    for _ in range(_MOST_CHUNKS):
        head = os.pread(descriptor, 8, at)
        if len(head) < 8 or not head[:4].isascii() or not head[:4].decode().isprintable():
            return  # what follows is no chunk: a recorder that was cut off leaves sound there
        name, size = head[:4], struct.unpack(f"{order}I", head[4:])[0]
        if name == b"data" and size == 0xFFFF_FFFF and sound_bytes is not None:
            size = sound_bytes  # told in the ds64 chunk
        size = min(size, end - at - 8)
        is_sound = name in (b"data", b"SSND")
        too_large = size > _MOST_BYTES and not is_sound
        body = b"" if is_sound or too_large else os.pread(descriptor, size, at + 8)
        if name == b"ds64" and len(body) >= 16:
            sound_bytes = struct.unpack_from("<Q", body, 8)[0]
        is_before &= not is_sound
        yield _Chunk(name, body, is_before, too_large)
        at += 8 + size + size % 2
