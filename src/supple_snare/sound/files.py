"""Audio files: what they are, reading them in blocks, writing them whole or not at all.

Recordings are only ever opened for reading. Integer files are read and written as integers, left-justified in 32 bits
as libsndfile does it, so that a sample that is not edited comes out bit for bit as it went in.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np
import soundfile
from numpy.typing import NDArray

from supple_snare.errors import HandOverError, RecordingError

BLOCK_FRAMES = 1 << 17
"""Frames read at once: 2.7 s at 48 kHz, 1 MB a stereo block of 32-bit samples."""

AUDIO_SUFFIXES = (".wav", ".flac", ".aif", ".aiff", ".ogg")
_INTEGER_BITS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}
_RATE_RANGE_HZ = (8_000, 384_000)
_MAX_CHANNELS = 2

AnyArray = NDArray[Any]


@dataclass(frozen=True)
class Recording:
    """What is known of an audio file without reading its sound.

    Attributes
    ----------
    path : Path
    frames : int
    rate_hz : int
    channels : int
        1 or 2.
    container, subtype : str
        libsndfile's names of the file format and the sample format.
    start_s : float
        Time of day stamped by the recorder, 0 where there is none.
    """

    path: Path
    frames: int
    rate_hz: int
    channels: int
    container: str
    subtype: str
    start_s: float = 0.0

    @property
    def length_s(self) -> float:
        """Length in seconds."""
        return self.frames / self.rate_hz

    @property
    def dtype(self) -> str:
        """The sample type that holds this file without loss."""
        if self.subtype in _INTEGER_BITS:
            return "int32"
        return "float64" if self.subtype == "DOUBLE" else "float32"

    @property
    def quantum(self) -> int:
        """Step between neighbouring sample values in `dtype` for integer files, 0 for others."""
        bits = _INTEGER_BITS.get(self.subtype)
        return 1 << (32 - bits) if bits else 0

    def describe(self) -> str:
        """Rate, width and channels in a few words."""
        width = {"FLOAT": "32-bit float", "DOUBLE": "64-bit float"}.get(self.subtype)
        bits = _INTEGER_BITS.get(self.subtype)
        width = width or (f"{bits}-bit" if bits else self.subtype.lower())
        return f"{self.rate_hz / 1000:g} kHz · {width} · {'stereo' if self.channels == 2 else 'mono'}"


def read_recording(path: Path) -> Recording:
    """Look at an audio file.

    Raises
    ------
    RecordingError
        If the file is missing, unreadable, empty, cut short, not audio, or of a kind that cannot be edited.
    """
    if not path.exists():
        raise RecordingError(path, f"there is no such file in {path.parent}; check the name.")
    if path.is_dir():
        raise RecordingError(path, "this is a folder; give the audio files in it.")
    if not os.access(path, os.R_OK):
        raise RecordingError(path, "the file may not be read; change its permissions.")
    if path.stat().st_size == 0:
        raise RecordingError(path, "the file is empty; copy or export it again.")
    try:
        with soundfile.SoundFile(path) as file:
            recording = Recording(
                path=path,
                frames=file.frames,
                rate_hz=file.samplerate,
                channels=file.channels,
                container=file.format,
                subtype=file.subtype,
                start_s=_stamped_start_s(path, file.format, file.samplerate),
            )
            promised = _promised_bytes(file.extra_info)
    except PermissionError as error:
        raise RecordingError(path, "the file may not be read; change its permissions.") from error
    except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
        raise RecordingError(path, "this is not an audio file that can be read (WAV, FLAC, AIFF or Ogg).") from error
    _check_usable(recording, promised)
    return recording


def _check_usable(recording: Recording, promised: tuple[int, int] | None) -> None:
    path = recording.path
    if promised:
        raise RecordingError(
            path,
            f"the file is cut short: its header promises {promised[0]} bytes of sound and {promised[1]} are there; "
            "copy or export it again.",
        )
    if recording.frames == 0:
        raise RecordingError(path, "the file holds no sound; copy or export it again.")
    if recording.channels > _MAX_CHANNELS:
        raise RecordingError(path, f"it has {recording.channels} channels; export it as mono or stereo files.")
    low, high = _RATE_RANGE_HZ
    if not low <= recording.rate_hz <= high:
        raise RecordingError(path, f"its rate of {recording.rate_hz} Hz is outside {low} to {high} Hz.")
    if recording.container == "FLAC":  # its header may promise more than is there; only the end tells
        with soundfile.SoundFile(path) as file:
            try:
                file.seek(recording.frames - 1)
                complete = len(file.read(1)) == 1
            except (soundfile.LibsndfileError, RuntimeError):
                complete = False
        if not complete:
            raise RecordingError(
                path, f"the file is cut short: it ends before frame {recording.frames}; copy or export it again."
            )


def _promised_bytes(log: str) -> tuple[int, int] | None:
    """(promised, present) bytes of the sound chunk where libsndfile's log says that they differ."""
    match = re.search(r"^\s*(?:data|SSND)\s*:\s*(\d+)\s*\(should be (\d+)\)", log, re.MULTILINE)
    if not match:
        return None
    promised, present = int(match[1]), int(match[2])
    # A header of 0 or of the largest 32-bit size is how recorders mark "until the end of the file".
    return (promised, present) if present < promised < 0xFFFF_FF00 else None


