"""The stages: everything that follows from a session, each kept as long as what it depends on stays the same.

    recordings ─▶ analysis (per track) ─▶ verdicts (per group) ─▶ hits ─▶ strokes ─▶ offsets ─▶ plan ─▶ cut

Analysis and cut read audio and belong on a worker thread; the rest takes milliseconds.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from supple_snare.errors import GroupError
from supple_snare.session.document import Ghosts, Group, Session, Track
from supple_snare.session.mending import track_hits
from supple_snare.sound.attacks import Analysis, Progress, analyse
from supple_snare.sound.bleed import Verdict, judge_bleed
from supple_snare.sound.cut import Cut, plan_cut
from supple_snare.sound.ear import Ear
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.peaks import Peaks
from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.kinds import mark_grace_and_rolls
from supple_snare.timing.leads import suggest_leads
from supple_snare.timing.offsets import Offsets, measure_offsets
from supple_snare.timing.sections import section_of
from supple_snare.timing.strokes import Strokes, gather_strokes
from supple_snare.timing.tighten import Plan, plan_moves
from supple_snare.timing.units import FloatArray, IntArray, ms_to_s, s_to_samples

T = TypeVar("T")

_EARLIEST_S = 0.012
"""A stroke may be heard this much before its own time by a microphone that stands nearer to another lead's drum."""

_MOST_KEPT = 256

SAME_STROKE_S = 0.003
"""A slot given by hand belongs to the stroke at most this far from where it was given."""


@dataclass(frozen=True, eq=False)
class GroupView:
    """All stages of one group up to the plan.

    Attributes
    ----------
    group : Group
    tracks : tuple of Track
    verdicts : dict of str to Verdict
        By track key: every attack, and the odds that it was played.
    materials : dict of str to Material
        By track key: what each sound is taken for.
    hits : dict of str to Hits
        By track key, of every track of the group.
    leads : tuple of str
        Keys of the leads of the whole take, in order of rank.
    columns : tuple of str
        Keys of all tracks that lead anywhere: the leads, then those of single sections. `strokes.lead` counts in it.
    strokes, offsets, plan
    """

    group: Group
    tracks: tuple[Track, ...]
    verdicts: dict[str, Verdict]
    materials: dict[str, Material]
    hits: dict[str, Hits]
    leads: tuple[str, ...]
    columns: tuple[str, ...]
    strokes: Strokes
    offsets: Offsets
    plan: Plan

    def lead_of(self, stroke: int) -> str:
        """Key of the track that times a stroke."""
        return self.columns[int(self.strokes.lead[stroke])]


