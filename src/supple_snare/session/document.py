"""The session: one immutable value that holds everything a person decided. All else follows from it.

Corrections are facts about the recording ("a hit at 12.3456 s was added"), so that they survive another run of the
detector and any change of settings.
"""

from __future__ import annotations

from dataclasses import replace
from enum import StrEnum
from functools import lru_cache
from pathlib import Path

import msgspec

from supple_snare.errors import GroupError
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import Recording
from supple_snare.sound.fingerprint import Fingerprint
from supple_snare.sound.gaps import CutSettings
from supple_snare.sound.material import Band, Material
from supple_snare.sound.stretch.ways import Method, Way
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.grid import Grid, RuledSection
from supple_snare.timing.offsets import FeelRules
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.sections import section_of
from supple_snare.timing.strokes import TOGETHER_MS
from supple_snare.timing.tighten import Response

FORMAT_VERSION = 6

DEFAULT_RESPONSE = Response(strength=0.8, tolerance_ms=4.0, reach_ms=45.0)
"""What a new session starts with: most of the looseness goes, the smallest and the doubtful stay."""


class Ghosts(StrEnum):
    """What becomes of the ghost notes of a lead."""

    TIMED = "timed"
    CARRIED = "carried"
    IGNORED = "ignored"


class HitRules(msgspec.Struct, frozen=True, kw_only=True):
    """Which attacks of a track count.

    Attributes
    ----------
    level_limit_db : float or None
        Hits below it do not count; None leaves the decision to the comparison of all tracks.
    spacing_ms : float or None
        Of two hits nearer than this only the louder counts; None tells strokes from flams and rolls only.
    ghosts : Ghosts
        Whether ghost notes are timed, carried along between their neighbours, or ignored.
    """

    level_limit_db: float | None = None
    spacing_ms: float | None = None
    ghosts: Ghosts = Ghosts.TIMED


class SectionRules(msgspec.Struct, frozen=True):
    """Rules of one section that differ from those of the whole take."""

    section: str
    rules: HitRules


class MovedHit(msgspec.Struct, frozen=True):
    """A hit put elsewhere by hand."""

    from_s: float
    to_s: float


class Landing(msgspec.Struct, frozen=True):
    """A landing point set by hand: where the hit that starts at `time_s` should meet the grid."""

    time_s: float
    landing_s: float


class Track(msgspec.Struct, frozen=True, kw_only=True):
    """One audio file of the take.

    Attributes
    ----------
    key : str
        Names the track inside the session; never changes.
    name : str
        What the screen calls it.
    recording : Recording
    known_by : Fingerprint or None
        What its file is known by; None until it was read whole once.
    material : Material or None
        What the sound is; None lets the program guess.
    band_hz : (float, float) or None
        Only this band is listened to for attacks; None for all of the sound, or what the chosen material asks for.
    listens_to : tuple of str
        Keys of the tracks whose mix is listened to for attacks in its stead; empty for itself.
    drum : str or None
        Key of the track that stands for the drum or player it hears: its own for one of its own, another's for one that
        this hears closer, "" for none; None lets the comparison of all tracks tell.
    rules : HitRules
    section_rules : tuple of SectionRules
        Sections whose rules differ.
    added_s, removed_s : tuple of float
        Hits added and removed by hand, by their time.
    moved : tuple of MovedHit
    landings : tuple of Landing
    """

    key: str
    name: str
    recording: Recording
    known_by: Fingerprint | None = None
    material: Material | None = None
    band_hz: Band = None
    listens_to: tuple[str, ...] = ()
    drum: str | None = None
    rules: HitRules = HitRules()
    section_rules: tuple[SectionRules, ...] = ()
    added_s: tuple[float, ...] = ()
    removed_s: tuple[float, ...] = ()
    moved: tuple[MovedHit, ...] = ()
    landings: tuple[Landing, ...] = ()

    def rules_in(self, section: str) -> HitRules:
        """The rules that hold in a section."""
        return next((own.rules for own in self.section_rules if own.section == section), self.rules)

    @property
    def mended_s(self) -> tuple[float, ...]:
        """Times of the hits that were added, removed or moved by hand, of the last where they were found."""
        return (*self.added_s, *self.removed_s, *(moved.from_s for moved in self.moved))

    @property
    def is_corrected(self) -> bool:
        """Whether any of its hits was mended by hand."""
        return bool(self.added_s or self.removed_s or self.moved or self.landings)


