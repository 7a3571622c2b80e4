"""Hits: what each track holds and which of its attacks count; hits mended by hand."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QMenu, QToolButton, QVBoxLayout, QWidget

from supple_snare.desk import hit_tools, theme
from supple_snare.desk.cards.base import Card
from supple_snare.desk.controls import (
    button,
    choice,
    fill_choice,
    head,
    number,
    select_choice,
    show_number,
    soft,
    words,
)
from supple_snare.desk.in_words import describe_hit, describe_leads, describe_role
from supple_snare.desk.level_chart import change_rules, set_limit
from supple_snare.session.document import Ghosts, HitRules, Track
from supple_snare.session.edits import change_group, change_track, restore_hits, set_leads, set_rules
from supple_snare.session.stages import GroupView, section_leads
from supple_snare.sound.material import PRESETS, Material
from supple_snare.timing.hits import Hits, Kind

_LOWEST_DB = -66.0
_HIGHEST_HZ = 20_000.0
_LABEL_PX = 78
_ROW_PX = 28


class HitsCard(Card):
    """Which attacks count."""

    title = "Hits"

    def build(self) -> None:
        self.column.setSpacing(6)
        self._told = words()
        self.column.addWidget(self._told)
        self._body = QWidget()
        self._inside = QVBoxLayout(self._body)
        self._inside.setContentsMargins(0, 0, 0, 0)
        self._inside.setSpacing(self.column.spacing())
        self.column.addWidget(self._body)
        self.column.addStretch(1)
        rows = QGridLayout()
        rows.setHorizontalSpacing(6)
        rows.setVerticalSpacing(5)
        rows.setColumnMinimumWidth(0, _LABEL_PX)
        rows.setColumnStretch(1, 1)
        self._rows = rows
        self._track = self._combo("Track", "Whose hits are shown in the chart and mended on the page")
        self._track.currentIndexChanged.connect(self._choose_track)
        self._material = self._combo("Sound", "What the track holds: it sets how attacks are looked for")
        self._material.currentIndexChanged.connect(self._choose_material)
        self._drum = self._combo("Role", "The drum or player that this track hears; bleed is told by it")
        self._drum.currentIndexChanged.connect(self._choose_drum)
        self._facts = words()
        rows.addWidget(self._facts, rows.rowCount(), 0, 1, 2)
        self._source = QToolButton()
        self._source.setObjectName("plain")
        self._source.setFixedHeight(_ROW_PX)
        self._source.setStyleSheet("padding: 1px 9px; min-height: 0;")
        self._source.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._source.setToolTip("The tracks whose mix is listened to for its attacks; never heard in what is written")
        self._source_menu = QMenu(self._source)
        self._source_menu.aboutToShow.connect(self._fill_sources)
        self._source.setMenu(self._source_menu)
        self._row("Listens to", self._source)
        band = QHBoxLayout()
        band.setSpacing(4)
        self._low = number(
            0.0, _HIGHEST_HZ, "Lowest frequency that is listened to", unit=" Hz", lowest="from 0 Hz", step=10.0
        )
        self._high = number(
            0.0, _HIGHEST_HZ, "Highest frequency that is listened to", unit=" Hz", lowest="to the top", step=100.0
        )
        for box in (self._low, self._high):
            box.valueChanged.connect(self._change_band)
            band.addWidget(box)
        self._row("Band", band)
        self._scope = self._combo("Rules of", "The whole take, or one section that has rules of its own")
        self._scope.currentIndexChanged.connect(self._choose_scope)
        limit = QHBoxLayout()
        limit.setSpacing(4)
        self._limit = number(
            _LOWEST_DB - 0.5, 0.0, "Hits softer than this do not count", unit=" dB", lowest="automatic", step=0.5
        )
        self._limit.setDecimals(1)
        self._limit.valueChanged.connect(self._change_limit)
        self._auto = button("Automatic", "Leave it to the comparison of all tracks again")
        self._auto.clicked.connect(lambda: self._set_limit(None))
        self._auto.setFixedHeight(_ROW_PX)
        self._auto.setStyleSheet("padding: 1px 9px; min-height: 0;")
        limit.addWidget(self._limit, 1)
        limit.addWidget(self._auto)
        self._row("Level limit", limit)
        self._spacing = number(
            -1.0, 500.0, "Of two hits nearer the louder counts", unit=" ms", lowest="automatic", step=5
        )
        self._spacing.valueChanged.connect(self._change_spacing)
        self._row("Spacing", self._spacing)
        self._ghosts = self._combo("Ghost notes", "Hits 12 dB or more below the accents of this lead")
        for rule, text in (
            (Ghosts.TIMED, "timed like the others"),
            (Ghosts.CARRIED, "carried along"),
            (Ghosts.IGNORED, "ignored"),
        ):
            self._ghosts.addItem(text, rule)
        self._ghosts.currentIndexChanged.connect(self._change_ghosts)
        self._leads = self._combo("First lead", "Which lead decides first where several play together")
        self._leads.currentIndexChanged.connect(self._change_first_lead)
        self._together = number(5.0, 100.0, "Hits of different leads this near are one stroke", unit=" ms", step=5)
        self._together.valueChanged.connect(self._change_together)
        self._row("Together", self._together)
        self._inside.addLayout(rows)
        self._follow = button("As the whole take", "Drop the rules and ranks that this section has of its own")
        self._follow.clicked.connect(self._follow_take)
        self._inside.addWidget(self._follow)
        self._build_check()

    def _build_check(self) -> None:
        self._inside.addSpacing(8)
        self._inside.addWidget(head("Check and mend"))
        steps = QGridLayout()
        steps.setSpacing(5)
        for place, (text, hint, by, doubtful) in enumerate(
            (
                ("‹ Hit", "The hit before (P)", -1, False),
                ("Hit ›", "The next hit (N)", 1, False),
                ("‹ Doubt", "The doubtful hit before (Shift+D)", -1, True),
                ("Doubt ›", "The next doubtful hit of any lead (D)", 1, True),
            )
        ):
            push = button(text, hint)
            push.setStyleSheet("padding: 4px 2px;")
            push.clicked.connect(lambda _on, b=by, d=doubtful: self.work.hit_wanted.emit(b, d))
            steps.addWidget(push, 0, place)
        self._inside.addLayout(steps)
        self._hear = QCheckBox("Hear each in a short loop")
        self._hear.setToolTip("Going to a hit plays it over and over; Space stops (Shift+Space)")
        self._hear.toggled.connect(lambda on: self.work.look(hearing=on))
        self._inside.addWidget(self._hear)
        self._hit = words()
        self._inside.addWidget(self._hit)
        mend = QGridLayout()
        mend.setSpacing(5)
        self._remove = button("Remove", "Take the chosen hit, or all of this track in the range, away (Delete)")
        self._remove.clicked.connect(lambda: hit_tools.remove_hits(self.work))
        self._promote = button("Count it", "Count the chosen bleed, or all in the range, as played (Return)")
        self._promote.clicked.connect(lambda: hit_tools.promote_hits(self.work))
        self._restore = button("As found", "Bring the chosen hit, or the range on all tracks, back as found (R)")
        self._restore.clicked.connect(lambda: hit_tools.restore_hits(self.work))
        for place, push in enumerate((self._remove, self._promote, self._restore)):
            mend.addWidget(push, 0, place)
        self._inside.addLayout(mend)
        alike = QHBoxLayout()
        alike.setSpacing(5)
        self._remove_alike = button("", "Take the chosen hit away, and all that sound like it: ringed in the chart")
        self._remove_alike.clicked.connect(lambda: hit_tools.remove_alike(self.work))
        self._promote_alike = button("", "Count the chosen bleed as played, and all that sounds like it")
        self._promote_alike.clicked.connect(lambda: hit_tools.promote_alike(self.work))
        for push in (self._remove_alike, self._promote_alike):
            alike.addWidget(push)
        self._inside.addLayout(alike)
        landing = QHBoxLayout()
        self._landing_words = soft("Lands after its start by")
        landing.addWidget(self._landing_words)
        self._landing = number(0.0, 200.0, "Where inside the attack it should meet the grid", unit=" ms", step=1.0)
        self._landing.setDecimals(1)
        self._landing.valueChanged.connect(self._change_landing)
        landing.addWidget(self._landing)
        self._inside.addLayout(landing)
        self._forget = button("Forget all corrections of this track", "All that was mended by hand")
        self._forget.clicked.connect(self._forget_all)
        self._inside.addWidget(self._forget)

    def _row(self, name: str, what: object) -> None:
        row = self._rows.rowCount()
        self._rows.addWidget(soft(name), row, 0)
        if isinstance(what, QHBoxLayout):
            self._rows.addLayout(what, row, 1)
        else:
            self._rows.addWidget(what, row, 1)  # type: ignore[call-overload]

    def _combo(self, name: str, hint: str) -> QComboBox:
        box = choice(hint)
        box.setFixedHeight(_ROW_PX)
        self._row(name, box)
        return box

    # ---- what is shown

    @property
    def _key(self) -> str | None:
        if self.work.view is not None:
            return hit_tools.chosen_track(self.work)
        shown = self._track.currentData()  # while it is listened to anew
        return shown if any(track.key == shown for track in self.work.session.tracks) else None

    @property
    def _section(self) -> str | None:
        """Key of the section whose rules are shown, None for the take's."""
        return self._scope.currentData()

    def _rules(self, track: Track) -> HitRules:
        return track.rules if self._section is None else track.rules_in(self._section)

    def refresh(self) -> None:
        view, key = self.work.view, self._key
        self._body.setVisible(key is not None)
        self._told.setVisible(view is None or key is None)
        if view is None or key is None:
            self._told.setText(self._why_nothing(view))
            return
        track, hits = self.work.session.track(key), view.hits[key]
        names = {other.key: other.name for other in self.work.session.tracks}
        order = [*view.columns, *(other.key for other in view.tracks if other.key not in view.columns)]
        ranks = {lead: f" · lead {number}" for number, lead in enumerate(view.leads, 1)}
        fill_choice(self._track, [(names[other] + ranks.get(other, ""), other) for other in order], key)
        guess = [(f"heard: {view.materials[key]}", None)] if track.material is None else [("as it is heard", None)]
        fill_choice(self._material, [*guess, *((str(material), material) for material in Material)], track.material)
        self._show_roles(track, [other for other in view.tracks if other.key != key])
        self._source.setText(" + ".join(names[other] for other in track.listens_to) or "this track")
        low, high = track.band_hz or _natural_hz(view, key)
        show_number(self._low, low)
        show_number(self._high, 0.0 if high == _HIGHEST_HZ else high)
        sections = [(section.name, section.key) for section in self.work.session.sections]
        fill_choice(self._scope, [("the whole take", None), *sections], self._section)
        self._show_rules(view, track)
        self._facts.setText(f"{describe_role(self.work, key)} {_facts(track, hits)}")
        self._show_hit(view)
        self._forget.setEnabled(track.is_corrected)

    def _show_roles(self, track: Track, others: list[Track]) -> None:
        """The list of roles: as told by the sound, or one given by hand."""
        given = [("has a drum of its own", track.key), ("nothing is played into it", "")]
        given += [(f"hears the drum of {other.name}", other.key) for other in others]
        fill_choice(self._drum, [("as it is heard", None), *given], track.drum)
        self._drum.setEnabled(bool(others))

    def _why_nothing(self, view: GroupView | None) -> str:
        if view is not None and view.part is not None:
            return (
                f"A MIDI part: its {len(view.part.notes)} notes are known as they are. Those that begin together "
                f"are one stroke, {len(view.strokes)} in all."
            )
        return "Listening to the recordings …" if self.work.session.tracks else "No recordings yet."

    def _show_rules(self, view: GroupView, track: Track) -> None:
        rules, section, group = self._rules(track), self._section, view.group
        show_number(self._limit, self._limit.minimum() if rules.level_limit_db is None else rules.level_limit_db)
        self._auto.setEnabled(rules.level_limit_db is not None)
        show_number(self._spacing, -1.0 if rules.spacing_ms is None else rules.spacing_ms)
        select_choice(self._ghosts, rules.ghosts)
        leads = view.leads if section is None else section_leads(group, view.leads, section)
        names = [(self.work.session.track(key).name, key) for key in leads]
        fill_choice(self._leads, names, leads[0] if leads else None)
        show_number(self._together, group.together_ms)
        own = any(other.section == section for other in track.section_rules)
        own_leads = any(other.section == section for other in group.section_leads)
        self._follow.setVisible(section is not None)
        self._follow.setEnabled(own or own_leads)

    def _show_hit(self, view: GroupView) -> None:
        chosen = hit_tools.chosen_hit(self.work)
        self._hear.blockSignals(True)
        self._hear.setChecked(self.work.looks.hearing)
        self._hear.blockSignals(False)
        some = chosen is not None or self.work.looks.range_s is not None
        for push in (self._remove, self._promote, self._restore):
            push.setEnabled(some or (push is self._restore and self.work.looks.hit is not None))
        self._landing.setEnabled(chosen is not None)
        self._show_alike(view, chosen)
        if chosen is None:
            doubtful = sum(len(hit_tools.doubtful_s(self.work, key)) for key in view.columns)
            self._hit.setText(
                "Range chosen: the buttons work on all of this track in it."
                if self.work.looks.range_s is not None
                else f"{theme.counted(doubtful, 'doubtful hit')}. Click a mark to choose it, "
                "double-click adds one (Shift: just there)."
            )
            show_number(self._landing, 0.0)
            return
        key, index = chosen
        text = describe_hit(self.work, key, index)
        stroke = self.work.selected
        if stroke is not None:
            leads = describe_leads(self.work, stroke)
            text += f". {leads}." if leads else "."
        self._hit.setText(text)
        hits = view.hits[key]
        show_number(self._landing, 1000.0 * float(hits.landing_s[index] - hits.time_s[index]))

    def _show_alike(self, view: GroupView, chosen: tuple[str, int] | None) -> None:
        """How many hits sound like the chosen one, and which of them may be removed or counted."""
        played, bleed = 0, 0
        if chosen is not None:
            hits = view.hits[chosen[0]]
            like = np.isin(hits.time_s, hit_tools.alike_to_chosen_s(self.work))
            played, bleed = (int(np.count_nonzero(like & (hits.kind != kind))) for kind in (Kind.BLEED, Kind.PLAYED))
        for push, word, count in ((self._remove_alike, "Remove", played), (self._promote_alike, "Count", bleed)):
            push.setText(f"{word} with {count} alike" if count else f"{word} all alike")
            push.setEnabled(count > 0)

    # ---- what is changed

    def _choose_track(self) -> None:
        self.work.look(track=self._track.currentData() or "", hit=None)

    def _choose_material(self) -> None:
        if (key := self._key) is not None:
            name = self.work.session.track(key).name
            self.work.do(
                f"Sound of {name}", change_track(self.work.session, key, material=self._material.currentData())
            )

    def _choose_drum(self) -> None:
        if (key := self._key) is not None:
            name = self.work.session.track(key).name
            self.work.do(f"Role of {name}", change_track(self.work.session, key, drum=self._drum.currentData()))

    def _fill_sources(self) -> None:
        key = self._key
        self._source_menu.clear()
        if key is None:
            return
        session = self.work.session
        track = session.track(key)
        heard = track.listens_to or (key,)
        for other in session.tracks:
            action = self._source_menu.addAction(other.name)
            assert action is not None
            action.setCheckable(True)
            action.setChecked(other.key in heard)
            action.triggered.connect(lambda _on, k=other.key: self._toggle_source(k))

    def _toggle_source(self, other: str) -> None:
        key = self._key
        assert key is not None
        session = self.work.session
        track = session.track(key)
        heard = track.listens_to or (key,)
        changed = tuple(k for k in heard if k != other) if other in heard else (*heard, other)
        ordered = tuple(track.key for track in session.tracks if track.key in changed)
        listens_to = () if ordered in ((key,), ()) else ordered
        self.work.do(f"What {track.name} listens to", change_track(session, key, listens_to=listens_to))

    def _change_band(self) -> None:
        if (key := self._key) is None or (view := self.work.view) is None:
            return
        low, high = self._low.value(), self._high.value() or _HIGHEST_HZ
        if high <= low:
            self.work.tell_problem("The upper edge of the band must lie above the lower one.")
            self.refresh()
            return
        band = None if (low, high) == _natural_hz(view, key) else (low, high)
        name = self.work.session.track(key).name
        self.work.do(f"Band of {name}", change_track(self.work.session, key, band_hz=band))

    def _choose_scope(self) -> None:
        self.refresh()

    def _set_limit(self, level_db: float | None) -> None:
        if (key := self._key) is not None:
            set_limit(self.work, key, self._section, level_db)

    def _change_limit(self, value: float) -> None:
        self._set_limit(None if value <= self._limit.minimum() else value)

    def _change_spacing(self, value: float) -> None:
        if (key := self._key) is not None:
            change_rules(self.work, key, self._section, "Spacing", spacing_ms=None if value < 0.0 else value)

    def _change_ghosts(self) -> None:
        if (key := self._key) is not None:
            change_rules(self.work, key, self._section, "Ghost notes", ghosts=self._ghosts.currentData())

    def _change_first_lead(self) -> None:
        view = self.work.view
        first = self._leads.currentData()
        if view is None or first is None:
            return
        leads = view.leads if self._section is None else section_leads(view.group, view.leads, self._section)
        ranked = (first, *(key for key in leads if key != first))
        changed = set_leads(self.work.session, view.group.key, ranked, section=self._section)
        self.work.do(f"{self.work.session.track(first).name} leads first", changed)

    def _change_together(self, value: float) -> None:
        if (group := self.work.group) is not None:
            self.work.do("Together window", change_group(self.work.session, group.key, together_ms=value))

    def _follow_take(self) -> None:
        view, key, section = self.work.view, self._key, self._section
        if view is None or key is None or section is None:
            return
        session = set_rules(self.work.session, key, None, section=section)
        self.work.do("Section as the whole take", set_leads(session, view.group.key, None, section=section))

    def _change_landing(self, value: float) -> None:
        chosen = hit_tools.chosen_hit(self.work)
        if chosen is not None and self.work.view is not None:
            start_s = float(self.work.view.hits[chosen[0]].time_s[chosen[1]])
            hit_tools.land_hit(self.work, start_s + value / 1000.0)

    def _forget_all(self) -> None:
        if (key := self._key) is not None:
            changed = restore_hits(self.work.session, [key], -1.0, self.work.session.length_s + 1.0)
            self.work.do(f"Forget corrections of {self.work.session.track(key).name}", changed)


