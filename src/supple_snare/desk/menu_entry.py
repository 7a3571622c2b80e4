"""Supple Snare in the desktop's menu: its entry, its icon, and the file type of sessions, for this user.

Nothing here needs Qt. See the Desktop Entry and Shared MIME-info specifications of freedesktop.org.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from supple_snare.errors import UsageError

_NAME = "supple-snare"
_MIME_TYPE = "application/x-supple-snare-session"
_ICON = Path(__file__).parent / "icons" / f"{_NAME}.svg"

_ENTRY = """[Desktop Entry]
Type=Application
Name=Supple Snare
GenericName=Timing editor
Comment=Tightens the timing of recorded performances and keeps their feel
Exec={command} %F
Icon={name}
Terminal=false
Categories=AudioVideo;Audio;
Keywords=drums;timing;groove;quantize;
MimeType={mime};audio/x-wav;audio/flac;audio/x-aiff;audio/midi;
StartupWMClass={name}
"""

_MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{mime}">
    <comment>Supple Snare session</comment>
    <sub-class-of type="application/json"/>
    <icon name="{name}"/>
    <glob pattern="session.json" weight="60"/>
  </mime-type>
</mime-info>
"""


def add_to_menu() -> list[Path]:
    """Write the entry, the icon and the file type; returns the files."""
    texts = {"name": _NAME, "mime": _MIME_TYPE, "command": _quoted(_launcher())}
    entry, icon, mime = _targets()
    for target in (entry, icon, mime):
        target.parent.mkdir(parents=True, exist_ok=True)
    entry.write_text(_ENTRY.format(**texts), encoding="utf-8")
    mime.write_text(_MIME.format(**texts), encoding="utf-8")
    shutil.copyfile(_ICON, icon)
    _tell_desktop()
    return [entry, icon, mime]


def remove_from_menu() -> list[Path]:
    """Remove what `add_to_menu` wrote; returns what was there."""
    there = [target for target in _targets() if target.exists()]
    for target in there:
        target.unlink()
    _tell_desktop()
    return there


def _targets() -> tuple[Path, Path, Path]:
    data = _data_folder()
    return (
        data / "applications" / f"{_NAME}.desktop",
        data / "icons" / "hicolor" / "scalable" / "apps" / f"{_NAME}.svg",
        data / "mime" / "packages" / f"{_NAME}.xml",
    )


def _data_folder() -> Path:
    told = os.environ.get("XDG_DATA_HOME", "")
    return Path(told) if told.startswith("/") else Path.home() / ".local" / "share"


def _launcher() -> Path:
    """What starts the program: the script beside the sources, or the installed command."""
    beside = Path(__file__).resolve().parents[3] / _NAME
    found = beside if os.access(beside, os.X_OK) else shutil.which(_NAME)
    if found is None:
        raise UsageError("The supple-snare command was not found; start the program by its full path once.")
    return Path(found)


def _quoted(path: Path) -> str:
    """A path in the Exec line: quoted, with what is special there escaped, twice where the file format asks for it."""
    text = str(path)
    for special in ("\\", '"', "`", "$"):
        text = text.replace(special, "\\" + special)
    return '"' + text.replace("\\", "\\\\").replace("%", "%%") + '"'


def _tell_desktop() -> None:
    """Have the desktop read its data anew, where it has the tools for it."""
    data = _data_folder()
    for tool, folder in (("update-mime-database", data / "mime"), ("update-desktop-database", data / "applications")):
        if shutil.which(tool) and folder.is_dir():
            subprocess.run([tool, str(folder)], check=False, capture_output=True, timeout=60)
