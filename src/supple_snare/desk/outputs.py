"""Where sound goes: a device of the machine, or the stand-in that keeps real time where there is none."""

from __future__ import annotations

import time
from collections import deque
from dataclasses import dataclass
from threading import Event, Thread

import numpy as np
from PyQt6.QtCore import QIODevice
from PyQt6.QtMultimedia import QAudio, QAudioDevice, QAudioFormat, QAudioSink, QMediaDevices

from supple_snare.sound.mixing import Stereo
from supple_snare.sound.playback import BLOCK_FRAMES, Block, BlockQueue

_RECEIVED_BLOCKS = 512
"""Some 5 s of sound, 2 MB."""

SIMULATED = "simulated"


class SimulatedOutput:
    """Stands in for a sound device: takes blocks at the pace of real time and keeps what it received.

    Parameters
    ----------
    keep_blocks : int
        How many of the newest blocks it keeps.

    Attributes
    ----------
    received : deque of Block
        The newest blocks, oldest first.
    """

    name = "no sound device: simulated"
    key = SIMULATED
    is_simulated = True

    def __init__(self, keep_blocks: int = _RECEIVED_BLOCKS) -> None:
        self.received: deque[Block] = deque(maxlen=keep_blocks)
        self._stop = Event()

    def start(self, queue: BlockQueue, rate_hz: int, heard: deque[Block]) -> None:
        """Begin to take blocks."""
        self._stop = Event()
        arguments = (queue, rate_hz, heard, self._stop)
        Thread(target=self._run, args=arguments, name="simulated output", daemon=True).start()

    def stop(self) -> None:
        """Stop at once; the thread ends in its own time."""
        self._stop.set()

    def is_lost(self) -> bool:
        """Whether it went away: never."""
        return False

    def sound(self) -> Stereo:
        """All that was received, shape (frames, 2)."""
        blocks = [block.sound for block in self.received]
        return np.concatenate(blocks) if blocks else np.zeros((0, 2), dtype=np.float32)

    def _run(self, queue: BlockQueue, rate_hz: int, heard: deque[Block], stop: Event) -> None:
        due = time.monotonic()
        while not stop.is_set():
            block = queue.take()
            if block is None:
                queue.ran_out += not queue.ended
                stop.wait(0.002)
                due = time.monotonic()
                continue
            if stop.is_set():
                return
            self.received.append(block)
            heard.append(block)
            due += len(block.sound) / rate_hz
            stop.wait(max(0.0, due - time.monotonic()))


class _Feed(QIODevice):
    """Hands finished blocks to Qt's sound output as bytes: of floats, or of 16-bit whole numbers."""

    def __init__(self, queue: BlockQueue, heard: deque[Block], *, whole_numbers: bool) -> None:
        super().__init__()
        self._whole_numbers = whole_numbers
        self._queue = queue
        self._heard = heard
        self._rest = b""

    def readData(self, maxlen: int) -> bytes:
        """Up to `maxlen` bytes; silence where nothing is ready, since the device must not starve."""
        parts, size = [self._rest], len(self._rest)
        while size < maxlen:
            block = self._queue.take()
            if block is None:
                if size == 0:
                    self._queue.ran_out += not self._queue.ended
                    parts.append(bytes(min(maxlen, 2048)))
                break
            self._heard.append(block)
            sound = np.clip(block.sound, -1.0, 1.0)
            sound = np.rint(sound * 32767.0).astype("<i2") if self._whole_numbers else sound.astype(np.float32)
            parts.append(sound.tobytes())
            size += len(parts[-1])
        data = b"".join(parts)
        self._rest = data[maxlen:]
        return data[:maxlen]

    def writeData(self, data: object) -> int:
        return 0

    def bytesAvailable(self) -> int:
        return 1 << 16

    def isSequential(self) -> bool:
        return True


class DeviceOutput:
    """Qt's sound output."""

    is_simulated = False

    def __init__(self, device: QAudioDevice) -> None:
        self._device = device
        self.key = _key_of(device)
        self.name = device.description()
        self._sink: QAudioSink | None = None
        self._feed: _Feed | None = None

    def start(self, queue: BlockQueue, rate_hz: int, heard: deque[Block]) -> None:
        """Begin to take blocks."""
        audio = QAudioFormat()
        audio.setSampleRate(rate_hz)
        audio.setChannelCount(2)
        audio.setSampleFormat(QAudioFormat.SampleFormat.Float)
        if not self._device.isFormatSupported(audio):
            audio.setSampleFormat(QAudioFormat.SampleFormat.Int16)
        self._feed = _Feed(queue, heard, whole_numbers=audio.sampleFormat() == QAudioFormat.SampleFormat.Int16)
        self._feed.open(QIODevice.OpenModeFlag.ReadOnly)
        self._sink = QAudioSink(self._device, audio)
        self._sink.setBufferSize(4 * BLOCK_FRAMES * audio.bytesPerFrame())
        self._sink.start(self._feed)

    def stop(self) -> None:
        """Stop at once."""
        if self._sink is not None:
            self._sink.stop()
            self._sink = None
        if self._feed is not None:
            self._feed.close()
            self._feed = None

    def is_lost(self) -> bool:
        """Whether the device went away while playing."""
        return self._sink is not None and self._sink.error() not in (QAudio.Error.NoError, QAudio.Error.UnderrunError)


Output = DeviceOutput | SimulatedOutput


@dataclass(frozen=True)
class OutputChoice:
    """An output that can be chosen.

    Attributes
    ----------
    key : str
        "" for whatever the machine's default is, `SIMULATED`, or the device's own.
    name : str
    """

    key: str
    name: str


def output_choices() -> list[OutputChoice]:
    """What can be chosen now."""
    devices = [OutputChoice(_key_of(device), device.description()) for device in QMediaDevices.audioOutputs()]
    default = [OutputChoice("", "The machine's default")] if devices else []
    return [*default, *devices, OutputChoice(SIMULATED, "Simulated, without sound")]


def open_output(key: str = "") -> Output:
    """The output of that key; the default one where it is gone, the stand-in where there is no device at all."""
    if key == SIMULATED:
        return SimulatedOutput()
    device = next((each for each in QMediaDevices.audioOutputs() if _key_of(each) == key), None)
    device = device or QMediaDevices.defaultAudioOutput()
    return SimulatedOutput() if device.isNull() else DeviceOutput(device)


def _key_of(device: QAudioDevice) -> str:
    return bytes(device.id().data()).decode(errors="replace")
