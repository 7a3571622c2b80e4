"""The cut method: pieces between seams, each moved whole; seams found on the whole group and shared by all tracks.

A seam stands in the sustain between two attacks (`sound/joining.py`). A gap longer than the sustain is filled by
several shorter repeats at the same places in all tracks, or by room tone.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import Recording
from supple_snare.sound.gaps import CutSettings, Gap, Joined, Seam, Told
from supple_snare.sound.joining import Joiner
from supple_snare.sound.stretch.rendering import StretchedSound
from supple_snare.sound.stretch.ways import Way
from supple_snare.timing.units import FloatArray, IntArray, frozen

_RETURN_S = 2
_MOST_KNOWN = 100_000


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
    ratio : float array, shape (n,)
        How many times as long what is stretched before each is as it was played; 1 where nothing is.
    unlike : float array, shape (n,)
        How little that has in common with what follows it where it ends, 0 the same, 1 unrelated.
    short : bool array, shape (n,)
        Attacks before which there was too little to be stretched: the gap is cut.
    added : int array, shape (m,)
        How many seams stand before each attack and before what follows the last, and at the ends of what slides, in
        order of place.
    """

    edits: EditList
    move: IntArray
    extended: NDArray[np.bool_]
    limited: NDArray[np.bool_]
    near: NDArray[np.bool_]
    jump_db: FloatArray
    fits: IntArray
    ratio: FloatArray
    unlike: FloatArray
    short: NDArray[np.bool_]
    added: IntArray

    @property
    def has_seam(self) -> NDArray[np.bool_]:
        """Which attacks have a seam before them: those that move otherwise than the one before, shape (n,)."""
        return np.diff(self.move, prepend=0) != 0


class SeamMemory:
    """Seams found before, by all that they followed from: plans that differ in a few moves share the rest.

    It is of one group: with other recordings or settings everything is forgotten.
    """

    def __init__(self) -> None:
        self._about: tuple[object, ...] = ()
        self._known: dict[Gap, Joined] = {}
        self._sound: StretchedSound | None = None

    def be_about(self, recordings: tuple[Recording, ...], *about: object) -> None:
        """What all seams follow from besides their gaps."""
        if (recordings, *about) != self._about:
            self._about, self._known = (recordings, *about), {}
        if self._sound is None or self._sound.recordings != recordings:
            self._sound = StretchedSound(recordings)

    @property
    def sound(self) -> StretchedSound | None:
        """What is stretched of the recordings, as plans of the group share it."""
        return self._sound

    def joined(self, gap: Gap, find: Callable[[Gap], Joined]) -> Joined:
        """As found before, or as it is found now."""
        known = self._known  # another plan may forget everything meanwhile
        if gap not in known:
            if len(known) >= _MOST_KNOWN:
                known.clear()
            known[gap] = find(gap)
        return known[gap]


