"""Sides: which tracks are in stereo, as one file or as two whose names tell left from right."""

from __future__ import annotations

import re
from collections.abc import Sequence

from supple_snare.sound.ear import Ear

_SIDES = re.compile(
    r"(?P<left>left|(?<![a-z])l(?![a-z])|(?-i:(?<=[A-Za-z])L$))"
    r"|(?P<right>right|(?<![a-z])r(?![a-z])|(?-i:(?<=[A-Za-z])R$))",
    re.IGNORECASE,
)
"""The words, or the letters alone or at the end, as in `over-left`, `OH L` and `RoomR`."""


def in_stereo(ears: Sequence[Ear]) -> frozenset[frozenset[int]]:
    """Numbers of the ears that hear something in stereo: one, or the left and the right one together."""
    single = {number: ear.recordings[0] for number, ear in enumerate(ears) if len(ear.recordings) == 1}
    whole = {frozenset({number}) for number, recording in single.items() if recording.channels > 1}
    sides = {number: _sides_of(recording.path.stem) for number, recording in single.items()}
    left = {name: number for number, each in sides.items() for name, is_left in each if is_left}
    pairs = {
        frozenset({left[name], number})
        for number, each in sides.items()
        for name, is_left in each
        if not is_left and name in left
    }
    return frozenset(whole | pairs)


def _sides_of(stem: str) -> list[tuple[str, bool]]:
    """Ways to read a name as that of one side: what both sides are called, and whether this is the left one."""
    found = _SIDES.finditer(stem)
    return [(f"{stem[: at.start()]}*{stem[at.end() :]}".lower(), at["left"] is not None) for at in found]
