"""Recordings that cannot be used as they are, and what can be done about them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from supple_snare.desk.message_bar import MessageBar
from supple_snare.desk.workspace import Workspace
from supple_snare.session.recordings import Trouble


class Troubles:
    """Says which files are missing, changed or unreadable, as long as some are.

    Parameters
    ----------
    workspace : Workspace
    window : QWidget
        Above which a folder is asked for.
    message : MessageBar
    """

    def __init__(self, workspace: Workspace, window: QWidget, message: MessageBar) -> None:
        self._work, self._window, self._message = workspace, window, message
        self._troubled = False
        workspace.troubled.connect(self._show)

    def _show(self) -> None:
        """Say which files cannot be used as they are, and offer what can be done."""
        troubles = self._work.hearing.troubles
        sentences, acts = [], []
        for kind, act in (
            (Trouble.MISSING, ("Find them …", "Choose a folder; they are known by what they hold", self._find_files)),
            (Trouble.CHANGED, ("Use as they are now", "Listen to the changed files anew", self._work.take_changed)),
            (Trouble.UNREADABLE, ("Try again", "Look at the files once more", self._try_again)),
        ):
            paths = sorted(path for path, trouble in troubles.items() if trouble is kind)
            if paths:
                sentences.append(_trouble_words(kind, paths))
                acts.append(act)
        if sentences:
            sentences.append("Nothing is drawn from such files.")
            self._message.say(" ".join(sentences), True, acts)
        elif self._troubled:
            self._message.hide()
        self._troubled = bool(sentences)

    def _find_files(self) -> None:
        folder = QFileDialog.getExistingDirectory(
            self._window, "The folder the recordings are in now", str(self._work.nearby)
        )
        if folder:
            self._work.find_recordings([Path(folder)])

    def _try_again(self) -> None:
        hearing = self._work.hearing
        hearing.forget([path for path, trouble in hearing.troubles.items() if trouble is Trouble.UNREADABLE])
        self._work.resume()


def _trouble_words(kind: Trouble, paths: Sequence[Path]) -> str:
    """Which files are in trouble, in one sentence."""
    names = ", ".join(path.name for path in paths[:3]) + (f" and {len(paths) - 3} more" if len(paths) > 3 else "")
    if kind is Trouble.MISSING:
        return f"{names} {'was' if len(paths) == 1 else 'were'} not found in {paths[0].parent}."
    if kind is Trouble.CHANGED:
        be = "is not the file it was" if len(paths) == 1 else "are not the files they were"
        return f"{names} {be} when the session last used {'it' if len(paths) == 1 else 'them'}."
    return f"{names} cannot be read in {paths[0].parent}."
