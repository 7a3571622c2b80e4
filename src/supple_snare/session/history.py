"""Undo and redo: a bounded row of session values, each with the name of the step that led to it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
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

    @classmethod
    def of_row(cls, labels: Sequence[str], sessions: Sequence[Session], at: int) -> History:
        """The history whose sessions stand in a row, each with the name of the step that led to it.

        Parameters
        ----------
        labels : sequence of str
            That of the first session is not used.
        sessions : sequence of Session
        at : int
            Which one is the present.
        """
        past = tuple((labels[number + 1], sessions[number]) for number in range(at))
        future = tuple((labels[number], sessions[number]) for number in range(at + 1, len(sessions)))
        return cls(sessions[at], past[-_LONGEST:], future)

    def row(self) -> tuple[tuple[str, ...], list[Session], int]:
        """The labels, the sessions and the place of the present, as `of_row` takes them."""
        sessions = [*(each for _, each in self.past), self.present, *(each for _, each in self.future)]
        labels = ("", *(label for label, _ in self.past), *(label for label, _ in self.future))
        return labels, sessions, len(self.past)

    def changed(self, change: Callable[[Session], Session]) -> History:
        """Every session of it changed alike, as when the recordings lie elsewhere."""
        labels, sessions, at = self.row()
        return self.of_row(labels, [change(session) for session in sessions], at)

    def went(self, steps: int) -> History:
        """So many steps forward, or back if negative; as far as there are any."""
        labels, sessions, at = self.row()
        return self.of_row(labels, sessions, min(max(at + steps, 0), len(sessions) - 1))

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
        return self.went(-1) if self.past else self

    def redo(self) -> History:
        """One step forward again."""
        return self.went(1) if self.future else self

    @property
    def undo_label(self) -> str | None:
        """Name of the step that undo would take back."""
        return self.past[-1][0] if self.past else None

    @property
    def redo_label(self) -> str | None:
        """Name of the step that redo would bring again."""
        return self.future[0][0] if self.future else None
