"""Undo and redo: a bounded row of session values, each with the name of the step that led to it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from supple_snare.session.document import Session

_LONGEST = 500


@dataclass(frozen=True)
class History:
    """Sessions before and after the present one.

    Attributes
    ----------
    present : Session
    past, future : tuple of (label, Session)
        The label names the step that leads away from that session (past), or to it (future).
    """

    present: Session
    past: tuple[tuple[str, Session], ...] = ()
    future: tuple[tuple[str, Session], ...] = ()

    def step(self, label: str, session: Session) -> History:
        """A new session follows; what had been undone is dropped. No change makes no step."""
        if session == self.present:
            return self
        return History(session, (*self.past, (label, self.present))[-_LONGEST:])

    def amend(self, session: Session) -> History:
        """Replace the present session within the running step, as during the drag of a handle."""
        return replace(self, present=session)

    def undo(self) -> History:
        """One step back; the same history if there is none."""
        if not self.past:
            return self
        label, session = self.past[-1]
        return History(session, self.past[:-1], ((label, self.present), *self.future))

    def redo(self) -> History:
        """One step forward again."""
        if not self.future:
            return self
        label, session = self.future[0]
        return History(session, (*self.past, (label, self.present)), self.future[1:])

    @property
    def undo_label(self) -> str | None:
        """Name of the step that undo would take back."""
        return self.past[-1][0] if self.past else None

    @property
    def redo_label(self) -> str | None:
        """Name of the step that redo would bring again."""
        return self.future[0][0] if self.future else None