def _stamped_start_s(path: Path, container: str, rate_hz: int) -> float:
    """The recorder's time stamp (EBU Tech 3285 "bext" chunk) in seconds, 0 where there is none."""
    from wavinfo import WavInfoReader  # takes a while to import, and most files carry no stamp

    if container not in ("WAV", "WAVEX", "RF64"):
        return 0.0
    try:
        bext = WavInfoReader(str(path)).bext
    except Exception:  # the chunk only feeds a warning: whatever is wrong with it must not stop the work
        return 0.0
    return float(bext.time_reference) / rate_hz if bext else 0.0


class BlockReader:
    """Random access to one recording, any number of frames at a time; past either end there is silence.

    Not shared between threads: each thread makes its own.
    """

    def __init__(self, recording: Recording, dtype: str | None = None) -> None:
        self.recording = recording
        self.dtype = np.dtype(dtype or recording.dtype)
        self._file: soundfile.SoundFile | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the file; a later read opens it again."""
        if self._file is not None:
            self._file.close()
            self._file = None

    def read(self, start: int, count: int) -> AnyArray:
        """Frames `start` to `start + count`, shape (count, channels).

        Raises
        ------
        RecordingError
            If the file vanished or broke since it was first looked at.
        """
        recording = self.recording
        block = np.zeros((count, recording.channels), dtype=self.dtype)
        first, last = max(start, 0), min(start + count, recording.frames)
        if first >= last:
            return block
        try:
            if self._file is None:
                self._file = soundfile.SoundFile(recording.path)
            if self._file.tell() != first:
                self._file.seek(first)
            got = self._file.read(last - first, dtype=self.dtype.name, always_2d=True)
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            self.close()
            raise RecordingError(recording.path, "reading failed part-way; is the disk still there?") from error
        if got.shape != (last - first, recording.channels):
            raise RecordingError(recording.path, "the file has become shorter than it was; open it again.")
        block[first - start : last - start] = got
        return block

    def read_mono(self, start: int, count: int) -> AnyArray:
        """The same as the mean of the channels, shape (count,)."""
        block = self.read(start, count)
        return block[:, 0] if block.shape[1] == 1 else block.mean(axis=1, dtype=block.dtype)


def block_spans(frames: int, size: int = BLOCK_FRAMES) -> Iterator[tuple[int, int]]:
    """(start, count) of the blocks that make up a number of frames.

    >>> list(block_spans(5, 2))
    [(0, 2), (2, 2), (4, 1)]
    """
    for start in range(0, frames, size):
        yield start, min(size, frames - start)


class Writer:
    """Writes one audio file under a temporary name and gives it its own name only when it is whole.

    Use as a context manager: leaving it by an exception removes what was written.
    """

    def __init__(self, target: Path, recording: Recording) -> None:
        self._target = target
        self._part = target.with_name(f".{target.name}.part")
        try:
            self._file = soundfile.SoundFile(
                self._part,
                "w",
                samplerate=recording.rate_hz,
                channels=recording.channels,
                subtype=recording.subtype,
                format=recording.container,
            )
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            self._discard()
            raise HandOverError(
                f"{target.name}: cannot be written in {target.parent}; choose another folder or change its permissions."
            ) from error

    def __enter__(self) -> Self:
        return self

    def write(self, block: AnyArray) -> None:
        """Append frames, shape (count, channels), in the recording's own sample type."""
        try:
            self._file.write(block)
            self._file.flush()  # a full disk must show itself here, while the work can still stop cleanly
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            raise _write_error(self._target, error) from error

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            written = self._file.frames
            self._file.close()
        except (soundfile.LibsndfileError, RuntimeError, OSError) as close_error:
            self._discard()
            raise _write_error(self._target, close_error) from close_error
        if kind is not None:
            self._discard()
            return
        try:
            _sync(self._part)
            if read_frames(self._part) != written:  # libsndfile does not report every short write
                raise OSError(errno.ENOSPC, "short write")
            self._part.replace(self._target)
        except OSError as replace_error:
            self._discard()
            raise _write_error(self._target, replace_error) from replace_error

    def _discard(self) -> None:
        with contextlib.suppress(OSError):
            self._part.unlink(missing_ok=True)


def read_frames(path: Path) -> int:
    """Number of frames an audio file holds, 0 if it cannot be read."""
    try:
        return int(soundfile.info(path).frames)
    except (soundfile.LibsndfileError, RuntimeError, OSError):
        return 0


def _sync(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _write_error(target: Path, error: Exception) -> HandOverError:
    full = getattr(error, "errno", None) in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG) or _is_full(target.parent)
    cause = "the disk is full" if full else "the disk refused it"
    return HandOverError(
        f"{target.name}: writing stopped because {cause} ({target.parent}); the unfinished file was removed. "
        "Free some space or choose another folder."
    )


def _is_full(folder: Path) -> bool:
    try:
        state = os.statvfs(folder)
    except OSError:
        return False
    return state.f_bavail * state.f_frsize < (1 << 20)
