"""Hearing one stroke or hit: a loop around it as played, tightened, or in turn."""

from __future__ import annotations

from typing import Literal

from supple_snare.desk.workspace import Workspace

How = Literal["played", "tightened", "turn"]


def chosen_moment(work: Workspace) -> float | None:
    """When the chosen hit (in the Hits step) or the selected stroke was played."""
    looks = work.looks
    if looks.step == "hits":
        return None if looks.hit is None else looks.hit[1]
    return looks.selected_s


def hear_chosen(work: Workspace, how: How) -> None:
    """Play around what is chosen over and over; the same once more stops."""
    looks, around_s = work.looks, chosen_moment(work)
    if around_s is None:
        work.tell("Choose a hit first: N or a click." if looks.step == "hits" else "Select a stroke first.")
        return
    wanted = (around_s, how == "turn", how == "tightened")
    if looks.around_beats and wanted == (looks.around_s, looks.in_turn, looks.tightened):
        end_hearing(work)
        work.hear_wanted.emit(None)
        return
    _around_s, in_turn, tightened = wanted
    before = float(looks.listening.beats_before)
    work.look(around_s=around_s, around_beats=before, in_turn=in_turn, tightened=tightened, hearing=False)
    work.hear_wanted.emit(around_s)


def end_hearing(work: Workspace) -> None:
    """No loop around anything any more; what was heard in turn is shown as it will be handed over."""
    looks = work.looks
    work.look(around_s=None, around_beats=0.0, in_turn=False, tightened=looks.tightened or looks.in_turn)