class Section(msgspec.Struct, frozen=True):
    """A part of the take, from `start_s` as played to the start of the next one.

    Attributes
    ----------
    key, name : str
    start_s : float
    ruling : Ruling or None
        Its own slots and swing; None for those of the take.
    """

    key: str
    name: str
    start_s: float
    ruling: Ruling | None = None


class SectionLeads(msgspec.Struct, frozen=True):
    """Ranked leads of one section where they differ from those of the whole take."""

    section: str
    leads: tuple[str, ...]


class Hold(msgspec.Struct, frozen=True):
    """A range of time, in seconds as played, whose strokes stay as played."""

    start_s: float
    end_s: float


class MoveGiven(msgspec.Struct, frozen=True):
    """A move given to a stroke by hand; the stroke is known by its time as played."""

    time_s: float
    move_ms: float


class SeamGiven(msgspec.Struct, frozen=True):
    """The seam before a stroke put somewhere by hand: both times are of the recording.

    Attributes
    ----------
    time_s : float
        The stroke.
    place_s : float
        From where its side of the seam sounds alone.
    fade_ms : float or None
        How long both sides sound before that; None for what the group's seams have.

    Raises
    ------
    UsageError
        If the fade makes no sense.
    """

    time_s: float
    place_s: float
    fade_ms: float | None = None

    def __post_init__(self) -> None:
        if self.fade_ms is not None:
            CutSettings(fade_ms=self.fade_ms)


class Slide(msgspec.Struct, frozen=True):
    """Sound inside a piece moved by hand, between cuts where it starts and where it ends.

    Attributes
    ----------
    start_s, end_s : float
        Of the recording. A stroke in between ends it earlier, since strokes go where the plan has them.
    move_ms : float
        How much more it moves than the piece it is in.
    """

    start_s: float
    end_s: float
    move_ms: float


class Answer(msgspec.Struct, frozen=True):
    """A person's word that a doubtful stroke is fine, and what it was said of: it counts as long as that stays.

    Attributes
    ----------
    time_s : float
        The stroke, as played.
    reasons : tuple of str
    move_ms : float
        Its move at that time.
    place : float or None
        Its slot, in quarter notes from bar 1.
    """

    time_s: float
    reasons: tuple[str, ...]
    move_ms: float
    place: float | None = None


class SectionSettings(msgspec.Struct, frozen=True):
    """How one section is tightened where that differs from the whole take."""

    section: str
    response: Response
    aim: Aim
    method: Method = Method.CUT


class WayGiven(msgspec.Struct, frozen=True):
    """How the gap before a stroke is filled, chosen by hand; the stroke is known by its time as played."""

    time_s: float
    way: Way


class SlotGiven(msgspec.Struct, frozen=True):
    """A slot given to a stroke by hand: its place in quarter notes from the start of bar 1, swing left out."""

    time_s: float
    place: float


