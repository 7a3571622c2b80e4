"""What is drawn on the page, as one value."""

from __future__ import annotations

from dataclasses import dataclass, field

from supple_snare.desk.page_geometry import PageLayout
from supple_snare.session.doubts import Doubt
from supple_snare.session.section_edits import Span
from supple_snare.session.stages import GroupView
from supple_snare.sound.editlist import EditList
from supple_snare.sound.peaks import Peaks
from supple_snare.timing.grid import Grid
from supple_snare.timing.notes import NoteChange, Notes
from supple_snare.timing.units import FloatArray


@dataclass(frozen=True)
class PagePicture:
    """What is drawn on the page.

    Attributes
    ----------
    layout : PageLayout
    grid : Grid
        The grid whose lines are drawn; while one is dragged it differs from the layout's, which stands still.
    view : GroupView or None
        None while the group is being listened to.
    peaks : dict of str to Peaks
        By track key.
    edits : EditList
        Seams of the group, for the tightened waveform.
    tightened : bool
        Which version stands in front; the other one is ghosted.
    doubts : list of tuple of Doubt
        By stroke.
    show_moves : bool
        Whether the other version is ghosted behind.
    show_click : bool
        Whether the click is marked along the foot of each row.
    show_hits : bool
        Whether every hit is marked, bleed too; pegs step back then.
    selected : int or None
    range_s, loop_s : (float, float) or None
    sections : tuple of Span
    hit_track : str or None
        The track whose hits are mended: it stands above the line, even if it is no lead, and shows its bleed.
    hit : (str, float) or None
        The chosen hit.
    removed : dict of str to tuple of float
        Times of hits removed by hand, by track key.
    notes : (Notes, NoteChange) or None
        The notes of a MIDI part, as played and as they will be.
    behind_ms : float array, shape (n,), or None
        Moves of a snapshot that stands behind in place of the other version; NaN for strokes it does not have.
    """

    layout: PageLayout
    grid: Grid
    view: GroupView | None = None
    peaks: dict[str, Peaks] = field(default_factory=dict)
    edits: EditList = field(default_factory=EditList.identity)
    tightened: bool = True
    doubts: list[tuple[Doubt, ...]] = field(default_factory=list)
    show_moves: bool = True
    show_click: bool = False
    show_hits: bool = False
    selected: int | None = None
    range_s: tuple[float, float] | None = None
    loop_s: tuple[float, float] | None = None
    sections: tuple[Span, ...] = ()
    hit_track: str | None = None
    hit: tuple[str, float] | None = None
    removed: dict[str, tuple[float, ...]] = field(default_factory=dict)
    notes: tuple[Notes, NoteChange] | None = None
    behind_ms: FloatArray | None = None
