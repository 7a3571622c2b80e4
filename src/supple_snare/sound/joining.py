"""What comes between two pieces that move by different amounts: where the seams stand, and what fills a gap.

With moves a before and b after it, the piece before is read up to b − a samples past the place where the piece after
begins. So a seam's place is chosen such that neither side reads an attack: the side that leaves never runs into the
next attack in any track, the side that comes never reaches back into the one before.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial

import numpy as np

from supple_snare.sound.files import Recording
from supple_snare.sound.gaps import CutSettings, Gap, Joined, Seam
from supple_snare.sound.matching import Join, Matcher
from supple_snare.sound.room_tone import Stretch, find_room_tone
from supple_snare.sound.stretch.placing import Stretcher
from supple_snare.sound.stretch.ways import Way
from supple_snare.timing.units import IntArray, ms_to_samples


@dataclass(frozen=True)
class _Spans:
    """The lengths of `CutSettings` in samples, for one degree of tightness of space."""

    lead_in: int
    fade: int
    attack: int


# The comfortable lengths first; where strokes are close, ever less of the attack is kept whole and fades get shorter.
_SQUEEZE = ((1.0, 1.0, 1.0), (1.0, 0.6, 0.6), (0.75, 0.4, 0.4), (0.5, 0.25, 0.2))
_TIGHT = 2
"""From this degree on, less of an attack is kept whole than is comfortable."""

_MAX_REPEATS = 12

_HEARD_DB, _WORTH_DB = 6.0, 2.0
"""A seam that changes the level by more is tried as two; they are taken if they change it by so much less."""

_SHARES = (0.5, 0.25, 0.75)
"""How much of a gap the first of two seams may take."""


class Joiner:
    """Finds the seams of gaps, from the front of the take to its end.

    Parameters
    ----------
    recordings : sequence of Recording
        All tracks of the group; of one rate.
    arrivals : int array, shape (m,)
        Every attack in any track, increasing: where none is, room tone may be found.
    settings : CutSettings
    """

    def __init__(self, recordings: Sequence[Recording], arrivals: IntArray, settings: CutSettings) -> None:
        rate_hz = recordings[0].rate_hz
        self._spans = [
            _Spans(
                lead_in=ms_to_samples(settings.lead_in_ms * lead_in, rate_hz),
                fade=max(8, ms_to_samples(settings.fade_ms * fade, rate_hz)),
                attack=ms_to_samples(settings.attack_ms * keep, rate_hz),
            )
            for lead_in, fade, keep in _SQUEEZE
        ]
        self._matcher = Matcher(recordings)
        self._stretcher = Stretcher(self._matcher, settings, rate_hz)
        find_tone = partial(find_room_tone, recordings, arrivals)
        self._room = _Room(find_tone, self._spans[0]) if settings.room_tone else None

    def __enter__(self) -> Joiner:
        return self

    def __exit__(self, *error: object) -> None:
        self._matcher.__exit__(*error)

    @property
    def least_lead_in(self) -> int:
        """How near to the start of the file an attack may come."""
        return self._spans[-1].lead_in

    @property
    def attack(self) -> int:
        """How much of an attack is kept whole where there is room."""
        return self._spans[0].attack

    def join(self, gap: Gap) -> Joined:
        """A seam where a person put it, else a stretch if that is the way, else room tone, else what fits best."""
        by_hand = _join_at(self._matcher, gap, self._spans[0].fade)
        is_short = by_hand is None and gap.way is not Way.CUT
        if is_short and (stretched := self._stretcher.join(gap)) is not None:
            return stretched
        toned = self._room.fill(gap) if self._room is not None and by_hand is None else None
        joined = by_hand or toned or _join(self._matcher, gap, self._spans)
        return replace(joined, is_short=is_short)


def _join(matcher: Matcher, gap: Gap, spans: list[_Spans]) -> Joined:
    """One seam or two where both sides are most alike, with as much room as there is; else what can be done at all."""
    fits = gap.before + _largest_width(gap, spans[0]) if gap.width > 0 else gap.after
    for number, span in enumerate(spans):
        found = one = _one_seam(matcher, gap, span)
        if found is None or _worst_db(found) > _HEARD_DB:
            two = _two_seams(matcher, gap, span)
            if two is not None and (found is None or _worst_db(two) < _worst_db(found) - _WORTH_DB):
                found = two
        if found is not None:
            shifts = (gap.before + np.cumsum([join.gap for join in found])).tolist()
            seams = [Seam(join.place + shift, shift, span.fade) for join, shift in zip(found, shifts, strict=True)]
            # Without room for one, what rings before sounds more than once.
            extended = one is None and gap.width > 0
            fits = fits if extended else gap.after
            return Joined(tuple(seams), gap.after, fits, extended, number >= _TIGHT, _worst_db(found))
    return _extend_tail(gap, spans[-1], fits) if gap.width > 0 else _overlap(gap, spans[-1])


def _overlap(gap: Gap, span: _Spans) -> Joined:
    """An overlap larger than the sustain: the piece after moves only as far as the attack before allows."""
    place = gap.stop - span.lead_in
    room = place - span.fade - max(_last(gap, span) + span.attack, gap.earliest)
    if room <= 0:
        return Joined((), gap.before, gap.before)
    after = gap.before - min(-gap.width, room)
    return Joined((Seam(place + after, after, span.fade),), after, after, near=True)


def _extend_tail(gap: Gap, span: _Spans, fits: int) -> Joined:
    """Fill a gap longer than the sustain by several equal repeats of its end."""
    end = gap.stop - span.lead_in
    sustain = end - span.fade - max(_last(gap, span) + span.attack, gap.earliest)
    if sustain <= span.fade:
        return Joined((), gap.before, fits, near=True)
    repeats = min(int(np.ceil(gap.width / sustain)), _MAX_REPEATS)
    width = min(gap.width, repeats * sustain)
    reached = np.rint(width * np.arange(repeats + 1) / repeats).astype(np.int64).tolist()
    seams = []
    for begin, total in itertools.pairwise(reached):
        step, shift = total - begin, gap.before + total
        seams.append(Seam(end - step + shift, shift, min(span.fade, step)))
    return Joined(tuple(seams), gap.before + width, fits, extended=True, near=True)


class _Room:
    """Fills gaps with room tone, which is looked for when it is first needed."""

    def __init__(self, find: partial[Stretch | None], span: _Spans) -> None:
        self._find, self._span = find, span

    @cached_property
    def _stretch(self) -> Stretch | None:
        return self._find()

    def fill(self, gap: Gap) -> Joined | None:
        """Let the tail run on to where the next attack would be heard, and room tone fill the rest.

        None where one seam in the sustain will do, or nothing can be filled: the tail has no room for a fade, or the
        take none for tone.
        """
        span, end = self._span, gap.stop - self._span.lead_in
        if gap.width <= span.fade or _region(gap, span) is not None:
            return None
        if end - span.fade < max(_last(gap, span) + span.attack, gap.earliest) or self._stretch is None:
            return None
        tone = self._stretch.start + span.fade
        usable = self._stretch.length - 2 * span.fade
        if usable < 2 * span.fade:
            return None
        begin, filled, seams = end + gap.before, 0, []
        while filled < gap.width:  # over and over, if it is shorter than the gap
            seams.append(Seam(begin + filled, begin + filled - tone, span.fade))
            filled += usable
            if 0 < gap.width - filled < span.fade:  # the last round is cut short, so that its fades do not meet
                filled -= span.fade
        return Joined((*seams, Seam(end + gap.after, gap.after, span.fade)), gap.after, gap.after)


def _join_at(matcher: Matcher, gap: Gap, fade: int) -> Joined | None:
    """A seam where a person put it, if it fits between the one before and the attack."""
    if gap.told is None:
        return None
    place, fade = gap.told.place, gap.told.fade or fade
    if place > gap.stop or place + gap.width - fade < gap.earliest:
        return None
    join = matcher.best((place, place), gap.width, fade)
    return Joined((Seam(place + gap.after, gap.after, fade),), gap.after, gap.after, jump_db=join.change_db)


def _worst_db(joins: list[Join]) -> float:
    return max(join.change_db for join in joins)


def _one_seam(matcher: Matcher, gap: Gap, span: _Spans) -> list[Join] | None:
    """The best single seam, if there is room for one."""
    region = _region(gap, span)
    return None if region is None else [matcher.best(region, gap.width, span.fade)]


def _two_seams(matcher: Matcher, gap: Gap, span: _Spans) -> list[Join] | None:
    """Two seams that share the gap, one in each half of the room: each changes the level by less, and needs less.

    Shared in halves if that is good enough, else so that the level changes least.
    """
    found: list[Join] | None = None
    for share in _SHARES:
        first_width = round(gap.width * share)
        second_width = gap.width - first_width
        regions = _two_regions(gap, (first_width, second_width), span)
        if regions is None:
            continue
        (low, middle), (apart, high) = regions
        first = matcher.best((low, middle), first_width, span.fade)
        pair = [first, matcher.best((first.place + apart, high), second_width, span.fade)]
        if found is None or _worst_db(pair) < _worst_db(found):
            found = pair
        if _worst_db(found) <= _HEARD_DB:
            break
    return found


def _region(gap: Gap, span: _Spans) -> tuple[int, int] | None:
    """First and last place (sample of the recording where the coming side sounds alone) that touch no attack.

    The last gap between arrivals that has room is taken: what sounds after the seam moves with the attack after it.
    """
    for sustain in gap.sustains(span.attack, span.lead_in):
        low, high = _places(sustain, gap.width, span, gap.earliest)
        if low <= high:
            return low, high
    return None


def _two_regions(gap: Gap, widths: tuple[int, int], span: _Spans) -> tuple[tuple[int, int], tuple[int, int]] | None:
    """The same for two seams: places of the first; how far behind it the second may stand, and its last place."""
    if not all(widths):
        return None
    apart = max(0, -widths[1]) + span.fade
    for sustain in gap.sustains(span.attack, span.lead_in):
        low, last = _places(sustain, widths[0], span, gap.earliest)
        _, high = _places(sustain, widths[1], span, gap.earliest)
        middle = min((low + high - apart) // 2, last)
        if low <= middle:
            return (low, middle), (apart, high)
    return None


def _places(sustain: tuple[int, int], width: int, span: _Spans, earliest: int) -> tuple[int, int]:
    """First and last place for a seam in a sustain; the first lies behind the last where there is no room."""
    begin, end = sustain
    return max(begin + max(0, -width), earliest - width) + span.fade, end - max(0, width)


def _largest_width(gap: Gap, span: _Spans) -> int:
    """The longest gap that one seam between two arrivals leaves room for, by `_region`."""
    return max([0, *(end - begin - span.fade for begin, end in gap.sustains(span.attack, span.lead_in))])


def _last(gap: Gap, span: _Spans) -> int:
    """The last attack far enough before the piece after to be another one than a spot microphone's early arrival."""
    earlier = [start for start in gap.starts if start < gap.stop - span.lead_in]
    return earlier[-1] if earlier else gap.starts[0] if gap.starts else 0
