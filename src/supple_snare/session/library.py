"""The user's groove library: a folder of templates, beside those that come with the program."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from supple_snare.disk.outputs import WriteGuard
from supple_snare.errors import GrooveError
from supple_snare.exchange.groove_files import JSON_SUFFIX, read_groove, write_groove
from supple_snare.timing.groove import Groove


@dataclass(frozen=True)
class Kept:
    """A template on disk.

    Attributes
    ----------
    path : Path
    groove : Groove or None
        None if it cannot be read.
    problem : str
        Why not.
    own : bool
        Whether it is the user's, and can be changed.
    """

    path: Path
    groove: Groove | None
    problem: str = ""
    own: bool = True


def user_folder() -> Path:
    """Where the user's templates are kept."""
    return platformdirs.user_data_path("supple-snare") / "grooves"


class Library:
    """Templates by file.

    Parameters
    ----------
    folder : Path
        The user's; made when something is kept.
    shipped : Path
        Those that come with the program; only read.
    """

    def __init__(self, folder: Path, shipped: Path) -> None:
        self._folder, self._shipped = folder, shipped

    def all(self) -> list[Kept]:
        """All templates: the user's by name, then those that come with the program. Broken ones say why."""
        found = []
        for folder, own in ((self._folder, True), (self._shipped, False)):
            kept = [_read(path, own) for path in sorted(folder.glob(f"*{JSON_SUFFIX}"))]
            found += sorted(kept, key=lambda each: (each.groove.name if each.groove else each.path.name).casefold())
        return found

    def keep(self, groove: Groove) -> Path:
        """Keep a template under a file name of its own.

        Raises
        ------
        GrooveError, OutputError
            If the folder cannot be written.
        """
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise GrooveError(f"{self._folder}: the groove library cannot be made ({error.strerror}).") from error
        stem = re.sub(r"[^\w\- ]+", "", groove.name).strip()[:60] or "groove"
        taken = [file.name.removesuffix(JSON_SUFFIX) for file in self._folder.iterdir()]
        path = self._folder / f"{unused_name(stem, taken)}{JSON_SUFFIX}"
        write_groove(path, groove)
        return path

    def change(self, path: Path, groove: Groove) -> None:
        """Write a changed template over itself.

        Raises
        ------
        GrooveError, OutputError
            If it is not the user's own, or cannot be written.
        """
        if path.parent != self._folder:
            raise GrooveError(f"{groove.name}: this one comes with the program; copy it to change it.")
        write_groove(path, groove, guard=WriteGuard(replaceable=frozenset({path})))

    def remove(self, path: Path) -> None:
        """Delete a template of the user's.

        Raises
        ------
        GrooveError
            If it is not the user's own, or cannot be deleted.
        """
        if path.parent != self._folder:
            raise GrooveError(f"{path.name}: this one comes with the program and stays.")
        try:
            path.unlink(missing_ok=True)
        except OSError as error:
            raise GrooveError(f"{path}: the groove could not be deleted ({error.strerror}).") from error

    def load(self, path: Path) -> Path:
        """Take a template from a JSON or MIDI file into the library.

        Raises
        ------
        GrooveError, OutputError
            If it cannot be read, or the library cannot be written.
        """
        return self.keep(read_groove(path))


def unused_name(name: str, names: Sequence[str]) -> str:
    """A name that is not among others yet.

    >>> unused_name("March", ["March", "March 2"])
    'March 3'
    """
    number, found = 2, name
    while found in names:
        found, number = f"{name} {number}", number + 1
    return found


def _read(path: Path, own: bool) -> Kept:
    try:
        return Kept(path, read_groove(path), own=own)
    except GrooveError as error:
        return Kept(path, None, str(error), own)