class Stages:
    """Computes stages and keeps them. Not shared between threads, but its results may be."""

    def __init__(self) -> None:
        self._kept: dict[Hashable, Any] = {}
        self._analyses: dict[Ear, Analysis] = {}

    def learn(self, ear: Ear, analysis: Analysis) -> None:
        """Take over an analysis that was made elsewhere."""
        self._analyses[ear] = analysis

    def heard(self, session: Session, track: Track) -> Analysis | None:
        """What is known of the attacks of a track: of what is listened to for them."""
        return self._analyses.get(session.ear_of(track))

    def peaks(self, track: Track) -> Peaks | None:
        """The peaks of a track's own recording, if anything has listened to that alone."""
        plain = self._analyses.get(Ear.of(track.recording))
        if plain is None:
            alone = (ear for ear in self._analyses if ear.recordings == (track.recording,))
            plain = self._analyses.get(next(alone, Ear.of(track.recording)))
        return None if plain is None else plain.peaks

    def missing(self, session: Session, tracks: Iterable[Track]) -> list[tuple[Track, Ear]]:
        """What still has to be listened to, and for which track."""
        wanted: dict[Ear, Track] = {}
        for track in tracks:
            ear = session.ear_of(track)
            if ear not in self._analyses:
                wanted.setdefault(ear, track)
            if ear.recordings != (track.recording,) and self.peaks(track) is None:
                wanted.setdefault(Ear.of(track.recording), track)
        return [(track, ear) for ear, track in wanted.items()]

    def is_ready(self, session: Session, group: Group) -> bool:
        """Whether all recordings of a group are analysed."""
        return not self.missing(session, session.tracks_of(group))

    def analyse_all(self, session: Session, progress: Progress | None = None) -> None:
        """Listen to everything that is not known yet."""
        missing = self.missing(session, session.tracks)
        for number, (_track, ear) in enumerate(missing):
            report = None if progress is None else part_of(progress, number, len(missing))
            self.learn(ear, analyse(ear, report))

    def view(self, session: Session, group: Group) -> GroupView:
        """All stages of a group whose recordings are analysed."""
        tracks = session.tracks_of(group)
        ears = tuple(session.ear_of(track) for track in tracks)
        # Two tracks that listen to the same tell nothing about each other.
        alone = tuple(dict.fromkeys(ears))
        judged = self._keep("verdicts", alone, self._judge)
        verdicts = {track.key: judged[alone.index(ear)] for track, ear in zip(tracks, ears, strict=True)}
        materials = {
            track.key: material_of(self._analyses[ear], verdicts[track.key], ear, is_alone=len(tracks) == 1)
            for track, ear in zip(tracks, ears, strict=True)
        }
        hits = {track.key: self._hits(session, track, verdicts[track.key], materials[track.key]) for track in tracks}
        leads = group.leads
        if leads is None:
            close = tuple(None if t.material is None else t.material is not Material.DRUM_OVERHEAD for t in tracks)
            found = tuple(verdicts[track.key] for track in tracks)
            order = self._keep("ranks", (found, close), lambda _key: _ranks(found, close))
            leads = tuple(tracks[index].key for index in order)
        columns = tuple(dict.fromkeys((*leads, *(key for own in group.section_leads for key in own.leads))))
        lead_hits = tuple(hits[key] for key in columns)
        rules = tuple((session.track(key).rules, session.track(key).section_rules) for key in columns)
        strokes = self._keep(
            "strokes",
            (lead_hits, leads, columns, rules, group.section_leads, group.together_ms, session.sections),
            lambda _key: group_strokes(session, group, leads, columns, lead_hits),
        )
        offsets = self._keep(
            "offsets",
            (strokes, session.grid, group.slots_given),
            lambda _key: measure_offsets(strokes, session.grid, told=told_places(strokes, group)),
        )
        plan = self._keep(
            "plan",
            (strokes, offsets, group.response, group.holds),
            lambda _key: plan_moves(strokes, offsets, group.response, held=held_strokes(strokes, group)),
        )
        return GroupView(group, tracks, verdicts, materials, hits, leads, columns, strokes, offsets, plan)

    def _judge(self, ears: tuple[Ear, ...]) -> list[Verdict]:
        return judge_bleed([self._analyses[ear] for ear in ears])

    def _hits(self, session: Session, track: Track, verdict: Verdict, material: Material) -> Hits:
        by_hand = (track.added_s, track.removed_s, track.moved, track.landings)
        peaks = self.peaks(track)
        assert peaks is not None
        return self._keep(
            "hits",
            (verdict, peaks, track.rules, track.section_rules, session.sections, material, *by_hand),
            lambda _key: track_hits(track, verdict, peaks, sections=session.sections, preset=PRESETS[material]),
        )

    def _keep(self, stage: str, depends: tuple[Hashable, ...], make: Callable[[Any], T]) -> T:
        """The kept value for what it depends on, or a new one.

        Settings are compared by value; arrays of an earlier stage are the same only if they are the same object.
        """
        key = (stage, depends)
        value: T = self._kept.pop(key) if key in self._kept else make(depends)
        self._kept[key] = value  # last used is last in the row
        if len(self._kept) > _MOST_KEPT:
            del self._kept[next(iter(self._kept))]
        return value


def material_of(analysis: Analysis, verdict: Verdict, ear: Ear, *, is_alone: bool) -> Material:
    """What a sound is taken for: as told, else as it sounds and as it stands in its group."""
    if ear.material is not None or analysis.material is not Material.DRUM_CLOSE:
        return analysis.material
    if is_alone:
        return Material.PLUCKED if analysis.rings else Material.DRUM_CLOSE
    return Material.DRUM_OVERHEAD if verdict.is_far else Material.DRUM_CLOSE


def _ranks(verdicts: Sequence[Verdict], close: Sequence[bool | None]) -> list[int]:
    """Ranks by what was found, so that no correction by hand turns them round."""
    kinds = [np.where(verdict.played, Kind.PLAYED, Kind.BLEED) for verdict in verdicts]
    found = [
        Hits.of(verdict.time_s, level_db=verdict.level_db, kind=kind)
        for verdict, kind in zip(verdicts, kinds, strict=True)
    ]
    return suggest_leads([mark_grace_and_rolls(hits) for hits in found], close=close)


def part_of(progress: Progress, number: int, total: int) -> Progress:
    """Progress of one of several pieces of work, told as progress of all."""
    return lambda share: progress((number + share) / total)


