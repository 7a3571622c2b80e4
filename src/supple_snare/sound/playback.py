"""Playback without a device: a thread renders the programme a little ahead, block by block, into a queue.

A programme is one immutable value; a new one is taken over at the next block's edge, with one block of fade, at the
same musical place. Whoever plays the blocks takes them from the queue and never waits for the thread.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field, replace
from threading import Condition, Event, Thread

import numpy as np

from supple_snare.errors import SnareError
from supple_snare.sound.ahead import ReadAhead
from supple_snare.sound.editlist import EditList
from supple_snare.sound.mixing import Click, Mixer, MixTrack, Stereo
from supple_snare.sound.slow import HOP_FRAMES, HalfSpeed
from supple_snare.sound.taps import TapTrack

BLOCK_FRAMES = HOP_FRAMES
_BLOCKS_AHEAD = 5
LOOP_FADE = 256


@dataclass(frozen=True)
class Programme:
    """What is to be heard.

    Attributes
    ----------
    tracks : tuple of MixTrack
    rate_hz, frames : int
    click : Click or None
    taps : tuple of TapTrack
        Grooves and MIDI parts.
    lead_edits : EditList
        Edits of the group on the page: they say what "the same musical place" is when the version is switched.
    tightened : bool
    loop : (int, int) or None
        First frame and frame after the last.
    in_turn : bool
        The loop is heard in this version and in the other one, in turn.
    mono : bool
        Both sides are heard as one.
    half_speed : bool
        It is heard at half speed, at the same pitch.
    """

    tracks: tuple[MixTrack, ...] = ()
    rate_hz: int = 48_000
    frames: int = 0
    click: Click | None = None
    taps: tuple[TapTrack, ...] = ()
    lead_edits: EditList = field(default_factory=EditList.identity)
    tightened: bool = True
    loop: tuple[int, int] | None = None
    in_turn: bool = False
    mono: bool = False
    half_speed: bool = False


@dataclass(frozen=True, eq=False)
class Block:
    """Finished sound.

    Attributes
    ----------
    sound : ndarray, shape (frames, 2)
    position : int
        Where it begins on the timeline.
    programme : Programme
        What it was rendered from.
    fades : bool
        Whether it fades over from the programme before, as that was at the same musical place.
    peak : float
        Largest sample.
    """

    sound: Stereo
    position: int
    programme: Programme
    fades: bool = False
    peak: float = 0.0


class BlockQueue:
    """Finished blocks between producer and output."""

    def __init__(self) -> None:
        self._blocks: deque[Block] = deque()
        self._changed = Condition()
        self.ran_out = 0
        self.ended = False
        """Set when the last block is in: an output that finds nothing then has not run out."""

    def put(self, block: Block, still_wanted: Event) -> None:
        """Add a block; waits while enough lie ready."""
        with self._changed:
            while len(self._blocks) >= _BLOCKS_AHEAD and still_wanted.is_set():
                self._changed.wait(0.05)
            if still_wanted.is_set():
                self._blocks.append(block)

    @property
    def has_any(self) -> bool:
        """Whether a block lies ready."""
        return bool(self._blocks)

    def take(self) -> Block | None:
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


class Renderer:
    """Renders a programme from place to place. Used by the producer's thread alone."""

    def __init__(self, programme: Programme, position: int, reads: ReadAhead) -> None:
        self._mixer = Mixer(reads=reads)
        self._slow = HalfSpeed(self._round)
        self.programme = programme
        self.position = position
        self.take_over(programme)

    def take_over(self, programme: Programme) -> None:
        """Go on with another programme, at the same musical place; from the start of its loop if that lies outside."""
        if programme.tightened != self.programme.tightened:
            edits = programme.lead_edits
            place = edits.result_of(self.position) if programme.tightened else edits.source_of(self.position)
            self.position = int(place)
        mixer = self._mixer
        mixer.change(programme.tracks, programme.rate_hz)
        mixer.click, mixer.taps, mixer.mono = programme.click, programme.taps, programme.mono
        if programme.loop is not None and not programme.loop[0] <= self.position < programme.loop[1]:
            self.position = programme.loop[0]
        self._slow.restart()
        self.programme = programme

    @property
    def is_at_end(self) -> bool:
        """Whether nothing follows."""
        return self.programme.loop is None and self.position >= self.programme.frames

    def next(self) -> Stereo:
        """The next block; the place goes on, round the loop if there is one."""
        loop = self.programme.loop
        if self.programme.half_speed:
            sound, passed = self._slow.next(self.position), HOP_FRAMES // 2
        else:
            sound, passed = self._round(self.position, BLOCK_FRAMES), BLOCK_FRAMES
        self.position += passed
        while loop is not None and self.position >= loop[1]:
            self.position -= loop[1] - loop[0]
        return sound

    def _round(self, position: int, count: int) -> Stereo:
        """Frames from a place on, as often round the loop as they go."""
        loop = self.programme.loop
        if loop is None or position + count <= loop[1] - LOOP_FADE:
            return self._block(position, count)
        parts = []
        while count > 0:
            part = min(count, loop[1] - position)
            parts.append(self._faded_round(position, part, *loop))
            position, count = loop[0], count - part
        return np.concatenate(parts)

    def _faded_round(self, position: int, count: int, first: int, last: int) -> Stereo:
        """Frames before the end of the loop, the last of which fade over to what comes before its beginning."""
        sound = self._block(position, count)
        begin = max(last - min(LOOP_FADE, last - first), position)
        fading = position + count - begin
        if fading > 0:
            place = np.arange(begin - last, begin - last + fading, dtype=np.float32)
            ramp = 1.0 + (place[:, None] + 1.0) / LOOP_FADE
            lead_in = self._block(first + (begin - last), fading)
            sound[-fading:] = sound[-fading:] * (1.0 - ramp) + lead_in * ramp
        return sound

    def _block(self, position: int, count: int) -> Stereo:
        return self._mixer.block(position, count, tightened=self.programme.tightened)

    def close(self) -> None:
        """Done."""
        self._mixer.close()


