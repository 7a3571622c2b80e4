"""Playback: a thread prepares blocks of the mix a little ahead, an output takes them at the pace of real time.

Threads: the player's methods are called on the interface thread; `_Producer` runs on its own and is the only one to
touch the mixer; outputs take finished blocks from the queue and never wait for the producer.
"""

from __future__ import annotations

import contextlib
import time
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from threading import Condition, Event, Thread

import numpy as np
from PyQt6.QtCore import QIODevice, QObject, QTimer, pyqtSignal
from PyQt6.QtMultimedia import QAudio, QAudioFormat, QAudioSink, QMediaDevices

from supple_snare.errors import SnareError
from supple_snare.sound.editlist import EditList
from supple_snare.sound.mixing import Click, Mixer, MixTrack, Stereo

BLOCK_FRAMES = 1024
_BLOCKS_AHEAD = 5
_LOOP_FADE = 256
_TICK_MS = 30
_RECEIVED_BLOCKS = 4096


@dataclass(frozen=True)
class Programme:
    """What is to be heard.

    Attributes
    ----------
    tracks : tuple of MixTrack
    rate_hz, frames : int
    click : Click or None
    lead_edits : EditList
        Edits of the group on the page: they say what "the same musical place" is when the version is switched.
    tightened : bool
    loop : (int, int) or None
        First frame and frame after the last.
    """

    tracks: tuple[MixTrack, ...] = ()
    rate_hz: int = 48_000
    frames: int = 0
    click: Click | None = None
    lead_edits: EditList = field(default_factory=EditList.identity)
    tightened: bool = True
    loop: tuple[int, int] | None = None


@dataclass(frozen=True, eq=False)
class _Block:
    """Finished sound and where it begins on the timeline."""

    sound: Stereo
    position: int
    tightened: bool


class _Queue:
    """Finished blocks between producer and output."""

    def __init__(self) -> None:
        self._blocks: deque[_Block] = deque()
        self._changed = Condition()
        self.ran_out = 0
        self.ended = False
        """Set when the last block is in: an output that finds nothing then has not run out."""

    def put(self, block: _Block, still_wanted: Event) -> None:
        """Add a block; waits while enough lie ready."""
        with self._changed:
            while len(self._blocks) >= _BLOCKS_AHEAD and still_wanted.is_set():
                self._changed.wait(0.05)
            if still_wanted.is_set():
                self._blocks.append(block)

    def take(self) -> _Block | None:
        """The next block, at once; None if none is ready."""
        with self._changed:
            if not self._blocks:
                return None
            self._changed.notify()
            return self._blocks.popleft()

    def clear(self) -> None:
        """Throw away what is not heard yet."""
        with self._changed:
            self._blocks.clear()
            self._changed.notify()


class _Producer(Thread):
    """Renders blocks from a place on until it is told to stop."""

    def __init__(self, queue: _Queue, programme: Programme, position: int) -> None:
        super().__init__(name="sound", daemon=True)
        self._queue = queue
        self.wanted = programme
        self._current = programme
        self._position = position
        self.running = Event()
        self.running.set()
        self.finished = Event()
        self.problem: str | None = None

    def run(self) -> None:
        mixer = Mixer(self._current.tracks, self._current.rate_hz)
        mixer.click = self._current.click
        try:
            while self.running.is_set() and not self._at_end():
                position, tightened = self._position, self._current.tightened
                sound = self._next(mixer)
                self._queue.put(_Block(sound, position, tightened), self.running)
        except SnareError as error:
            self.problem = str(error)
        finally:
            mixer.close()
            self._queue.ended = True
            self.finished.set()

    def _at_end(self) -> bool:
        return self._current.loop is None and self._position >= self._current.frames

    def _next(self, mixer: Mixer) -> Stereo:
        wanted = self.wanted
        if wanted is self._current:
            sound, self._position = _advance(mixer, self._current, self._position)
            return sound
        # Something changed: one block fades from the old version to the new one at the same musical place.
        before, _ = _advance(mixer, self._current, self._position)
        if wanted.tightened != self._current.tightened:
            edits = wanted.lead_edits
            place = edits.result_of(self._position) if wanted.tightened else edits.source_of(self._position)
            self._position = int(place)
        self._current = wanted
        mixer.change(wanted.tracks, wanted.rate_hz)
        mixer.click = wanted.click
        after, self._position = _advance(mixer, wanted, self._position)
        ramp = np.linspace(0.0, 1.0, len(after), dtype=np.float32)[:, None]
        return np.asarray(before * (1.0 - ramp) + after * ramp)