def group_strokes(
    session: Session, group: Group, leads: tuple[str, ...], columns: tuple[str, ...], hits: Sequence[Hits]
) -> Strokes:
    """Strokes of a group: in each section by its own ranks, ghost notes as each lead's rules say.

    Parameters
    ----------
    session : Session
    group : Group
    leads : tuple of str
        Keys of the leads of the whole take, in order of rank.
    columns : tuple of str
        Keys of all tracks that lead anywhere.
    hits : sequence of Hits
        Theirs, in the same order.
    """
    starts_s = [section.start_s for section in session.sections] or [0.0]
    strokes = Strokes.none(len(columns))
    for index in range(len(starts_s)):
        key = session.sections[index].key if session.sections else ""
        timed, riding = [], []
        for lead, found in zip(columns, hits, strict=True):
            here = found[section_of(starts_s, found.landing_s) == index]
            rule = session.track(lead).rules_in(key).ghosts
            timed.append(here if rule is Ghosts.TIMED else here[~here.ghost])
            riding.append(here[here.ghost] if rule is Ghosts.CARRIED else Hits.none())
        ranks = [columns.index(lead) for lead in section_leads(group, leads, key)]
        strokes = strokes.merged(gather_strokes(timed, riding=riding, ranks=ranks, together_ms=group.together_ms))
    return strokes


def section_leads(group: Group, leads: tuple[str, ...], section: str) -> tuple[str, ...]:
    """Ranked leads of a section: its own, or those of the take."""
    return next((own.leads for own in group.section_leads if own.section == section), leads)


def told_places(strokes: Strokes, group: Group) -> FloatArray | None:
    """Places given to strokes by hand, NaN where there is none; None if there are none at all."""
    if not group.slots_given or not len(strokes):
        return None
    places = np.full(len(strokes), np.nan)
    times = np.array([given.time_s for given in group.slots_given])
    nearest = nearest_index(strokes.time_s, times)
    near = np.abs(strokes.time_s[nearest] - times) <= SAME_STROKE_S
    places[nearest[near]] = np.array([given.place for given in group.slots_given])[near]
    return places


def held_strokes(strokes: Strokes, group: Group) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """Which strokes lie in a hold of their group."""
    held = np.zeros(len(strokes), dtype=bool)
    for hold in group.holds:
        held |= (strokes.time_s >= hold.start_s) & (strokes.time_s <= hold.end_s)
    return held


def cut_group(session: Session, view: GroupView, progress: Progress | None = None) -> Cut:
    """Plan the seams of a group; reads its recordings.

    Raises
    ------
    RecordingError
        If a recording breaks while it is read.
    """
    recordings = [track.recording for track in view.tracks]
    if not recordings:
        raise GroupError(f"The group {view.group.name} has no tracks.")
    rate = session.rate_hz
    attack = s_to_samples(view.strokes.start_s, rate)
    arrivals = _all_arrivals(view.hits, rate)
    return plan_cut(
        recordings,
        first_arrival=_first_arrivals(view, attack, arrivals, rate),
        arrivals=arrivals,
        move=s_to_samples(ms_to_s(view.plan.move_ms), rate),
        progress=progress,
    )


def _all_arrivals(hits: dict[str, Hits], rate_hz: int) -> IntArray:
    times = [found.time_s for found in hits.values()]
    return s_to_samples(np.sort(np.concatenate(times)), rate_hz) if times else np.zeros(0, dtype=np.int64)


def _first_arrivals(view: GroupView, attack: IntArray, arrivals: IntArray, rate_hz: int) -> IntArray:
    """Earliest sample at which each stroke is heard: by any lead, or by any track a little before the lead."""
    if not len(attack):
        return attack
    first = np.minimum(attack, s_to_samples(np.nanmin(view.strokes.lead_times_s, axis=1), rate_hz))
    for hits in view.hits.values():
        grace = hits.of_kind(Kind.GRACE)
        if len(grace):  # a flam's grace note moves along with its main hit
            owner = np.searchsorted(view.strokes.time_s, grace.time_s)
            inside = owner < len(first)
            np.minimum.at(first, owner[inside], s_to_samples(grace.time_s[inside], rate_hz))
    earliest = first - round(_EARLIEST_S * rate_hz)
    index = np.searchsorted(arrivals, earliest)
    near = arrivals[np.minimum(index, len(arrivals) - 1)] if len(arrivals) else first
    return np.where((near >= earliest) & (near < first), near, first)
