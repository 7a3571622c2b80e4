"""The cast: the tracks by group, their ranks as leads, solo, mute and level."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QMenu, QScrollArea, QSizePolicy, QToolTip, QVBoxLayout, QWidget

from supple_snare.desk import theme
from supple_snare.desk.workspace import Workspace
from supple_snare.errors import SnareError
from supple_snare.session import edits
from supple_snare.session.document import Group, Part, Session, Track
from supple_snare.session.listening import HIGHEST_DB, LOWEST_DB

_ROW_PX = 40
_RANK_BOX = QRectF(6, 6, 28, 28)
_KEYS = (Qt.Key.Key_S, Qt.Key.Key_M, Qt.Key.Key_Return, Qt.Key.Key_Left, Qt.Key.Key_Right)
_SHOW_KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
_INDENT_PX = 6


class TrackRow(QWidget):
    """One track: click the circle to make it a lead or drop it, S and M to hear it alone or not at all.

    What is heard is remembered for each step of the work.

    A MIDI part has a note in place of the circle: it leads itself.
    """

    def __init__(self, workspace: Workspace, track: Track | Part, rank: int | None) -> None:
        super().__init__()
        self._workspace = workspace
        self.track = track
        self.rank = rank
        self._levelling = False
        self._state: tuple[object, ...] | None = None
        self.setFixedHeight(_ROW_PX)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(track.name)

    def show_track(self, track: Track | Part, rank: int | None) -> None:
        """Show a track as it is now; draws only what changed."""
        looks, key = self._workspace.looks, track.key
        hearing = (looks.heard, looks.listening.level_db(key), looks.listening.pan(key))
        state = (track, rank, self._is_analysed(track), hearing)
        if state != self._state:
            self._state = state
            self.track, self.rank = track, rank
            self.update()

    def _is_analysed(self, track: Track | Part) -> bool:
        return isinstance(track, Part) or self._workspace.stages.peaks(track) is not None

    def sizeHint(self) -> QSize:
        return QSize(170, _ROW_PX)

    def _solo_box(self) -> QRectF:
        return QRectF(self.width() - 56, 8, 24, 24)

    def _mute_box(self) -> QRectF:
        return QRectF(self.width() - 29, 8, 24, 24)

    def _level_box(self) -> QRectF:
        return QRectF(40, 25, max(20.0, self.width() - 40 - 64), 12)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.hasFocus():
            painter.setPen(QPen(theme.BRASS, 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        self._paint_rank(painter)
        painter.setPen(theme.INK if self._is_analysed(self.track) else theme.INK_SOFT)
        painter.setFont(theme.text_font(13))
        width = self._solo_box().left() - 44
        if words := pan_words(self._workspace.looks.listening.pan(self.track.key)):
            width -= 34
        name = painter.fontMetrics().elidedText(self.track.name, Qt.TextElideMode.ElideRight, int(width))
        painter.drawText(QRectF(40, 4, width, 18), Qt.AlignmentFlag.AlignVCenter, name)
        if words:
            painter.setPen(theme.INK_SOFT)
            painter.setFont(theme.text_font(12))
            painter.drawText(QRectF(40 + width, 4, 34, 18), Qt.AlignmentFlag.AlignCenter, words)
        level = self._level_box()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.RULE)
        painter.drawRoundedRect(QRectF(level.left(), 30, level.width(), 3), 1.5, 1.5)
        looks, key = self._workspace.looks, self.track.key
        share = (looks.listening.level_db(key) - LOWEST_DB) / (HIGHEST_DB - LOWEST_DB)
        painter.setBrush(theme.INK_SOFT)
        painter.drawRoundedRect(QRectF(level.left(), 30, level.width() * share, 3), 1.5, 1.5)
        painter.setBrush(theme.BRASS)
        painter.drawRoundedRect(QRectF(level.left() + level.width() * share - 3, 26.5, 6, 10), 2, 2)
        self._paint_letter(painter, self._solo_box(), "S", key in looks.heard.soloed)
        self._paint_letter(painter, self._mute_box(), "M", key in looks.heard.muted)
        painter.end()

    def _paint_rank(self, painter: QPainter) -> None:
        circle = _RANK_BOX.adjusted(3, 3, -3, -3)
        if isinstance(self.track, Part):
            painter.setPen(theme.BRASS_TEXT)
            painter.setFont(theme.text_font(19))
            painter.drawText(circle, Qt.AlignmentFlag.AlignCenter, "♪")
            return
        if self.rank is None:
            painter.setPen(QPen(theme.RULE_STRONG, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(circle)
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BRASS)
        painter.drawEllipse(circle)
        painter.setPen(theme.SHEET)
        painter.setFont(theme.text_font(13, bold=True))
        painter.drawText(circle, Qt.AlignmentFlag.AlignCenter, str(self.rank + 1))
        # A small arrow tells whether this lead stands above the line of the page or hangs below it.
        painter.setBrush(theme.INK_SOFT)
        painter.setPen(Qt.PenStyle.NoPen)
        tip = circle.top() - 4 if self.rank == 0 else circle.bottom() + 4
        foot = tip + (4 if self.rank == 0 else -4)
        middle = circle.center()
        corners = [(middle.x(), tip), (middle.x() - 4, foot), (middle.x() + 4, foot)]
        painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in corners]))

    def _paint_letter(self, painter: QPainter, box: QRectF, letter: str, on: bool) -> None:
        painter.setPen(QPen(theme.INK if on else theme.RULE_STRONG, 1))
        painter.setBrush(theme.INK if on else theme.SHEET)
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(theme.SHEET if on else theme.INK)
        painter.setFont(theme.text_font(12, bold=on))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, letter)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        point, work, track = event.position(), self._workspace, self.track
        if _RANK_BOX.contains(point) and not isinstance(track, Part):
            self.toggle_lead()
        elif self._solo_box().contains(point):
            work.turn_heard("soloed", track.key)
        elif self._mute_box().contains(point):
            work.turn_heard("muted", track.key)
        elif self._level_box().adjusted(-6, -4, 6, 4).contains(point):
            self._levelling = True
            self._set_by_mouse(event)
        else:
            work.look(group=work.session.group_of(track.key).key, track=track.key, selected_s=None, hit=None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._levelling:
            self._set_by_mouse(event)
            return
        point = event.position()
        if isinstance(self.track, Part):
            hint = f"{self.track.path.name} · a MIDI part, heard as plain tones"
        else:
            recording = self.track.recording
            hint = f"{recording.path.name} · {recording.describe()}. In Hits, click to look at its hits."
        if isinstance(self.track, Track) and _RANK_BOX.contains(point):
            hint = "Lead: its hits decide the timing. Click to add or drop it; ranks count in the order of clicking."
        elif self._solo_box().contains(point):
            hint = "Solo: hear only this one, in this step (S)"
        elif self._mute_box().contains(point):
            hint = "Mute, in this step (M)"
        elif self._level_box().adjusted(-6, -4, 6, 4).contains(point):
            listening = self._workspace.looks.listening
            level = theme.signed(listening.level_db(self.track.key))
            hint = f"Listening level {level} dB (← →). With Shift: left, right."
        QToolTip.showText(event.globalPosition().toPoint(), hint, self)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._levelling = False

    def event(self, event: QEvent | None) -> bool:
        """Keys of the row go before those of the window while it has the focus."""
        if _is_override(event, _KEYS):
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or event.key() not in _KEYS:
            super().keyPressEvent(event)
            return
        work, key = self._workspace, self.track.key
        if event.key() in (Qt.Key.Key_S, Qt.Key.Key_M):
            work.turn_heard("soloed" if event.key() == Qt.Key.Key_S else "muted", key)
        elif event.key() == Qt.Key.Key_Return:
            self.toggle_lead()
        else:
            by, listening = (1 if event.key() == Qt.Key.Key_Right else -1), work.looks.listening
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self._set_pan(listening.pan(key) + 0.1 * by)
            else:
                self._set_level(listening.level_db(key) + by)

    def toggle_lead(self) -> None:
        """Make the track the last of the leads, or no lead."""
        work, track = self._workspace, self.track
        if isinstance(track, Part):
            return
        group = work.session.group_of(track.key)
        view = work.view_of(group)
        leads = group.leads if group.leads is not None else (view.leads if view else ())
        if track.key in leads:
            changed, word = tuple(key for key in leads if key != track.key), "is no lead"
        else:
            changed, word = (*leads, track.key), "is a lead"
        work.do(f"{track.name} {word}", edits.change_group(work.session, group.key, leads=changed))

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is None:
            return
        work, track = self._workspace, self.track
        group = work.session.group_of(track.key)
        menu = QMenu(self)
        if isinstance(track, Part):
            menu.addAction("Take out of the session", lambda: work.do(
                f"Take {track.name} out", edits.remove_part(work.session, track.key)))  # fmt: skip
            menu.exec(event.globalPos())
            return
        menu.addAction("First lead", lambda: self._rank_first(group))
        if group.leads is not None:
            menu.addAction("Let the program rank the leads", lambda: work.do(
                "Rank leads automatically", edits.change_group(work.session, group.key, leads=None)))  # fmt: skip
        menu.addSeparator()
        for other in work.session.groups:
            if other.key != group.key:
                menu.addAction(f"Move to {other.name}", lambda o=other: self._move(o.key))
        menu.addAction("Move to a group of its own", lambda: self._move(None))
        menu.addSeparator()
        menu.addAction("Take out of the session", lambda: work.do(
            f"Take {track.name} out", edits.remove_track(work.session, track.key)))  # fmt: skip
        menu.exec(event.globalPos())

    def _rank_first(self, group: Group) -> None:
        work = self._workspace
        view = work.view_of(group)
        leads = group.leads if group.leads is not None else (view.leads if view else ())
        ranked = (self.track.key, *(key for key in leads if key != self.track.key))
        work.do(f"{self.track.name} leads first", edits.change_group(work.session, group.key, leads=ranked))

    def _move(self, group_key: str | None) -> None:
        work = self._workspace
        try:
            work.do(f"Move {self.track.name}", edits.move_track(work.session, self.track.key, group_key))
        except SnareError as error:
            work.tell_problem(str(error))

    def _set_by_mouse(self, event: QMouseEvent) -> None:
        box = self._level_box()
        share = min(max((event.position().x() - box.left()) / box.width(), 0.0), 1.0)
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._set_pan(2.0 * share - 1.0)
        else:
            self._set_level(LOWEST_DB + share * (HIGHEST_DB - LOWEST_DB))

    def _set_level(self, level_db: float) -> None:
        levels_db = self._workspace.looks.listening.levels_db
        level_db = float(round(min(max(level_db, LOWEST_DB), HIGHEST_DB)))
        self._workspace.listen(levels_db=levels_db | {self.track.key: level_db})

    def _set_pan(self, pan: float) -> None:
        pan = round(min(max(pan, -1.0), 1.0), 1)  # in tenths, so that the middle is found again
        self._workspace.listen(pans=self._workspace.looks.listening.pans | {self.track.key: pan})


def pan_words(pan: float) -> str:
    """Where between left and right, in a few signs; nothing for the middle."""
    if not pan:
        return ""
    return f"◂{-100 * pan:.0f}" if pan < 0 else f"{100 * pan:.0f}▸"


class Cast(QScrollArea):
    """The left of the window."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._shown: tuple[object, ...] = ()
        self.rows: dict[str, TrackRow] = {}
        self.heads: list[GroupHead] = []
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedWidth(206)
        self.setAccessibleName("Cast")
        for signal in (workspace.stages_changed, workspace.looks_changed):
            signal.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the tracks as they are now; rows are rebuilt only when there are others."""
        work = self._workspace
        session = work.session
        ranks = _ranks(work)
        state = tuple((group.tracks, group.part, group.name) for group in session.groups)
        if state != self._shown:
            self._shown = state
            self._rebuild(session)
        for head in self.heads:
            head.update()
        for key, row in self.rows.items():
            parts = {part.key: part for part in session.parts}
            row.show_track(parts[key] if key in parts else session.track(key), ranks.get(key))

    def _rebuild(self, session: Session) -> None:
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(10, 4, 2, 8)
        layout.setSpacing(1)
        self.rows, self.heads = {}, []
        for group in session.groups:
            self.heads.append(GroupHead(self._workspace, group))
            layout.addWidget(self.heads[-1])
            for key in group.tracks:
                self.rows[key] = TrackRow(self._workspace, session.track(key), None)
            if group.part:
                self.rows[group.part] = TrackRow(self._workspace, session.part(group.part), None)
            for key in (*group.tracks, *filter(None, (group.part,))):
                layout.addWidget(self.rows[key])
        layout.addStretch(1)
        # One of the rows may be at work right now: it goes when it is done.
        if (before := self.takeWidget()) is not None:
            before.deleteLater()
        self.setWidget(body)


class GroupHead(QWidget):
    """Name of a group; a click, or Return, brings it onto the page."""

    def __init__(self, workspace: Workspace, group: Group) -> None:
        super().__init__()
        self._workspace = workspace
        self._group = group
        self.setFixedHeight(28)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"Group {group.name}")
        self.setToolTip("One group: an edit moves all its tracks. Click to bring it onto the page.")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        on_page = self._workspace.looks.group == self._group.key
        painter = QPainter(self)
        if self.hasFocus() or self.underMouse():
            painter.fillRect(self.rect(), theme.BRASS_PALE)
        painter.setPen(theme.INK)
        painter.setFont(theme.text_font(13, bold=on_page))
        painter.drawText(QRectF(6, 0, self.width() - 70, 28), Qt.AlignmentFlag.AlignVCenter, self._group.name)
        painter.setFont(theme.text_font(12))
        painter.setPen(theme.BRASS_TEXT if on_page else theme.INK_SOFT)
        box = QRectF(self.width() - 92, 0, 86, 28)
        flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(box, flags, "on the page" if on_page else "show")
        painter.setPen(QPen(theme.BRASS if on_page else theme.RULE, 2 if on_page else 1))
        painter.drawLine(6, 26, self.width() - 6, 26)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._show()

    def event(self, event: QEvent | None) -> bool:
        """Return goes before its meaning in the window while the head has the focus."""
        if _is_override(event, _SHOW_KEYS):
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in _SHOW_KEYS:
            self._show()
        else:
            super().keyPressEvent(event)

    def _show(self) -> None:
        self._workspace.look(group=self._group.key, selected_s=None)


def _is_override(event: QEvent | None, keys: Sequence[Qt.Key]) -> bool:
    """Whether a key that the window has a shortcut for is wanted here; takes it, if so."""
    if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and event.key() in keys:
        event.accept()
        return True
    return False


def _ranks(work: Workspace) -> dict[str, int]:
    """Rank of every lead of every group."""
    ranks: dict[str, int] = {}
    for group in work.session.groups:
        view = work.view_of(group)
        leads: Sequence[str] = view.leads if view is not None else group.leads or ()
        ranks |= {key: rank for rank, key in enumerate(leads)}
    return ranks
