"""Edits: pure functions from session to session. Each is one step that can be undone."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec

from supple_snare.disk.opening import shown_name
from supple_snare.errors import UsageError
from supple_snare.session.document import (
    Group,
    HitRules,
    Hold,
    Landing,
    MovedHit,
    MoveGiven,
    Part,
    SeamGiven,
    SectionLeads,
    SectionRules,
    Session,
    Slide,
    Track,
    WayGiven,
    check_group,
)
from supple_snare.sound.files import Recording
from supple_snare.sound.stretch.ways import Method, Way
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.tighten import Response

SAME_HIT_S = 0.003
"""A correction speaks of the hit at most this far from it."""

SHORTEST_SLIDE_S = 0.02
"""Less than that is no piece of its own: its two seams would be all of it."""


def add_recordings(session: Session, recordings: Sequence[Recording], *, group_name: str | None = None) -> Session:
    """Add recordings as one new group, or to the only group of that name.

    Raises
    ------
    GroupError
        If they cannot be edited together with what is in the group.
    """
    if not recordings:
        return session
    known = {track.recording.path for track in session.tracks}
    new = [recording for recording in recordings if recording.path not in known]
    if not new:
        return session
    existing = next((group for group in session.groups if group.name == group_name and not group.part), None)
    inside = tuple(track.recording for track in session.tracks_of(existing)) if existing else ()
    check_group((*inside, *new))
    check_group_rate(session, new)
    tracks = []
    number = _next_number(track.key for track in session.tracks)
    for offset, recording in enumerate(new):
        tracks.append(Track(key=f"t{number + offset}", name=readable_name(recording.path), recording=recording))
    keys = tuple(track.key for track in tracks)
    session = msgspec.structs.replace(session, tracks=session.tracks + tuple(tracks))
    if existing:
        return _with_group(session, existing.key, tracks=existing.tracks + keys)
    group = Group(
        key=f"g{_next_number(group.key for group in session.groups)}",
        name=group_name or _new_group_name(session, tracks),
        tracks=keys,
        method=Method.AUTO,
    )
    return msgspec.structs.replace(session, groups=(*session.groups, group))


def _new_group_name(session: Session, tracks: Sequence[Track]) -> str:
    """That of its only track, or a number; one that no group has yet."""
    taken = {group.name for group in session.groups}
    if len(tracks) == 1 and tracks[0].name not in taken:
        return tracks[0].name
    numbers = itertools.count(len(session.groups) + 1)
    return next(name for name in map("Group {}".format, numbers) if name not in taken)


def check_group_rate(session: Session, recordings: Iterable[Recording]) -> None:
    """One session has one rate: its groups play together.

    Raises
    ------
    GroupError
        If a recording has another rate than the session.
    """
    if session.tracks:
        first = session.tracks[0].recording
        for recording in recordings:
            if recording.rate_hz != first.rate_hz:
                check_group((first, recording))


def readable_name(path: Path) -> str:
    """A file's name as people write it: `snare_close-2.wav` is "Snare close 2"."""
    words = re.sub(r"[_\-\s]+", " ", shown_name(path.stem)).strip()
    return words[:1].upper() + words[1:] if words else shown_name(path.name)


def remove_track(session: Session, key: str) -> Session:
    """Take a track out of the session; an emptied group goes with it. The file stays where it is."""
    groups = []
    for group in session.groups:
        kept = tuple(other for other in group.tracks if other != key)
        if kept or group.part:
            groups.append(msgspec.structs.replace(_without_lead(group, key), tracks=kept))
    tracks = tuple(
        msgspec.structs.replace(
            track,
            listens_to=tuple(other for other in track.listens_to if other != key),
            drum=None if track.drum == key else track.drum,
        )
        for track in session.tracks
        if track.key != key
    )
    return _without_lost_references(msgspec.structs.replace(session, tracks=tracks, groups=tuple(groups)))


def remove_part(session: Session, key: str) -> Session:
    """Take a MIDI part out of the session. The file stays where it is."""
    groups = tuple(group for group in session.groups if group.part != key)
    parts = tuple(part for part in session.parts if part.key != key)
    return _without_lost_references(msgspec.structs.replace(session, parts=parts, groups=groups))


