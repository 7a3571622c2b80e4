"""What is done by hand with one key, which means another thing in each step."""

from __future__ import annotations

from collections.abc import Callable

from supple_snare.desk import answers, hit_tools, stroke_tools
from supple_snare.desk.page import Page
from supple_snare.desk.player import Player
from supple_snare.desk.workspace import Workspace


class Hand:
    """Goes through and mends hits in the Hits step, strokes elsewhere, doubts in Proof."""

    def __init__(self, work: Workspace, page: Page, player: Player) -> None:
        self._work = work
        self._page = page
        self._player = player

    def mend(self, deed: Callable[[Workspace], None]) -> None:
        """Do something to hits, where they are mended."""
        if self._work.looks.step == "hits":
            deed(self._work)
        elif self._work.selected is not None:
            self._work.tell("Hits are mended in the Hits step (Ctrl+3); H holds a stroke as played.")

    def prove(self, deed: Callable[[Workspace], None]) -> None:
        """Answer a doubt, where they are answered."""
        if self._work.looks.step == "proof":
            deed(self._work)

    def take(self) -> None:
        """Count bleed as played; in Proof answer that it is fine."""
        if self._work.looks.step == "proof":
            answers.fine(self._work)
        else:
            self.mend(hit_tools.promote_hits)

    def hold(self) -> None:
        """Hold what is selected; in Proof answer so."""
        if self._work.looks.step == "proof" and self._work.looks.range_s is None:
            answers.hold(self._work)
        else:
            stroke_tools.hold_selection(self._work)

    def nudge(self, by_ms: float = 0.0, *, samples: int = 0) -> None:
        """Move a hit or a stroke by so many ms or samples."""
        moved_ms = by_ms or samples * 1000.0 / self._work.session.rate_hz
        if self._work.looks.step == "hits":
            hit_tools.nudge_hit(self._work, moved_ms / 1000.0)
        elif self._work.looks.shows_moves:
            stroke_tools.nudge_strokes(self._work, moved_ms)

    def step(self, steps: int) -> None:
        """Go to the next stroke, or in the Hits step to the next hit of the chosen track."""
        if self._work.looks.step == "hits":
            self.step_hit(steps, False)
        else:
            self._page.step_stroke(steps)

    def step_doubt(self, steps: int) -> None:
        """Go to the next doubtful stroke, or in the Hits step to the next doubtful hit."""
        if self._work.looks.step == "hits":
            self.step_hit(steps, True)
        else:
            answers.step_question(self._work, steps)

    def step_hit(self, steps: int, doubtful: bool) -> None:
        """Go to the next hit of the chosen track, or the next doubtful one."""
        time_s = hit_tools.step_hit(self._work, steps, doubtful=doubtful)
        if time_s is None:
            self._work.tell("There is no doubtful hit." if doubtful else "There are no hits on this track.")
            return
        self._page.show_time(time_s)
        if not self._work.looks.hearing:
            self._player.seek(time_s)
