"""Tags of FLAC and Ogg files: texts, pictures, and data of other programs."""

from __future__ import annotations

import os
from pathlib import Path

from supple_snare.disk.opening import open_for_reading

_CARRIED = (2, 4, 6)
"""Types of FLAC metadata blocks (RFC 9639): data of some program, comments, pictures."""


def carry_flac_blocks(source: Path, part: Path) -> tuple[str, ...]:
    """Give a FLAC file in the making the comments, pictures and application blocks of another.

    Returns
    -------
    tuple of str
        What does not go along, each in a few words.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    from mutagen import MutagenError
    from mutagen.flac import FLAC, CueSheet

    try:
        with os.fdopen(open_for_reading(source), "rb") as file:
            told = FLAC(file)  # type: ignore[no-untyped-call]
    except MutagenError:
        return ("its tags (they are damaged)",)
    with part.open("r+b") as file:
        new = FLAC(file)  # type: ignore[no-untyped-call]
        carried = [each for each in told.metadata_blocks if each.code in _CARRIED]
        own = [each for each in new.metadata_blocks[1:] if each.code not in _CARRIED]
        new.metadata_blocks = [new.metadata_blocks[0], *carried, *own]
        new.tags = told.tags
        file.seek(0)
        new.save(file)
        file.flush()
        os.fsync(file.fileno())
    left_out = ["cue sheet"] if any(isinstance(each, CueSheet) for each in told.metadata_blocks) else []
    return tuple(left_out)


def name_tags(path: Path) -> list[str]:
    """Return the names of the tags of a compressed file, in small letters; none where they cannot be read."""
    import mutagen

    try:
        with os.fdopen(open_for_reading(path), "rb") as file:
            told = mutagen.File(file)
        return sorted({str(name).lower() for name in (told.tags or ())} if told is not None else [])
    except (mutagen.MutagenError, OSError, ValueError, TypeError):
        return []