class Group(msgspec.Struct, frozen=True, kw_only=True):
    """Tracks that recorded one performance together: every edit is the same on all of them. Or one MIDI part.

    Attributes
    ----------
    key, name : str
    tracks : tuple of str
        Keys of its tracks, in the order of the screen; none for a MIDI part.
    part : str
        Key of its MIDI part; "" for tracks.
    leads : tuple of str or None
        Keys of the tracks that decide the timing, highest rank first; None lets the program rank them.
    section_leads : tuple of SectionLeads
    together_ms : float
        Hits of different leads at most this far apart are one stroke.
    response : Response
    aim : Aim
        What it is tightened toward; a reference is the key of another group, or of a track of one.
    feel : FeelRules
    method : Method
        Whether its strokes are moved by cutting or by stretching what rings between them.
    section_settings : tuple of SectionSettings
    join_ms : float
        Neighbours whose moves differ by no more than twice that travel as one piece.
    free_leads : tuple of str
        Leads whose strokes are not tightened themselves: they go along with their neighbours.
    held_leads : tuple of str
        Leads whose strokes stay as played.
    softest_db : float or None
        Strokes softer than this go along, too.
    holds : tuple of Hold
    evens : tuple of Hold
        Ranges whose inside is moved evenly, in proportion between the strokes at their ends.
    pieces : tuple of Hold
        Ranges whose strokes travel as one piece: all move as the first of them does.
    moves_given : tuple of MoveGiven
        In order of time.
    slides : tuple of Slide
        In order of time; none overlaps another.
    slots_given : tuple of SlotGiven
        In order of time.
    cut : CutSettings or None
        Lengths of its seams; None for what suits its material.
    seams_given : tuple of SeamGiven
        In order of time.
    ways_given : tuple of WayGiven
        In order of time.
    anchors_s : tuple of float
        Places of the recording that stay where they are, in order.
    stretch_limits : (float, float)
        A gap that is stretched to less or more than so many times its length is a doubt.
    answers : tuple of Answer
        In order of time.
    """

    key: str
    name: str
    tracks: tuple[str, ...]
    part: str = ""
    leads: tuple[str, ...] | None = None
    section_leads: tuple[SectionLeads, ...] = ()
    together_ms: float = TOGETHER_MS
    response: Response = DEFAULT_RESPONSE
    aim: Aim = Aim()
    feel: FeelRules = FeelRules()
    method: Method = Method.CUT
    section_settings: tuple[SectionSettings, ...] = ()
    join_ms: float = 0.0
    free_leads: tuple[str, ...] = ()
    held_leads: tuple[str, ...] = ()
    softest_db: float | None = None
    holds: tuple[Hold, ...] = ()
    evens: tuple[Hold, ...] = ()
    pieces: tuple[Hold, ...] = ()
    moves_given: tuple[MoveGiven, ...] = ()
    slides: tuple[Slide, ...] = ()
    slots_given: tuple[SlotGiven, ...] = ()
    cut: CutSettings | None = None
    seams_given: tuple[SeamGiven, ...] = ()
    ways_given: tuple[WayGiven, ...] = ()
    anchors_s: tuple[float, ...] = ()
    stretch_limits: tuple[float, float] = (0.75, 1.33)
    answers: tuple[Answer, ...] = ()

    @property
    def has_pattern(self) -> bool:
        """Whether any of it aims at something else than the grid."""
        return any(aim.at is not AimAt.GRID for aim in (self.aim, *(own.aim for own in self.section_settings)))

    def settings_in(self, section: str | None) -> SectionSettings:
        """How a section, or the whole take, is tightened."""
        own = next((own for own in self.section_settings if own.section == section), None)
        return own or SectionSettings(section or "", self.response, self.aim, self.method)


class Part(msgspec.Struct, frozen=True, kw_only=True):
    """A played-in MIDI part of the take: a group of its own, whose strokes are its chords.

    Attributes
    ----------
    key : str
        Names the part inside the session; never changes.
    name : str
    path : Path
    known_by : Fingerprint or None
        What its file is known by, as for a track.
    length_s : float
        Where its last note ends.
    ends_follow : bool
        The ends of its notes go along with what is played there; else each note keeps its length.
    session_tempo : bool
        It is handed over with the tempo and meters of the session; else with its own.
    """

    key: str
    name: str
    path: Path
    known_by: Fingerprint | None = None
    length_s: float = 0.0
    ends_follow: bool = False
    session_tempo: bool = False


class Snapshot(msgspec.Struct, frozen=True, kw_only=True):
    """What was decided at one moment, under a name."""

    name: str
    tracks: tuple[Track, ...]
    groups: tuple[Group, ...]
    parts: tuple[Part, ...]
    sections: tuple[Section, ...]
    take_grid: Grid