def plan_cut(
    recordings: Sequence[Recording],
    *,
    first_arrival: IntArray,
    arrivals: IntArray,
    move: IntArray,
    settings: CutSettings | None = None,
    places: Mapping[int, Told] | None = None,
    slides: Sequence[tuple[int, int, int]] = (),
    ways: Sequence[Way] | Way = Way.CUT,
    anchors: Sequence[int] = (),
    memory: SeamMemory | None = None,
    known: Cut | None = None,
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
    places : mapping of int to Told, optional
        Seams put somewhere by hand, by the number of the stroke after them. One that would touch the seam before or
        the stroke itself is not believed.
    slides : sequence of (int, int, int)
        Sound moved by hand inside a piece: first sample, sample after the last, and how much more it moves. It ends
        where the next stroke is cut, if that comes earlier.
    ways : Way or sequence of Way
        How the gap before each stroke is filled, and that after the last: n + 1 of them, or one for all.
    anchors : sequence of int
        Samples that stay where they are, increasing: between strokes what moves ends and begins there.
    memory : SeamMemory, optional
        What earlier plans of this group found: the outcome is the same, sooner.
    known : Cut, optional
        What this very plan came to at another time: it is believed, and remembered for other plans.
    progress : callable, optional
        Called with the share done; may raise to stop the work.

    Returns
    -------
    Cut
    """
    settings = settings or CutSettings()
    frames, rate_hz = max(recording.frames for recording in recordings), recordings[0].rate_hz
    # A last stop, at the end of the file or well after the last attack, lets what follows the last stroke come back
    # to its place.
    last = int(arrivals[-1]) if len(arrivals) else 0
    stops = np.append(first_arrival, min(frames, last + _RETURN_S * rate_hz))
    turns = _turns(stops, slides, anchors)
    ways = [ways] * len(stops) if isinstance(ways, Way) else ways
    memory = memory or SeamMemory()
    memory.be_about(tuple(recordings), settings, arrivals.tobytes() if settings.room_tone else b"")
    kept = _Kept(known) if known is not None and len(known.added) == len(turns) else None
    joins: list[Joined] = []
    strokes: list[Joined] = []
    seams, before, since, is_anchored = [Seam(0, 0, 0)], 0, 0, False
    with Joiner(recordings, arrivals, settings) as joiner:
        for turn in turns:
            i, stop = turn.stroke, turn.at
            if progress is not None and i % 16 == 0:
                progress(i / len(stops))
            told: Told | None = Told(stop)  # a slide begins and ends where a person said
            if turn.is_anchor:
                goal, told = 0, None
            elif turn.slides_by is not None:
                goal = (strokes[-1].move if strokes else 0) + turn.slides_by
            elif i < len(move):
                # The first attack must not be moved out of the file.
                goal, told = max(int(move[i]), joiner.least_lead_in - stop), (places or {}).get(i)
            else:
                goal, told = 0, None
            joined = Joined((), before, before)
            if goal != before:
                between = arrivals[np.searchsorted(arrivals, since) : np.searchsorted(arrivals, stop)].tolist()
                # What follows an anchor is kept whole as an attack is, or the anchor would be stretched itself.
                starts = (since, *between) if is_anchored else tuple(between) if i else (-joiner.attack, *between)
                way = ways[i] if turn.slides_by is None else Way.CUT
                gap = Gap(starts, stop, before, goal, seams[-1].at - before, told, way)
                joined = memory.joined(gap, joiner.join if kept is None else kept.of(len(joins), turn))
            before = joined.move
            seams += joined.seams
            joins.append(joined)
            is_anchored = turn.is_anchor
            if turn.is_stroke:
                strokes.append(joined)
            if turn.is_stroke or turn.is_anchor:
                since = stop
    return _cut_of(seams, joins, strokes[:-1], move, memory.sound)


def _cut_of(
    seams: list[Seam], joins: list[Joined], strokes: list[Joined], wanted: IntArray, sound: StretchedSound | None
) -> Cut:
    """What came of all turns, of those that are strokes, and of what was wanted of these."""
    at, shift, fade, is_stretched = zip(*seams, strict=True)
    move = np.array([joined.move for joined in strokes], dtype=np.int64)
    return Cut(
        EditList.of(at, shift, fade, is_stretched, sound if any(is_stretched) else None),
        frozen(move, np.int64),
        extended=frozen([joined.extended for joined in strokes], np.bool_),
        limited=frozen(move != wanted, np.bool_),
        near=frozen([joined.near for joined in strokes], np.bool_),
        jump_db=frozen([joined.jump_db for joined in strokes]),
        fits=frozen([joined.fits for joined in strokes], np.int64),
        ratio=frozen([joined.ratio for joined in strokes]),
        unlike=frozen([joined.unlike for joined in strokes]),
        short=frozen([joined.is_short for joined in strokes], np.bool_),
        added=frozen([len(joined.seams) for joined in joins], np.int64),
    )


class _Kept:
    """A cut taken apart again into what came of each turn."""

    def __init__(self, cut: Cut) -> None:
        self._cut = cut
        edits = cut.edits
        rows = zip(*(each.tolist() for each in (edits.at, edits.shift, edits.fade, edits.is_stretched)), strict=True)
        self._seams = [Seam(*row) for row in rows]
        self._until = (1 + np.cumsum(cut.added)).tolist()

    def of(self, number: int, turn: _Turn) -> Callable[[Gap], Joined]:
        """Gives what came of a turn, whatever the gap."""
        cut, i, until = self._cut, turn.stroke, self._until[number]
        seams = tuple(self._seams[until - int(cut.added[number]) : until])

        def joined(gap: Gap) -> Joined:
            move = seams[-1].shift if seams else gap.before
            if not turn.is_stroke or i >= len(cut.move):
                return Joined(seams, move, move)
            stands = (bool(cut.extended[i]), bool(cut.near[i]), float(cut.jump_db[i]))
            stretch = (float(cut.ratio[i]), float(cut.unlike[i]), bool(cut.short[i]))
            return Joined(seams, move, int(cut.fits[i]), *stands, *stretch)

        return joined


@dataclass(frozen=True)
class _Turn:
    """A place from which on the sound moves anew: a stroke, or before that a slide or an anchor."""

    at: int
    stroke: int
    slides_by: int | None = None
    is_anchor: bool = False

    @property
    def is_stroke(self) -> bool:
        """Whether it is a stroke, or what follows the last."""
        return self.slides_by is None and not self.is_anchor


def _turns(stops: IntArray, slides: Sequence[tuple[int, int, int]], anchors: Sequence[int]) -> list[_Turn]:
    """All of them, in order of place; a slide ends where it should, or at the stroke that comes before that."""
    turns = [_Turn(at, number) for number, at in enumerate(stops.tolist())]
    for start, end, by in slides:
        stroke = int(np.searchsorted(stops, start, side="right"))
        if stroke < len(stops):
            turns.append(_Turn(start, stroke, by))
            if end < stops[stroke]:
                turns.append(_Turn(end, stroke, 0))
    for at in anchors:
        stroke = int(np.searchsorted(stops, at, side="right"))
        if stroke < len(stops):
            turns.append(_Turn(at, stroke, is_anchor=True))
    return sorted(turns, key=lambda turn: (turn.at, turn.is_stroke, turn.slides_by != 0))