def _advance(mixer: Mixer, programme: Programme, position: int) -> tuple[Stereo, int]:
    """One block from a position, around the loop if there is one; and the position after it."""
    if programme.loop is None:
        return mixer.block(position, BLOCK_FRAMES, tightened=programme.tightened), position + BLOCK_FRAMES
    first, last = programme.loop
    if not first <= position < last:
        position = first
    count = min(BLOCK_FRAMES, last - position)
    sound = mixer.block(position, count, tightened=programme.tightened)
    if position + count < last:
        return sound, position + count
    fade = min(_LOOP_FADE, count)
    ramp = np.linspace(0.0, 1.0, fade, dtype=np.float32)[:, None]
    lead_in = mixer.block(first - fade, fade, tightened=programme.tightened)
    sound[count - fade :] = sound[count - fade :] * (1.0 - ramp) + lead_in * ramp
    rest = mixer.block(first, BLOCK_FRAMES - count, tightened=programme.tightened)
    return np.concatenate([sound, rest]), first + BLOCK_FRAMES - count


class SimulatedOutput:
    """Stands in for a sound device: takes blocks at the pace of real time and keeps what it received.

    Attributes
    ----------
    received : deque of float32 arrays, each of shape (frames, 2)
        The newest blocks, oldest first.
    """

    name = "no sound device: simulated"
    is_simulated = True

    def __init__(self) -> None:
        self.received: deque[Stereo] = deque(maxlen=_RECEIVED_BLOCKS)
        self._stop = Event()
        self._thread: Thread | None = None

    def start(self, queue: _Queue, rate_hz: int, heard: deque[_Block]) -> None:
        """Begin to take blocks."""
        self._stop = Event()
        self._thread = Thread(
            target=self._run, args=(queue, rate_hz, heard, self._stop), name="simulated output", daemon=True
        )
        self._thread.start()

    def stop(self) -> None:
        """Stop at once."""
        self._stop.set()
        if self._thread is not None:
            self._thread.join()
            self._thread = None

    def sound(self) -> Stereo:
        """All that was received, shape (frames, 2)."""
        blocks = list(self.received)
        return np.concatenate(blocks) if blocks else np.zeros((0, 2), dtype=np.float32)

    def _run(self, queue: _Queue, rate_hz: int, heard: deque[_Block], stop: Event) -> None:
        due = time.monotonic()
        while not stop.is_set():
            block = queue.take()
            if block is None:
                queue.ran_out += not queue.ended
                stop.wait(0.002)
                due = time.monotonic()
                continue
            self.received.append(block.sound)
            heard.append(block)
            due += len(block.sound) / rate_hz
            stop.wait(max(0.0, due - time.monotonic()))


class _Feed(QIODevice):
    """Hands finished blocks to Qt's sound output as bytes."""

    def __init__(self, queue: _Queue, heard: deque[_Block]) -> None:
        super().__init__()
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
            parts.append(np.clip(block.sound, -1.0, 1.0).astype(np.float32).tobytes())
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

    def __init__(self) -> None:
        self._device = QMediaDevices.defaultAudioOutput()
        self.name = self._device.description()
        self._sink: QAudioSink | None = None
        self._feed: _Feed | None = None

    def start(self, queue: _Queue, rate_hz: int, heard: deque[_Block]) -> None:
        """Begin to take blocks."""
        audio = QAudioFormat()
        audio.setSampleRate(rate_hz)
        audio.setChannelCount(2)
        audio.setSampleFormat(QAudioFormat.SampleFormat.Float)
        self._feed = _Feed(queue, heard)
        self._feed.open(QIODevice.OpenModeFlag.ReadOnly)
        self._sink = QAudioSink(self._device, audio)
        self._sink.setBufferSize(4 * BLOCK_FRAMES * 8)
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


