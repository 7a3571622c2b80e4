"""The stages: everything that follows from a session, each kept as long as what it depends on stays the same.

    recordings ─▶ analysis (per track) ─▶ verdicts (per group) ─▶ hits ─▶ strokes ─▶ offsets ─▶ plan ─▶ cut

Analysis and cut read audio and belong on a worker thread; the rest takes milliseconds.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import partial
from typing import Any, TypeVar

import numpy as np

from supple_snare.errors import GroupError
from supple_snare.session.document import Group, Session, Track
from supple_snare.session.edits import SAME_HIT_S
from supple_snare.sound.attacks import Analysis, Progress, analyse
from supple_snare.sound.bleed import Verdict, judge_bleed
from supple_snare.sound.cut import Cut, plan_cut
from supple_snare.sound.files import Recording
from supple_snare.timing.hits import Hits, Kind, Origin, nearest_index
from supple_snare.timing.kinds import mark_grace_and_rolls
from supple_snare.timing.leads import suggest_leads
from supple_snare.timing.offsets import Offsets, measure_offsets
from supple_snare.timing.strokes import Strokes, gather_strokes
from supple_snare.timing.tighten import Plan, plan_moves
from supple_snare.timing.units import FloatArray, IntArray, ms_to_s, s_to_samples

T = TypeVar("T")

_EARLIEST_S = 0.012
"""A stroke may be heard this much before its own time by a microphone that stands nearer to another lead's drum."""

_MOST_KEPT = 256

SNAP_S = 0.015
"""A hit placed by hand jumps to an attack this near."""


@dataclass(frozen=True, eq=False)
class GroupView:
    """All stages of one group up to the plan.

    Attributes
    ----------
    group : Group
    tracks : tuple of Track
    hits : dict of str to Hits
        By track key, of every track of the group.
    leads : tuple of str
        Keys in order of rank.
    strokes, offsets, plan
    """

    group: Group
    tracks: tuple[Track, ...]
    hits: dict[str, Hits]
    leads: tuple[str, ...]
    strokes: Strokes
    offsets: Offsets
    plan: Plan


class Stages:
    """Computes stages and keeps them. Not shared between threads, but its results may be."""

    def __init__(self) -> None:
        self._kept: dict[Hashable, Any] = {}
        self._analyses: dict[Recording, Analysis] = {}

    def learn(self, recording: Recording, analysis: Analysis) -> None:
        """Take over an analysis that was made elsewhere."""
        self._analyses[recording] = analysis

    def analysis(self, recording: Recording) -> Analysis | None:
        """The analysis of a recording, if it is known."""
        return self._analyses.get(recording)

    def is_ready(self, session: Session, group: Group) -> bool:
        """Whether all recordings of a group are analysed."""
        return all(track.recording in self._analyses for track in session.tracks_of(group))

    def analyse_all(self, session: Session, progress: Progress | None = None) -> None:
        """Analyse every recording that is not known yet."""
        missing = [track.recording for track in session.tracks if track.recording not in self._analyses]
        for number, recording in enumerate(missing):
            report = None
            if progress is not None:
                report = part_of(progress, number, len(missing))
            self.learn(recording, analyse(recording, report))

    def view(self, session: Session, group: Group) -> GroupView:
        """All stages of a group whose recordings are analysed."""
        tracks = session.tracks_of(group)
        verdicts = self._keep("verdicts", tuple(track.recording for track in tracks), self._judge)
        hits = {}
        for track, verdict in zip(tracks, verdicts, strict=True):
            depends = (verdict, track.level_limit_db, track.added_s, track.removed_s)
            hits[track.key] = self._keep("hits", depends, partial(_hits_of, track, verdict))
        leads = group.leads
        if leads is None:
            order = suggest_leads([hits[track.key] for track in tracks])
            leads = tuple(tracks[index].key for index in order)
        lead_hits = tuple(hits[key] for key in leads)
        strokes = self._keep("strokes", lead_hits, gather_strokes)
        offsets = self._keep("offsets", (strokes, session.grid), lambda key: measure_offsets(*key))
        plan = self._keep(
            "plan",
            (strokes, offsets, group.response, group.holds),
            lambda _key: plan_moves(strokes, offsets, group.response, held=held_strokes(strokes, group)),
        )
        return GroupView(group, tracks, hits, leads, strokes, offsets, plan)

    def _judge(self, recordings: tuple[Recording, ...]) -> list[Verdict]:
        return judge_bleed([self._analyses[recording] for recording in recordings])

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


def part_of(progress: Progress, number: int, total: int) -> Progress:
    """Progress of one of several pieces of work, told as progress of all."""
    return lambda share: progress((number + share) / total)


def _hits_of(track: Track, verdict: Verdict, _depends: object) -> Hits:
    return corrected_hits(track, verdict)


def corrected_hits(track: Track, verdict: Verdict) -> Hits:
    """Hits of a track: what the group says of its attacks, the level limit, then the corrections by hand."""
    if track.level_limit_db is None:
        played = verdict.played
        confidence = 1.0 / (1.0 + np.exp(-np.abs(verdict.log_odds)))
    else:
        played = verdict.level_db >= track.level_limit_db
        confidence = 1.0 - 0.5 * np.exp(-np.abs(verdict.level_db - track.level_limit_db) / 6.0)
    hits = Hits.of(
        verdict.time_s,
        level_db=verdict.level_db,
        kind=np.where(played, Kind.PLAYED, Kind.BLEED),
        confidence=confidence,
    )
    hits = hits[~_near_any(hits.time_s, track.removed_s)]
    added = np.array(track.added_s)
    if len(added):
        level = np.full(len(added), hits.level_db.mean() if len(hits) else -20.0)
        if len(verdict.time_s):
            nearest = nearest_index(verdict.time_s, added)
            known = np.abs(verdict.time_s[nearest] - added) <= SAME_HIT_S
            level[known] = verdict.level_db[nearest[known]]
        hits = hits[~_near_any(hits.time_s, track.added_s)]
    marked = mark_grace_and_rolls(hits)
    return marked.merged(Hits.of(added, level_db=level, origin=Origin.ADDED)) if len(added) else marked


def snap_to_attack(verdict_hits: Hits, analysis: Analysis, time_s: float) -> float:
    """The attack nearest to a place chosen by hand, or the place itself if none is near."""
    starts = np.concatenate([verdict_hits.time_s, analysis.attacks.crossing_s[:, 0, 0]])
    if not len(starts):
        return time_s
    # A hit that is shown (even faint, as bleed) has the better time than a bare attack beside it.
    near_hit = verdict_hits.time_s[np.abs(verdict_hits.time_s - time_s) <= SNAP_S]
    candidates = near_hit if len(near_hit) else starts
    nearest = float(candidates[np.argmin(np.abs(candidates - time_s))])
    return nearest if abs(nearest - time_s) <= SNAP_S else time_s


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
    attack = s_to_samples(view.strokes.time_s, rate)
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


def _near_any(times: FloatArray, marks: tuple[float, ...]) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    if not marks or not len(times):
        return np.zeros(len(times), dtype=bool)
    sorted_marks = np.sort(np.array(marks))
    close: np.ndarray[tuple[int], np.dtype[np.bool_]] = (
        np.abs(sorted_marks[nearest_index(sorted_marks, times)] - times) <= SAME_HIT_S
    )
    return close
