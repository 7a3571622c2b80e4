"""Standard MIDI Files, read so that they can be written again byte for byte (Standard MIDI Files 1.0, RP-001).

Every event is known by the bytes that it was read from: what is not changed is written as it stood, running status,
system messages over several packets, escapes and unusual lengths of times included. Chunks that are no tracks, and
whatever follows the last one, stay where they are.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.units import IntArray

META, SYSTEM, ESCAPE = 0xFF, 0xF0, 0xF7
TEXT, END_OF_TRACK, TEMPO, METER = 0x01, 0x2F, 0x51, 0x58
"""Kinds of meta events."""

_DATA_BYTES = (2, 2, 2, 2, 1, 1, 2)
"""Of channel messages, from note off (0x8n) to pitch bend (0xEn)."""

_HEAD_BYTES = 14
_LONGEST_TIME = 1 << 28


class Event(NamedTuple):
    """An event to be written: its tick, and its bytes with a status of its own or none (running status)."""

    tick: int
    data: bytes
    status: int
    time_bytes: bytes = b""
    """The time before it as it stood; kept where its value is the same."""

    delta: int = -1


@dataclass(frozen=True, eq=False)
class SmfTrack:
    """The events of one track, arrays of shape (events,).

    Attributes
    ----------
    tick : int array
        From the start of the track.
    status : uint8 array
        0x80 to 0xEF for channel messages, running status resolved; 0xF0, 0xF7 and 0xFF for the others.
    time_at, start, stop : int arrays
        Places in the file: of the time before the event, of its first byte, and behind its last.
    first, second : uint8 arrays
        Data bytes of channel messages; for meta events the kind, and 0.
    chunk_stop : int
        Behind the last byte of the track's chunk.
    """

    tick: IntArray
    status: NDArray[np.uint8]
    time_at: IntArray
    start: IntArray
    stop: IntArray
    first: NDArray[np.uint8]
    second: NDArray[np.uint8]
    chunk_stop: int

    def __len__(self) -> int:
        return len(self.tick)


@dataclass(frozen=True, eq=False)
class Smf:
    """A file.

    Attributes
    ----------
    data : bytes
        All of it.
    kind : int
        0 one track, 1 tracks that sound together, 2 songs of their own.
    division : int
        Ticks a quarter note; negative where frames are counted.
    tracks : tuple of SmfTrack
    chunks : tuple of (int, int)
        Where the chunks of the tracks begin and end, in their order.
    """

    data: bytes
    kind: int
    division: int
    tracks: tuple[SmfTrack, ...]
    chunks: tuple[tuple[int, int], ...]

    def meta(self, track: SmfTrack, kind: int) -> list[tuple[int, int, bytes]]:
        """The meta events of one kind in a track: index, tick, and what they hold."""
        found = []
        for index in np.flatnonzero((track.status == META) & (track.first == kind)).tolist():
            at, stop = int(track.start[index]) + 2, int(track.stop[index])
            while self.data[at] & 0x80:
                at += 1
            found.append((index, int(track.tick[index]), self.data[at + 1 : stop]))
        return found

    def events(self, track: SmfTrack) -> list[Event]:
        """The events of a track as they stand, to be changed and written."""
        data = self.data
        deltas = np.diff(track.tick, prepend=0).tolist()
        rows = zip(track.tick, track.status, track.time_at, track.start, track.stop, deltas, strict=True)
        return [
            Event(int(tick), data[start:stop], int(status), data[time_at:start], delta)
            for tick, status, time_at, start, stop, delta in rows
        ]

    def written(self, tracks: Sequence[Sequence[Event]], division: int | None = None) -> bytes:
        """The bytes of the file with the events of its tracks replaced, each in order of their ticks."""
        head = bytearray(self.data[: self.chunks[0][0]] if self.chunks else self.data)
        if division is not None:
            head[12:14] = division.to_bytes(2, "big")
        parts, at = [bytes(head)], len(head)
        for (begin, stop), track, events in zip(self.chunks, self.tracks, tracks, strict=True):
            parts.append(self.data[at:begin])
            last = int(track.stop[-1]) if len(track) else begin + 8
            body = _track_bytes(events) + self.data[last : track.chunk_stop]
            parts += [b"MTrk", len(body).to_bytes(4, "big"), body]
            at = stop
        parts.append(self.data[at:])
        return b"".join(parts)


def read_smf(data: bytes) -> Smf:
    """Return what a file holds.

    Raises
    ------
    ValueError
        If it is no Standard MIDI File, or damaged.
    """
    if data[:4] != b"MThd" or len(data) < _HEAD_BYTES:
        raise ValueError("no head of a MIDI file")
    size, kind, count = int.from_bytes(data[4:8], "big"), int.from_bytes(data[8:10], "big"), data[10] << 8 | data[11]
    division = int.from_bytes(data[12:14], "big", signed=True)
    if size < 6:
        raise ValueError("a head cut short")
    tracks, chunks, at = list[SmfTrack](), list[tuple[int, int]](), 8 + size
    while at + 8 <= len(data) and len(tracks) < count:
        name, stop = data[at : at + 4], at + 8 + int.from_bytes(data[at + 4 : at + 8], "big")
        if name == b"MTrk":
            if stop > len(data):
                raise ValueError("a track cut short")
            tracks.append(_read_track(data, at + 8, stop))
            chunks.append((at, stop))
        at = stop
    if not tracks:
        raise ValueError("no tracks")
    return Smf(data, kind, division, tuple(tracks), tuple(chunks))


def meta_event(tick: int, kind: int, held: bytes) -> Event:
    """Return a meta event that holds fewer than 128 bytes."""
    return Event(tick, bytes((META, kind, len(held))) + held, META)


def _read_track(data: bytes, at: int, chunk_stop: int) -> SmfTrack:
    """The events of a track up to its end; the loop takes half a microsecond an event."""
    ticks, statuses, times, starts, stops = list[int](), list[int](), list[int](), list[int](), list[int]()
    tick, running, body = 0, 0, memoryview(data)[:chunk_stop]
    try:
        while at < chunk_stop:
            times.append(at)
            byte = body[at]
            at += 1
            if byte & 0x80:
                delta, at = _number(body, at - 1)
                tick += delta
            else:
                tick += byte
            starts.append(at)
            status = body[at]
            if status < 0xF0:
                if status & 0x80:
                    running = status
                    at += 1
                elif not running:
                    raise ValueError("a message without a status")
                at += _DATA_BYTES[(running >> 4) - 8]
                status = running
            elif status == META:
                kind = body[at + 1]
                length, at = _number(body, at + 2)
                at += length
                if kind == END_OF_TRACK:
                    ticks.append(tick)
                    statuses.append(status)
                    stops.append(at)
                    break
            elif status in (SYSTEM, ESCAPE):
                length, at = _number(body, at + 1)
                at += length
            else:
                raise ValueError(f"a message {status:#x} that files do not have")
            ticks.append(tick)
            statuses.append(status)
            stops.append(at)
    except IndexError as error:
        raise ValueError("a track cut short") from error
    if stops and stops[-1] > chunk_stop:
        raise ValueError("a track cut short")
    return _track_of(data, ticks, statuses, times, starts, stops, chunk_stop)


def _track_of(
    data: bytes,
    ticks: list[int],
    statuses: list[int],
    times: list[int],
    starts: list[int],
    stops: list[int],
    chunk_stop: int,
) -> SmfTrack:
    raw = np.frombuffer(data, np.uint8)
    status, start, stop = np.array(statuses, np.uint8), np.array(starts, np.int64), np.array(stops, np.int64)
    in_channel = status < 0xF0
    first_at = start + (raw[start] >= 0x80) if len(start) else start
    has_second = in_channel & (stop - first_at > 1)
    first = np.where(in_channel | (status == META), raw[np.minimum(first_at, len(raw) - 1)], 0).astype(np.uint8)
    second = np.where(has_second, raw[np.minimum(first_at + 1, len(raw) - 1)], 0).astype(np.uint8)
    if (in_channel & ((first | second) >= 0x80)).any():
        raise ValueError("a message with data that is none")
    return SmfTrack(
        np.array(ticks, np.int64), status, np.array(times, np.int64), start, stop, first, second, chunk_stop
    )


def _number(data: memoryview, at: int) -> tuple[int, int]:
    """A number of variable length, and the place behind it."""
    value = 0
    for _ in range(4):
        byte = data[at]
        at += 1
        value = value << 7 | byte & 0x7F
        if not byte & 0x80:
            return value, at
    raise ValueError("a number that is too long")


def _number_bytes(value: int) -> bytes:
    """Inverse of `_number`.

    >>> _number_bytes(200).hex()
    '8148'
    """
    if not 0 <= value < _LONGEST_TIME:
        raise ValueError("a time that no file can hold")
    parts = [value & 0x7F]
    while value := value >> 7:
        parts.append(value & 0x7F | 0x80)
    return bytes(reversed(parts))


def _track_bytes(events: Sequence[Event]) -> bytes:
    parts, now, running = list[bytes](), 0, 0
    for tick, data, status, time_bytes, delta in events:
        step = tick - now
        now = tick
        parts.append(time_bytes if step == delta and time_bytes else _number_bytes(step))
        if status < 0xF0:
            if data[0] < 0x80 and running != status:
                parts.append(bytes((status,)))
            running = status
        parts.append(data)
    return b"".join(parts)
