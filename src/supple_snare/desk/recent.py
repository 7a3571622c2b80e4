"""The sessions worked on last."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QMenu

from supple_snare.session.storage import FILE_NAME

_KEY = "sessions/recent"
_MOST = 8


def recent_sessions() -> list[Path]:
    """Their folders, the newest first; those that are gone for now are left out."""
    value = QSettings().value(_KEY)
    paths = [Path(text) for text in (value if isinstance(value, list) else [value]) if isinstance(text, str) and text]
    return [path for path in paths if (path / FILE_NAME).is_file()]


def remember_session(folder: Path) -> None:
    """This one was worked on just now."""
    known = [path for path in recent_sessions() if path != folder]
    QSettings().setValue(_KEY, [str(path) for path in [folder, *known][:_MOST]])


def fill_recent(menu: QMenu, open_session: Callable[[Path], object]) -> None:
    """List them; a choice opens one."""
    menu.clear()
    for folder in recent_sessions():
        action = menu.addAction(f"{folder.name}  ·  {folder.parent}", lambda f=folder: open_session(f))
        assert action is not None
    if menu.isEmpty():
        nothing = menu.addAction("None yet")
        assert nothing is not None
        nothing.setEnabled(False)
