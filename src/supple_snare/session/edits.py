"""Edits: pure functions from session to session. Each is one step that can be undone."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import msgspec

from supple_snare.session.document import (
    Group,
    HitRules,
    Hold,
    Landing,
    MovedHit,
    Part,
    SectionLeads,
    SectionRules,
    Session,
    Track,
    check_group,
)
from supple_snare.sound.files import Recording

SAME_HIT_S = 0.003
"""A correction speaks of the hit at most this far from it."""


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
    existing = next((group for group in session.groups if group.name == group_name), None)
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
        name=group_name or f"Group {len(session.groups) + 1}",
        tracks=keys,
    )
    return msgspec.structs.replace(session, groups=(*session.groups, group))


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
    words = re.sub(r"[_\-\s]+", " ", path.stem).strip()
    return words[:1].upper() + words[1:] if words else path.name


def remove_track(session: Session, key: str) -> Session:
    """Take a track out of the session; an emptied group goes with it. The file stays where it is."""
    groups = []
    for group in session.groups:
        kept = tuple(other for other in group.tracks if other != key)
        if kept:
            groups.append(msgspec.structs.replace(_without_lead(group, key), tracks=kept))
    tracks = tuple(
        msgspec.structs.replace(track, listens_to=tuple(other for other in track.listens_to if other != key))
        for track in session.tracks
        if track.key != key
    )
    return msgspec.structs.replace(session, tracks=tracks, groups=tuple(groups))


def _without_lead(group: Group, key: str) -> Group:
    """The group with a track no longer among its leads."""

    def rest(leads: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(other for other in leads if other != key)

    return msgspec.structs.replace(
        group,
        leads=None if group.leads is None else rest(group.leads),
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
        if kept:
            groups.append(msgspec.structs.replace(_without_lead(group, key), tracks=kept))
    if group_key is None:
        groups.append(Group(key=f"g{number}", name=track.name, tracks=(key,)))
    return msgspec.structs.replace(session, groups=tuple(groups))


def add_part(session: Session, part: Part) -> Session:
    """Add a MIDI part."""
    if any(part.path == other.path for other in session.parts):
        return session
    return msgspec.structs.replace(session, parts=(*session.parts, part))


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
    """Put a hit elsewhere. However often it is moved, it is known by where it was found."""
    track = session.track(key)
    landings = tuple(landing for landing in track.landings if not _near(landing.time_s, (time_s,)))
    if _near(time_s, track.added_s):
        added = tuple(sorted({*_without(track.added_s, (time_s,)), to_s}))
        return change_track(session, key, added_s=added, landings=landings)
    before = next((moved for moved in track.moved if _near(time_s, (moved.to_s, moved.from_s))), None)
    from_s = before.from_s if before else time_s
    others = tuple(moved for moved in track.moved if moved is not before)
    moved = tuple(sorted((*others, MovedHit(from_s, to_s)), key=lambda moved: moved.to_s))
    return change_track(session, key, moved=moved, landings=landings)


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
