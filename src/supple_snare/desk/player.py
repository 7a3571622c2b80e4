"""Playback in the window: plays, stops, jumps, loops, on whatever output there is.

The player's methods are called on the interface thread and never wait: sound is rendered by `sound.playback` on a
thread of its own. Each start has a producer and a queue of its own, so that one that is stopped in the middle of a
block, on a slow disk for instance, may end in its own time.
"""

from __future__ import annotations

import contextlib
import time
from collections import deque
from dataclasses import replace

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from supple_snare.desk.outputs import Output, open_output
from supple_snare.sound.ahead import ReadAhead
from supple_snare.sound.playback import Block, BlockQueue, Producer, Programme
from supple_snare.timing.units import SILENCE_DB, amplitude_to_db

_TICK_MS = 30
_FIRST_MS, _FIRST_S = 2, 0.04
"""How often it is looked whether the first block is there, and how long before the output begins without it."""

_LEVEL_BLOCKS, _HEARD_BLOCKS = 3, 64
_BEHIND_S, _AHEAD_S = 1.0, 8.0


class Player(QObject):
    """Plays, stops, jumps, loops."""

    position_changed = pyqtSignal(float)
    playing_changed = pyqtSignal(bool)
    output_changed = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, output: Output | None = None) -> None:
        super().__init__()
        self.output = output or open_output()
        self._programme = Programme()
        self._reads = ReadAhead()
        self._queue = BlockQueue()
        self._heard: deque[Block] = deque(maxlen=_HEARD_BLOCKS)
        self._producer: Producer | None = None
        self._position = 0
        self._heard_tightened = True
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._tick)
        self._first = QTimer(self)
        self._first.setInterval(_FIRST_MS)
        self._first.timeout.connect(self._begin_output)
        self._begin_by = 0.0
        self._halted: list[Producer] = []

    @property
    def is_playing(self) -> bool:
        """Whether sound is running."""
        return self._producer is not None

    @property
    def position_s(self) -> float:
        """Place on the timeline of the version that is heard."""
        return self._position / self._programme.rate_hz

    @property
    def ahead_s(self) -> tuple[float, float]:
        """What is heard next: the loop, or some seconds around the present place."""
        if self._programme.loop is not None:
            start, end = self._programme.loop
            return start / self._programme.rate_hz, end / self._programme.rate_hz
        return self.position_s - _BEHIND_S, self.position_s + _AHEAD_S

    @property
    def level_db(self) -> float:
        """Largest sample of what was heard just now, in dB of full scale; below −90 for silence."""
        if not self.is_playing:
            return SILENCE_DB
        newest = list(self._heard)[-_LEVEL_BLOCKS:]
        return float(amplitude_to_db(max((block.peak for block in newest), default=0.0)))

    @property
    def heard_tightened(self) -> bool:
        """Which version was heard last: of a loop in turn it changes each time round."""
        return self._heard_tightened

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
        else:
            self._prepare()

    def change(self, **changes: object) -> None:
        """Change part of the programme."""
        self.set_programme(replace(self._programme, **changes))  # type: ignore[arg-type]

    def play(self) -> None:
        """Play on from the present place; from the start if it is at the end."""
        if self.is_playing or not self._programme.frames:
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
        else:
            self._prepare()
        self.position_changed.emit(self.position_s)

    def use_output(self, output: Output) -> None:
        """Be heard elsewhere from now on, playing or not."""
        playing = self.is_playing
        if playing:
            self._halt()
        self.output = output
        if playing:
            self._start()
        self.output_changed.emit()

    def close(self) -> None:
        """Stop for good, and wait until all threads have ended."""
        self.stop()
        for producer in self._halted:
            producer.join()
        self._reads.close()

    def _prepare(self) -> None:
        """Have at hand what play would begin with."""
        programme = self._programme
        heard = [track.recording for track in programme.tracks if track.gain > 0.0]
        self._reads.keep_only(track.recording for track in programme.tracks)
        self._reads.prepare(heard, self._position)

    def _start(self) -> None:
        self._queue = BlockQueue()
        self._heard = deque(maxlen=_HEARD_BLOCKS)
        self._producer = Producer(self._queue, self._programme, self._position, self._reads)
        self._producer.start()
        self._begin_by = time.monotonic() + _FIRST_S
        self._first.start()
        self._timer.start()

    def _begin_output(self) -> None:
        """Let the output begin with sound, not with a gap, if the first block is soon there."""
        producer = self._producer
        is_late = time.monotonic() > self._begin_by
        if producer is not None and (self._queue.has_any or producer.finished.is_set() or is_late):
            self._first.stop()
            self.output.start(self._queue, self._programme.rate_hz, self._heard)

    def _halt(self) -> None:
        assert self._producer is not None
        self._timer.stop()
        self._first.stop()
        self._follow()
        self._producer.running.clear()
        self.output.stop()
        self._queue.clear()
        self._halted = [each for each in self._halted if each.is_alive()] + [self._producer]
        self._producer = None

    def _follow(self) -> None:
        with contextlib.suppress(IndexError, RuntimeError):
            newest = list(self._heard)[-1]
            self._position, self._heard_tightened = newest.position, newest.programme.tightened

    def _tick(self) -> None:
        producer = self._producer
        if producer is None:
            return
        before = self._position
        self._follow()
        if self._position != before:
            self.position_changed.emit(self.position_s)
        if self.output.is_lost():
            self.stop()
            self.output = open_output()
            self.output_changed.emit()
            self.failed.emit("The sound device went away. The place is kept; press play to go on.")
        elif producer.finished.is_set() and not self._queue.has_any:
            problem = producer.problem
            self.stop()
            if problem:
                self.failed.emit(problem)
