"""Files written for a person: no recording is ever replaced, and all are put in place together or none.

Every file is first written beside its target under a name that nobody can guess. When all are whole and on disk, each
gets its name; if one cannot, those before it are taken back, and the folder is as it was.
"""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Self

from supple_snare.disk.replacing import create_part, sync_folder
from supple_snare.errors import OutputError, SnareError


@dataclass(frozen=True)
class WriteGuard:
    """What may be written where.

    Attributes
    ----------
    protected : tuple of Path
        Recordings and other inputs: never replaced, under whatever path, link or second name.
    replaceable : frozenset of Path
        Existing files that a person agreed to replace.
    replaces_all : bool
        Whether any existing file may be replaced that is not protected.
    """

    protected: tuple[Path, ...] = ()
    replaceable: frozenset[Path] = frozenset()
    replaces_all: bool = False

    def check(self, target: Path) -> None:
        """Raise if a file may not be written.

        Raises
        ------
        OutputError
            If the target is protected, exists and nobody agreed to replace it, is no file, or has no possible name.
        """
        with told_if_not_written(target):
            names = {os.path.realpath(path) for path in self.protected}
            if os.path.realpath(target) in names or _inode(target) in {_inode(path) for path in self.protected} - {
                None
            }:
                raise OutputError(
                    f"{target}: this would replace a recording or another file that is read; choose another folder or "
                    "name."
                )
            try:
                target.lstat()
            except (FileNotFoundError, NotADirectoryError):
                return
            if target.is_dir():
                raise OutputError(f"{target}: this is a folder; choose another name for the file.")
            if not (self.replaces_all or target in self.replaceable):
                raise OutputError(f"{target}: the file is there already; give --replace, or choose another folder.")


NEW_FILES = WriteGuard()
"""Replaces nothing."""


@dataclass
class _Part:
    """A file in the making: where it is now, where it goes, and where the one that it replaces was put."""

    part: Path
    target: Path
    former: Path | None = None
    is_placed: bool = False


