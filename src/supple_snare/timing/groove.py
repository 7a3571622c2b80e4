"""Groove templates: a feel on its own, with an offset, a spread and an accent for each slot of a cycle.

Offsets of a template are from the straight slot, so that it carries its own swing; they are kept in milliseconds and in
parts of a beat, the two being the same at the template's own tempo.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.errors import UsageError
from supple_snare.timing.cycle import Cycle, cells_of
from supple_snare.timing.grid import Grid
from supple_snare.timing.offsets import Offsets
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.split import robust_feel
from supple_snare.timing.strokes import Strokes
from supple_snare.timing.units import FloatArray, IntArray

SAME_PLACE_BEATS = 0.02
"""Slots this near to each other are the same one: a third of the distance of two 32nd-note triplets."""

MOST_SLOTS = 4096
_LONGEST_BEATS = 1024.0
UNSURE_COUNT = 2
"""A slot heard so often or less is unsure."""


@dataclass(frozen=True, order=True)
class GrooveSlot:
    """One slot of a template.

    Attributes
    ----------
    position_beats : float
        The straight slot, in quarter notes from the start of the cycle.
    offset_beats, offset_ms : float
        How far from it is played, late being positive.
    spread_ms : float
        Standard deviation of the strokes behind it.
    accent_db : float
        Level beside the usual one of whoever played.
    count : int
        Strokes behind it.
    """

    position_beats: float
    offset_beats: float
    offset_ms: float
    spread_ms: float = 0.0
    accent_db: float = 0.0
    count: int = 1


@dataclass(frozen=True)
class Groove:
    """A groove template.

    Attributes
    ----------
    name : str
    cycle_beats : float
        Length in quarter notes.
    slots : tuple of GrooveSlot
        In order of position.
    tempo_bpm : float
        At which its milliseconds and its parts of a beat are the same.
    ruling : Ruling
        The slots and swing of the grid it was measured on.
    source : str
        Where it was taken from, in words.

    Raises
    ------
    UsageError
        If a value makes no sense, or two slots are one.
    """

    name: str
    cycle_beats: float
    slots: tuple[GrooveSlot, ...]
    tempo_bpm: float = 120.0
    ruling: Ruling = Ruling()
    source: str = ""

    def __post_init__(self) -> None:
        numbers = [self.cycle_beats, self.tempo_bpm]
        numbers += [value for slot in self.slots for value in vars(slot).values()]
        if not np.isfinite(np.array(numbers, dtype=np.float64)).all():
            raise UsageError("A groove holds numbers only; this one has a gap.")
        if not 0.0 < self.cycle_beats <= _LONGEST_BEATS or not 5.0 <= self.tempo_bpm <= 1000.0:
            raise UsageError(
                f"A groove of {self.cycle_beats:g} beats at {self.tempo_bpm:g} bpm makes no sense: give a cycle of up "
                f"to {_LONGEST_BEATS:g} beats."
            )
        if not 1 <= len(self.slots) <= MOST_SLOTS:
            raise UsageError(f"A groove has from 1 to {MOST_SLOTS} slots, this one {len(self.slots)}.")
        place = self.position_beats
        if place[0] < 0.0 or place[-1] >= self.cycle_beats or np.any(np.diff(place) < SAME_PLACE_BEATS):
            raise UsageError("The slots of a groove stand in order inside its cycle; these do not.")
        if np.any(np.abs(self.offset_beats) > 0.5 * max(self.cycle_beats, 1.0)) or any(s.count < 0 for s in self.slots):
            raise UsageError("A slot of this groove lies farther from its place than a groove can say.")

    def _column(self, name: str) -> FloatArray:
        return np.array([getattr(slot, name) for slot in self.slots], dtype=np.float64)

    @property
    def position_beats(self) -> FloatArray:
        """Straight slots, shape (slots,)."""
        return self._column("position_beats")

    @property
    def offset_beats(self) -> FloatArray:
        """Offsets from them in quarter notes, shape (slots,)."""
        return self._column("offset_beats")

    @property
    def offset_ms(self) -> FloatArray:
        """Offsets from them in ms, shape (slots,)."""
        return self._column("offset_ms")

    @property
    def count(self) -> FloatArray:
        """Strokes behind each slot, shape (slots,)."""
        return self._column("count")

    @property
    def accent_db(self) -> FloatArray:
        """Accents, shape (slots,)."""
        return self._column("accent_db")

    @property
    def spread_ms(self) -> FloatArray:
        """Spread of the strokes behind each slot, shape (slots,)."""
        return self._column("spread_ms")

    @property
    def swing_beats(self) -> FloatArray:
        """What the swing it was measured on makes of its offsets, shape (slots,)."""
        place = self.position_beats
        return self.ruling.swung(place, max(self.cycle_beats, self.ruling.pair_beats)) - place

    @property
    def feel_ms(self) -> FloatArray:
        """Its offsets from the grid it was measured on, swing included, shape (slots,)."""
        return self.offset_ms - self.swing_beats * 60_000.0 / self.tempo_bpm

    @property
    def mean_ms(self) -> float:
        """How far it shifts a performance as a whole."""
        return float(np.average(self.feel_ms, weights=np.maximum(self.count, 1e-9)))

    # ---- changes

    def shifted(self, by_ms: FloatArray | float) -> Groove:
        """The template with its offsets changed by so much, each or all."""
        offset_ms = self.offset_ms + by_ms
        return self._with_offsets(offset_ms)

    def centred(self) -> Groove:
        """The template that does not shift a performance as a whole."""
        return self.shifted(-self.mean_ms)

    def scaled(self, factor: float) -> Groove:
        """The template with everything in it so many times as far from the straight slots."""
        return self._with_offsets(self.offset_ms * factor)

    def thinned(self, least_count: int) -> Groove:
        """Only the slots with so many strokes behind them.

        Raises
        ------
        UsageError
            If none is left.
        """
        kept = tuple(slot for slot in self.slots if slot.count >= least_count)
        if not kept:
            raise UsageError(f"No slot of “{self.name}” has {least_count} strokes behind it.")
        return replace(self, slots=kept)

    def with_accents_of(self, other: Groove) -> Groove:
        """The template with the accents of another one, where that has the same slot."""
        found = look_up(other, self.position_beats % other.cycle_beats)
        accents = np.where(found.known, found.of(other.accent_db), 0.0)
        slots = tuple(replace(slot, accent_db=float(db)) for slot, db in zip(self.slots, accents, strict=True))
        return replace(self, slots=slots)

    def with_slot(self, index: int, offset_ms: float) -> Groove:
        """The template with one slot elsewhere."""
        by = np.zeros(len(self.slots))
        by[index] = offset_ms - self.slots[index].offset_ms
        return self.shifted(by)

    def _with_offsets(self, offset_ms: FloatArray) -> Groove:
        beats = offset_ms * self.tempo_bpm / 60_000.0
        slots = tuple(
            replace(slot, offset_ms=float(ms), offset_beats=float(of_beat))
            for slot, ms, of_beat in zip(self.slots, offset_ms, beats, strict=True)
        )
        return replace(self, slots=slots)


@dataclass(frozen=True, eq=False)
class Found:
    """Places looked up in a template: the slots on either side, and how far between them each lies.

    Attributes
    ----------
    left, right : int array, shape (n,)
    share : float array, shape (n,)
        0 at the left slot, 1 at the right one.
    known : bool array, shape (n,)
        The template has that very slot.
    """

    left: IntArray
    right: IntArray
    share: FloatArray
    known: NDArray[np.bool_]

    def of(self, column: FloatArray) -> FloatArray:
        """Values of a column of the template at the places, straight lines between slots."""
        return np.asarray(column[self.left] * (1.0 - self.share) + column[self.right] * self.share)


def look_up(groove: Groove, place: FloatArray) -> Found:
    """Find places of a cycle among the slots of a template; its end is followed by its start.

    Parameters
    ----------
    groove : Groove
    place : float array, shape (n,)
        Quarter notes from the start of the cycle, from 0 to its length.
    """
    slots, cycle = groove.position_beats, groove.cycle_beats
    right = np.searchsorted(slots, place - SAME_PLACE_BEATS)
    left = (right - 1) % len(slots)
    right = right % len(slots)
    away = (place - slots[left]) % cycle
    gap = (slots[right] - slots[left]) % cycle
    gap = np.where(gap <= 0.0, cycle, gap)
    to_right = np.abs((place - slots[right] + 0.5 * cycle) % cycle - 0.5 * cycle)
    known = to_right <= SAME_PLACE_BEATS
    share = np.where(known, 1.0, np.clip(away / gap, 0.0, 1.0))
    return Found(left.astype(np.int64), right.astype(np.int64), share, known)


def take_groove(
    strokes: Strokes,
    offsets: Offsets,
    grid: Grid,
    which: NDArray[np.bool_],
    *,
    name: str,
    cycle: Cycle | None = None,
    first_bar: int | None = None,
    centred: bool = True,
    source: str = "",
) -> Groove:
    """Take a template from strokes.

    Parameters
    ----------
    strokes : Strokes
    offsets : Offsets
        Of the same strokes on the grid.
    grid : Grid
    which : bool array, shape (n,)
        The strokes that count.
    name : str
    cycle : Cycle, optional
        Its length; by default that of the feel of the first section touched.
    first_bar : int, optional
        The bar it begins with; by default the first one of that section.
    centred : bool
        Leave out what shifts all strokes alike, so that the template does not shift a performance as a whole.
    source : str

    Returns
    -------
    Groove

    Raises
    ------
    UsageError
        If none of the strokes has a slot.
    """
    index = np.flatnonzero(which & offsets.placed)
    if not len(index):
        raise UsageError("None of these strokes has a slot: a groove needs strokes on the grid.")
    section = int(offsets.section[index[0]])
    cycle = cycle or offsets.cycles[section]
    # A cycle has one length: bars of another meter than most are left out.
    lengths = grid.bars.bar_beats_of(offsets.bar[index])
    values, counts = np.unique(lengths, return_counts=True)
    bar_beats = float(values[np.argmax(counts)])
    index = index[lengths == bar_beats]
    first = int(grid.first_bars[section]) if first_bar is None else first_bar
    place = cycle.places(grid, offsets.place[index], offsets.bar[index], first)
    cell = cells_of(place)
    tempo = grid.tempo_at(offsets.grid_s[index])
    rest_ms = offsets.offset_ms[index] - offsets.drift_ms[index]
    feel_ms, weight = robust_feel(rest_ms, cell)
    feel_ms -= float(np.average(feel_ms, weights=weight))
    if not centred:
        feel_ms += float(np.average(offsets.offset_ms[index], weights=weight))
    inside = offsets.place[index] - grid.bars.beat_of(offsets.bar[index])
    offset_beats = offsets.beat[index] - inside + feel_ms * tempo / 60_000.0
    level = strokes.level_db[index] - cell_means(strokes.level_db, strokes.lead, np.ones(len(strokes)))[index]
    spread = np.sqrt(cell_means((rest_ms - cell_means(rest_ms, cell, weight)) ** 2, cell, weight))
    tempo_bpm = float(np.median(tempo))
    first_of = np.unique(cell, return_index=True)[1]
    count = np.bincount(cell)
    columns = (place, cell_means(offset_beats, cell, weight), spread, cell_means(level, cell, weight))
    slots = [
        GrooveSlot(float(at), float(beats), float(beats) * 60_000.0 / tempo_bpm, float(wide), float(db), int(number))
        for (at, beats, wide, db), number in zip(zip(*(c[first_of] for c in columns), strict=True), count, strict=True)
    ]
    length = cycle.count * (bar_beats if cycle.of_bars else float(grid.bars.felt_beats_of(offsets.bar[index[0]])))
    return Groove(name, length, tuple(sorted(slots)), tempo_bpm, grid.ruling_of(section), source)


def cell_means(values: FloatArray, cell: IntArray, weight: FloatArray) -> FloatArray:
    """Weighted mean of each cell, given back for each value."""
    total = np.maximum(np.bincount(cell, weight), 1e-12)
    return np.asarray((np.bincount(cell, weight * values) / total)[cell])


def groove_target_ms(groove: Groove, offsets: Offsets, grid: Grid, *, by_tempo: bool, between: bool) -> FloatArray:
    """Where a template puts strokes, in ms from their slots as the grid lays them, swing and all.

    Parameters
    ----------
    groove : Groove
    offsets : Offsets
    grid : Grid
    by_tempo : bool
        Keep its offsets in parts of a beat, so that they grow as the tempo falls; else in ms.
    between : bool
        What becomes of slots the template does not know. If true they go along with the known ones on either side, in
        proportion; what lies between two notes that move would else be crushed or torn off. If false they keep to the
        grid.

    Returns
    -------
    float array, shape (n,)
        NaN for strokes without a slot.
    """

    def pull(found: Found, swing_beats: FloatArray, beat_ms: FloatArray) -> FloatArray:
        offset_ms = found.of(groove.offset_beats) * beat_ms if by_tempo else found.of(groove.offset_ms)
        # The grid's own swing is taken off: a template has one of its own.
        pulled = offset_ms - found.of(swing_beats) * beat_ms
        return pulled if between else np.where(found.known, pulled, 0.0)

    return _at_strokes(groove, offsets, grid, pull)


def groove_accents_db(groove: Groove, offsets: Offsets, grid: Grid) -> FloatArray:
    """The accent a template gives each stroke, in dB; NaN where it does not know the slot."""

    def accent(found: Found, *_unused: FloatArray) -> FloatArray:
        return np.where(found.known, found.of(groove.accent_db), np.nan)

    return _at_strokes(groove, offsets, grid, accent)


def _at_strokes(
    groove: Groove, offsets: Offsets, grid: Grid, value: Callable[[Found, FloatArray, FloatArray], FloatArray]
) -> FloatArray:
    """A value of the template for each placed stroke, worked out for all of one section and meter together.

    `value` is given the places found, the grid's swing at each slot of the template, and the length of a beat in ms.
    """
    result = np.full(len(offsets), np.nan)
    number = grid.bars.number_of(offsets.bar)
    for section in np.unique(offsets.section[offsets.placed]).tolist():
        for meter in np.unique(number[offsets.placed & (offsets.section == section)]).tolist():
            here = np.flatnonzero(offsets.placed & (offsets.section == section) & (number == meter))
            bar_beats = float(grid.bars.bar_beats_of(offsets.bar[here[:1]])[0])
            inside = offsets.place[here] - grid.bars.beat_of(offsets.bar[here])
            turn = groove.cycle_beats / bar_beats
            # A cycle of whole bars runs on through them; any other begins anew with each bar.
            bars = offsets.bar[here] - grid.first_bars[section] if abs(turn - round(turn)) < 1e-6 else 0
            place = (bars * bar_beats + inside) % groove.cycle_beats
            place = np.where(groove.cycle_beats - place < SAME_PLACE_BEATS, 0.0, place)
            straight = groove.position_beats % bar_beats
            swing_beats = grid.ruling_of(section).swung(straight, bar_beats) - straight
            beat_ms = 60_000.0 / grid.tempo_at(offsets.grid_s[here])
            result[here] = value(look_up(groove, place), swing_beats, beat_ms)
    return result


def groove_moments(groove: Groove, grid: Grid, start_s: float, end_s: float) -> tuple[FloatArray, FloatArray]:
    """When a template is played, over and over from bar 1 in both directions, along a grid.

    Returns
    -------
    time_s, accent_db : float array, shape (n,)
        In order of time.
    """
    first, last = (float(grid.course.beat_at(time)) / groove.cycle_beats for time in (start_s, end_s))
    turns = np.arange(np.floor(first), np.ceil(last) + 1.0)
    places = turns[:, None] * groove.cycle_beats + groove.position_beats + groove.offset_beats
    time_s = grid.course.time_at(places.ravel())
    accent_db = np.tile(groove.accent_db, len(turns))
    order = np.argsort(time_s, kind="stable")
    order = order[(time_s[order] >= start_s) & (time_s[order] <= end_s)]
    return np.asarray(time_s[order]), np.asarray(accent_db[order])


def likeness(first: Groove, second: Groove) -> tuple[FloatArray, float, float]:
    """How two templates compare.

    Returns
    -------
    difference_ms : float array, shape (slots of the first,)
        Second minus first from the straight slot; NaN where the second does not know the slot.
    rms_ms : float
        Of the differences, weighted by the strokes behind them; NaN if no slot is shared.
    similarity : float
        1 for the same feel, 0 for unrelated ones, negative for opposite ones: L. I. Lin's concordance ("A concordance
        correlation coefficient to evaluate reproducibility", Biometrics 45, 1989) about zero, of offsets from the grid
        that the first was measured on.
    """
    found = look_up(second, first.position_beats % second.cycle_beats)
    beat_ms = 60_000.0 / first.tempo_bpm
    other_ms = np.where(found.known, found.of(second.offset_beats) * beat_ms, np.nan)
    difference = other_ms - first.offset_ms
    shared = np.isfinite(difference)
    if not shared.any():
        return difference, float("nan"), float("nan")
    weight = np.minimum(first.count, found.of(second.count))[shared] + 1e-9
    one = first.feel_ms[shared]
    two = one + difference[shared]
    rms = float(np.sqrt(np.average(difference[shared] ** 2, weights=weight)))
    power = float(np.average(one**2 + two**2, weights=weight))
    return difference, rms, float(2.0 * np.average(one * two, weights=weight) / power) if power > 1e-9 else 1.0


def groove_of_notes(place_beats: FloatArray, level_db: FloatArray, length_beats: float, tempo_bpm: float) -> Groove:
    """A template from notes that stand for themselves, such as those of a groove's MIDI file.

    Slots are the widest note values at which each note has one of its own and lies well inside it.

    Parameters
    ----------
    place_beats, level_db : float array, shape (n,)
        Notes, in quarter notes from the start.
    length_beats : float
        Length of the cycle; notes past it are further turns of it.
    tempo_bpm : float

    Raises
    ------
    UsageError
        If there are no notes.
    """
    if not len(place_beats):
        raise UsageError("It holds no notes.")
    place = np.asarray(place_beats) % length_beats
    for text in ("1/8", "1/8T", "1/16", "1/16T", "1/32"):
        step = Subdivision.parse(text).slot_beats
        number = np.rint(place / step)
        away = np.abs(place / step - number)
        alone = len(np.unique(number)) == len(np.unique(np.round(place, 2)))
        if alone and float(np.sqrt(np.mean(away**2))) < 0.3:
            break
    slot = number * step % length_beats
    cell = cells_of(np.where(length_beats - slot < SAME_PLACE_BEATS, 0.0, slot))
    one = np.ones(len(cell))
    offset = (place - number * step + 0.5 * length_beats) % length_beats - 0.5 * length_beats
    first_of = np.unique(cell, return_index=True)[1]
    count = np.bincount(cell)
    beat_ms = 60_000.0 / tempo_bpm
    mean = cell_means(offset, cell, one)
    spread_ms = np.sqrt(cell_means((offset - mean) ** 2, cell, one)) * beat_ms
    accent = cell_means(level_db, cell, one) - float(np.mean(level_db))
    slots = [
        GrooveSlot(
            float(slot[i] % length_beats),
            float(mean[i]),
            float(mean[i] * beat_ms),
            float(spread_ms[i]),
            float(accent[i]),
            int(number_of),
        )
        for i, number_of in zip(first_of.tolist(), count.tolist(), strict=True)
    ]
    return Groove("", length_beats, tuple(sorted(slots)), tempo_bpm, Ruling(Subdivision.parse(text)))
