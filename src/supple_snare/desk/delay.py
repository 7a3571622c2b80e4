"""What is done once things have been quiet for a while."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer


def once_quiet(owner: QObject, milliseconds: int, act: Callable[[], None]) -> QTimer:
    """A timer that acts once when nothing has restarted it for so long; not started yet."""
    timer = QTimer(owner)
    timer.setSingleShot(True)
    timer.setInterval(milliseconds)
    timer.timeout.connect(act)
    return timer
