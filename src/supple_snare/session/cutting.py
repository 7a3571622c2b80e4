"""What the seams of a group follow from, and the seams."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from supple_snare.errors import GroupError
from supple_snare.session.document import SeamGiven, Session, WayGiven
from supple_snare.session.stages import GroupView, at_strokes, section_numbers
from supple_snare.sound.attacks import Progress
from supple_snare.sound.cut import Cut, SeamMemory, plan_cut
from supple_snare.sound.files import Recording
from supple_snare.sound.gaps import CutSettings, Told
from supple_snare.sound.material import Material
from supple_snare.sound.stretch.ways import Way, way_of
from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.units import FloatArray, IntArray, ms_to_s, ms_to_samples, s_to_samples

_Given = TypeVar("_Given", SeamGiven, WayGiven)

_EARLIEST_S = 0.012
"""A stroke may be heard this much before its own time by a microphone that stands nearer to another lead's drum."""

SEAMS_OF = {
    Material.PLUCKED: CutSettings(lead_in_ms=4.0, fade_ms=8.0),
    Material.BLOWN: CutSettings(lead_in_ms=6.0, fade_ms=14.0, attack_ms=40.0),
    Material.VOICE: CutSettings(lead_in_ms=8.0, fade_ms=14.0, attack_ms=40.0),
    Material.KEYS: CutSettings(lead_in_ms=5.0, fade_ms=8.0),
}
"""Seams of sounds that ring on; drums have the shortest."""


@dataclass(frozen=True, eq=False)
class CutRequest:
    """Everything that the seams of a group follow from: the arguments of `plan_cut`."""

    recordings: tuple[Recording, ...]
    first_arrival: IntArray
    arrivals: IntArray
    move: IntArray
    settings: CutSettings
    places: dict[int, Told]
    slides: tuple[tuple[int, int, int], ...] = ()
    ways: tuple[Way, ...] | Way = Way.CUT
    anchors: tuple[int, ...] = ()


def cut_group(session: Session, view: GroupView, progress: Progress | None = None) -> Cut:
    """Plan the seams of a group; reads its recordings.

    Raises
    ------
    RecordingError
        If a recording breaks while it is read.
    """
    return cut_of_moves(session, view, view.plan.move_ms, progress)


def cut_of_moves(session: Session, view: GroupView, move_ms: FloatArray, progress: Progress | None = None) -> Cut:
    """The same for any moves of its strokes, in ms."""
    return cut_of_request(cut_request(session, view, move_ms), progress)


def cut_request(session: Session, view: GroupView, move_ms: FloatArray | None = None) -> CutRequest:
    """What the seams of a group follow from: its plan, or any moves of its strokes in ms."""
    recordings = tuple(track.recording for track in view.tracks)
    if not recordings:
        raise GroupError(f"The group {view.group.name} has no tracks.")
    rate = session.rate_hz
    attack = s_to_samples(view.strokes.start_s, rate)
    arrivals = _all_arrivals(view.hits, rate)
    move = s_to_samples(ms_to_s(view.plan.move_ms if move_ms is None else move_ms), rate)
    first = _first_arrivals(view, attack, arrivals, rate)
    slides = tuple(
        (*s_to_samples([slide.start_s, slide.end_s], rate).tolist(), ms_to_samples(slide.move_ms, rate))
        for slide in view.group.slides
    )
    return CutRequest(
        recordings,
        first,
        arrivals,
        move,
        cut_settings(view),
        _seams_given(view, rate),
        slides,
        _ways(session, view),
        tuple(s_to_samples(view.group.anchors_s, rate).tolist()),
    )


def request_nearby(wanted: CutRequest, known: CutRequest, start_s: float, end_s: float) -> CutRequest | None:
    """What is wanted between two moments, elsewhere what is known; None if more than moves differ between them."""
    moves_alone = (
        (wanted.recordings, wanted.settings, wanted.places, wanted.slides, wanted.ways, wanted.anchors)
        == (known.recordings, known.settings, known.places, known.slides, known.ways, known.anchors)
        and np.array_equal(wanted.first_arrival, known.first_arrival)
        and np.array_equal(wanted.arrivals, known.arrivals)
    )
    if not moves_alone:
        return None
    first, last = s_to_samples([start_s, end_s], wanted.recordings[0].rate_hz)
    is_near = (wanted.first_arrival >= first) & (wanted.first_arrival <= last)
    return replace(wanted, move=np.where(is_near, wanted.move, known.move))


