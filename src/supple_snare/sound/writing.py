"""Writing audio files: whole, checked, and with room for the chunks that other programs put into them."""

from __future__ import annotations

import os
import struct
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from typing import Self

import soundfile

from supple_snare.disk.outputs import OutputSet, output_error
from supple_snare.errors import OutputError
from supple_snare.sound.files import AnyArray, Recording

_RIFF_HEAD_BYTES = 12
_DS64_BYTES = 36
"""What follows the head of an RF64 file first: the sizes that do not fit into 32 bits (EBU Tech 3306)."""


class Writer:
    """Writes one audio file of a set.

    Use as a context manager. The set removes the file if the block is left by an exception.

    Parameters
    ----------
    outputs : OutputSet
        Puts the file in place when all of its files are whole.
    target : Path
    recording : Recording
        Of which rate, width, channels and container the file is.
    before, after : bytes
        Whole chunks to put before and after those of the sound; for the containers WAV, WAVEX, RF64 and AIFF.
    texts : dict of str to str
        As `read_texts` gives them.

    Raises
    ------
    OutputError
        If the file may not or cannot be written.
    """

    def __init__(
        self,
        outputs: OutputSet,
        target: Path,
        recording: Recording,
        *,
        before: bytes = b"",
        after: bytes = b"",
        texts: Mapping[str, str] | None = None,
    ) -> None:
        self._target, self._container, self._after = target, recording.container, after
        handle, self.part = outputs.create(target)
        head = _RIFF_HEAD_BYTES + (_DS64_BYTES if recording.container == "RF64" else 0)
        self._stream = _RoomAfterHead(handle, head, before)
        try:
            self._file = soundfile.SoundFile(
                self._stream,
                "w",
                samplerate=recording.rate_hz,
                channels=recording.channels,
                subtype=recording.subtype,
                format=recording.container,
            )
            for name, text in (texts or {}).items():
                setattr(self._file, name, text)
        except (soundfile.LibsndfileError, RuntimeError, ValueError, OSError) as error:
            self._stream.close()
            raise self._error(error) from error

    def __enter__(self) -> Self:
        return self

    def write(self, block: AnyArray) -> None:
        """Append frames, shape (count, channels), in the recording's own sample type.

        Raises
        ------
        OutputError
            If the disk does not take them.
        """
        try:
            self._file.write(block)
        except (soundfile.LibsndfileError, RuntimeError, OSError, AssertionError) as error:  # the last: a short write
            raise self._error(error) from error
        if self._stream.error is not None:  # libsndfile does not report every short write
            raise self._error(self._stream.error)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            written = self._file.frames
            self._file.close()
            if kind is None:
                self._finish(written)
        except (soundfile.LibsndfileError, RuntimeError, OSError) as close_error:
            raise self._error(close_error) from close_error
        finally:
            self._stream.close()

    def _finish(self, written: int) -> None:
        """Add the last chunks, set the sizes right, and have it all on disk."""
        if self._stream.error is not None:
            raise self._stream.error
        if self._stream.before or self._after:
            self._stream.add_chunks(self._container, self._after)
        self._stream.sync()
        with soundfile.SoundFile(self._stream.duplicate()) as file:
            if file.frames != written:
                raise OSError("fewer samples can be read back than were written")

    def _error(self, error: Exception) -> OutputError:
        if isinstance(error, OutputError):
            return error
        cause = self._stream.error or (error if isinstance(error, OSError) else OSError(str(error)))
        return output_error(self._target, cause)


class _RoomAfterHead:
    """A file for libsndfile to write to, with chunks of our own between the file's head and what libsndfile puts next.

    libsndfile calls it from C, where an exception would be lost: an error is kept in `error` instead.
    """

    def __init__(self, handle: int, head: int, before: bytes) -> None:
        self._raw = os.fdopen(handle, "w+b", buffering=0)
        self._head, self.before = head if before else 0, before
        self._at = 0
        self.error: OSError | None = None
        if before:
            self._put_or_note(head, before)

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        end = max(self._raw.seek(0, os.SEEK_END) - len(self.before), 0)
        self._at = offset + (0, self._at, end)[whence]
        return self._at

    def write(self, data: bytes) -> int:
        view = bytes(data)
        in_head = view[: max(self._head - self._at, 0)]
        self._put_or_note(self._at, in_head)
        self._put_or_note(self._at + len(in_head) + len(self.before), view[len(in_head) :])
        self._at += len(view)
        return len(view) if self.error is None else 0

    def read(self, count: int) -> bytes:
        first = max(self._head - self._at, 0)
        self._raw.seek(self._at)
        data = self._raw.read(min(count, first)) or b""
        self._raw.seek(self._at + len(data) + len(self.before))
        data += self._raw.read(count - len(data)) or b""
        self._at += len(data)
        return data

    def flush(self) -> None:
        """Nothing is held back."""

    def add_chunks(self, container: str, after: bytes) -> None:
        """Append chunks, and tell the head of the file how long it is now.

        Raises
        ------
        OSError
            If the disk does not take them, or the file is longer than its container can say.
        """
        end = self._raw.seek(0, os.SEEK_END)
        self._put(end, b"\0" * (end % 2) + after)
        length = self._raw.seek(0, os.SEEK_END) - 8
        if container == "RF64" and self._read_at(0, 4) == b"RF64":
            self._put(20, struct.pack("<Q", length))
        elif length > 0xFFFF_FFFF:
            raise OSError("the file would be longer than 4 GB")
        else:
            self._put(4, struct.pack(">I" if container == "AIFF" else "<I", length))

    def sync(self) -> None:
        """Have it all on disk."""
        os.fsync(self._raw.fileno())

    def duplicate(self) -> int:
        """Another descriptor of the file, at its start."""
        self._raw.seek(0)
        return os.dup(self._raw.fileno())

    def close(self) -> None:
        self._raw.close()

    def _read_at(self, place: int, count: int) -> bytes:
        self._raw.seek(place)
        return self._raw.read(count) or b""

    def _put(self, place: int, data: bytes) -> None:
        self._raw.seek(place)
        rest = memoryview(data)
        while rest:
            rest = rest[self._raw.write(rest) :]

    def _put_or_note(self, place: int, data: bytes) -> None:
        """Put bytes unless an error came before; keep the error that it ends in."""
        if self.error is None:
            try:
                self._put(place, data)
            except OSError as error:
                self.error = error