class OutputSet:
    """Files that are put in place together. Leaving the block by an error leaves every folder as it was.

    Parameters
    ----------
    guard : WriteGuard
    makes_folders : bool
        Whether folders that are missing are made; after an error they are removed again.
    """

    def __init__(self, guard: WriteGuard = NEW_FILES, *, makes_folders: bool = False) -> None:
        self._guard, self._makes_folders = guard, makes_folders
        self._parts: list[_Part] = []
        self._made: list[Path] = []

    def __enter__(self) -> Self:
        return self

    def create(self, target: Path) -> tuple[int, Path]:
        """Begin a file; return the descriptor to write it by, which the caller closes, and its path for now.

        Raises
        ------
        OutputError
            If it may not or cannot be written.
        """
        self._guard.check(target)
        with told_if_not_written(target):
            if self._makes_folders:
                self._make(target.parent)
            handle, part = create_part(target.parent)
        self._parts.append(_Part(part, target))
        return handle, part

    @contextmanager
    def writing(self, target: Path) -> Iterator[BinaryIO]:
        """Begin a file as `create` does, to be written within the block.

        Raises
        ------
        OutputError
            If it may not or cannot be written.
        """
        handle, _ = self.create(target)
        with told_if_not_written(target), os.fdopen(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self._put_in_place()
        except BaseException:
            self._take_back()
            raise
        if kind is not None:
            self._take_back()

    def _put_in_place(self) -> None:
        for each in self._parts:
            self._guard.check(each.target)  # somebody may have put a file there meanwhile
            with told_if_not_written(each.target):
                if os.path.lexists(each.target):
                    each.former = _kept_aside(each.target)
                    each.part.replace(each.target)
                else:
                    _place_new(each.part, each.target)
                each.is_placed = True
        for folder in {each.target.parent for each in self._parts}:
            with told_if_not_written(folder):
                sync_folder(folder)
        for each in self._parts:
            if each.former is not None:
                with contextlib.suppress(OSError):
                    each.former.unlink()

    def _take_back(self) -> None:
        for each in reversed(self._parts):
            with contextlib.suppress(OSError):
                if each.former is not None:
                    each.former.replace(each.target)
                    each.former.unlink(missing_ok=True)  # replacing a file by its own second name does nothing
                elif each.is_placed:
                    each.target.unlink()
            with contextlib.suppress(OSError):
                each.part.unlink(missing_ok=True)
        for folder in reversed(self._made):
            with contextlib.suppress(OSError):
                folder.rmdir()  # stays if somebody put something there

    def _make(self, folder: Path) -> None:
        missing = []
        while not folder.is_dir():
            missing.append(folder)
            folder = folder.parent
        for each in reversed(missing):
            with contextlib.suppress(FileExistsError):
                each.mkdir()
                self._made.append(each)


@contextmanager
def output_file(target: Path, guard: WriteGuard = NEW_FILES) -> Iterator[BinaryIO]:
    """Give a file to write that is put in place when the block ends without an error: an `OutputSet` of one.

    Raises
    ------
    OutputError
        If it may not or cannot be written; what was there stays.
    """
    with OutputSet(guard) as outputs, outputs.writing(target) as file:
        yield file


def check_outputs(targets: Iterable[Path], guard: WriteGuard) -> None:
    """Raise before minutes of work if files may not or cannot be written. Nothing is made.

    Raises
    ------
    OutputError
        As `WriteGuard.check`, and if the folder of a target cannot be made or written.
    """
    for target in targets:
        folder = target.parent
        with told_if_not_written(folder):
            while not os.path.lexists(folder):
                folder = folder.parent
            if not folder.is_dir():
                raise OutputError(f"{target.parent}: the folder cannot be made, since {folder} is no folder.")
            if not os.access(folder, os.W_OK | os.X_OK):
                raise OutputError(f"{folder}: the folder may not be written; choose another or change its permissions.")
            longest = os.pathconf(folder, "PC_NAME_MAX")
        if len(os.fsencode(target.name)) > longest:
            raise OutputError(f"{target.name}: the name is longer than {longest} bytes, more than this disk can keep.")
        guard.check(target)


@contextmanager
def told_if_not_written(target: Path) -> Iterator[None]:
    """Turn what the operating system says while a file is written into one sentence.

    Raises
    ------
    OutputError
        In place of an OSError.
    """
    try:
        yield
    except SnareError:  # some are errors of the operating system, too
        raise
    except OSError as error:
        raise output_error(target, error) from error


def output_error(target: Path, error: OSError) -> OutputError:
    """Return the sentence for what the operating system said when a file was written."""
    return OutputError(f"{target}: it could not be written: {_cause(error, target.parent)}")


def _cause(error: OSError, folder: Path) -> str:
    """Why, and what to do about it."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG) or (error.errno is None and _is_full(folder)):
        return "the disk is full. Free some space or choose another folder."
    if error.errno in (errno.EACCES, errno.EPERM):
        return "the folder may not be written. Choose another folder or change its permissions."
    if error.errno == errno.EROFS:
        return "the disk is read-only. Choose another folder."
    if error.errno in (errno.ENOENT, errno.ENOTDIR):
        return f"there is no folder {folder}. Choose another folder."
    if error.errno == errno.ENAMETOOLONG:
        return "the name is too long for this disk. Choose a shorter one."
    reason = os.strerror(error.errno) if error.errno else str(error) or "no reason was given"
    return f"{reason}. Choose another folder."


def _is_full(folder: Path) -> bool:
    """Whether less than a megabyte is left: libsndfile gives no reason when a write falls short."""
    try:
        state = os.statvfs(folder)
    except OSError:
        return False
    return state.f_bavail * state.f_frsize < (1 << 20)


def _kept_aside(target: Path) -> Path:
    """Give a file a second name from which it can be brought back, and return that name."""
    handle, former = create_part(target.parent)
    os.close(handle)
    former.unlink()
    try:
        os.link(target, former, follow_symlinks=False)
    except OSError:  # a disk without hard links
        target.replace(former)
    return former


def _place_new(part: Path, target: Path) -> None:
    """Give a file its name, which nobody else may have taken meanwhile."""
    try:
        os.link(part, target, follow_symlinks=False)
    except FileExistsError:
        raise
    except OSError:  # a disk without hard links
        part.replace(target)
    else:
        part.unlink()


def _inode(path: Path) -> tuple[int, int] | None:
    try:
        state = path.stat()
    except OSError:
        return None
    return state.st_dev, state.st_ino
