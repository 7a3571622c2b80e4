"""What the marks on the page mean, in a line above it."""

from __future__ import annotations

from supple_snare.desk.workspace import Workspace


def legend_of(work: Workspace) -> str:
    """What the marks on the page mean now."""
    looks = work.looks
    if looks.measuring:
        return "Choose a row to go there; hover over the picture for numbers."
    if looks.step == "hits":
        return "● played  • ghost  ○ bleed  ⁄ grace  | roll  × removed  – by hand"
    if looks.step == "grid":
        return "Drag bar 1 or a later line onto its hit; Shift pins it (◆)."
    if work.feel_tapped is not None:
        return "The feel is tapped in place of the recordings (Y)."
    return _of_pegs(work)


def _of_pegs(work: Workspace) -> str:
    """What pegs mean, and what lies behind them."""
    group = work.group
    if work.looks.shows_moves and work.moves_behind() is not None:
        return f"Left: early, right: late; 10 ms = 15°. Pale: “{work.looks.behind}” (Shift+W)."
    if work.looks.shows_moves and group is not None and group.has_pattern:
        alone = ", ○ no partner" if work.view is not None and work.view.pairs is not None else ""
        return f"Left: early, right: late; 10 ms = 15°. ◇ the aim{alone}."
    return "Pegs lean left: early, right: late; 10 ms = 15°."
