"""Recordings: what is known of each, and reading them in blocks.

They are only ever opened for reading, by descriptors of our own, so that a pipe or device does not hold the program up
and a file that was exchanged since it was looked at is noticed. Integer files are read as integers, left-justified in
32 bits as libsndfile does it, so that a sample that is not edited comes out bit for bit as it went in.
"""

from __future__ import annotations

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

from supple_snare.disk.identity import SEEN, FileIdentity
from supple_snare.disk.opening import NotARegularFileError, open_for_reading
from supple_snare.errors import RecordingChangedError, RecordingError

BLOCK_FRAMES = 1 << 17
"""Frames read at once: 2.7 s at 48 kHz, 1 MB a stereo block of 32-bit samples."""

AUDIO_SUFFIXES = (".wav", ".flac", ".aif", ".aiff", ".ogg")
TEXT_NAMES = ("title", "copyright", "software", "artist", "comment", "date", "album", "license", "tracknumber", "genre")
_INTEGER_BITS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}
_RATE_RANGE_HZ = (8_000, 384_000)
_MAX_CHANNELS = 2
_LENGTH_NOT_SURE = ("FLAC", "OGG", "MPEG", "MP3")
"""Containers, by libsndfile's names, whose headers may promise more than is there; only reading the end tells."""


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
    try:
        descriptor = open_for_reading(path)
    except OSError as error:
        raise RecordingError(path, _why_not_open(error, path)) from error
    identity = FileIdentity.of(descriptor)
    try:
        if identity.size == 0:
            raise RecordingError(path, "the file is empty; copy or export it again.")
        with soundfile.SoundFile(os.dup(descriptor)) as file:
            recording = Recording(
                path=path,
                frames=file.frames,
                rate_hz=file.samplerate,
                channels=file.channels,
                container=file.format,
                subtype=file.subtype,
                start_s=_stamped_start_s(path, file.format, file.samplerate),
            )
            _check_usable(recording, _promised_bytes(file.extra_info))
            if recording.container in _LENGTH_NOT_SURE:
                _check_end(file, recording)
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise RecordingError(path, "this is not an audio file that can be read (WAV, FLAC, AIFF or Ogg).") from error
    finally:
        os.close(descriptor)
    SEEN.note(path, identity)
    return recording


def read_texts(recording: Recording) -> dict[str, str]:
    """Return the texts of a recording that libsndfile knows in every container, those that are there.

    Raises
    ------
    RecordingError
        If it cannot be read.
    """
    with BlockReader(recording) as reader:
        file = reader.opened()
        return {name: text for name in TEXT_NAMES if (text := getattr(file, name))}


def _why_not_open(error: OSError, path: Path) -> str:
    """What is wrong with a path that cannot be opened, and what to do about it."""
    match error:
        case NotARegularFileError(strerror=str(reason)):
            return f"{reason}; give the audio files themselves."
        case FileNotFoundError() | NotADirectoryError():
            return f"there is no such file in {path.parent}; check the name."
        case PermissionError():
            return "the file may not be read; change its permissions."
    return f"it cannot be opened in {path.parent} ({os.strerror(error.errno or 0)})."


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


def _check_end(file: soundfile.SoundFile, recording: Recording) -> None:
    """Raise if the last frame that a header promises cannot be read."""
    try:
        file.seek(recording.frames - 1)
        complete = len(file.read(1)) == 1
    except (soundfile.LibsndfileError, RuntimeError):
        complete = False
    if not complete:
        raise RecordingError(
            recording.path,
            f"the file is cut short or damaged: it ends before frame {recording.frames}; copy or export it again.",
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

    Each read makes sure that the file is still the one that was looked at.

    Parameters
    ----------
    recording : Recording
    dtype : str, optional
        The sample type; by default the one that holds the file without loss.
    as_it_is : bool
        Whether samples that are no numbers (NaN, infinity) are given as they are, and not as silence.
    Not shared between threads: each thread makes its own.
    """

    def __init__(self, recording: Recording, dtype: str | None = None, *, as_it_is: bool = False) -> None:
        self.recording = recording
        self.dtype = np.dtype(dtype or recording.dtype)
        # Only files of floats can hold samples that are no numbers.
        self._mends = not as_it_is and recording.dtype != "int32" and self.dtype.kind == "f"
        self._file: soundfile.SoundFile | None = None
        self._descriptor = -1

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
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1

    def read(self, start: int, count: int) -> AnyArray:
        """Frames `start` to `start + count`, shape (count, channels).

        Raises
        ------
        RecordingChangedError
            If the file was written over or exchanged since it was looked at.
        RecordingError
            If it vanished or is damaged.
        """
        recording = self.recording
        block = np.zeros((count, recording.channels), dtype=self.dtype)
        first, last = max(start, 0), min(start + count, recording.frames)
        if first >= last:
            return block
        file = self.opened()
        try:
            if file.tell() != first:
                file.seek(first)
            got = file.read(last - first, dtype=self.dtype.name, always_2d=True)
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            self.close()
            raise self._damaged(first) from error
        if got.shape != (last - first, recording.channels):
            self.close()
            raise self._damaged(first + len(got))
        if self._mends:
            got[~np.isfinite(got)] = 0.0
        block[first - start : last - start] = got
        return block

    def opened(self) -> soundfile.SoundFile:
        """Return the file, which is still the one that was looked at.

        Raises
        ------
        RecordingChangedError, RecordingError
            As `read`.
        """
        path = self.recording.path
        if self._file is None:
            try:
                self._descriptor = open_for_reading(path)
            except OSError as error:
                raise RecordingError(path, _why_not_open(error, path)) from error
            try:
                self._file = soundfile.SoundFile(os.dup(self._descriptor))
            except (soundfile.LibsndfileError, RuntimeError) as error:
                changed = not SEEN.is_same(path, FileIdentity.of(self._descriptor))
                self.close()
                raise (RecordingChangedError(path) if changed else self._damaged(0)) from error
        if not SEEN.is_same(path, FileIdentity.of(self._descriptor)):
            self.close()
            raise RecordingChangedError(path)
        return self._file

    def _damaged(self, frame: int) -> RecordingError:
        place_s = frame / self.recording.rate_hz
        return RecordingError(
            self.recording.path, f"it is damaged: its sound cannot be read from {place_s:.1f} s on; copy it again."
        )

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
