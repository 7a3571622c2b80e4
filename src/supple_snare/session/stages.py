"""The stages: everything that follows from a session, each kept as long as what it depends on stays the same.

    recordings ─▶ analysis (per track) ─▶ verdicts (per group) ─▶ hits ─▶ strokes ─▶ offsets ─▶ aimed ─▶ plan ─▶ cut
    MIDI part ─▶ notes ─▶ chords ──────────────────────────────────────▶ strokes

Analysis and cut read audio, parts are read from disk: these belong on a worker thread. The rest takes milliseconds.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from supple_snare.exchange.midi import read_notes
from supple_snare.session.document import Ghosts, Group, Hold, Part, Session, Track
from supple_snare.session.mending import track_hits
from supple_snare.session.side_by_side import side_by_side
from supple_snare.sound.attacks import Analysis, Progress, analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear, Ensemble
from supple_snare.sound.material import PRESETS, Material
from supple_snare.sound.peaks import Peaks
from supple_snare.sound.roles import NO_DRUM
from supple_snare.sound.verdict import Verdict
from supple_snare.timing.aim import Aim, AimAt, aim_strokes
from supple_snare.timing.groove import groove_accents_db
from supple_snare.timing.hits import Hits, Kind, nearest_index
from supple_snare.timing.kinds import mark_grace_and_rolls
from supple_snare.timing.leads import Stand, suggest_leads
from supple_snare.timing.notes import Chords, NoteChange, Notes, gather_chords, move_notes
from supple_snare.timing.offsets import Offsets, measure_offsets
from supple_snare.timing.pairing import Pairs, pair_strokes
from supple_snare.timing.sections import section_of
from supple_snare.timing.strokes import Strokes, gather_strokes
from supple_snare.timing.tighten import ByHand, Plan, Response, chosen, respond, settle_moves
from supple_snare.timing.units import FloatArray, IntArray, ms_to_s

T = TypeVar("T")

_MOST_KEPT = 96
"""Results of stages that are kept, the ones used last: some ten are in use, the others serve undo and redo."""

_MANY_STROKES = 1_000
"""Offsets of as many take some 30 ms to measure: as long as a person does not notice."""

SAME_STROKE_S = 0.003
"""A slot given by hand belongs to the stroke at most this far from where it was given."""


@dataclass(frozen=True, eq=False)
class HeardPart:
    """What a MIDI part holds."""

    notes: Notes
    chords: Chords


@dataclass(frozen=True, eq=False)
class _Reference:
    """Strokes that another group is tightened to: how they lie, and when they are to be met."""

    offsets: Offsets
    time_s: FloatArray


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
    strokes, offsets
    pairs : Pairs or None
        Partners of the strokes in the reference, if one is aimed at.
    plan
    part : HeardPart or None
        The notes, if it is a MIDI part.
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
    pairs: Pairs | None
    plan: Plan
    part: HeardPart | None = None

    def same_drum(self, key: str) -> list[Track]:
        """Other tracks whose microphones hear the drum of this one."""
        drum = self.verdicts[key].drum
        return [track for track in self.tracks if track.key != key and self.verdicts[track.key].drum == drum]

    def lead_of(self, stroke: int) -> str:
        """Key of the track that times a stroke."""
        return self.columns[int(self.strokes.lead[stroke])]


UpToStrokes = tuple[
    tuple[Track, ...],
    dict[str, Verdict],
    dict[str, Material],
    dict[str, Hits],
    tuple[str, ...],
    tuple[str, ...],
    Strokes,
]
"""The members of a `GroupView` from its tracks to its strokes."""


@dataclass(frozen=True, eq=False)
class Unmeasured:
    """Offsets that are still to be measured: what they depend on, and how; may be called on any thread."""

    depends: tuple[Hashable, ...]
    measure: Callable[[], Offsets]


class Stages:
    """Computes stages and keeps them. Not shared between threads, but its results may be."""

    def __init__(self) -> None:
        self._kept: dict[Hashable, Any] = {}
        self._analyses: dict[Ear, Analysis] = {}
        self._verdicts: dict[Ensemble, list[Verdict]] = {}
        self._notes: dict[Path, Notes] = {}
        self._last_strokes: dict[str, Strokes] = {}

    def clear(self) -> None:
        """Forget everything, as when another session is opened."""
        for known in (self._kept, self._analyses, self._verdicts, self._notes, self._last_strokes):
            known.clear()

    def learn(self, ear: Ear, analysis: Analysis) -> None:
        """Take over an analysis that was made elsewhere."""
        self._analyses[ear] = analysis

    def learn_verdicts(self, ensemble: Ensemble, verdicts: list[Verdict]) -> None:
        """Take over what was made elsewhere of the attacks of tracks that hear each other."""
        self._verdicts[ensemble] = verdicts

    def unjudged(self, session: Session) -> list[tuple[Group, Ensemble, list[Analysis]]]:
        """Groups whose tracks are all listened to and still have to be compared."""
        found = []
        for group in session.groups:
            ensemble = ensemble_of(session, group)
            heard = all(ear in self._analyses for ear in ensemble.ears)
            if ensemble.ears and ensemble not in self._verdicts and heard:
                found.append((group, ensemble, [self._analyses[ear] for ear in ensemble.ears]))
        return found

    def learn_part(self, path: Path, notes: Notes) -> None:
        """Take over the notes of a MIDI part that was read elsewhere."""
        self._notes[path] = notes

    def unread(self, session: Session) -> list[Part]:
        """MIDI parts that are still to be read."""
        return [part for part in session.parts if part.path not in self._notes]

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
        """Whether all recordings of a group are analysed and compared, and those of its reference."""
        if not all(self.is_ready(session, other) for other in session.reference_groups(group)):
            return False
        if group.part:
            return session.part(group.part).path in self._notes
        return ensemble_of(session, group) in self._verdicts and not self.missing(session, session.tracks_of(group))

    def analyse_all(self, session: Session, progress: Progress | None = None) -> None:
        """Listen to everything that is not known yet."""
        unheard = [ear for _track, ear in self.missing(session, session.tracks)]
        found = side_by_side([partial(analyse, ear) for ear in unheard], progress)
        for ear, analysis in zip(unheard, found, strict=True):
            self.learn(ear, analysis)
        for _group, ensemble, analyses in self.unjudged(session):
            self.learn_verdicts(ensemble, judge_group(ensemble.ears, analyses, dict(ensemble.given)))
        for part in self.unread(session):
            self.learn_part(part.path, read_notes(part.path))

    def view(self, session: Session, group: Group) -> GroupView:
        """All stages of a group that is ready."""
        if group.part:
            return self._view_of_part(session, group)
        tracks, verdicts, materials, hits, leads, columns, strokes = self._up_to_strokes(session, group)
        offsets, pairs, plan = self._timed(session, group, strokes, columns)
        return GroupView(group, tracks, verdicts, materials, hits, leads, columns, strokes, offsets, pairs, plan)

    def _up_to_strokes(self, session: Session, group: Group) -> UpToStrokes:
        """All stages of a group of recordings before its offsets."""
        tracks, verdicts, materials, hits = self._listened(session, group)
        leads = group.leads
        if leads is None:
            found = tuple(verdicts[track.key] for track in tracks)
            stands = tuple(_stand(track, verdicts[track.key], materials[track.key]) for track in tracks)
            order = self._keep("ranks", (found, stands), lambda _key: _ranks(found, stands))
            leads = tuple(tracks[index].key for index in order)
        columns = tuple(dict.fromkeys((*leads, *(key for own in group.section_leads for key in own.leads))))
        lead_hits = tuple(self._at_the_drum(hits[key], verdicts[key]) for key in columns)
        return (
            tracks,
            verdicts,
            materials,
            hits,
            leads,
            columns,
            self._strokes(session, group, leads, columns, lead_hits),
        )

    def _strokes(
        self,
        session: Session,
        group: Group,
        leads: tuple[str, ...],
        columns: tuple[str, ...],
        hits: tuple[Hits, ...],
    ) -> Strokes:
        """The strokes of a group: those before, where a change of settings made no others."""
        rules = tuple((session.track(key).rules, session.track(key).section_rules) for key in columns)

        def gathered(_key: Any) -> Strokes:
            found, before = group_strokes(session, group, leads, columns, hits), self._last_strokes.get(group.key)
            found = before if before is not None and before.equals(found) else found
            self._last_strokes[group.key] = found
            return found

        return self._keep(
            "strokes",
            (hits, leads, columns, rules, group.section_leads, group.together_ms, session.sections),
            gathered,
        )

    def unmeasured(self, session: Session, group: Group) -> Unmeasured | None:
        """Offsets of a ready group that take longer to measure than a person should wait; None if they are known."""
        if group.part:
            return None
        strokes = self._up_to_strokes(session, group)[-1]
        depends = (strokes, session.grid, group.slots_given, group.feel)
        if len(strokes) < _MANY_STROKES or ("offsets", depends) in self._kept:
            return None
        measure = partial(measure_offsets, strokes, session.grid, told=told_places(strokes, group), rules=group.feel)
        return Unmeasured(depends, measure)

    def learn_offsets(self, which: Unmeasured, offsets: Offsets) -> None:
        """Take over offsets that were measured elsewhere."""
        self._keep("offsets", which.depends, lambda _key: offsets)

    def with_hits(self, view: GroupView, session: Session, group: Group) -> GroupView:
        """A view with the hits of another session, in which only rules of hits differ; its strokes stay as they are.

        A MIDI part has none, and stays as it is.
        """
        if view.part is not None:
            return replace(view, group=group)
        tracks, _, _, hits = self._listened(session, group)
        return replace(view, group=group, tracks=tracks, hits=hits)

    def verdicts_of(self, session: Session, group: Group) -> dict[str, Verdict] | None:
        """The verdicts on the tracks of a group, by their keys; None while they are not compared."""
        ensemble, tracks = ensemble_of(session, group), session.tracks_of(group)
        judged = self._verdicts.get(ensemble)
        if judged is None:
            return None
        return {track.key: judged[ensemble.ears.index(session.ear_of(track))] for track in tracks}

    def _listened(
        self, session: Session, group: Group
    ) -> tuple[tuple[Track, ...], dict[str, Verdict], dict[str, Material], dict[str, Hits]]:
        """The tracks of a group, and by their keys what was heard in each."""
        tracks = session.tracks_of(group)
        ears = tuple(session.ear_of(track) for track in tracks)
        verdicts = self.verdicts_of(session, group)
        assert verdicts is not None
        materials = {
            track.key: material_of(self._analyses[ear], verdicts[track.key], ear)
            for track, ear in zip(tracks, ears, strict=True)
        }
        hits = {track.key: self._hits(session, track, verdicts[track.key], materials[track.key]) for track in tracks}
        return tracks, verdicts, materials, hits

    def _view_of_part(self, session: Session, group: Group) -> GroupView:
        """The same for a MIDI part: its chords are its strokes, and it leads itself."""
        notes = self._notes[session.part(group.part).path]
        chords = self._keep(
            "chords", (notes, group.together_ms), lambda _key: gather_chords(notes, together_ms=group.together_ms)
        )
        strokes, lead = chords.strokes, (group.part,)
        offsets, pairs, plan = self._timed(session, group, strokes, lead)
        hits = {group.part: Hits.of(strokes.time_s, level_db=strokes.level_db)}
        return GroupView(group, (), {}, {}, hits, lead, lead, strokes, offsets, pairs, plan, HeardPart(notes, chords))

    def _timed(
        self, session: Session, group: Group, strokes: Strokes, columns: tuple[str, ...]
    ) -> tuple[Offsets, Pairs | None, Plan]:
        """From the strokes of a group on."""
        grid = session.grid
        offsets = self._keep(
            "offsets",
            (strokes, grid, group.slots_given, group.feel),
            lambda _key: measure_offsets(strokes, grid, told=told_places(strokes, group), rules=group.feel),
        )
        section = section_numbers(session, strokes)
        keys: list[str | None] = [own.key for own in session.sections] or [None]
        settings = [(own.response, own.aim) for own in map(group.settings_in, keys)]
        different = list(dict.fromkeys(settings))
        which = np.array([different.index(own) for own in settings])[section]
        found = [self._responded(session, strokes, offsets, *own) for own in different]
        pairs = self._keep(
            "pairs of sections",
            (strokes, *(pairs for pairs, _ in found), *settings, session.sections),
            lambda _key: merged_pairs([pairs for pairs, _ in found], which),
        )
        by_hand = (group.holds, group.evens, group.pieces, group.moves_given)
        by_rule = (group.free_leads, group.held_leads, group.softest_db, group.join_ms)
        plan = self._keep(
            "plan",
            (strokes, *(wanted for _, wanted in found), *settings, session.sections, columns, *by_hand, *by_rule),
            lambda _key: settle_moves(
                strokes,
                found[0][1] if len(found) == 1 else chosen([wanted for _, wanted in found], which),
                decided_by_hand(strokes, group, columns),
                join_ms=group.join_ms,
            ),
        )
        return offsets, pairs, plan

    def _responded(
        self, session: Session, strokes: Strokes, offsets: Offsets, response: Response, aim: Aim
    ) -> tuple[Pairs | None, Plan]:
        """Partners, and what each stroke would do by itself, under one response and aim."""
        grid, pairs, met = session.grid, None, self._reference(session, aim)
        if met is not None:
            pairs = self._keep(
                "pairs", (strokes, grid, met), lambda _key: pair_strokes(strokes, grid, met.offsets, met.time_s)
            )
        if (aim.at is AimAt.REFERENCE and pairs is None) or (aim.at is AimAt.GROOVE and aim.groove is None):
            aim = Aim()  # nothing is named yet
        keep_drift = response.keep_drift
        aimed = self._keep(
            "aimed",
            (strokes, offsets, grid, aim, keep_drift, pairs),
            lambda _key: aim_strokes(strokes, offsets, grid, aim, keep_drift=keep_drift, pairs=pairs),
        )
        wanted = self._keep("wanted", (offsets, aimed, response), lambda _key: respond(offsets, response, aimed))
        return pairs, wanted

    def _reference(self, session: Session, aim: Aim) -> _Reference | None:
        """What a group is tightened to: strokes of another, or hits of one of its tracks, where they will be."""
        other = session.reference_group(aim)
        if other is None or not self.is_ready(session, other):
            return None
        view, wanted = self.view(session, other), aim.reference
        if wanted in (other.key, other.part):
            time_s = view.strokes.time_s + ms_to_s(view.plan.move_ms)
            return self._keep("reference", (view.offsets, view.plan), lambda _key: _Reference(view.offsets, time_s))

        def of_track(_key: Any) -> _Reference:
            strokes = gather_strokes([view.hits[wanted]])
            moves_s = ms_to_s(view.plan.move_ms)
            by_s = np.interp(strokes.time_s, view.strokes.time_s, moves_s) if len(moves_s) else 0.0
            return _Reference(measure_offsets(strokes, session.grid), strokes.time_s + by_s)

        return self._keep("reference of track", (view.hits[wanted], view.plan, session.grid), of_track)

    def _hits(self, session: Session, track: Track, verdict: Verdict, material: Material) -> Hits:
        by_hand = (track.added_s, track.removed_s, track.moved, track.landings)
        peaks = self.peaks(track)
        assert peaks is not None
        return self._keep(
            "hits",
            (verdict, peaks, track.rules, track.section_rules, session.sections, material, *by_hand),
            lambda _key: track_hits(track, verdict, peaks, sections=session.sections, preset=PRESETS[material]),
        )

    def _at_the_drum(self, hits: Hits, verdict: Verdict) -> Hits:
        """Hits that land when they do at the drum: a microphone above the kit hears them later."""
        if not verdict.later_s:
            return hits
        return self._keep("at the drum", (hits, verdict), lambda _key: hits.landing_earlier(verdict.later_s))

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


def ensemble_of(session: Session, group: Group) -> Ensemble:
    """How a group is listened to; two tracks that listen to the same tell nothing about each other."""
    tracks = session.tracks_of(group)
    ears = tuple(dict.fromkeys(session.ear_of(track) for track in tracks))
    number = {track.key: ears.index(session.ear_of(track)) for track in tracks}
    given = {
        number[track.key]: number[track.drum] if track.drum else NO_DRUM
        for track in tracks
        if track.drum == "" or track.drum in number
    }
    return Ensemble(ears, tuple(sorted(given.items())))


def material_of(analysis: Analysis, verdict: Verdict, ear: Ear) -> Material:
    """What a sound is taken for: as told, else as it sounds and as it stands in its group."""
    if ear.material is not None:
        return analysis.material
    if verdict.is_far or verdict.is_wide:
        return Material.DRUM_OVERHEAD
    return verdict.material or analysis.material


def _stand(track: Track, verdict: Verdict, material: Material) -> Stand:
    """How a track stands to what is played on it; what it was said to be goes before what it sounds like."""
    if verdict.is_far and track.material in (None, Material.DRUM_OVERHEAD):
        return Stand.FAR
    if PRESETS[material].is_pitched:
        return Stand.NOTES
    return Stand.WIDE if verdict.is_wide else Stand.CLOSE


def _ranks(verdicts: Sequence[Verdict], stands: Sequence[Stand]) -> list[int]:
    """Ranks by what was found, so that no correction by hand turns them round."""
    kinds = [np.where(verdict.played, Kind.PLAYED, Kind.BLEED) for verdict in verdicts]
    found = [
        Hits.of(verdict.time_s, level_db=verdict.level_db, kind=kind)
        for verdict, kind in zip(verdicts, kinds, strict=True)
    ]
    centre_hz = [each.centre_hz for each in verdicts]
    return suggest_leads([mark_grace_and_rolls(hits) for hits in found], stands, centre_hz)


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
    if not group.slots_given:
        return None
    return at_strokes(strokes, [(given.time_s, given.place) for given in group.slots_given])


def section_numbers(session: Session, strokes: Strokes) -> IntArray:
    """Number of the section each stroke belongs to."""
    return section_of([section.start_s for section in session.sections] or [0.0], strokes.time_s)


def in_ranges(strokes: Strokes, ranges: Sequence[Hold]) -> NDArray[np.bool_]:
    """Which strokes lie in any of some ranges."""
    inside = np.zeros(len(strokes), dtype=bool)
    for each in ranges:
        inside |= (strokes.time_s >= each.start_s) & (strokes.time_s <= each.end_s)
    return inside


def decided_by_hand(strokes: Strokes, group: Group, columns: tuple[str, ...]) -> ByHand:
    """What a person decided about the strokes of a group."""
    rides = np.zeros(len(strokes), dtype=bool)
    for each in group.evens:  # the strokes at the ends go where they go, those between them along
        inside = np.flatnonzero(in_ranges(strokes, [each]))
        rides[inside[1:-1]] = True

    def led_by(leads: tuple[str, ...]) -> NDArray[np.bool_]:
        return np.isin(strokes.lead, [columns.index(key) for key in leads if key in columns])

    rides |= led_by(group.free_leads)
    if group.softest_db is not None:
        rides |= strokes.level_db < group.softest_db
    piece = np.arange(len(strokes))
    for each in group.pieces:
        inside = np.flatnonzero(in_ranges(strokes, [each]))
        piece[inside] = inside[:1]
    given = [(move.time_s, move.move_ms) for move in group.moves_given]
    held = in_ranges(strokes, group.holds) | led_by(group.held_leads)
    return ByHand(held, at_strokes(strokes, given), rides, piece)


def at_strokes(strokes: Strokes, facts: Sequence[tuple[float, float]]) -> FloatArray:
    """Values that were told of strokes, by their times; NaN where there is none."""
    values = np.full(len(strokes), np.nan)
    if not facts or not len(strokes):
        return values
    times, told = np.array(facts).T
    nearest = nearest_index(strokes.time_s, times)
    near = np.abs(strokes.time_s[nearest] - times) <= SAME_STROKE_S
    values[nearest[near]] = told[near]
    return values


def moves_in(view: GroupView, strokes: Strokes) -> FloatArray:
    """Moves in ms that a view plans for strokes of another one, by their times as played; NaN where it has none."""
    return at_strokes(strokes, list(zip(view.strokes.time_s, view.plan.move_ms, strict=True)))


def merged_pairs(pairs: Sequence[Pairs | None], which: IntArray) -> Pairs | None:
    """Partners of each stroke under the settings that hold for it; None if nothing is tightened to a reference."""
    if all(each is None for each in pairs):
        return None
    alone = Pairs(np.full(len(which), -1), np.full(len(which), np.nan), np.zeros(len(which), dtype=bool))
    rows = np.arange(len(which))
    columns = [
        np.stack([getattr(each or alone, name) for each in pairs])[which, rows] for name in Pairs.__dataclass_fields__
    ]
    return Pairs(*columns)


def change_of_part(session: Session, view: GroupView) -> NoteChange:
    """What becomes of the notes of a MIDI part: its strokes' moves, and the accents of the groove it aims at.

    A stroke gets louder by the share asked for of what its accent lacks; slots the groove does not know stay as they
    are.
    """
    assert view.part is not None
    own = view.strokes.level_db - float(np.mean(view.strokes.level_db)) if len(view.strokes) else np.zeros(0)
    level_by_db = np.zeros(len(own))
    section = section_numbers(session, view.strokes)
    keys: list[str | None] = [each.key for each in session.sections] or [None]
    for number, key in enumerate(keys):
        aim = view.group.settings_in(key).aim
        if aim.at is AimAt.GROOVE and aim.groove is not None and aim.accents > 0.0:
            wanted = groove_accents_db(aim.groove, view.offsets, session.grid)
            louder = (section == number) & np.isfinite(wanted)
            level_by_db[louder] = aim.accents * (wanted - own)[louder]
    ends_follow = session.part(view.group.part).ends_follow
    return move_notes(
        view.part.notes, view.part.chords, view.plan.move_ms, ends_follow=ends_follow, level_by_db=level_by_db
    )
