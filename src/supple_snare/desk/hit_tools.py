"""What can be done to hits in the window: choosing one, going from one to the next, mending one or a whole range."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from supple_snare.desk import theme
from supple_snare.desk.workspace import Workspace
from supple_snare.session import edits
from supple_snare.session.document import Session
from supple_snare.session.mending import alike_s, near_any, snap_to_attack
from supple_snare.timing.hits import Hits, Kind, Origin
from supple_snare.timing.units import FloatArray

Edit = Callable[[Session, str, Iterable[float]], Session]
Which = Callable[[Hits], NDArray[np.bool_]]

DOUBTFUL = 0.7
"""A hit whose kind is less certain than this is worth a look."""


def chosen_track(work: Workspace) -> str | None:
    """Key of the track whose hits are mended: the one looked at, or the first lead."""
    view = work.view
    if view is None or not view.tracks:
        return None
    if work.looks.track in view.hits:
        return work.looks.track
    return view.leads[0] if view.leads else view.tracks[0].key


def chosen_hit(work: Workspace) -> tuple[str, int] | None:
    """Track and index of the chosen hit, if it is there."""
    view, hit = work.view, work.looks.hit
    if view is None or hit is None or hit[0] not in view.hits:
        return None
    hits = view.hits[hit[0]]
    if not len(hits):
        return None
    index = int(np.argmin(np.abs(hits.time_s - hit[1])))
    return (hit[0], index) if abs(hits.time_s[index] - hit[1]) <= edits.SAME_HIT_S else None


def choose_hit(work: Workspace, key: str, time_s: float) -> None:
    """Look at a hit, and at the stroke that it belongs to."""
    work.look(track=key, hit=(key, time_s), selected_s=_stroke_near(work, key, time_s), range_s=None)


def step_hit(work: Workspace, steps: int, *, doubtful: bool = False) -> float | None:
    """Go to the next or previous hit of the chosen track, or to a doubtful one of any lead; returns its time."""
    view, key = work.view, chosen_track(work)
    if view is None or key is None:
        return None
    keys = view.columns or (key,)
    if doubtful:
        rejudged = {key for key, _time_s in work.looks.rejudged if key in view.hits}
        stops = [(float(time), other) for other in {*keys, *rejudged} for time in doubtful_s(work, other)]
    else:
        hits = view.hits[key]
        stops = [(float(time), key) for time in hits.time_s[hits.kind != Kind.BLEED]]
    stops.sort()
    if not stops:
        return None
    hit, selected_s = work.looks.hit, work.looks.selected_s
    here = (hit[1], hit[0]) if hit is not None else (selected_s or 0.0, "")
    # Hits of two tracks may start at almost the same moment: each is a stop of its own.
    index = bisect_right(stops, here) if steps > 0 else bisect_left(stops, here) - 1
    time_s, key = stops[int(np.clip(index, 0, len(stops) - 1))]
    choose_hit(work, key, time_s)
    return time_s


def doubtful_s(work: Workspace, key: str) -> FloatArray:
    """Times of the hits of a track whose kind is not certain, or is judged otherwise than before; nobody doubts those
    mended by hand."""
    view = work.view
    assert view is not None
    hits = view.hits[key]
    rejudged_s = [time_s for other, time_s in work.looks.rejudged if other == key]
    doubtful = (hits.confidence < DOUBTFUL) | near_any(hits.time_s, rejudged_s)
    return np.asarray(hits.time_s[doubtful & (hits.origin == Origin.FOUND)])


def add_hit(work: Workspace, time_s: float, *, exact: bool = False) -> None:
    """Add a hit to the chosen track; it jumps to the nearest attack unless told not to."""
    view, key = work.view, chosen_track(work)
    if view is None or key is None:
        return
    track = work.session.track(key)
    if not exact:
        time_s = snap_to_attack(view.verdicts[key], time_s)
    time_s = float(np.clip(time_s, 0.0, track.recording.length_s))
    work.do(f"Add a hit to {track.name}", edits.add_hits(work.session, key, [time_s]))
    choose_hit(work, key, time_s)


def remove_hits(work: Workspace) -> None:
    """Take the chosen hit away, or all of the chosen track in the chosen range."""
    _mend(work, "Remove", "removed", edits.remove_hits, lambda hits: hits.kind != Kind.BLEED)


def promote_hits(work: Workspace) -> None:
    """Count the chosen bleed as played, or all bleed of the chosen track in the chosen range."""
    _mend(work, "Count as played", "counted", edits.add_hits, lambda hits: hits.kind != Kind.PLAYED)


def restore_hits(work: Workspace) -> None:
    """Bring hits back as they were found: around the chosen place on its track, or in the range on all tracks."""
    view, looks = work.view, work.looks
    if view is None:
        return
    if looks.range_s is not None:
        changed = edits.restore_hits(work.session, view.hits, *looks.range_s)
        label = "Restore hits in the range"
    elif looks.hit is not None:
        key, time_s = looks.hit
        moved = next((moved for moved in work.session.track(key).moved if abs(moved.to_s - time_s) < 1e-6), None)
        low, high = sorted((time_s, moved.from_s if moved else time_s))
        changed = edits.restore_hits(work.session, [key], low, high)
        label = f"Restore a hit of {work.session.track(key).name}"
        work.look(hit=(key, moved.from_s if moved else time_s))
    else:
        work.tell("Select a hit, or drag over a range on the page, then restore.")
        return
    if changed == work.session:
        work.tell("Nothing was mended by hand there.")
    work.do(label, changed)


def alike_to_chosen_s(work: Workspace) -> FloatArray:
    """Times of the hits of the chosen track that sound like the chosen one and are judged as it was."""
    chosen, view = chosen_hit(work), work.view
    if chosen is None or view is None or chosen[0] not in view.verdicts:
        return np.zeros(0)
    key, index = chosen
    return alike_s(work.session.track(key), view.verdicts[key], float(view.hits[key].time_s[index]))


def remove_alike(work: Workspace) -> None:
    """Take the chosen hit away, and all that sound like it."""
    _mend_alike(work, "Remove", edits.remove_hits, lambda hits: hits.kind != Kind.BLEED)


def promote_alike(work: Workspace) -> None:
    """Count the chosen bleed as played, and all that sounds like it."""
    _mend_alike(work, "Count as played", edits.add_hits, lambda hits: hits.kind != Kind.PLAYED)


def _mend_alike(work: Workspace, label: str, edit: Edit, which: Which) -> None:
    chosen, view = chosen_hit(work), work.view
    if chosen is None or view is None:
        work.tell("Select a hit first: click its mark on the page or in the chart.")
        return
    key, index = chosen
    hits, like_s = view.hits[key], np.append(alike_to_chosen_s(work), view.hits[key].time_s[index])
    times = hits.time_s[which(hits) & np.isin(hits.time_s, like_s)].tolist()
    name = work.session.track(key).name
    if not times:
        work.tell(f"All hits of {name} that sound alike are so already.")
        return
    work.do(f"{label}: {theme.counted(len(times), 'hit')} of {name} that sound alike", edit(work.session, key, times))


def nudge_hit(work: Workspace, by_s: float) -> None:
    """Move the chosen hit a little."""
    if (hit := _hit_or_word(work)) is not None:
        move_hit(work, *hit, hit[1] + by_s)


def move_hit(work: Workspace, key: str, time_s: float, to_s: float) -> None:
    """Put a hit elsewhere, and go on looking at it."""
    track = work.session.track(key)
    to_s = float(np.clip(to_s, 0.0, track.recording.length_s))
    work.do(f"Move a hit of {track.name}", edits.move_hit(work.session, key, time_s, to_s))
    choose_hit(work, key, to_s)


def land_hit(work: Workspace, landing_s: float | None) -> None:
    """Say where the chosen hit lands, or leave it to the program."""
    if (hit := _hit_or_word(work)) is not None:
        name = work.session.track(hit[0]).name
        work.do(f"Landing point of a hit of {name}", edits.land_hit(work.session, *hit, landing_s))
        choose_hit(work, *hit)


def _hit_or_word(work: Workspace) -> tuple[str, float] | None:
    """Track and time of the chosen hit; says so if none is chosen."""
    chosen = chosen_hit(work)
    if chosen is None or work.view is None:
        work.tell("Select a hit first: click its mark on the page.")
        return None
    key, index = chosen
    return key, float(work.view.hits[key].time_s[index])


def _mend(
    work: Workspace,
    label: str,
    past: str,
    edit: Edit,
    which: Which,
) -> None:
    view, key, looks = work.view, chosen_track(work), work.looks
    if view is None or key is None:
        return
    if looks.range_s is not None:
        hits = view.hits[key]
        inside = which(hits) & (hits.time_s >= looks.range_s[0]) & (hits.time_s <= looks.range_s[1])
        times = hits.time_s[inside].tolist()
        words = f"{label}: {len(times)} hits of {work.session.track(key).name}"
    else:
        chosen = chosen_hit(work)
        if chosen is None:
            work.tell(f"Nothing is {past}: select a hit, or drag over a range on the page.")
            return
        key, index = chosen
        times = [float(view.hits[key].time_s[index])] if which(view.hits[key])[index] else []
        words = f"{label}: a hit of {work.session.track(key).name}"
    if not times:
        work.tell(f"There is nothing to be {past} on {work.session.track(key).name} there.")
        return
    work.do(words, edit(work.session, key, times))


def _stroke_near(work: Workspace, key: str, time_s: float) -> float | None:
    """Time of the stroke that a lead's hit belongs to."""
    view = work.view
    if view is None or not len(view.strokes) or key not in view.columns:
        return None
    hits = view.hits[key]
    own = hits.landing_s[np.abs(hits.time_s - time_s) <= edits.SAME_HIT_S]
    if not len(own):
        return None
    column = view.strokes.lead_times_s[:, view.columns.index(key)]
    at = np.flatnonzero(np.abs(column - own[0]) < 1e-9)
    return float(view.strokes.time_s[at[0]]) if len(at) else None
