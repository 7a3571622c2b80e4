"""Edits: pure functions from session to session. Each is one step that can be undone."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import msgspec

from supple_snare.session.document import Group, Hold, Part, Session, Track, check_group
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
        leads = None if group.leads is None else tuple(other for other in group.leads if other != key)
        if kept:
            groups.append(msgspec.structs.replace(group, tracks=kept, leads=leads))
    tracks = tuple(track for track in session.tracks if track.key != key)
    return msgspec.structs.replace(session, tracks=tracks, groups=tuple(groups))


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
        leads = None if group.leads is None else tuple(other for other in group.leads if other != key)
        if group.key == group_key:
            kept = (*kept, key)
        if kept:
            groups.append(msgspec.structs.replace(group, tracks=kept, leads=leads))
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


def add_hit(session: Session, key: str, time_s: float) -> Session:
    """Add a hit by hand; a removal at the same place is taken back."""
    track = session.track(key)
    removed = tuple(time for time in track.removed_s if abs(time - time_s) > SAME_HIT_S)
    added = tuple(sorted({*track.added_s, time_s}))
    return change_track(session, key, added_s=added, removed_s=removed)


def remove_hit(session: Session, key: str, time_s: float) -> Session:
    """Remove a hit by hand; one that had been added is forgotten."""
    track = session.track(key)
    added = tuple(time for time in track.added_s if abs(time - time_s) > SAME_HIT_S)
    removed = tuple(sorted({*track.removed_s, time_s}))
    return change_track(session, key, added_s=added, removed_s=removed)


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


def _hold_order(hold: Hold) -> tuple[float, float]:
    return hold.start_s, hold.end_s


def _with_group(session: Session, key: str, **changes: Any) -> Session:
    groups = tuple(msgspec.structs.replace(group, **changes) if group.key == key else group for group in session.groups)
    return msgspec.structs.replace(session, groups=groups)


def _next_number(keys: Iterable[str]) -> int:
    return max((int(key[1:]) for key in keys), default=0) + 1