def _natural_hz(view: GroupView, key: str) -> tuple[float, float]:
    """The band in which a track is listened to while none is set by hand."""
    return PRESETS[view.materials[key]].band_hz or (0.0, _HIGHEST_HZ)


def _facts(track: Track, hits: Hits) -> str:
    """What was found on a track, in a sentence or two."""
    counts = {kind: int(np.count_nonzero(hits.kind == kind)) for kind in Kind}
    if not counts[Kind.PLAYED]:
        return "No clear attacks found: lower the level limit, or let it listen to another track."
    ghosts = int(np.count_nonzero(hits.ghost))
    parts = [f"{counts[Kind.PLAYED]} played" + (f" ({theme.counted(ghosts, 'ghost note')})" if ghosts else "")]
    parts += [f"{counts[Kind.GRACE]} grace"] if counts[Kind.GRACE] else []
    parts += [f"{counts[Kind.ROLL]} inside rolls"] if counts[Kind.ROLL] else []
    text = ", ".join([*parts, f"{counts[Kind.BLEED]} bleed"]) + "."
    by_hand = [
        f"{len(facts)} {word}"
        for facts, word in ((track.added_s, "added"), (track.moved, "moved"), (track.removed_s, "removed"))
        if facts
    ]
    return f"{text} By hand: {', '.join(by_hand)}." if by_hand else text
