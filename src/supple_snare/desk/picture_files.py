"""Pictures of what is on the screen, saved where a person says."""

from __future__ import annotations

from PyQt6.QtWidgets import QFileDialog, QWidget

from supple_snare.desk.workspace import Workspace


def save_picture(work: Workspace, shown: QWidget, name: str) -> None:
    """Ask for a place and save what a widget shows there, as PNG."""
    path, _ = QFileDialog.getSaveFileName(shown, "Save the picture", str(work.nearby / name), "Pictures (*.png)")
    if path and not shown.grab().save(path):
        work.tell_problem(f"{path}: the picture could not be written; choose another folder.")