def default_output() -> DeviceOutput | SimulatedOutput:
    """The machine's sound device, or the stand-in where there is none."""
    return SimulatedOutput() if QMediaDevices.defaultAudioOutput().isNull() else DeviceOutput()


class Player(QObject):
    """Plays, stops, jumps, loops."""

    position_changed = pyqtSignal(float)
    playing_changed = pyqtSignal(bool)
    failed = pyqtSignal(str)

    def __init__(self, output: DeviceOutput | SimulatedOutput | None = None) -> None:
        super().__init__()
        self.output = output or default_output()
        self._programme = Programme()
        self._queue = _Queue()
        self._heard: deque[_Block] = deque(maxlen=64)
        self._producer: _Producer | None = None
        self._position = 0
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._tick)

    @property
    def is_playing(self) -> bool:
        """Whether sound is running."""
        return self._producer is not None

    @property
    def position_s(self) -> float:
        """Place on the timeline of the version that is heard."""
        return self._position / self._programme.rate_hz

    @property
    def times_run_out(self) -> int:
        """How often the output found nothing ready."""
        return self._queue.ran_out

    def set_programme(self, programme: Programme) -> None:
        """What is heard from now on; a running sound fades over at the next block."""
        if programme == self._programme:
            return
        if not self.is_playing and programme.tightened != self._programme.tightened:
            edits = programme.lead_edits
            place = edits.result_of(self._position) if programme.tightened else edits.source_of(self._position)
            self._position = int(place)
        self._programme = programme
        if self._producer is not None:
            self._producer.wanted = programme

    def change(self, **changes: object) -> None:
        """Change part of the programme."""
        self.set_programme(replace(self._programme, **changes))  # type: ignore[arg-type]

    def play(self) -> None:
        """Play on from the present place; from the start if it is at the end."""
        if self.is_playing or not self._programme.tracks:
            return
        if self._position >= self._programme.frames:
            self._position = 0
        self._start()
        self.playing_changed.emit(True)

    def stop(self) -> None:
        """Stop; the place stays."""
        if self.is_playing:
            self._halt()
            self.playing_changed.emit(False)

    def seek(self, time_s: float) -> None:
        """Go to a place, playing or not."""
        playing = self.is_playing
        if playing:
            self._halt()
        self._position = max(0, round(time_s * self._programme.rate_hz))
        if playing:
            self._start()
        self.position_changed.emit(self.position_s)

    def close(self) -> None:
        """Stop for good."""
        self.stop()

    def _start(self) -> None:
        self._queue.clear()
        self._queue.ran_out = 0
        self._queue.ended = False
        self._heard.clear()
        self._producer = _Producer(self._queue, self._programme, self._position)
        self._producer.start()
        self._wait_for_first_block()
        self.output.start(self._queue, self._programme.rate_hz, self._heard)
        self._timer.start()

    def _wait_for_first_block(self) -> None:
        """Let the output begin with sound, not with a gap; never longer than a blink."""
        assert self._producer is not None
        until = time.monotonic() + 0.04
        while not self._queue._blocks and not self._producer.finished.is_set() and time.monotonic() < until:
            time.sleep(0.001)

    def _halt(self) -> None:
        assert self._producer is not None
        self._timer.stop()
        self._follow(self._heard)
        self._producer.running.clear()
        self.output.stop()
        self._queue.clear()
        self._producer.join()
        self._producer = None

    def _follow(self, heard: Iterable[_Block]) -> None:
        with contextlib.suppress(IndexError, RuntimeError):
            self._position = list(heard)[-1].position

    def _tick(self) -> None:
        producer = self._producer
        if producer is None:
            return
        before = self._position
        self._follow(self._heard)
        if self._position != before:
            self.position_changed.emit(self.position_s)
        if isinstance(self.output, DeviceOutput) and self.output.is_lost():
            self.stop()
            self.output = default_output()
            self.failed.emit("The sound device went away. The place is kept; press play to go on.")
        elif producer.finished.is_set() and not self._queue._blocks:
            problem = producer.problem
            self.stop()
            if problem:
                self.failed.emit(problem)
