"""What is looked at in the window."""

from __future__ import annotations

from dataclasses import dataclass

from supple_snare.session.feels import FeelOf
from supple_snare.session.listening import Desk, Heard, Listening


@dataclass(frozen=True)
class Looks:
    """What is looked at; not part of the session, and not undone.

    Attributes
    ----------
    step : str
    group : str
        Key of the group on the page, "" if there is none.
    track : str
        Key of the track whose hits are mended, "" for the first lead.
    tightened : bool
        Which version is shown and heard.
    selected_s : float or None
        Time of the selected stroke.
    hit : (str, float) or None
        Track and time of the chosen hit.
    rejudged : tuple of (str, float)
        Track and time of hits that are judged otherwise than when the session was last open.
    hearing : bool
        Whether a chosen hit is heard at once, in a short loop.
    around_s : float or None
        Moment (as played) around which a short loop plays; it goes before the loop of bars.
    around_beats : float
        How far around it, in quarter notes; 0 for the short stretch around a hit.
    in_turn : bool
        Whether a loop is heard as played and tightened in turn.
    loupe : bool
        Whether the loupe is open.
    measuring : bool
        Whether measurements stand in place of the page.
    range_s : (float, float) or None
        Selected stretch of time as played.
    loop_bars : (int, int) or None
        First and last bar of the loop.
    looping : bool
    clicking : bool
    listening : Listening
        Levels, what is heard in each step, the click, the mono check.
    half_speed : bool
    tapping_strokes : bool
        Whether a short sound is heard where the program takes each stroke to begin.
    feel_of : FeelOf
        Whose feel is shown.
    feel_beside : FeelOf or None
        What is laid over it.
    tapping : str
        "first" or "second" while that feel is tapped in place of the recordings, else "".
    scope : str or None
        Key of the section whose settings Tighten shows; None for those of the whole take.
    behind : str
        Name of the snapshot whose version stands pale behind the present one on the page; "" for as played.
    proofing : object
        What Proof lists: what is left to hear (None) or that of one reason, "answered", or "seams".
    from_aim : bool
        Whether the lean chart shows deviations from the aim in place of offsets from the grid.
    """

    step: str = "gather"
    group: str = ""
    track: str = ""
    tightened: bool = True
    selected_s: float | None = None
    hit: tuple[str, float] | None = None
    rejudged: tuple[tuple[str, float], ...] = ()
    hearing: bool = False
    around_s: float | None = None
    around_beats: float = 0.0
    in_turn: bool = False
    loupe: bool = False
    measuring: bool = False
    range_s: tuple[float, float] | None = None
    loop_bars: tuple[int, int] | None = None
    looping: bool = False
    clicking: bool = False
    listening: Listening = Listening()  # noqa: RUF009  # frozen
    half_speed: bool = False
    tapping_strokes: bool = False
    feel_of: FeelOf = FeelOf()  # noqa: RUF009  # frozen
    feel_beside: FeelOf | None = None
    tapping: str = ""
    scope: str | None = None
    behind: str = ""
    proofing: object = None
    from_aim: bool = False

    @property
    def heard(self) -> Heard:
        """What is heard in this step."""
        return self.listening.heard_in(self.step)

    def left(self) -> Desk:
        """What is remembered of it for the next sitting."""
        return Desk(
            step=self.step,
            group=self.group,
            tightened=self.tightened,
            loop_bars=self.loop_bars,
            looping=self.looping,
            clicking=self.clicking,
            listening=self.listening,
        )

    @property
    def shows_moves(self) -> bool:
        """Whether this step is about what becomes of the strokes, so that both versions are shown."""
        return self.step in ("tighten", "proof", "hand over")
