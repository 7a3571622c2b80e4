"""Sections in the window: a menu to draw, split, join and name them, and where they stand on the page."""

from __future__ import annotations

from PyQt6.QtWidgets import QInputDialog, QMenu, QToolButton, QWidget

from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session.document import Section
from supple_snare.session.grid_edits import set_section_tempo
from supple_snare.session.section_edits import draw_section, join_section, rename_section, split_section
from supple_snare.timing.course import TEMPO_RANGE_BPM


class SectionButton(QToolButton):
    """Opens the menu of sections."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self.place_s = 0.0
        """Where the playhead stands."""
        self.setObjectName("plain")
        self.setText("Sections ▾")
        self.setFixedHeight(28)
        self.setStyleSheet("padding: 2px 9px;")
        self.setToolTip("Draw, split, join and name sections; hit rules and lead ranks may differ in each")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        menu.aboutToShow.connect(lambda: self._fill(menu))
        self.setMenu(menu)

    def _fill(self, menu: QMenu) -> None:
        work = self._workspace
        menu.clear()
        here = section_here(work, self.place_s)
        draw = menu.addAction("Make the selected range a section", lambda: draw_selection(work, self))
        split = menu.addAction("Split at the playhead", lambda: split_here(work, self.place_s))
        assert draw is not None and split is not None
        draw.setEnabled(work.looks.range_s is not None)
        if here is not None:
            menu.addSeparator()
            menu.addAction(f"Name {here.name} …", lambda: name_section(work, here, self))
            tempo = menu.addAction(f"Tempo of {here.name} …", lambda: ask_tempo(work, here, self))
            assert tempo is not None
            tempo.setEnabled(work.session.take_grid.played is None)
            first = here is work.session.sections[0]
            menu.addAction(
                f"Join {here.name} to the {'next' if first else 'one before'}",
                lambda: work.do(f"Join {here.name}", join_section(work.session, here.key)),
            )
            menu.addSeparator()
            for section in work.session.sections:
                menu.addAction(f"Go to {section.name}", lambda s=section: work.went.emit(s.start_s))


def section_here(work: Workspace, place_s: float) -> Section | None:
    """The section of what is selected, else of the playhead."""
    looks = work.looks
    moment = looks.range_s[0] if looks.range_s else looks.selected_s if looks.selected_s is not None else place_s
    return work.session.section_at(moment)


def draw_selection(work: Workspace, parent: QWidget | None) -> None:
    """Make the selected range a section, from bar line to bar line, and name it."""
    span = work.looks.range_s
    if span is None:
        work.tell("Drag over a range on the page first.")
        return
    grid = work.session.grid
    first, last = (round(float(grid.bar_at(time))) for time in span)
    start_s, end_s = (float(grid.bar_time_s(bar)) for bar in (first, max(last, first + 1)))
    name, given = QInputDialog.getText(parent, "Name the section", "Name of the section (verse, bridge, fill …):")
    if given:
        work.do(f"Draw {name or 'a section'}", draw_section(work.session, start_s, end_s, name=name.strip() or None))


def split_here(work: Workspace, place_s: float) -> None:
    """Let a new section start at the bar line nearest to the playhead."""
    grid = work.session.grid
    time_s = float(grid.bar_time_s(round(float(grid.bar_at(place_s)))))
    changed = split_section(work.session, time_s)
    if changed == work.session:
        work.tell("A section cannot start there: put the playhead well inside a section.")
    work.do("Split a section", changed)


def ask_tempo(work: Workspace, section: Section, parent: QWidget | None) -> None:
    """Ask for one tempo over a section."""
    now = float(work.session.grid.tempo_at(section.start_s + 1.0))
    question = f"Quarter notes a minute in {section.name}; later lines move along:"
    tempo, given = QInputDialog.getDouble(parent, "Tempo of a section", question, now, *TEMPO_RANGE_BPM, 3)
    if given:
        try:
            work.do(f"Tempo of {section.name}", set_section_tempo(work.session, section.key, tempo))
        except SnareError as error:
            work.tell_problem(str(error))


def name_section(work: Workspace, section: Section, parent: QWidget | None) -> None:
    """Ask for a name."""
    name, given = QInputDialog.getText(parent, "Name the section", "Name of the section:", text=section.name)
    if given and name.strip():
        work.do(f"Name {name.strip()}", rename_section(work.session, section.key, name.strip()))