def _without_lost_references(session: Session) -> Session:
    """Groups whose reference is gone, or has come to be inside them, aim at the grid."""
    groups = []
    for group in session.groups:
        own = tuple(
            msgspec.structs.replace(each, aim=_found_aim(session, group, each.aim)) for each in group.section_settings
        )
        aim = _found_aim(session, group, group.aim)
        groups.append(msgspec.structs.replace(group, aim=aim, section_settings=own))
    return msgspec.structs.replace(session, groups=tuple(groups))


def _found_aim(session: Session, group: Group, aim: Aim) -> Aim:
    """The aim, or the grid if its reference is gone."""
    if aim.reference and _is_lost(session, group, aim):
        return replace(aim, at=AimAt.GRID, reference="")
    return aim


def _is_lost(session: Session, group: Group, aim: Aim) -> bool:
    wanted = aim.reference
    others = [other for other in session.groups if other.key != group.key]
    return not any(wanted in (other.key, other.part, *other.tracks) for other in others)


def _without_lead(group: Group, key: str) -> Group:
    """The group with a track no longer among its leads."""

    def rest(leads: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(other for other in leads if other != key)

    return msgspec.structs.replace(
        group,
        leads=None if group.leads is None else rest(group.leads),
        free_leads=rest(group.free_leads),
        held_leads=rest(group.held_leads),
        section_leads=tuple(SectionLeads(own.section, rest(own.leads)) for own in group.section_leads),
    )


def move_track(session: Session, key: str, group_key: str | None) -> Session:
    """Put a track into another group, or into a new one of its own.

    Raises
    ------
    GroupError
        If it does not fit there.
    """
    track = session.track(key)
    if group_key == session.group_of(key).key:
        return session
    if group_key is not None:
        check_group((*(other.recording for other in session.tracks_of(session.group(group_key))), track.recording))
    number = _next_number(group.key for group in session.groups)
    groups = []
    for group in session.groups:
        kept = tuple(other for other in group.tracks if other != key)
        if group.key == group_key:
            kept = (*kept, key)
        if kept or group.part:
            groups.append(msgspec.structs.replace(_without_lead(group, key), tracks=kept))
    if group_key is None:
        groups.append(Group(key=f"g{number}", name=track.name, tracks=(key,), method=Method.AUTO))
    return _without_lost_references(msgspec.structs.replace(session, groups=tuple(groups)))


def add_part(session: Session, path: Path, length_s: float, *, name: str | None = None) -> Session:
    """Add a MIDI part, as a group of its own."""
    if any(path == other.path for other in session.parts):
        return session
    name = name or readable_name(path)
    part = Part(key=f"p{_next_number(other.key for other in session.parts)}", name=name, path=path, length_s=length_s)
    group = Group(key=f"g{_next_number(group.key for group in session.groups)}", name=name, tracks=(), part=part.key)
    return msgspec.structs.replace(session, parts=(*session.parts, part), groups=(*session.groups, group))


def change_part(session: Session, key: str, **changes: Any) -> Session:
    """Replace fields of a MIDI part."""
    parts = tuple(msgspec.structs.replace(part, **changes) if part.key == key else part for part in session.parts)
    return msgspec.structs.replace(session, parts=parts)


def set_response(session: Session, group_key: str, response: Response, *, section: str | None = None) -> Session:
    """Say how much of each deviation goes: over the whole take, or in one section."""
    return _set_settings(session, group_key, section, response=response)


def set_method(session: Session, group_key: str, method: Method, *, section: str | None = None) -> Session:
    """Say how strokes come to their new places: over the whole take, or in one section."""
    return _set_settings(session, group_key, section, method=method)


def follow_take(session: Session, group_key: str, section: str) -> Session:
    """Tighten a section as the whole take again."""
    own = session.group(group_key).section_settings
    return _with_group(session, group_key, section_settings=tuple(each for each in own if each.section != section))


def _set_settings(session: Session, group_key: str, section: str | None, **changes: Any) -> Session:
    """Change the response or the aim of a group, or of one of its sections, which has its own from then on."""
    if section is None:
        return _with_group(session, group_key, **changes)
    group = session.group(group_key)
    own = msgspec.structs.replace(group.settings_in(section), **changes)
    others = tuple(each for each in group.section_settings if each.section != section)
    return _with_group(session, group_key, section_settings=(*others, own))


def set_aim(session: Session, group_key: str, aim: Aim, *, section: str | None = None) -> Session:
    """Say what a group, or one of its sections, is tightened toward.

    Raises
    ------
    UsageError
        If its reference is not there, or is itself tightened to the group.
    """
    changed = _set_settings(session, group_key, section, aim=aim)
    group = changed.group(group_key)
    if aim.at is AimAt.REFERENCE:
        if _is_lost(changed, group, aim):
            raise UsageError("Choose a group or a track of another group as the reference.")
        first = changed.reference_group(aim)
        waiting, seen = [first] if first is not None else [], set()
        while waiting:
            other = waiting.pop()
            if other.key == group_key and first is not None:
                raise UsageError(f"{first.name} is itself tightened to {group.name}: choose another reference.")
            if other.key not in seen:
                seen.add(other.key)
                waiting += changed.reference_groups(other)
    return changed


def give_moves(session: Session, group_key: str, moves_ms: Mapping[float, float]) -> Session:
    """Move strokes by hand, by their times as played; what was given to them before is forgotten."""
    kept = [given for given in session.group(group_key).moves_given if not _near(given.time_s, list(moves_ms))]
    given = [MoveGiven(time_s, move_ms) for time_s, move_ms in moves_ms.items()]
    return _with_group(session, group_key, moves_given=tuple(sorted((*kept, *given), key=lambda each: each.time_s)))


def give_seam(
    session: Session, group_key: str, time_s: float, place_s: float | None, fade_ms: float | None = None
) -> Session:
    """Put the seam before a stroke somewhere by hand, with a fade of its own if one is given, or leave it again.

    Raises
    ------
    UsageError
        If the fade makes no sense.
    """
    kept = [given for given in session.group(group_key).seams_given if abs(given.time_s - time_s) > SAME_HIT_S]
    given = [] if place_s is None else [SeamGiven(time_s, place_s, fade_ms)]
    return _with_group(session, group_key, seams_given=tuple(sorted((*kept, *given), key=lambda each: each.time_s)))


def give_way(session: Session, group_key: str, time_s: float, way: Way | None) -> Session:
    """Say how the gap before a stroke is filled; None leaves it to the method again."""
    kept = [given for given in session.group(group_key).ways_given if abs(given.time_s - time_s) > SAME_HIT_S]
    given = [] if way is None else [WayGiven(time_s, way)]
    return _with_group(session, group_key, ways_given=tuple(sorted((*kept, *given), key=lambda each: each.time_s)))


def set_anchor(session: Session, group_key: str, time_s: float) -> Session:
    """Let a place of the recording stay where it is, whatever moves before and after it."""
    others = _without(session.group(group_key).anchors_s, (time_s,))
    return _with_group(session, group_key, anchors_s=tuple(sorted((*others, time_s))))


def remove_anchors(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Take away the anchors of a range, ends included."""
    kept = tuple(time_s for time_s in session.group(group_key).anchors_s if not start_s <= time_s <= end_s)
    return _with_group(session, group_key, anchors_s=kept)


def even_range(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Let what lies between the strokes at the ends of a range move evenly between them."""
    evens = session.group(group_key).evens
    return _with_group(session, group_key, evens=tuple(sorted((*evens, Hold(start_s, end_s)), key=_hold_order)))


def join_range(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Let the strokes of a range travel as one piece; moves that were given inside it are forgotten."""
    group = session.group(group_key)
    apart = [each for each in group.pieces if each.end_s < start_s or each.start_s > end_s]
    return _with_group(
        session,
        group_key,
        pieces=tuple(sorted((*apart, Hold(start_s, end_s)), key=_hold_order)),
        moves_given=tuple(given for given in group.moves_given if not start_s <= given.time_s <= end_s),
    )


def slide_range(session: Session, group_key: str, start_s: float, end_s: float, by_ms: float) -> Session:
    """Move the sound of a range by so much more, between cuts at its ends; what it overlaps is forgotten.

    Raises
    ------
    UsageError
        If the range is too short to be a piece.
    """
    if end_s - start_s < SHORTEST_SLIDE_S:
        least = f"{1000 * SHORTEST_SLIDE_S:.0f} ms"
        raise UsageError(f"A piece of less than {least} cannot be cut out: choose a longer range.")
    slides = session.group(group_key).slides
    apart = [each for each in slides if each.end_s <= start_s or each.start_s >= end_s]
    before = next((each.move_ms for each in slides if (each.start_s, each.end_s) == (start_s, end_s)), 0.0)
    slid = [Slide(start_s, end_s, before + by_ms)] if abs(before + by_ms) > 1e-9 else []
    return _with_group(session, group_key, slides=tuple(sorted((*apart, *slid), key=lambda each: each.start_s)))


def hold_others(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Keep everything outside a range as played, so that only the range is tightened."""
    length_s = max(session.length_s, end_s)
    before, after = (-1.0, start_s - SAME_HIT_S), (end_s + SAME_HIT_S, length_s + 1.0)
    inside = [hold for hold in session.group(group_key).holds if hold.start_s <= end_s and hold.end_s >= start_s]
    holds = [*inside, *(Hold(first, last) for first, last in (before, after) if last > first)]
    return _with_group(session, group_key, holds=tuple(sorted(holds, key=_hold_order)))


def drop_edits(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Drop every edit by hand of a range: holds, moves, pieces, slots, seams, anchors, hits; it is as found again."""
    group = session.group(group_key)

    def apart(ranges: tuple[Hold, ...]) -> tuple[Hold, ...]:
        return tuple(each for each in ranges if each.end_s < start_s or each.start_s > end_s)

    def outside(time_s: float) -> bool:
        return not start_s - SAME_HIT_S <= time_s <= end_s + SAME_HIT_S

    session = restore_hits(session, group.tracks, start_s, end_s)
    return _with_group(
        session,
        group_key,
        holds=apart(group.holds),
        evens=apart(group.evens),
        pieces=apart(group.pieces),
        slides=tuple(each for each in group.slides if each.end_s < start_s or each.start_s > end_s),
        moves_given=tuple(given for given in group.moves_given if outside(given.time_s)),
        slots_given=tuple(given for given in group.slots_given if outside(given.time_s)),
        seams_given=tuple(given for given in group.seams_given if outside(given.time_s)),
        ways_given=tuple(given for given in group.ways_given if outside(given.time_s)),
        anchors_s=tuple(filter(outside, group.anchors_s)),
    )


def change_track(session: Session, key: str, **changes: Any) -> Session:
    """Replace fields of a track."""
    tracks = tuple(msgspec.structs.replace(track, **changes) if track.key == key else track for track in session.tracks)
    return msgspec.structs.replace(session, tracks=tracks)


def change_group(session: Session, key: str, **changes: Any) -> Session:
    """Replace fields of a group."""
    return _with_group(session, key, **changes)


def add_hits(session: Session, key: str, times_s: Iterable[float]) -> Session:
    """Add hits by hand; a removal at the same place is taken back."""
    track = session.track(key)
    times = tuple(times_s)
    return change_track(
        session, key, added_s=tuple(sorted({*track.added_s, *times})), removed_s=_without(track.removed_s, times)
    )


def remove_hits(session: Session, key: str, times_s: Iterable[float]) -> Session:
    """Remove hits by hand; those that had been added or moved are forgotten, and with the latter what was found."""
    track = session.track(key)
    times = tuple(times_s)
    gone = [moved for moved in track.moved if _near(moved.to_s, times)]
    removed = {time for time in times if not _near(time, track.added_s) and not _near(time, [m.to_s for m in gone])}
    return change_track(
        session,
        key,
        added_s=_without(track.added_s, times),
        moved=tuple(moved for moved in track.moved if moved not in gone),
        removed_s=tuple(sorted({*track.removed_s, *removed, *(moved.from_s for moved in gone)})),
        landings=tuple(landing for landing in track.landings if not _near(landing.time_s, times)),
    )


def move_hit(session: Session, key: str, time_s: float, to_s: float) -> Session:
    """Put a hit elsewhere. However often it is moved, it is known by where it was found; it lands where it was told."""
    track = session.track(key)
    told = next((landing.landing_s for landing in track.landings if _near(landing.time_s, (time_s,))), None)
    session = land_hit(session, key, time_s, None)
    if told is not None and told > to_s:
        session = land_hit(session, key, to_s, told)
    if _near(time_s, track.added_s):
        added = tuple(sorted({*_without(track.added_s, (time_s,)), to_s}))
        return change_track(session, key, added_s=added)
    before = next((moved for moved in track.moved if _near(time_s, (moved.to_s, moved.from_s))), None)
    from_s = before.from_s if before else time_s
    others = tuple(moved for moved in track.moved if moved is not before)
    moved = tuple(sorted((*others, MovedHit(from_s, to_s)), key=lambda moved: moved.to_s))
    return change_track(session, key, moved=moved)


def land_hit(session: Session, key: str, time_s: float, landing_s: float | None) -> Session:
    """Set where a hit lands, or leave it to the program again."""
    track = session.track(key)
    others = tuple(landing for landing in track.landings if not _near(landing.time_s, (time_s,)))
    new = () if landing_s is None else (Landing(time_s, max(time_s, landing_s)),)
    return change_track(session, key, landings=tuple(sorted((*others, *new), key=lambda landing: landing.time_s)))


def restore_hits(session: Session, keys: Iterable[str], start_s: float, end_s: float) -> Session:
    """Drop every correction by hand in a range of time, ends included."""

    def outside(time_s: float) -> bool:
        return not start_s - SAME_HIT_S <= time_s <= end_s + SAME_HIT_S

    for key in keys:
        track = session.track(key)
        session = change_track(
            session,
            key,
            added_s=tuple(filter(outside, track.added_s)),
            removed_s=tuple(filter(outside, track.removed_s)),
            moved=tuple(moved for moved in track.moved if outside(moved.from_s) and outside(moved.to_s)),
            landings=tuple(landing for landing in track.landings if outside(landing.time_s)),
        )
    return session


def set_rules(session: Session, key: str, rules: HitRules | None, *, section: str | None = None) -> Session:
    """Say which attacks of a track count: over the whole take, or in one section; None lets that follow the take."""
    track = session.track(key)
    if section is None:
        return change_track(session, key, rules=rules or HitRules())
    others = tuple(own for own in track.section_rules if own.section != section)
    own = () if rules is None else (SectionRules(section, rules),)
    return change_track(session, key, section_rules=(*others, *own))


def set_leads(
    session: Session, group_key: str, leads: tuple[str, ...] | None, *, section: str | None = None
) -> Session:
    """Rank the leads of a group over the whole take or in a section; None leaves it to the program, or to the take."""
    if section is None:
        return _with_group(session, group_key, leads=leads)
    others = tuple(own for own in session.group(group_key).section_leads if own.section != section)
    return _with_group(
        session, group_key, section_leads=others if leads is None else (*others, SectionLeads(section, leads))
    )


def hold_range(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Keep the strokes of a range as played."""
    group = session.group(group_key)
    return _with_group(session, group_key, holds=tuple(sorted((*group.holds, Hold(start_s, end_s)), key=_hold_order)))


def release_range(session: Session, group_key: str, start_s: float, end_s: float) -> Session:
    """Drop every hold that touches a range."""
    group = session.group(group_key)
    kept = tuple(hold for hold in group.holds if hold.end_s < start_s or hold.start_s > end_s)
    return _with_group(session, group_key, holds=kept)


def tick_step(session: Session, step: str, *, done: bool) -> Session:
    """Tick a step of the work off, or take the tick back."""
    others = tuple(other for other in session.checked if other != step)
    return msgspec.structs.replace(session, checked=(*others, step) if done else others)


def _near(time_s: float, times_s: Iterable[float]) -> bool:
    return any(abs(time_s - other) <= SAME_HIT_S for other in times_s)


def _without(times_s: Iterable[float], marks_s: Sequence[float]) -> tuple[float, ...]:
    return tuple(time for time in times_s if not _near(time, marks_s))


def _hold_order(hold: Hold) -> tuple[float, float]:
    return hold.start_s, hold.end_s


def _with_group(session: Session, key: str, **changes: Any) -> Session:
    groups = tuple(msgspec.structs.replace(group, **changes) if group.key == key else group for group in session.groups)
    return msgspec.structs.replace(session, groups=groups)


def _next_number(keys: Iterable[str]) -> int:
    return max((int(key[1:]) for key in keys), default=0) + 1
