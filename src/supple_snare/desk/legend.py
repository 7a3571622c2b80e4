"""What marks and keys mean: a line above the page, and all keys."""

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


KEYS = """Space — play or stop          A — as played / tightened
C — click          L — loop          Shift+L — loop the selection          Ctrl+L — how it is listened to
1, 2, 3 — around the stroke or hit as played, tightened, in turn          F — the page follows
S — half speed          V — tap the strokes          Shift+M — mono check
N, P or → ← — next, previous stroke          ↑ ↓ — a row up, down
B — groove library          In Feel: Y, Shift+Y — tap the feel, the other feel
H — hold the selection as played          Shift+H — release it          E — even out
J — the range moves as one piece          Ctrl+J — tighten only the range          X — drop all edits by hand
W — exchange the present with the newest snapshot          Shift+W — lay that behind on the page
D — next doubt          Return — fine          U — the other slot          I — move less
In Tighten and Proof: drag the head of a peg          Alt+← → — move strokes by 1 ms, with Shift by 1 sample
In a range without strokes Alt+← → slides the sound between them
O — loupe          M — measurements          K — split a section here          Ctrl+K — make the range a section
In Grid: T — tap          [, ] — previous, next tempo found          double-click a pinned line to let it go
Shift+← → — the stroke, or all in the range, one slot earlier or later          G, Shift+G — lock, free its slot
In Hits: N, P — next, previous hit          D, Shift+D — next, previous doubtful hit
Delete, Return, R — remove, count as played, restore as found: the chosen hit, or all in the range
Alt+← → — move the hit by 1 ms, with Shift by 1 sample
Ctrl+1 … Ctrl+7 — the steps          Ctrl+T — tick the step off
Ctrl++ / Ctrl+− or Ctrl+wheel — fewer, more bars a row
Ctrl+Z / Ctrl+Shift+Z — undo, redo          Ctrl+H — the list of what was done          Ctrl+S — save

Each peg is one stroke, standing at its slot. It leans left for early, right for late, 15 degrees for 10 ms; \
a square head leans farther than can be drawn. Pegs of the first lead stand above the line, all others below. \
A flag above a stroke is a doubt; a square foot is a held stroke, a round brass one was moved by hand; \
a bar under it a slot given by hand; the little ticks are the other leads' hits."""
