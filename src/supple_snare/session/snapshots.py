"""Snapshots: what was decided at one moment, kept, exchanged with the present, taken back."""

from __future__ import annotations

import msgspec

from supple_snare.session.document import Session, Snapshot

_FIELDS = ("tracks", "groups", "parts", "sections", "take_grid")


def keep_snapshot(session: Session, name: str) -> Session:
    """Keep what is decided now; one of that name is replaced."""
    kept = Snapshot(name=name, **{field: getattr(session, field) for field in _FIELDS})
    others = tuple(other for other in session.snapshots if other.name != name)
    return msgspec.structs.replace(session, snapshots=(*others, kept))


def take_snapshot(session: Session, name: str) -> Session:
    """Decide everything as it was decided then; the snapshot stays."""
    return msgspec.structs.replace(session, **{field: getattr(_named(session, name), field) for field in _FIELDS})


def exchange_snapshot(session: Session, name: str) -> Session:
    """The present becomes the snapshot, the snapshot the present: done twice, all is as it was."""
    before = _named(session, name)
    now = Snapshot(name=name, **{field: getattr(session, field) for field in _FIELDS})
    kept = tuple(now if other is before else other for other in session.snapshots)
    return msgspec.structs.replace(take_snapshot(session, name), snapshots=kept)


def drop_snapshot(session: Session, name: str) -> Session:
    """Forget a snapshot."""
    return msgspec.structs.replace(session, snapshots=tuple(s for s in session.snapshots if s.name != name))


def _named(session: Session, name: str) -> Snapshot:
    return next(snapshot for snapshot in session.snapshots if snapshot.name == name)
