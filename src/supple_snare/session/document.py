"""The session: one immutable value that holds everything a person decided. All else follows from it.

Corrections are facts about the recording ("a hit at 12.3456 s was added"), so that they survive another run of the
detector and any change of settings.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from supple_snare.errors import GroupError
from supple_snare.sound.files import Recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.tighten import Response

FORMAT_VERSION = 1

DEFAULT_RESPONSE = Response(strength=0.8, tolerance_ms=4.0, reach_ms=45.0)
"""What a new session starts with: most of the looseness goes, the smallest and the doubtful stay."""


class Track(msgspec.Struct, frozen=True, kw_only=True):
    """One audio file of the take.

    Attributes
    ----------
    key : str
        Names the track inside the session; never changes.
    name : str
        What the screen calls it.
    recording : Recording
    level_limit_db : float or None
        Hits below it do not count; None leaves the decision to the comparison of all tracks.
    added_s, removed_s : tuple of float
        Hits added and removed by hand, by their time.
    level_db, muted, soloed
        For listening only.
    """

    key: str
    name: str
    recording: Recording
    level_limit_db: float | None = None
    added_s: tuple[float, ...] = ()
    removed_s: tuple[float, ...] = ()
    level_db: float = 0.0
    muted: bool = False
    soloed: bool = False


class Hold(msgspec.Struct, frozen=True):
    """A range of time, in seconds as played, whose strokes stay as played."""

    start_s: float
    end_s: float


class Group(msgspec.Struct, frozen=True, kw_only=True):
    """Tracks that recorded one performance together: every edit is the same on all of them.

    Attributes
    ----------
    key, name : str
    tracks : tuple of str
        Keys of its tracks, in the order of the screen.
    leads : tuple of str or None
        Keys of the tracks that decide the timing, highest rank first; None lets the program rank them.
    response : Response
    holds : tuple of Hold
    """

    key: str
    name: str
    tracks: tuple[str, ...]
    leads: tuple[str, ...] | None = None
    response: Response = DEFAULT_RESPONSE
    holds: tuple[Hold, ...] = ()


class Part(msgspec.Struct, frozen=True):
    """A played-in MIDI part of the take."""

    name: str
    path: Path


class Session(msgspec.Struct, frozen=True, kw_only=True):
    """Everything decided about one take.

    Attributes
    ----------
    name : str
    tracks : tuple of Track
    groups : tuple of Group
        Every track is in exactly one.
    parts : tuple of Part
    grid : Grid
    checked : tuple of str
        Steps of the work that the editor has ticked off.
    """

    name: str = "New session"
    tracks: tuple[Track, ...] = ()
    groups: tuple[Group, ...] = ()
    parts: tuple[Part, ...] = ()
    grid: Grid = Grid()
    checked: tuple[str, ...] = ()

    def track(self, key: str) -> Track:
        """The track of that key."""
        return next(track for track in self.tracks if track.key == key)

    def group(self, key: str) -> Group:
        """The group of that key."""
        return next(group for group in self.groups if group.key == key)

    def group_of(self, track_key: str) -> Group:
        """The group that a track is in."""
        return next(group for group in self.groups if track_key in group.tracks)

    def tracks_of(self, group: Group) -> tuple[Track, ...]:
        """The tracks of a group, in its order."""
        return tuple(self.track(key) for key in group.tracks)

    @property
    def length_s(self) -> float:
        """Length of the longest recording."""
        return max((track.recording.length_s for track in self.tracks), default=0.0)

    @property
    def rate_hz(self) -> int:
        """Rate of the recordings; 48 kHz while there are none."""
        return self.tracks[0].recording.rate_hz if self.tracks else 48_000


def check_group(recordings: tuple[Recording, ...]) -> list[str]:
    """Look whether recordings can be edited as one group.

    Returns
    -------
    list of str
        Warnings, one sentence each: lengths or time stamps that differ.

    Raises
    ------
    GroupError
        If rates differ or two files have one name, since neither can be handed over together.
    """
    if not recordings:
        return []
    first = recordings[0]
    names: dict[str, Recording] = {}
    warnings = []
    for recording in recordings:
        name = recording.path.name
        if recording.rate_hz != first.rate_hz:
            raise GroupError(
                f"{name}: its rate of {recording.rate_hz} Hz differs from the {first.rate_hz} Hz of {first.path.name}; "
                "convert one of them, since tracks of one group share their samples."
            )
        if name in names:
            raise GroupError(
                f"{name}: two files have this name ({names[name].path.parent} and {recording.path.parent}); rename "
                "one, since the tightened files keep their names in one folder."
            )
        names[name] = recording
        if recording.frames != first.frames:
            warnings.append(
                f"{name} is {recording.length_s:.3f} s long, {first.path.name} {first.length_s:.3f} s: "
                "tracks of one group usually have one length."
            )
        if abs(recording.start_s - first.start_s) > 0.5 / first.rate_hz:
            warnings.append(
                f"{name} is stamped {recording.start_s - first.start_s:+.3f} s from {first.path.name}: "
                "the files may not start together."
            )
    return warnings
