"""Pictures of what is on the screen, saved where a person says."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice
from PyQt6.QtWidgets import QFileDialog, QWidget

from supple_snare.desk.workspace import Workspace
from supple_snare.disk.outputs import output_file
from supple_snare.errors import OutputError


def save_picture(work: Workspace, shown: QWidget, name: str) -> None:
    """Ask for a place and save what a widget shows there, as PNG."""
    chosen, _ = QFileDialog.getSaveFileName(shown, "Save the picture", str(work.nearby / name), "Pictures (*.png)")
    if not chosen:
        return
    picture = QBuffer()
    picture.open(QIODevice.OpenModeFlag.WriteOnly)
    shown.grab().save(picture, "PNG")
    path = Path(chosen)
    try:
        with output_file(path, work.guard([path])) as file:
            file.write(picture.data().data())
    except OutputError as error:
        work.tell_problem(str(error))