class Producer(Thread):
    """Renders blocks from a place on until it is told to stop."""

    def __init__(self, queue: BlockQueue, programme: Programme, position: int, reads: ReadAhead) -> None:
        super().__init__(name="sound", daemon=True)
        self._queue = queue
        self.wanted = programme
        self._taken_over = programme
        self._turns = False
        self._renderer = Renderer(programme, position, reads)
        self.running = Event()
        self.running.set()
        self.finished = Event()
        self.problem: str | None = None

    def run(self) -> None:
        renderer = self._renderer
        try:
            while self.running.is_set() and not renderer.is_at_end:
                position, before = renderer.position, renderer.programme
                sound = self._next()
                peak = float(np.abs(sound).max(initial=0.0))
                programme = renderer.programme
                self._queue.put(Block(sound, position, programme, programme is not before, peak), self.running)
        except SnareError as error:
            self.problem = str(error)
        finally:
            renderer.close()
            self._queue.ended = True
            self.finished.set()

    def _next(self) -> Stereo:
        wanted, renderer = self.wanted, self._renderer
        if wanted is self._taken_over and not self._turns:
            before = renderer.position
            sound = renderer.next()
            self._turns = renderer.programme.in_turn and renderer.position < before  # round the loop once
            return sound
        if wanted is self._taken_over:
            wanted = replace(renderer.programme, tightened=not renderer.programme.tightened)
        else:
            self._taken_over = wanted
        self._turns = False
        # Something changed: one block fades from the old version to the new one at the same musical place.
        place = renderer.position
        before_fade = renderer.next()
        renderer.position = place
        renderer.take_over(wanted)
        after = renderer.next()
        ramp = np.linspace(0.0, 1.0, len(after), dtype=np.float32)[:, None]
        return np.asarray(before_fade * (1.0 - ramp) + after * ramp)
