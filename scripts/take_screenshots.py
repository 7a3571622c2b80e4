"""Takes the pictures in docs/screenshots/ from the demo, each at 1280 x 800.

QT_QPA_PLATFORM=offscreen .venv/bin/python scripts/take_screenshots.py [FOLDER] [PICTURE ...]
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from msgspec import structs
from PyQt6 import sip
from PyQt6.QtCore import QSettings, QStandardPaths
from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtWidgets import QApplication

from supple_snare.demo.session import demo_listening, demo_session
from supple_snare.desk.answers import step_question
from supple_snare.desk.cards.grid import GridCard
from supple_snare.desk.groove_library import show_library
from supple_snare.desk.hit_tools import choose_hit
from supple_snare.desk.theme import apply_theme
from supple_snare.desk.window import Window
from supple_snare.desk.workspace import STEPS
from supple_snare.session.edits import change_group, even_range, give_moves, set_aim, set_anchor
from supple_snare.session.feels import FeelOf
from supple_snare.session.grid_edits import beats_of_strokes, follow_beats
from supple_snare.session.history import History
from supple_snare.session.open_sessions import unsaved_folder
from supple_snare.session.section_edits import split_section
from supple_snare.session.shelter import Shelter
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.groove import Groove
from supple_snare.timing.hits import Kind
from supple_snare.timing.offsets import FeelRules
from supple_snare.timing.tighten import Response

ROOT = Path(__file__).resolve().parent.parent


def wait(app: QApplication, until: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the window work until something holds."""
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    for _ in range(10):
        app.processEvents()
        time.sleep(0.01)


def zoom_loupe(window: Window, span_ms: float) -> None:
    """Show so much time in the loupe."""
    while window.loupe.span_ms != span_ms:
        window.loupe.zoom(1 if window.loupe.span_ms > span_ms else -1)


def choose_flam(window: Window) -> None:
    """Look at the first flam of the first lead."""
    zoom_loupe(window, 80.0)
    view = window.work.view
    assert view is not None
    hits = view.hits[view.leads[0]]
    grace = int(np.flatnonzero(hits.kind == Kind.GRACE)[0])
    choose_hit(window.work, view.leads[0], float(hits.time_s[grace + 1]))
    window.page.show_time(float(hits.time_s[grace]))


def choose_alike(window: Window) -> None:
    """A ghost note of the snare and all that sounds like it."""
    view = window.work.view
    assert view is not None
    key = next(track.key for track in view.tracks if track.name == "Snare")
    hits = view.hits[key].of_kind(Kind.PLAYED)
    choose_hit(window.work, key, float(hits.time_s[np.argmax(hits.confidence * hits.ghost)]))


def choose_overhead(window: Window) -> None:
    """One side of the pair above the kit."""
    session = window.work.session
    window.work.look(track=next(track.key for track in session.tracks if track.name == "Pair left"))


def follow_band(window: Window) -> None:
    """The tempo followed, the swung bars a section of their own."""
    work = window.work
    card = window.cards["grid"]
    assert isinstance(card, GridCard) and work.view is not None
    work.do("Follow", follow_beats(work.session, beats_of_strokes(work.session, work.view)))
    for bar, name in ((9, "Swung part"), (13, "Last part")):
        work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(bar)), name=name))
    card.slots.choose_section(work.session.sections[1].key)


def lay_feels(window: Window) -> None:
    """The last part's feel over that of the first bars."""
    work = window.work
    for bar, name in ((9, "Swung part"), (13, "Last part")):
        work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(bar)), name=name))
    group = work.session.groups[0]
    work.do("Cycle", change_group(work.session, group.key, feel=FeelRules(Cycle(1))))
    first, _, last = work.session.sections
    work.look(feel_of=FeelOf("section", first.key), feel_beside=FeelOf("section", last.key))


def aim_at(window: Window, group: str, aim: Aim) -> None:
    """A group on the page with its aim."""
    work = window.work
    key = next(each.key for each in work.session.groups if each.name == group)
    work.do("Aim", set_aim(work.session, key, aim))
    work.look(group=key)


def follow_drums(window: Window) -> None:
    """The sousaphone a little behind the drums; farther strokes reached too."""
    drums = window.work.session.groups[0].key
    aim_at(window, "Sousaphone", Aim(at=AimAt.REFERENCE, reference=drums, behind_ms=5.0))
    response = Response(strength=0.9, tolerance_ms=4.0, reach_ms=90.0)
    work = window.work
    work.do("Reach", change_group(work.session, work.looks.group, response=response))


def look_at_doubt(window: Window) -> None:
    """A stroke in the loupe whose leads lie apart, with the seam before it."""
    window.work.look(loupe=True)
    zoom_loupe(window, 150.0)
    for _ in range(5):
        step_question(window.work, 1)


def stretch_gap(window: Window) -> None:
    """The sousaphone, its gaps stretched, an anchor amid a long note, and one gap in the loupe."""
    work = window.work
    group = next(each for each in work.session.groups if each.name == "Sousaphone")
    work.look(group=group.key)
    assert work.view is not None
    time_s = work.view.strokes.time_s
    widest = int(np.argmax(np.diff(time_s[:12])))
    work.do("Anchor", set_anchor(work.session, group.key, float(0.5 * (time_s[widest] + time_s[widest + 1]))))
    for _ in range(2):
        window.page.zoom(1)
    work.look(loupe=True, selected_s=float(time_s[2]))
    zoom_loupe(window, 600.0)
    window.page.show_time(float(time_s[2]))


