"""The cut method: pieces between seams, each moved whole; seams found on the whole group and shared by all tracks.

A seam stands in the sustain between two attacks. With moves a before and b after it, the piece before is read up to
b − a samples past the place where the piece after begins. So the place is chosen such that neither side reads an
attack: the side that leaves never runs into the next attack in any track, the side that comes never reaches back into
the one before. A gap longer than the sustain is filled by several shorter repeats at the same places in all tracks.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial

import numpy as np

from supple_snare.errors import UsageError
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import Recording
from supple_snare.sound.matching import Join, Matcher
from supple_snare.sound.room_tone import Stretch, find_room_tone
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
    room_tone : bool
        A gap longer than the sustain is filled with room tone; else the tail is extended.

    Raises
    ------
    UsageError
        If a length makes no sense.
    """

    lead_in_ms: float = 4.0
    fade_ms: float = 5.0
    attack_ms: float = 30.0
    room_tone: bool = False

    def __post_init__(self) -> None:
        for name, value, most in (
            ("lead-in", self.lead_in_ms, 50.0),
            ("fade", self.fade_ms, 100.0),
            ("attack", self.attack_ms, 200.0),
        ):
            if not 0.2 <= value <= most:
                raise UsageError(f"A {name} of {value:g} ms makes no sense: give one from 0.2 to {most:g}.")


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
        Attacks that could not move as planned, for want of room after the attack before.
    near : bool array, shape (n,)
        Attacks whose seam stands closer to the attack before than is comfortable.
    jump_db : float array, shape (n,)
        How much the level changes at the seam before each, in the track where it changes most.
    fits : int array, shape (n,)
        How far each could move so that what sounds before it fills the gap by itself; its own move, if that does.
    """

    edits: EditList
    move: IntArray
    extended: np.ndarray[tuple[int], np.dtype[np.bool_]]
    limited: np.ndarray[tuple[int], np.dtype[np.bool_]]
    near: np.ndarray[tuple[int], np.dtype[np.bool_]]
    jump_db: FloatArray
    fits: IntArray


@dataclass
class _Seams:
    """Edit list in the making."""

    at: list[int] = field(default_factory=lambda: [0])
    shift: list[int] = field(default_factory=lambda: [0])
    fade: list[int] = field(default_factory=lambda: [0])

    def add(self, at: int, shift: int, fade: int) -> None:
        self.at.append(at)
        self.shift.append(shift)
        self.fade.append(fade)


# The comfortable lengths first; where strokes are close, ever less of the attack is kept whole and fades get shorter.
_SQUEEZE = ((1.0, 1.0, 1.0), (1.0, 0.6, 0.6), (0.75, 0.4, 0.4), (0.5, 0.25, 0.2))
_TIGHT = 2
"""From this degree on, less of an attack is kept whole than is comfortable."""

_MAX_REPEATS = 12
_RETURN_S = 2

_HEARD_DB, _WORTH_DB = 6.0, 2.0
"""A seam that changes the level by more is tried as two; they are taken if they change it by so much less."""

_SHARES = (0.5, 0.25, 0.75)
"""How much of a gap the first of two seams may take."""


def plan_cut(
    recordings: Sequence[Recording],
    *,
    first_arrival: IntArray,
    arrivals: IntArray,
    move: IntArray,
    settings: CutSettings | None = None,
    places: Mapping[int, int] | None = None,
    slides: Sequence[tuple[int, int, int]] = (),
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
    places : mapping of int to int, optional
        Seams put somewhere by hand: by the number of the stroke after them, the sample of the recording from which its
        side sounds alone. One that would touch the seam before or the stroke itself is not believed.
    slides : sequence of (int, int, int)
        Sound moved by hand inside a piece: first sample, sample after the last, and how much more it moves. It ends
        where the next stroke is cut, if that comes earlier.
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
    near = np.zeros(len(wanted), dtype=bool)
    jump_db, fits = np.zeros(len(wanted)), np.zeros(len(wanted), dtype=np.int64)
    seams, before = _Seams(), 0
    room = _Room(recordings, arrivals, spans[0]) if settings.room_tone else None
    with Matcher(recordings) as matcher:
        for turn in _turns(anchors, slides):
            i, stop = turn.stroke, turn.at
            if progress is not None and i % 16 == 0:
                progress(i / len(wanted))
            told: int | None = stop  # a slide begins and ends where a person said
            if turn.slides_by is not None:
                goal_here = (int(real[i - 1]) if i else 0) + turn.slides_by
            else:
                # The first attack must not be moved out of the file.
                least = -stop + spans[-1].lead_in if i < len(move) else int(wanted[i])
                goal_here, told = max(int(wanted[i]), least), (places or {}).get(i)
            joined = _Joined(before, False, False, 0.0)
            if goal_here != before:
                from_ = int(anchors[i - 1]) if i else 0
                between = arrivals[np.searchsorted(arrivals, from_) : np.searchsorted(arrivals, stop)]
                starts = between if i else np.append(-spans[0].attack, between)
                by_hand = None
                if told is not None:
                    by_hand = _join_at(seams, matcher, told, stop, before, goal_here, spans[0].fade)
                joined = (
                    by_hand
                    or (room and room.fill(seams, starts, stop, before, goal_here))
                    or _join(seams, matcher, starts, stop, before, goal_here, spans)
                )
            before = joined.move
            if turn.slides_by is None:
                real[i], extended[i], near[i], jump_db[i] = joined.move, joined.extended, joined.near, joined.jump_db
                fits[i] = joined.move if joined.fits is None else joined.fits
        limited[:-1] = real[:-1] != move
    edits = EditList.of(seams.at, seams.shift, seams.fade)
    return Cut(
        edits,
        frozen(real[:-1], np.int64),
        extended=frozen(extended[:-1], np.bool_),
        limited=frozen(limited[:-1], np.bool_),
        near=frozen(near[:-1], np.bool_),
        jump_db=frozen(jump_db[:-1]),
        fits=frozen(fits[:-1], np.int64),
    )


@dataclass(frozen=True)
class _Turn:
    """A place from which on the sound moves anew: a stroke, or inside the piece before that stroke where it slides."""

    at: int
    stroke: int
    slides_by: int | None = None


def _turns(anchors: IntArray, slides: Sequence[tuple[int, int, int]]) -> list[_Turn]:
    """All of them, in order of place; a slide ends where it should, or at the stroke that comes before that."""
    turns = [_Turn(at, number) for number, at in enumerate(anchors.tolist())]
    for start, end, by in slides:
        stroke = int(np.searchsorted(anchors, start, side="right"))
        if stroke < len(anchors):
            turns.append(_Turn(start, stroke, by))
            if end < anchors[stroke]:
                turns.append(_Turn(end, stroke, 0))
    return sorted(turns, key=lambda turn: (turn.at, turn.slides_by is None, turn.slides_by != 0))


def _join(
    seams: _Seams, matcher: Matcher, starts: IntArray, stop: int, before: int, after: int, spans: list[_Spans]
) -> _Joined:
    """Add the seam (or seams) before one attack."""
    gap = after - before
    earliest = seams.at[-1] - before
    fits = before + _largest_gap(starts, stop, spans[0]) if gap > 0 else None
    for number, span in enumerate(spans):
        found = one = _one_seam(matcher, starts, stop, gap, span, earliest)
        if found is None or found[0].change_db > _HEARD_DB:
            two = _two_seams(matcher, starts, stop, gap, span, earliest)
            if two is not None and (found is None or _worst_db(two) < _worst_db(found) - _WORTH_DB):
                found = two
        if found is not None:
            for join in found:
                before += join.gap
                seams.add(join.place + before, before, span.fade)
            # Without room for one, what rings before sounds more than once.
            extended = one is None and gap > 0
            return _Joined(after, extended, number >= _TIGHT, _worst_db(found), fits if extended else None)
    span = spans[-1]
    if gap > 0:
        move, extended = _extend_tail(seams, starts, stop, before, after, span)
        return _Joined(move, extended, True, 0.0, fits)
    # An overlap larger than the sustain: move only as far as the attack before allows.
    room = stop - span.lead_in - (_last(starts, stop, span) + span.attack + span.fade)
    room = min(room, stop - span.lead_in - span.fade - earliest)
    if room <= 0:
        return _Joined(before, False, False, 0.0)
    after = before - min(-gap, room)
    place = stop - span.lead_in
    seams.add(place + after, after, span.fade)
    return _Joined(after, False, True, 0.0)


class _Room:
    """Fills gaps with room tone, which is looked for when it is first needed."""

    def __init__(self, recordings: Sequence[Recording], arrivals: IntArray, span: _Spans) -> None:
        self._find = partial(find_room_tone, recordings, arrivals)
        self._span = span

    @cached_property
    def _stretch(self) -> Stretch | None:
        return self._find()

    def fill(self, seams: _Seams, starts: IntArray, stop: int, before: int, after: int) -> _Joined | None:
        """Let the tail run on to where the next attack would be heard, and room tone fill the rest.

        None where one seam in the sustain will do, or nothing can be filled: the tail has no room for a fade, or the
        take none for tone.
        """
        span, gap = self._span, after - before
        earliest = seams.at[-1] - before
        end = stop - span.lead_in
        if gap <= span.fade or _region(starts, stop, gap, span, earliest) is not None:
            return None
        if end - span.fade < max(_last(starts, stop, span) + span.attack, earliest) or self._stretch is None:
            return None
        tone = self._stretch.start + span.fade
        usable = self._stretch.length - 2 * span.fade
        if usable < 2 * span.fade:
            return None
        begin, filled = end + before, 0
        while filled < gap:  # over and over, if it is shorter than the gap
            seams.add(begin + filled, begin + filled - tone, span.fade)
            filled += usable
            if 0 < gap - filled < span.fade:  # the last round is cut short, so that its fades do not meet
                filled -= span.fade
        seams.add(end + after, after, span.fade)
        return _Joined(after, False, False, 0.0)


def _join_at(
    seams: _Seams, matcher: Matcher, place: int, stop: int, before: int, after: int, fade: int
) -> _Joined | None:
    """A seam where a person put it, if it fits between the one before and the attack."""
    gap = after - before
    if place > stop or place + gap - fade < seams.at[-1] - before:
        return None
    join = matcher.best((place, place), gap, fade)
    seams.add(place + after, after, fade)
    return _Joined(after, False, False, join.change_db)


@dataclass(frozen=True)
class _Joined:
    """What came of one attack: its move, whether its tail was extended, and how its seam stands."""

    move: int
    extended: bool
    near: bool
    jump_db: float
    fits: int | None = None


def _worst_db(joins: list[Join]) -> float:
    return max(join.change_db for join in joins)


def _one_seam(
    matcher: Matcher, starts: IntArray, stop: int, gap: int, span: _Spans, earliest: int
) -> list[Join] | None:
    """The best single seam, if there is room for one."""
    region = _region(starts, stop, gap, span, earliest)
    return None if region is None else [matcher.best(region, gap, span.fade)]


def _two_seams(
    matcher: Matcher, starts: IntArray, stop: int, gap: int, span: _Spans, earliest: int
) -> list[Join] | None:
    """Two seams that share the gap, one in each half of the room: each changes the level by less, and needs less.

    Shared in halves if that is good enough, else so that the level changes least.
    """
    found: list[Join] | None = None
    for share in _SHARES:
        first_gap = round(gap * share)
        second_gap = gap - first_gap
        regions = _two_regions(starts, stop, (first_gap, second_gap), span, earliest)
        if regions is None:
            continue
        (low, middle), (apart, high) = regions
        first = matcher.best((low, middle), first_gap, span.fade)
        pair = [first, matcher.best((first.place + apart, high), second_gap, span.fade)]
        if found is None or _worst_db(pair) < _worst_db(found):
            found = pair
        if _worst_db(found) <= _HEARD_DB:
            break
    return found


def _region(starts: IntArray, stop: int, gap: int, span: _Spans, earliest: int) -> tuple[int, int] | None:
    """First and last place (sample of the recording where the coming side sounds alone) that touch no attack.

    The last gap between arrivals that has room is taken: what sounds after the seam moves with the attack after it.
    """
    for sustain in _sustains(starts, stop, span):
        low, high = _places(sustain, gap, span, earliest)
        if low <= high:
            return low, high
    return None


def _two_regions(
    starts: IntArray, stop: int, gaps: tuple[int, int], span: _Spans, earliest: int
) -> tuple[tuple[int, int], tuple[int, int]] | None:
    """The same for two seams: places of the first; how far behind it the second may stand, and its last place."""
    if not all(gaps):
        return None
    apart = max(0, -gaps[1]) + span.fade
    for sustain in _sustains(starts, stop, span):
        low, last = _places(sustain, gaps[0], span, earliest)
        _, high = _places(sustain, gaps[1], span, earliest)
        middle = min((low + high - apart) // 2, last)
        if low <= middle:
            return (low, middle), (apart, high)
    return None


def _places(sustain: tuple[int, int], gap: int, span: _Spans, earliest: int) -> tuple[int, int]:
    """First and last place for a seam in a sustain; the first lies behind the last where there is no room."""
    begin, end = sustain
    return max(begin + max(0, -gap), earliest - gap) + span.fade, end - max(0, gap)


def _sustains(starts: IntArray, stop: int, span: _Spans) -> Iterator[tuple[int, int]]:
    """What sounds between neighbouring arrivals without their attacks, the last first; it may be nothing."""
    edges = np.append(starts, stop)
    for end, begin in zip(edges[:0:-1].tolist(), edges[-2::-1].tolist(), strict=True):
        yield begin + span.attack, end - span.lead_in


def _largest_gap(starts: IntArray, stop: int, span: _Spans) -> int:
    """The longest gap that one seam between two arrivals leaves room for, by `_region`."""
    return max([0, *(end - begin - span.fade for begin, end in _sustains(starts, stop, span))])


def _last(starts: IntArray, stop: int, span: _Spans) -> int:
    """The last attack far enough before `stop` to be another one than a spot microphone's early arrival."""
    earlier = starts[starts < stop - span.lead_in]
    return int(earlier[-1]) if len(earlier) else int(starts[0]) if len(starts) else 0


def _extend_tail(seams: _Seams, starts: IntArray, stop: int, before: int, after: int, span: _Spans) -> tuple[int, bool]:
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
        seams.add(place + before + int(total), before + int(total), fade)
    return before + gap, True