def cut_of_request(
    request: CutRequest,
    progress: Progress | None = None,
    memory: SeamMemory | None = None,
    known: Cut | None = None,
) -> Cut:
    """Find the seams, those that are neither remembered nor known; reads the recordings.

    Raises
    ------
    RecordingError
        If a recording breaks while it is read.
    """
    return plan_cut(
        request.recordings,
        first_arrival=request.first_arrival,
        arrivals=request.arrivals,
        move=request.move,
        settings=request.settings,
        places=request.places,
        slides=request.slides,
        ways=request.ways,
        anchors=request.anchors,
        memory=memory,
        known=known,
        progress=progress,
    )


def cut_settings(view: GroupView) -> CutSettings:
    """Lengths of the seams of a group: as set, or as its first lead's material asks for."""
    material = _material(view)
    suited = SEAMS_OF.get(material, CutSettings()) if material is not None else CutSettings()
    return view.group.cut or suited


def cut_depends(view: GroupView) -> tuple[object, ...]:
    """What the seams of a group follow from: while it is the same, so are they."""
    group = view.group
    methods = (group.method, *((own.section, own.method) for own in group.section_settings))
    by_hand = (group.seams_given, group.slides, group.ways_given, group.anchors_s)
    return view.plan, cut_settings(view), _material(view), methods, by_hand


def _material(view: GroupView) -> Material | None:
    """What the first lead of a group is taken for."""
    return view.materials.get(view.leads[0]) if view.leads else None


def _ways(session: Session, view: GroupView) -> tuple[Way, ...]:
    """How the gap before each stroke is filled, and that after the last, as what lies before it is."""
    keys: list[str | None] = [own.key for own in session.sections] or [None]
    by_section = [way_of(view.group.settings_in(key).method, _material(view)) for key in keys]
    ways = [by_section[number] for number in section_numbers(session, view.strokes).tolist()]
    for stroke, given in _by_stroke(view, view.group.ways_given):
        ways[stroke] = given.way
    return (*ways, ways[-1] if ways else Way.CUT)


def _by_stroke(view: GroupView, given: Sequence[_Given]) -> Iterator[tuple[int, _Given]]:
    """What was said by hand of single strokes, with the number of each."""
    which = at_strokes(view.strokes, [(each.time_s, float(number)) for number, each in enumerate(given)])
    for stroke in np.flatnonzero(np.isfinite(which)).tolist():
        yield stroke, given[int(which[stroke])]


def _seams_given(view: GroupView, rate_hz: int) -> dict[int, Told]:
    """Seams put by hand, by the number of the stroke after them."""
    found = {}
    for stroke, seam in _by_stroke(view, view.group.seams_given):
        fade = None if seam.fade_ms is None else max(1, ms_to_samples(seam.fade_ms, rate_hz))
        found[stroke] = Told(int(s_to_samples(seam.place_s, rate_hz)), fade)
    return found


def _all_arrivals(hits: dict[str, Hits], rate_hz: int) -> IntArray:
    times = [found.time_s for found in hits.values()]
    return s_to_samples(np.sort(np.concatenate(times)), rate_hz) if times else np.zeros(0, dtype=np.int64)


def _owners_of_grace(view: GroupView, key: str, hits: Hits, grace: Hits) -> IntArray:
    """The stroke that holds the main hit of each grace note, even if another lead times it; −1 for none."""
    main_s = np.sort(hits.landing_s[hits.kind == Kind.PLAYED])
    after = np.searchsorted(main_s, grace.time_s)
    owner = np.full(len(grace), -1)
    times = view.strokes.time_s
    if key in view.columns:
        own = view.strokes.lead_times_s[:, view.columns.index(key)]
        times = np.where(np.isfinite(own), own, times)
    inside = after < len(main_s)
    if len(times) and inside.any():
        owner[inside] = nearest_index(times, main_s[after[inside]])
    return owner


def _first_arrivals(view: GroupView, attack: IntArray, arrivals: IntArray, rate_hz: int) -> IntArray:
    """Earliest sample at which each stroke is heard: by any lead, or by any track a little before the lead."""
    if not len(attack):
        return attack
    first = np.minimum(attack, s_to_samples(np.nanmin(view.strokes.lead_times_s, axis=1), rate_hz))
    for key, hits in view.hits.items():
        grace = hits.of_kind(Kind.GRACE)
        owner = _owners_of_grace(view, key, hits, grace)
        known = owner >= 0  # a flam's grace note moves along with its main hit
        np.minimum.at(first, owner[known], s_to_samples(grace.time_s[known], rate_hz))
    earliest = first - round(_EARLIEST_S * rate_hz)
    index = np.searchsorted(arrivals, earliest)
    near = arrivals[np.minimum(index, len(arrivals) - 1)] if len(arrivals) else first
    return np.where((near >= earliest) & (near < first), near, first)
