"""How a session is listened to and looked at: kept beside it, remembered, and never undone."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec

from supple_snare.disk.replacing import replacing
from supple_snare.errors import SessionError
from supple_snare.session import storage
from supple_snare.session.storage import read_file

FILE_NAME = "desk.json"
_LARGEST_BYTES = 4 << 20
LOWEST_DB, HIGHEST_DB = -30.0, 6.0


Which = Literal["soloed", "muted"]


class Heard(msgspec.Struct, frozen=True):
    """Which tracks and parts are heard alone, or not at all: their keys."""

    soloed: tuple[str, ...] = ()
    muted: tuple[str, ...] = ()

    def turned(self, what: Which, key: str) -> Heard:
        """With one of them the other way round."""
        keys: tuple[str, ...] = getattr(self, what)
        keys = tuple(other for other in keys if other != key) if key in keys else (*keys, key)
        return msgspec.structs.replace(self, **{what: keys})

    def hears(self, key: str) -> bool:
        """Whether a track is heard."""
        return key in self.soloed if self.soloed else key not in self.muted


class Listening(msgspec.Struct, frozen=True, kw_only=True):
    """What a listener has set.

    Attributes
    ----------
    levels_db : dict of str to float
        By track or part; 0 where none is given.
    pans : dict of str to float
        −1 (left) to 1 (right).
    steps : dict of str to Heard
        By step of the work: each remembers what was heard in it.
    click_db, click_pan : float
    click_slots : bool
        Whether the slots between the counts are heard, too.
    mono : "" or "all" or "two"
        Mono check: off, of everything, or of two tracks alone.
    two : (str, str)
        Keys of those two.
    beats_before : int
        How many beats before a stroke its loop begins.
    following : bool
        Whether the page follows the cursor.
    """

    levels_db: dict[str, float] = {}
    pans: dict[str, float] = {}
    steps: dict[str, Heard] = {}
    click_db: float = -12.0
    click_pan: float = 0.0
    click_slots: bool = False
    mono: Literal["", "all", "two"] = ""
    two: tuple[str, str] = ("", "")
    beats_before: int = 2
    following: bool = True

    def heard_in(self, step: str) -> Heard:
        """What is heard in a step."""
        return self.steps.get(step, Heard())

    def level_db(self, key: str) -> float:
        """Listening level of a track or part."""
        return min(max(self.levels_db.get(key, 0.0), LOWEST_DB), HIGHEST_DB)

    def pan(self, key: str) -> float:
        """Where between left and right it is heard."""
        return min(max(self.pans.get(key, 0.0), -1.0), 1.0)


class Desk(msgspec.Struct, frozen=True, kw_only=True):
    """What a person had before them when they left a session.

    Attributes
    ----------
    step, group : str
    tightened : bool
    loop_bars : (int, int) or None
    looping, clicking : bool
    listening : Listening
    """

    step: str = ""
    group: str = ""
    tightened: bool = True
    loop_bars: tuple[int, int] | None = None
    looping: bool = False
    clicking: bool = False
    listening: Listening = Listening()


def write_desk(folder: Path, desk: Desk) -> None:
    """Keep it in the folder of a session.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    with replacing(folder / FILE_NAME, is_durable=False) as file:
        file.write(msgspec.json.format(msgspec.json.encode(desk), indent=2))


def read_desk(folder: Path) -> Desk:
    """What is kept; the usual if there is nothing that can be read, since nothing of it is work."""
    try:
        if (folder / FILE_NAME).is_file():
            return msgspec.json.decode(read_file(folder / FILE_NAME, _LARGEST_BYTES), type=Desk)
        return _from_session_file(read_file(folder / storage.FILE_NAME, _LARGEST_BYTES))
    except (SessionError, OSError, ValueError, TypeError, LookupError, RecursionError, msgspec.MsgspecError):
        return Desk()


def _from_session_file(data: bytes) -> Desk:
    """Levels as sessions held them before version 5."""
    session = msgspec.json.decode(data)["session"]
    tracks = [*session["tracks"], *session.get("parts", [])]
    levels_db = {each["key"]: float(each["level_db"]) for each in tracks if each.get("level_db")}
    return Desk(listening=Listening(levels_db=levels_db))
