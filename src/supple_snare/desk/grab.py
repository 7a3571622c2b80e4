"""A press of the mouse, which is a click until the pointer has gone further than a hand trembles."""

from __future__ import annotations

from PyQt6.QtCore import QPointF

TREMBLE_PX = 3.0
"""A hand that clicks may move the mouse so far."""

NEAR_PX = 6.0
"""A handle is held by a press so near to it."""


class Grab:
    """Where something was taken hold of. It keeps its distance from the pointer, so that it never jumps.

    Parameters
    ----------
    at : QPointF
        Where the mouse was pressed.
    handle : QPointF, optional
        Where what is held stands then; by default under the pointer.
    """

    def __init__(self, at: QPointF, handle: QPointF | None = None) -> None:
        self.at = QPointF(at)
        self._to_handle = QPointF() if handle is None else handle - at
        self.is_drag = False

    def drag(self, to: QPointF) -> QPointF | None:
        """Where what is held goes with the pointer; None as long as it is a click."""
        self.is_drag = self.is_drag or (to - self.at).manhattanLength() > TREMBLE_PX
        return to + self._to_handle if self.is_drag else None
