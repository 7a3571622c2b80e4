"""The cut method: pieces between seams, each moved whole; seams found on the whole group and shared by all tracks.

A seam stands in the sustain between two attacks. With moves a before and b after it, the piece before is read up to
b − a samples past the place where the piece after begins. So the place is chosen such that neither side reads an
attack: the side that leaves never runs into the next attack in any track, the side that comes never reaches back into
the one before. A gap longer than the sustain is filled by several shorter repeats at the same places in all tracks.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import BLOCK_FRAMES, AnyArray, BlockReader, Recording
from supple_snare.timing.units import FloatArray, IntArray, frozen, ms_to_samples


@dataclass(frozen=True)
class CutSettings:
    """Lengths in ms.

    Attributes
    ----------
    lead_in_ms : float
        How far before the earliest arrival of an attack its seam ends.
    fade_ms : float
        Length of a seam's crossfade.
    attack_ms : float
        How much of an attack no seam may touch.
    """

    lead_in_ms: float = 4.0
    fade_ms: float = 5.0
    attack_ms: float = 30.0


@dataclass(frozen=True)
class _Spans:
    """The lengths of `CutSettings` in samples, for one degree of tightness of space."""

    lead_in: int
    fade: int
    attack: int


@dataclass(frozen=True, eq=False)
class Cut:
    """A planned cut.

    Attributes
    ----------
    edits : EditList
    move : int array, shape (n,)
        What each attack really moves by, in samples.
    extended : bool array, shape (n,)
        Attacks before which the tail had to be repeated more than once to fill the gap.
    limited : bool array, shape (n,)
        Attacks that could not move as far as planned, for want of room after the attack before.
    """

    edits: EditList
    move: IntArray
    extended: np.ndarray[tuple[int], np.dtype[np.bool_]]
    limited: np.ndarray[tuple[int], np.dtype[np.bool_]]


@dataclass
class _Seams:
    """Edit list in the making."""

    at: list[int] = field(default_factory=lambda: [0])
    shift: list[int] = field(default_factory=lambda: [0])
    fade: list[int] = field(default_factory=lambda: [0])
    likeness: list[float] = field(default_factory=lambda: [1.0])

    def add(self, at: int, shift: int, fade: int, likeness: float) -> None:
        self.at.append(at)
        self.shift.append(shift)
        self.fade.append(fade)
        self.likeness.append(likeness)


# The comfortable lengths first; where strokes are close, ever less of the attack is kept whole and fades get shorter.
_SQUEEZE = ((1.0, 1.0, 1.0), (1.0, 0.6, 0.6), (0.75, 0.4, 0.4), (0.5, 0.25, 0.2))
_MAX_REPEATS = 12
_RETURN_S = 2
_SEARCH_MS = 120.0
_STEP_MS = 0.25


def plan_cut(
    recordings: Sequence[Recording],
    *,
    first_arrival: IntArray,
    arrivals: IntArray,
    move: IntArray,
    settings: CutSettings | None = None,
    progress: Callable[[float], None] | None = None,
) -> Cut:
    """Find the seams that move each attack by its amount.

    Parameters
    ----------
    recordings : sequence of Recording
        All tracks of the group; of one rate.
    first_arrival : int array, shape (n,)
        Earliest sample at which each stroke is heard in any track, increasing.
    arrivals : int array, shape (m,)
        Every attack in any track, whether timed or not, increasing: no seam may touch one if there is a choice.
    move : int array, shape (n,)
        Wanted move of each stroke in samples.
    settings : CutSettings, optional
    progress : callable, optional
        Called with the share done; may raise to stop the work.

    Returns
    -------
    Cut
    """
    settings = settings or CutSettings()
    rate_hz, frames = recordings[0].rate_hz, max(recording.frames for recording in recordings)
    spans = [
        _Spans(
            lead_in=ms_to_samples(settings.lead_in_ms * lead_in, rate_hz),
            fade=max(8, ms_to_samples(settings.fade_ms * fade, rate_hz)),
            attack=ms_to_samples(settings.attack_ms * keep, rate_hz),
        )
        for lead_in, fade, keep in _SQUEEZE
    ]
    # A last anchor, at the end of the file or well after the last attack, lets what follows the last stroke come back
    # to its place.
    last = int(arrivals[-1]) if len(arrivals) else 0
    anchors = np.append(first_arrival, min(frames, last + _RETURN_S * rate_hz))
    wanted = np.append(move, 0)
    real = np.zeros(len(wanted), dtype=np.int64)
    extended = np.zeros(len(wanted), dtype=bool)
    limited = np.zeros(len(wanted), dtype=bool)
    seams = _Seams()
    with _Matcher(recordings) as matcher:
        for i, goal in enumerate(wanted):
            if progress is not None and i % 16 == 0:
                progress(i / len(wanted))
            before = int(real[i - 1]) if i else 0
            # The first attack must not be moved out of the file.
            goal_here = max(int(goal), -int(anchors[i]) + spans[-1].lead_in) if i < len(move) else int(goal)
            if goal_here == before:
                real[i] = before
                continue
            stop = int(anchors[i])
            from_ = int(anchors[i - 1]) if i else 0
            between = arrivals[np.searchsorted(arrivals, from_) : np.searchsorted(arrivals, stop)]
            starts = between if i else np.append(-spans[0].attack, between)
            real[i], extended[i] = _join(seams, matcher, starts, stop, before, goal_here, spans)
        limited[:-1] = real[:-1] != move
    edits = EditList.of(seams.at, seams.shift, seams.fade, seams.likeness)
    return Cut(edits, frozen(real[:-1], np.int64), frozen(extended[:-1], np.bool_), frozen(limited[:-1], np.bool_))


def _join(
    seams: _Seams, matcher: _Matcher, starts: IntArray, stop: int, before: int, after: int, spans: list[_Spans]
) -> tuple[int, bool]:
    """Add the seam (or seams) before one attack; what the attack then moves by, and whether its tail is extended."""
    gap = after - before
    earliest = seams.at[-1]
    for span in spans:
        region = _region(starts, stop, gap, span, earliest - before)
        if region is not None:
            place, likeness = matcher.best(region, gap, span.fade)
            seams.add(place + after, after, span.fade, likeness)
            return after, False
    span = spans[-1]
    if gap > 0:
        return _extend_tail(seams, matcher, starts, stop, before, after, span)
    # An overlap larger than the sustain: move only as far as the attack before allows.
    room = stop - span.lead_in - (_last(starts, stop, span) + span.attack + span.fade)
    room = min(room, stop - span.lead_in - span.fade - (earliest - before))
    if room <= 0:
        return before, False
    after = before - min(-gap, room)
    place = stop - span.lead_in
    seams.add(place + after, after, span.fade, matcher.likeness(place, after - before, span.fade))
    return after, False


def _region(starts: IntArray, stop: int, gap: int, span: _Spans, earliest: int) -> tuple[int, int] | None:
    """First and last place (sample of the recording where the coming side sounds alone) that touch no attack.

    The last gap between arrivals that has room is taken: what sounds after the seam moves with the attack after it.
    """
    edges = np.append(starts, stop)
    for end, begin in zip(edges[:0:-1], edges[-2::-1], strict=True):
        low = int(begin) + span.attack + span.fade + max(0, -gap)
        low = max(low, earliest + span.fade - gap)
        high = int(end) - span.lead_in - max(0, gap)
        if low <= high:
            return low, high
    return None


def _last(starts: IntArray, stop: int, span: _Spans) -> int:
    """The last attack far enough before `stop` to be another one than a spot microphone's early arrival."""
    earlier = starts[starts < stop - span.lead_in]
    return int(earlier[-1]) if len(earlier) else int(starts[0]) if len(starts) else 0


