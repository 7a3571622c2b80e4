"""The errors the core raises; only the command line and the window turn them into text for a person.

Each message is one sentence that says what is wrong, where, and what to do about it.
"""

from __future__ import annotations

from pathlib import Path


class SnareError(Exception):
    """Root of all errors that a person is meant to read."""


class UsageError(SnareError, ValueError):
    """A value that makes no sense, such as a tempo of −3."""


class RecordingError(SnareError, OSError):
    """A recording that cannot be used.

    Attributes
    ----------
    path : Path
        The file the message is about.
    """

    def __init__(self, path: Path, problem: str) -> None:
        super().__init__(f"{path.name}: {problem}")
        self.path = path


class RecordingChangedError(RecordingError):
    """A recording that is not the file any more that was looked at."""

    def __init__(self, path: Path) -> None:
        super().__init__(path, f"the file in {path.parent} was changed or exchanged since it was read; open it again.")


class GroupError(SnareError, ValueError):
    """Recordings that cannot be edited together as one group."""


class OutputError(SnareError, OSError):
    """A file that may not or could not be written; what was there stays, and nothing half-written is left behind."""


class SessionError(SnareError, ValueError):
    """A session folder that cannot be opened or saved."""


class NewerSessionError(SessionError):
    """A session that a newer version of the program made."""


class CancelledError(SnareError):
    """Long work that was stopped on request."""

    def __init__(self) -> None:
        super().__init__("Stopped on request.")


class GrooveError(SnareError, ValueError):
    """A groove template that cannot be read or written."""
