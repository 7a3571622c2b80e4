"""What is stretched, as screens show it; anchors and ways of filling gaps, set by hand."""

from __future__ import annotations

from typing import NamedTuple

from supple_snare.desk.stroke_tools import chosen_strokes
from supple_snare.desk.workspace import Workspace
from supple_snare.session.edits import SAME_HIT_S, give_way, remove_anchors, set_anchor
from supple_snare.sound.editlist import EditList
from supple_snare.sound.stretch.ways import Method, Way

METHOD_NAMES = {
    Method.AUTO: "Automatic",
    Method.CUT: "Cutting",
    Method.STRETCH: "Stretching",
}

WAY_NAMES = {
    Way.CUT: "cut",
    Way.RINGING: "stretched as what rings on",
    Way.NOTES: "stretched as notes that soon change",
    Way.STROKES: "stretched by repeating what is alike",
}

_NEAR_S = 0.03
"""An anchor set so near to another one takes that away."""


class StretchSeen(NamedTuple):
    """A stretched part of the tightened version, and how many times as long as played it is."""

    start_s: float
    end_s: float
    ratio: float


def stretched_parts(edits: EditList, rate_hz: int, start_s: float, end_s: float) -> list[StretchSeen]:
    """Stretched parts that touch a stretch of the tightened version."""
    pieces = edits.stretched_pieces
    starts, ends = edits.at[pieces] / rate_hz, edits.at[pieces + 1] / rate_hz
    seen = (ends > start_s) & (starts < end_s)
    columns = (starts[seen].tolist(), ends[seen].tolist(), edits.ratio[pieces][seen].tolist())
    return [StretchSeen(*row) for row in zip(*columns, strict=True)]


def change_in_words(ratio: float) -> str:
    """How much longer or shorter something is, per cent.

    >>> change_in_words(1.084), change_in_words(0.95)
    ('+8.4 %', '−5.0 %')
    """
    return f"{100.0 * (ratio - 1.0):+.1f} %".replace("-", "−")


def describe_gap(work: Workspace, stroke: int) -> str:
    """What becomes of the sound before a stroke, if it is stretched."""
    view = work.view
    cut = None if view is None or not work.looks.shows_moves else work.seams.cut_of(view.group)
    if cut is None or cut.ratio[stroke] == 1.0:
        return ""
    return f"before it {change_in_words(float(cut.ratio[stroke]))}"


def toggle_anchor(work: Workspace, place_s: float) -> None:
    """Let the place at the playhead stay where it is, or move again."""
    group = work.group
    if group is None or not group.tracks:
        work.tell("Anchors hold places of recordings; a MIDI part has none.")
        return
    near = [time_s for time_s in group.anchors_s if abs(time_s - place_s) <= _NEAR_S]
    if near:
        work.do("Remove an anchor", remove_anchors(work.session, group.key, near[0], near[-1]))
    else:
        work.do("Set an anchor", set_anchor(work.session, group.key, place_s))


def next_way(work: Workspace) -> None:
    """Fill the gap before the selected stroke the next way; after the last way, as the method asks."""
    view, group, strokes = work.view, work.group, chosen_strokes(work)
    if view is None or group is None or len(strokes) != 1 or not group.tracks:
        work.tell("Select the stroke after the gap first.")
        return
    time_s = float(view.strokes.time_s[strokes[0]])
    given = next((each.way for each in group.ways_given if abs(each.time_s - time_s) <= SAME_HIT_S), None)
    ways: list[Way | None] = [None, *Way]
    way = ways[(ways.index(given) + 1) % len(ways)]
    words = "as the method asks" if way is None else WAY_NAMES[way]
    work.do(f"The gap before a stroke: {words}", give_way(work.session, group.key, time_s, way))
    work.tell(f"The gap before this stroke is now {words}.")