def _extend_tail(
    seams: _Seams, matcher: _Matcher, starts: IntArray, stop: int, before: int, after: int, span: _Spans
) -> tuple[int, bool]:
    """Fill a gap longer than the sustain by several equal repeats of its end."""
    gap = after - before
    end = stop - span.lead_in
    sustain = end - (_last(starts, stop, span) + span.attack) - span.fade
    sustain = min(sustain, end - (seams.at[-1] - before) - span.fade)
    if sustain <= span.fade:
        return before, False
    repeats = min(int(np.ceil(gap / sustain)), _MAX_REPEATS)
    gap = min(gap, repeats * sustain)
    reached = np.rint(gap * np.arange(repeats + 1) / repeats).astype(np.int64)
    for step, total in zip(np.diff(reached), reached[1:], strict=True):
        place = end - int(step)
        fade = min(span.fade, int(step))
        seams.add(place + before + int(total), before + int(total), fade, matcher.likeness(place, int(step), fade))
    return before + gap, True


class _Matcher:
    """Compares the two sides of a seam on all tracks, reading each recording once from front to back."""

    def __init__(self, recordings: Sequence[Recording]) -> None:
        self._readers = [_Window(recording) for recording in recordings]
        self._search = ms_to_samples(_SEARCH_MS, recordings[0].rate_hz)
        self._step = max(1, ms_to_samples(_STEP_MS, recordings[0].rate_hz))

    def __enter__(self) -> _Matcher:
        return self

    def __exit__(self, *_error: object) -> None:
        for reader in self._readers:
            reader.close()

    def best(self, region: tuple[int, int], gap: int, fade: int) -> tuple[int, float]:
        """The place in a region at which the sides differ least, counted on every track, and their likeness there."""
        high = region[1]
        low = max(region[0], high - self._search)
        places = np.arange(high, low - 1, -self._step)
        coming, leaving = self._sides(low - fade, high - low + fade, gap)
        energy = _running_sum(coming**2 + leaving**2, fade)
        rest = _running_sum((coming - leaving) ** 2, fade)
        # Relative to the loudest stretch of the region: a mismatch matters where it can be heard.
        loudest = np.maximum(energy.max(axis=1, keepdims=True), 1e-12)
        cost = np.sqrt(rest / loudest)
        total = cost.mean(axis=0) + cost.max(axis=0)
        best = int(places[np.argmin(total[places - low])])
        return best, self._likeness(
            coming[:, best - low : best - low + fade], leaving[:, best - low : best - low + fade]
        )

    def likeness(self, place: int, gap: int, fade: int) -> float:
        """Correlation of the two sides of one seam over all tracks, 0 to 1."""
        return self._likeness(*self._sides(place - fade, fade, gap))

    @staticmethod
    def _likeness(coming: FloatArray, leaving: FloatArray) -> float:
        power = np.sqrt(np.sum(coming**2, axis=1) * np.sum(leaving**2, axis=1))
        alike = np.sum(coming * leaving, axis=1) / np.maximum(power, 1e-15)
        weight = np.sqrt(power) + 1e-15
        return float(np.clip(np.sum(alike * weight) / np.sum(weight), 0.0, 1.0))

    def _sides(self, start: int, count: int, gap: int) -> tuple[FloatArray, FloatArray]:
        """What comes and what leaves over a stretch, each of shape (tracks, count)."""
        first = start + min(0, gap)
        stretch = np.stack([reader.read(first, count + abs(gap)) for reader in self._readers]).astype(np.float64)
        return stretch[:, start - first :][:, :count], stretch[:, start + gap - first :][:, :count]


def _running_sum(values: FloatArray, length: int) -> FloatArray:
    """Sums of `length` neighbouring columns; column k sums values k to k + length."""
    total = np.cumsum(np.pad(values, ((0, 0), (1, 0))), axis=1)
    return np.maximum(total[:, length:] - total[:, :-length], 0.0)


class _Window:
    """Mono reading with one block kept, for places that move forward through the file."""

    def __init__(self, recording: Recording) -> None:
        self._reader = BlockReader(recording, "float32")
        self._start = 0
        self._block: AnyArray = np.zeros(0, dtype=np.float32)

    def read(self, start: int, count: int) -> AnyArray:
        if start < self._start or start + count > self._start + len(self._block):
            self._start = start
            self._block = self._reader.read_mono(start, max(count, BLOCK_FRAMES))
        return self._block[start - self._start : start - self._start + count]

    def close(self) -> None:
        self._reader.close()
