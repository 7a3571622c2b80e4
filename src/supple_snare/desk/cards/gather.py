"""Gather: the recordings, their groups, and whether they fit together."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from pathlib import Path

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLineEdit

from supple_snare.desk import theme
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, head, words
from supple_snare.errors import SnareError
from supple_snare.exchange.midi import MIDI_SUFFIXES
from supple_snare.session.document import Session, Track, check_group
from supple_snare.session.edits import change_group
from supple_snare.sound.files import AUDIO_SUFFIXES

_NEW = "a new group"


class GatherCard(Card):
    """Add recordings, name groups, see what does not fit."""

    title = "Gather"

    def build(self) -> None:
        self.column.addWidget(
            words(
                "The recordings of one take, all starting together. Tracks that recorded one performance form a group."
            )
        )
        add = button("Add recordings …", "WAV, FLAC, AIFF, Ogg or MIDI files (Ctrl+I)", primary=True)
        add.clicked.connect(self.choose_files)
        self.column.addWidget(head("Add to"))
        self._target = QComboBox()
        self._target.setToolTip("The group that new files join. Files dropped on the window go there too.")
        self._target.setAccessibleName("Group for new files")
        self.column.addWidget(self._target)
        self.column.addWidget(add)
        self.column.addSpacing(6)
        self.column.addWidget(head("Take"))
        self._name = QLineEdit()
        self._name.setToolTip("Name of the session")
        self._name.setAccessibleName("Name of the session")
        self._name.editingFinished.connect(self._rename)
        self.column.addWidget(self._name)
        self._facts = words()
        self.column.addWidget(self._facts)
        self.column.addWidget(head("Group on the page"))
        self._group_name = QLineEdit()
        self._group_name.setAccessibleName("Name of the group")
        self._group_name.editingFinished.connect(self._rename_group)
        self.column.addWidget(self._group_name)
        self._group_facts = words()
        self.column.addWidget(self._group_facts)
        self._files = words()
        self.column.addWidget(self._files)
        self._warnings = words(name="warning")
        self.column.addWidget(self._warnings)
        self.column.addStretch(1)

    def refresh(self) -> None:
        session, group = self.work.session, self.work.group
        chosen = self._target.currentText()
        self._target.blockSignals(True)
        self._target.clear()
        self._target.addItems([other.name for other in session.groups if not other.part] + [_NEW])
        index = self._target.findText(chosen)
        self._target.setCurrentIndex(index if index >= 0 and chosen else self._target.count() - 1)
        self._target.blockSignals(False)
        if not self._name.hasFocus():
            self._name.setText(session.name)
        self._facts.setText(_facts(session))
        self._group_name.setEnabled(group is not None)
        if group is None:
            self._group_name.setText("")
            self._group_facts.setText("No group yet.")
            self._files.setText("")
            self._warnings.setText("")
            return
        if not self._group_name.hasFocus():
            self._group_name.setText(group.name)
        if group.part:
            self._show_part(group.part)
            return
        tracks = session.tracks_of(group)
        view = self.work.view
        lines = [f"{theme.counted(len(tracks), 'track')}: an edit moves all of them together."]
        if view is not None:
            ranked = ", ".join(session.track(key).name for key in view.leads)
            chosen_by = "ranked by the program" if group.leads is None else "as you ranked them"
            lines.append(f"Leads, {chosen_by}: {ranked or 'none'}.")
            lines.append("Click the circles in the cast to change them.")
        self._group_facts.setText("\n".join(lines))
        self._files.setTextFormat(Qt.TextFormat.RichText)
        self._files.setText(_file_table(tracks))
        troubles = self.work.hearing.troubles
        paths = [track.recording.path for track in tracks]
        warnings = [
            f"{path.name} {troubles[path].value}: nothing is drawn from it." for path in paths if path in troubles
        ]
        warnings += check_group(tuple(track.recording for track in tracks))
        if view is not None:
            for track in tracks:
                analysis = self.work.stages.heard(session, track)
                if analysis is not None and analysis.is_silent:
                    warnings.append(f"{track.recording.path.name} is silent.")
        self._warnings.setText("\n\n".join(f"▲ {warning}" for warning in warnings))

    def _show_part(self, key: str) -> None:
        """A MIDI part has one file, and no leads to rank."""
        part, view = self.work.session.part(key), self.work.view
        notes = "Reading it …" if view is None or view.part is None else f"{len(view.part.notes)} notes"
        chords = "" if view is None else f" in {len(view.strokes)} strokes: notes that begin together are one."
        self._group_facts.setText(f"A MIDI part: {notes}{chords}")
        self._files.setText(escape(part.path.name))
        self._warnings.setText("")

    def target_group(self) -> str | None:
        """Name of the group that new files join; None for a new one."""
        text = self._target.currentText()
        return None if text in ("", _NEW) else text

    def choose_files(self) -> None:
        """Ask for files and add them."""
        kinds = " ".join(f"*{suffix}" for suffix in (*AUDIO_SUFFIXES, *MIDI_SUFFIXES))
        files, _ = QFileDialog.getOpenFileNames(
            self, "Add recordings", str(self.work.nearby), f"Recordings and MIDI ({kinds});;All files (*)"
        )
        if files:
            self.work.add_files([Path(file) for file in files], group_name=self.target_group())

    def _rename(self) -> None:
        name = self._name.text().strip()
        if name:
            self.work.do("Name the session", msgspec.structs.replace(self.work.session, name=name))

    def _rename_group(self) -> None:
        group, name = self.work.group, self._group_name.text().strip()
        if group is None or not name or name == group.name:
            return
        if any(other.name == name for other in self.work.session.groups):
            self.work.tell_problem(f"There is a group called {name} already.")
            return
        try:
            self.work.do("Name the group", change_group(self.work.session, group.key, name=name))
        except SnareError as error:
            self.work.tell_problem(str(error))


def _file_table(tracks: Sequence[Track]) -> str:
    """Files of a group with their lengths, so that the odd one out is seen."""
    rows = "".join(
        f"<tr><td>{escape(track.recording.path.name)}</td><td align='right'>{track.recording.length_s:.3f} s</td></tr>"
        for track in tracks
    )
    return f"<table cellspacing='3' width='100%'>{rows}</table>"


def _facts(session: Session) -> str:
    if session.is_empty:
        return "No recordings yet. Drop files on the window or add them above."
    minutes, seconds = divmod(session.length_s, 60.0)
    widths = sorted({track.recording.describe() for track in session.tracks})
    length = f"{int(minutes)} min {seconds:.1f} s" if minutes else f"{seconds:.1f} s"
    return f"{length} · {'; '.join(widths)}"
