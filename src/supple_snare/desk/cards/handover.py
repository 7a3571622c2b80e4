"""Hand over: a folder, a format, progress, and files that are whole or not there."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMessageBox,
    QProgressBar,
    QSizePolicy,
)

from supple_snare.demo import TAKE
from supple_snare.desk import theme
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import button, head, words
from supple_snare.desk.jobs import Job
from supple_snare.desk.programmes import click_of, mix_track
from supple_snare.errors import SnareError
from supple_snare.session.account import ACCOUNT_NAME, account
from supple_snare.session.document import Group
from supple_snare.session.folder import folder_name
from supple_snare.session.handover import (
    OwnTrack,
    Written,
    files_there,
    own_track,
    part_to_write,
    plan_files,
    write_files,
)
from supple_snare.session.recordings import check_unchanged, files_of
from supple_snare.sound.attacks import Progress, part_of

_STOPPED = "Stopped. Nothing was written: the folder is as it was."
_CHECK_PARTS = 10
"""Reading the recordings whole, to see that nobody changed them, takes about this part of a hand-over."""

_PROMISE = (
    "Recordings are only read. Every track of a group gets the same edit; samples that need no change stay bit for bit."
)
_FORMATS = {"As the recordings": None, "WAV": "WAV", "FLAC": "FLAC"}
_WRITE = "Write the tightened tracks to the folder"


class HandOverCard(Card):
    """Writes the tightened tracks."""

    title = "Hand over"

    def build(self) -> None:
        self._job: Job | None = None
        self._written: Path | None = None
        self._suggested = ""
        self.column.addWidget(head("Folder"))
        row = QHBoxLayout()
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("choose or type a folder")
        self.folder.setAccessibleName("Folder")
        self.folder.textChanged.connect(self._update_buttons)
        self.folder.textChanged.connect(self.folder.setToolTip)
        choose = button("…", "Choose a folder")
        choose.setAccessibleName("Choose a folder")
        choose.setFixedWidth(36)
        choose.clicked.connect(self._choose)
        row.addWidget(self.folder)
        row.addWidget(choose)
        self.column.addLayout(row)
        self.column.addWidget(head("Format"))
        self._format = QComboBox()
        self._format.addItems(list(_FORMATS))
        self._format.setToolTip("Rate, width, length and names stay as they came in")
        self.column.addWidget(self._format)
        self.column.addWidget(head("Groups"))
        self._groups_grid = QGridLayout()
        self._groups_grid.setSpacing(2)
        self._groups: dict[str, QCheckBox] = {}
        self.column.addLayout(self._groups_grid)
        self.column.addWidget(head("Contents"))
        self.heard_only = QCheckBox("Leave muted tracks out")
        self.heard_only.setToolTip("Write only the tracks that are not muted in the cast")
        self.column.addWidget(self.heard_only)
        self.click = QCheckBox("The click as a track, too")
        self.click.setToolTip("At its level, with the slots if they are heard (Listening)")
        self.column.addWidget(self.click)
        self.mix = QCheckBox("A mix of it, too")
        self.mix.setToolTip("Of what is written and not muted, at its listening levels; without MIDI parts")
        self.column.addWidget(self.mix)
        self._facts = words()
        self.column.addWidget(self._facts)
        self.write = button("Write the files", _WRITE, primary=True)
        self.write.clicked.connect(self.start)
        self.column.addWidget(self.write)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.hide()
        self.column.addWidget(self.progress)
        self._cancel = button("Stop", "Stop; the file in the making is removed")
        self._cancel.clicked.connect(self._stop)
        self._cancel.hide()
        self.column.addWidget(self._cancel)
        self._show = button("Show the folder", "Open the folder in the file manager")
        self._show.clicked.connect(self._open_folder)
        self._show.hide()
        self.column.addWidget(self._show)
        self.result = words()
        self.column.addWidget(self.result)
        self.column.addWidget(words(_PROMISE))
        self.column.addStretch(1)

    def refresh(self) -> None:
        session = self.work.session
        names = {group.key: group.name for group in session.groups}
        if names.keys() != self._groups.keys():
            for box in self._groups.values():
                self._groups_grid.removeWidget(box)
                box.deleteLater()
            self._groups = {}
            for place, (key, name) in enumerate(names.items()):
                box = QCheckBox(name)
                box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
                box.setChecked(key == self.work.looks.group or len(names) == 1)
                box.toggled.connect(self._update_buttons)
                box.toggled.connect(self._show_facts)
                self._groups[key] = box
                self._groups_grid.addWidget(box, place // 2, place % 2)
        for key, box in self._groups.items():
            box.setText(names[key])
            box.setToolTip(names[key])
        self._suggest_folder()
        self._show_facts()
        self._update_buttons()

    def _suggest_folder(self) -> None:
        """A new folder beside the session or its recordings, as long as nobody has named another."""
        if self.folder.text() == self._suggested and not self.work.session.is_empty:
            self._suggested = str(self._beside / f"{folder_name(self.work.session)} tightened")
            self.folder.setText(self._suggested)

    @property
    def _beside(self) -> Path:
        """Where a new folder may stand: not among the program's own files, nor where nothing may be written."""
        beside = self.work.folder.parent if self.work.folder else self.work.nearby
        return beside if beside != TAKE and os.access(beside, os.W_OK) else Path.home()

    def start(self) -> None:
        """Find the seams that are still missing, then write."""
        folder = self._beside / Path(self.folder.text().strip()).expanduser()
        wanted = [key for key, box in self._groups.items() if box.isChecked()]
        container = _FORMATS[self._format.currentText()]
        self.result.setText("Finding seams …")
        self.work.when_cut(lambda: self._write(wanted, folder, container))

    def _write(self, wanted: list[str], folder: Path, container: str | None) -> None:
        session = self.work.session
        groups = [group for group in session.groups if group.key in wanted]
        muted = self.work.looks.heard.muted
        tracks = [
            (track.recording, self.work.seams.edits_of(group))
            for group in groups
            for track in session.tracks_of(group)
            if not (track.key in muted and self.heard_only.isChecked())
        ]
        views = [self.work.view_of(group) for group in groups if group.part]
        parts = [part_to_write(session, view) for view in views if view is not None]
        told = [
            (view, self.work.seams.cut_of(view.group)) for view in map(self.work.view_of, groups) if view is not None
        ]
        own, account_file = self._own_tracks(groups), folder / ACCOUNT_NAME
        try:
            existing = files_there(tracks, folder, parts=parts, own=own, container=container)
            existing += [account_file] if account_file.exists() else []
            guard = self.work.guard(existing)
            jobs = plan_files(tracks, folder, guard=guard, parts=parts, own=own, container=container)
        except SnareError as error:
            self._failed(error)
            return
        if existing and not self._may_replace([path.name for path in existing], folder):
            self.result.setText("Nothing was written.")
            return
        read = {recording.path for recording, _ in tracks} | {part.path for part in parts}
        files = [file for file in files_of(session) if file.path in read]

        def work(progress: Progress) -> Written:
            check_unchanged(files, part_of(progress, 0, _CHECK_PARTS))
            return write_files(
                jobs,
                guard=guard,
                container=container,
                account=(account_file, partial(account, session, told)),
                progress=lambda share: progress((1.0 + (_CHECK_PARTS - 1) * share) / _CHECK_PARTS),
            )

        self._written = None
        self._job = self.work.jobs.submit(
            "Writing files", work, lambda written: self._done(written, folder), self._failed
        )
        self._job.progressed.connect(lambda share: self.progress.setValue(round(1000 * share)))
        self._job.cancelled.connect(lambda: self.result.setText(_STOPPED))
        self._job.ended.connect(self._ended)
        self.progress.setValue(0)
        self.progress.show()
        self._cancel.show()
        self.result.setText("Writing …")
        self._update_buttons()

    def _own_tracks(self, groups: list[Group]) -> list[OwnTrack]:
        """The click, and a mix of what is written and not muted, as they are listened to; those that are wished."""
        session, looks = self.work.session, self.work.looks
        tracks = [
            mix_track(self.work, group, track)
            for group in groups
            for track in session.tracks_of(group)
            if track.key not in looks.heard.muted
        ]
        own = [own_track(session, click_of(session, looks.listening))] if self.click.isChecked() else []
        return [*own, own_track(session, tracks)] if tracks and self.mix.isChecked() else own

    def _may_replace(self, names: list[str], folder: Path) -> bool:
        text = f"{folder} already holds {', '.join(names[:4])}{' and others' if len(names) > 4 else ''}."
        asked = QMessageBox(QMessageBox.Icon.Question, "Replace files?", text, parent=self)
        replace = asked.addButton("Replace them", QMessageBox.ButtonRole.AcceptRole)
        asked.addButton("Keep them", QMessageBox.ButtonRole.RejectRole)
        asked.exec()
        return asked.clickedButton() is replace

    def _done(self, written: Written, folder: Path) -> None:
        self._written = folder
        count = len(written.files) - 1
        told = f"{theme.counted(count, 'file')} and an account of the work written to {folder}."
        if written.left_out:
            told += f" Not everything besides the sound went along: {'; '.join(written.left_out)}."
        self.result.setText(told)

    def _failed(self, error: Exception) -> None:
        self.result.setText(str(error))
        self.work.tell_error(error)

    def _ended(self) -> None:
        self._job = None
        self.progress.hide()
        self._cancel.hide()
        self._show.setVisible(self._written is not None)
        self._update_buttons()

    def _stop(self) -> None:
        if self._job is not None:
            self._job.cancel()

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(
            self, "Folder for the tightened files", self.folder.text() or str(self.work.nearby)
        )
        if folder:
            self.folder.setText(folder)

    def _open_folder(self) -> None:
        if self._written is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._written)))

    def _show_facts(self) -> None:
        """Describe the chosen groups, in the order of the session."""
        chosen = [key for key, box in self._groups.items() if box.isChecked()]
        told = [self._describe(group) for group in self.work.session.groups if group.key in chosen]
        self._facts.setText("\n".join(told))

    def _describe(self, group: Group) -> str:
        """What the hand-over of a group comes to, in a sentence or two."""
        count = len(group.tracks) or 1
        files = "a MIDI file" if group.part else theme.counted(count, "file")
        view = self.work.view_of(group)
        if view is None:
            return f"{group.name}: {files}; still listening."
        moves = np.abs(view.plan.move_ms)
        moving = int(np.count_nonzero(moves > 1e-6))
        if not moving:
            return f"{group.name}: {files}, as played: no stroke moves."
        doubtful = sum(bool(found) for found in self.work.seams.doubts_of(group))
        told = f"{group.name}: {files}, {moving} of {len(moves)} strokes move, the farthest by {moves.max():.0f} ms."
        return f"{told} {theme.counted(doubtful, 'doubt')} to listen to." if doubtful else told

    def _update_buttons(self) -> None:
        missing = ""
        if not any(box.isChecked() for box in self._groups.values()):
            missing = "Choose a group first"
        elif not self.folder.text().strip():
            missing = "Choose a folder first"
        elif self.work.view is None:
            missing = "The recordings are still being listened to"
        self.write.setEnabled(not missing and self._job is None)
        self.write.setToolTip(missing or _WRITE)