def mend_fill(window: Window) -> None:
    """The rushed fill of bar 8: its ends moved, its inside evened out."""
    work, grid = window.work, window.work.session.grid
    assert work.view is not None
    start_s, end_s = (float(grid.bar_time_s(bar)) for bar in (8.48, 9.02))
    time_s = work.view.strokes.time_s
    inside = time_s[(time_s >= start_s) & (time_s <= end_s)]
    moves = {float(inside[0]): 2.0, float(inside[-1]): 6.0}
    work.do("Ends", give_moves(work.session, work.looks.group, moves))
    work.do("Even", even_range(work.session, work.looks.group, start_s, end_s))
    window.page.zoom(1)
    work.look(range_s=(start_s, end_s))
    window.page.show_time(start_s)


def listen(window: Window) -> None:
    """The two cornets as one, at half speed, bars 5 to 8 in turn, while it plays."""
    work = window.work
    cornets = [track.key for track in work.session.tracks if "cornet" in track.name.lower()]
    work.listen(mono="two", two=(cornets[0], cornets[1]))
    work.look(half_speed=True, in_turn=True, looping=True, loop_bars=(5, 8))
    window.player.seek(float(work.session.grid.bar_time_s(5)))
    window.player.play()


def lose(window: Window) -> None:
    """An earlier run was killed before its session was saved."""
    session = structs.replace(window.work.session, name="Rehearsal, second run")
    with Shelter(unsaved_folder()).place() as place:
        place.write(History(session))
    window.doors.offer_lost()


def march(window: Window) -> Groove:
    """One of the grooves that come with the program."""
    return next(groove for _, groove in window.work.grooves() if "marching" in groove.name)


PREPARE: dict[str, Callable[[Window], None]] = {
    "grid": follow_band,
    "feel": lay_feels,
    "midi-part": lambda window: aim_at(window, "Accordion", Aim(at=AimAt.GROOVE, groove=march(window), accents=0.5)),
    "reference": follow_drums,
    "fill": mend_fill,
    "stretch": stretch_gap,
    "proof": look_at_doubt,
    "listening": listen,
    "recovery": lose,
    "hits": choose_alike,
    "loupe": choose_flam,
    "overhead": choose_overhead,
    "measure": lambda window: window.measures.choose("slots"),
}
STEP_OF = {
    "loupe": "hits",
    "overhead": "hits",
    "measure": "feel",
    "grooves": "feel",
    "recovery": "gather",
    "midi-part": "tighten",
    "reference": "tighten",
    "fill": "tighten",
    "stretch": "tighten",
    "listening": "proof",  # last: it plays, and the transport tells for the rest of the sitting where that was late
}


def picture_of_library(window: Window, app: QApplication) -> QPixmap:
    """The library with a groove chosen."""
    library = show_library(window.work, window)
    library.choose(next(path for path, groove in window.work.grooves() if groove == march(window)))
    wait(app, library.isVisible)
    picture = library.grab()
    library.close()
    return picture


def picture_with_panel(window: Window, app: QApplication) -> QPixmap:
    """The window with the listening panel open over it, as a screen would show both."""
    panel = window.transport.panel
    window.transport.listening.click()
    wait(app, lambda: window.player.level_db > -40.0, 5.0)
    picture = window.grab()
    painter = QPainter(picture)
    painter.drawPixmap(window.mapFromGlobal(panel.pos()), panel.grab())
    painter.end()
    panel.close()
    window.player.stop()
    return picture


TAKE = {"grooves": picture_of_library, "listening": picture_with_panel}


def main() -> None:
    """Open the demo, go through the steps, keep a picture of each."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    pictures = sys.argv[2:] or [*STEPS, *STEP_OF]
    folder.mkdir(parents=True, exist_ok=True)
    QStandardPaths.setTestModeEnabled(True)
    app = QApplication(sys.argv[:1])
    with tempfile.TemporaryDirectory() as settings:
        os.environ["XDG_DATA_HOME"] = os.environ["XDG_STATE_HOME"] = settings
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
        apply_theme(app)
        window = Window()
        window.resize(1280, 800)
        window.show()
        session = demo_session()
        window.work.open(session, demo_listening(session))
        wait(app, lambda: window.work.view is not None and not window.work.jobs.jobs)
        window.work.when_cut(lambda: None)
        wait(app, lambda: not window.work.jobs.jobs)
        drums = window.work.looks.group
        for picture in pictures:
            window.work.look(
                step=STEP_OF.get(picture, picture),
                group=drums,
                loupe=picture == "loupe",
                measuring=picture == "measure",
                feel_of=FeelOf(),
                feel_beside=None,
                selected_s=None,
                range_s=None,
                half_speed=False,
                in_turn=False,
                looping=False,
                listening=demo_listening(session),
            )
            window.message.hide()
            before = window.work.session
            PREPARE.get(picture, lambda _window: None)(window)
            if window.work.session is not before:
                wait(app, lambda: bool(window.work.jobs.jobs), 2.0)
            if window.work.looks.loupe:
                wait(app, lambda: window.loupe.is_loaded)
            wait(app, lambda: not window.work.jobs.jobs)
            sections = window.work.session.sections
            wait(app, lambda keys=sections: all(window.work.slots.is_known(section.key) for section in keys))
            shown = TAKE.get(picture, lambda window, _app: window.grab())(window, app)
            shown.save(str(folder / f"{picture.replace(' ', '-')}.png"))
            while window.work.session is not before:
                window.work.undo()
        window.work.history = History(window.work.session)  # nothing to ask about at closing
        window.close()
        sip.delete(window)  # before the application, which Python may let go of first


if __name__ == "__main__":
    main()