class Session(msgspec.Struct, frozen=True, kw_only=True):
    """Everything decided about one take.

    Attributes
    ----------
    name : str
    tracks : tuple of Track
    groups : tuple of Group
        Every track and every part is in exactly one.
    parts : tuple of Part
    sections : tuple of Section
        In order of time, together the whole take; empty while it is one.
    take_grid : Grid
        The grid without what single sections have of their own.
    checked : tuple of str
        Steps of the work that the editor has ticked off.
    snapshots : tuple of Snapshot
        In the order they were kept.
    """

    name: str = "New session"
    tracks: tuple[Track, ...] = ()
    groups: tuple[Group, ...] = ()
    parts: tuple[Part, ...] = ()
    sections: tuple[Section, ...] = ()
    take_grid: Grid = Grid()
    checked: tuple[str, ...] = ()
    snapshots: tuple[Snapshot, ...] = ()

    @property
    def grid(self) -> Grid:
        """The grid over the take, with the slots of every section."""
        return _grid_with_sections(self.take_grid, self.sections)

    @property
    def ruled_apart(self) -> tuple[Section, ...]:
        """The sections whose slots are others than those of the take."""
        own = (each for each in self.sections if each.ruling is not None)
        return tuple(each for each in own if each.ruling != self.take_grid.ruling)

    def ruling_in(self, section: str | None) -> Ruling:
        """The slots in force in a section, by its key: its own, or those of the take; None for the take."""
        own = next((each.ruling for each in self.sections if each.key == section), None)
        return own or self.take_grid.ruling

    def track(self, key: str) -> Track:
        """The track of that key."""
        return next(track for track in self.tracks if track.key == key)

    def part(self, key: str) -> Part:
        """The MIDI part of that key."""
        return next(part for part in self.parts if part.key == key)

    @property
    def members(self) -> tuple[Track | Part, ...]:
        """All that is played: the tracks, then the MIDI parts."""
        return (*self.tracks, *self.parts)

    def name_of(self, key: str) -> str:
        """What the screen calls a track, a part or a group."""
        names = {group.key: group.name for group in self.groups} | {part.key: part.name for part in self.parts}
        return names[key] if key in names else self.track(key).name

    def file_of(self, key: str) -> str:
        """Name of the file of a track or a part."""
        parts = {part.key: part.path.name for part in self.parts}
        return parts[key] if key in parts else self.track(key).recording.path.name

    def group(self, key: str) -> Group:
        """The group of that key."""
        return next(group for group in self.groups if group.key == key)

    def group_of(self, key: str) -> Group:
        """The group that a track or a part is in."""
        return next(group for group in self.groups if key in group.tracks or key == group.part)

    def reference_group(self, aim: Aim) -> Group | None:
        """The group that an aim tightens to, if it is a reference that is there."""
        wanted = aim.reference if aim.at is AimAt.REFERENCE else ""
        if not wanted:
            return None
        return next((other for other in self.groups if wanted in (other.key, other.part, *other.tracks)), None)

    def reference_groups(self, group: Group) -> list[Group]:
        """The groups that a group is tightened to, in any section."""
        found = [self.reference_group(aim) for aim in (group.aim, *(own.aim for own in group.section_settings))]
        return [other for other in found if other is not None]

    def tracks_of(self, group: Group) -> tuple[Track, ...]:
        """The tracks of a group, in its order."""
        return tuple(self.track(key) for key in group.tracks)

    def section_at(self, time_s: float) -> Section | None:
        """The section that a moment belongs to; None while the take is one."""
        if not self.sections:
            return None
        return self.sections[int(section_of([section.start_s for section in self.sections], time_s))]

    def ear_of(self, track: Track) -> Ear:
        """What is listened to for the attacks of a track."""
        heard = tuple(self.track(key).recording for key in track.listens_to) or (track.recording,)
        return Ear(heard, track.band_hz, track.material)

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to work on yet."""
        return not self.members

    @property
    def length_s(self) -> float:
        """Length of the longest recording or part."""
        lengths = [track.recording.length_s for track in self.tracks] + [part.length_s for part in self.parts]
        return max(lengths, default=0.0)

    @property
    def rate_hz(self) -> int:
        """Rate of the recordings; 48 kHz while there are none."""
        return self.tracks[0].recording.rate_hz if self.tracks else 48_000


@lru_cache(maxsize=16)
def _grid_with_sections(grid: Grid, sections: tuple[Section, ...]) -> Grid:
    return replace(
        grid, sections=tuple(RuledSection(section.start_s, section.ruling or grid.ruling) for section in sections)
    )


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
