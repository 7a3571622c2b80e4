"""How sessions come and go: begun, opened, saved, left, and brought back after a crash."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget

from supple_snare.desk.message_bar import MessageBar
from supple_snare.desk.workspace import Workspace
from supple_snare.disk.opening import real_path, shown_name
from supple_snare.session.document import Session
from supple_snare.session.folder import folder_name
from supple_snare.session.shelter import Left
from supple_snare.session.storage import FILE_NAME


class Doors:
    """Opens and leaves sessions, with the questions that takes.

    Parameters
    ----------
    workspace : Workspace
    window : QWidget
        Above which questions are asked.
    message : MessageBar
        Where what an earlier run left is offered.
    """

    def __init__(self, workspace: Workspace, window: QWidget, message: MessageBar) -> None:
        self._work, self._window, self._message = workspace, window, message
        self.asks = True
        """Whether it is asked before a session that was never saved is left."""

    def open_paths(self, paths: list[Path]) -> None:
        """A session folder, or recordings as a new session."""
        folders = [path for path in paths if path.is_dir() or path.name.endswith(".json")]
        if folders:
            self._work.open_folder(folders[0])
            return
        name = shown_name(real_path(paths[0]).parent.name) if paths else "New session"
        self._work.open(Session(name=name))
        self._work.add_files(paths)

    def begin(self) -> None:
        """An empty session."""
        if self.may_leave():
            self._work.open(Session())
            self._work.look(step="gather")

    def choose(self) -> None:
        """A session from a folder that is asked for."""
        folder = QFileDialog.getExistingDirectory(self._window, "Open a session folder")
        if folder:
            self.open_session(Path(folder))

    def open_session(self, folder: Path) -> None:
        """Open a saved session in place of this one, if this one may be left."""
        if self.may_leave():
            self._work.open_folder(folder)

    def open_demo(self) -> None:
        """The demo as it came."""
        if self.may_leave():
            from supple_snare.demo.session import demo_listening, demo_session

            session = demo_session()
            self._work.open(session, demo_listening(session))

    def save(self) -> bool:
        """Save; ask for a folder the first time."""
        if self._work.folder is None:
            return self.save_as()
        return self._work.save()

    def save_as(self) -> bool:
        """Save in a folder that is asked for; not if it is not told."""
        folder, _filter = QFileDialog.getSaveFileName(
            self._window,
            "Save the session as a new folder",
            str(self._work.nearby / folder_name(self._work.session)),
            "Session folder (*)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )
        if not folder:
            return False
        target = Path(folder)
        if target.is_dir() and any(target.iterdir()) and not (target / FILE_NAME).exists():
            target = target / folder_name(self._work.session)
        return self._work.save_as(target)

    def may_leave(self) -> bool:
        """Whether the present session may be left: saved, unchanged, or given up."""
        if not self.asks:
            return True
        work = self._work
        if not work.is_unsaved and (work.save() or work.folder is None):
            return True
        if work.folder is not None:
            question = f"{work.saving.problem}\n\nLeave it? The next start brings it back."
            answer = QMessageBox.question(self._window, "This session cannot be saved", question)
            return answer == QMessageBox.StandardButton.Yes
        box = QMessageBox(
            QMessageBox.Icon.Question,
            "Keep this session?",
            "This session was never saved. Keep it?",
            parent=self._window,
        )
        keep = box.addButton("Save it …", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Give it up", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay here", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is keep:
            return self.save()
        return box.clickedButton() is drop

    def offer_lost(self) -> None:
        """Offer what an earlier run left behind, if it did."""
        left = self._work.saving.shelter.left()
        if left:
            newest = left[0]
            count = f" (and {len(left) - 1} older)" if len(left) > 1 else ""
            act = ("Bring it back", "Open it as it was a moment before the end", lambda: self._bring_back(newest))
            self._message.say(f"“{newest.session.name}” was never saved when the program ended{count}.", False, [act])

    def _bring_back(self, left: Left) -> None:
        if self.may_leave():
            self._message.hide()
            self._work.bring_back(left)
