"""What is to be heard, made from the state of the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from supple_snare.desk.hit_tools import chosen_track
from supple_snare.desk.workspace import Workspace
from supple_snare.session.document import Group, Part, Session, Track
from supple_snare.session.listening import Listening
from supple_snare.session.stages import GroupView, change_of_part
from supple_snare.sound.editlist import EditList
from supple_snare.sound.mixing import Click, MixTrack
from supple_snare.sound.playback import Programme
from supple_snare.sound.taps import Taps, TapTrack
from supple_snare.timing.groove import Groove, groove_moments
from supple_snare.timing.hits import Kind
from supple_snare.timing.notes import velocity_to_db
from supple_snare.timing.units import FloatArray, db_to_amplitude, ms_to_s

_HEAR_BEFORE_S, _HEAR_AFTER_S = 0.25, 0.45
"""The short loop around a chosen hit."""

_PART_GAIN = 0.16
"""A part of chords should lie under the recordings, not over them."""

_TAP_DB = -8.0
_BEATS_AFTER = 2.0
"""How far the loop around a stroke goes on after it."""

_MOST_KEPT = 32


class Programmes:
    """Makes programmes; tones that stay the same are kept, so that the player sees that nothing changed."""

    def __init__(self, workspace: Workspace) -> None:
        self._work = workspace
        self._kept: dict[tuple[object, ...], TapTrack] = {}

    def now(self) -> Programme:
        """The programme of this moment."""
        work = self._work
        session, looks, rate = work.session, work.looks, work.session.rate_hz
        return Programme(
            tracks=self._tracks(),
            rate_hz=rate,
            frames=round(session.length_s * rate),
            click=click_of(session, looks.listening) if looks.clicking else None,
            taps=self._taps(),
            lead_edits=work.seams.edits_of(work.group) if work.group else EditList.identity(),
            tightened=looks.tightened,
            loop=self._loop(),
            in_turn=looks.in_turn and (looks.around_s is not None or looks.looping),
            mono=bool(looks.listening.mono),
            half_speed=looks.half_speed,
        )

    def _loop(self) -> tuple[int, int] | None:
        work, looks = self._work, self._work.looks
        rate, grid = work.session.rate_hz, work.session.grid
        if looks.around_s is not None:
            place = round(looks.around_s * rate)
            if looks.tightened and work.group is not None:
                place = int(work.seams.edits_of(work.group).result_of(place))
            before, after = _HEAR_BEFORE_S, _HEAR_AFTER_S
            if looks.around_beats:
                beat_s = 60.0 / float(grid.tempo_at(looks.around_s))
                before, after = looks.around_beats * beat_s, _BEATS_AFTER * beat_s
            return max(0, place - round(before * rate)), place + round(after * rate)
        if looks.looping and looks.loop_bars is not None:
            first, last = looks.loop_bars
            return round(float(grid.bar_time_s(first)) * rate), round(float(grid.bar_time_s(last + 1)) * rate)
        return None

    def _hears(self, key: str) -> bool:
        """Whether a track or part is heard: as set in this step, or because the mono check is of it and another."""
        looks = self._work.looks
        if looks.listening.mono == "two":
            return key in looks.listening.two
        return looks.heard.hears(key)

    def _tracks(self) -> tuple[MixTrack, ...]:
        work = self._work
        tapped, tracks = work.feel_tapped is not None, []
        for group in work.session.groups:
            for track in work.session.tracks_of(group):
                if work.hearing.is_good(track.recording.path):
                    mixed = mix_track(work, group, track)
                    heard = not tapped and self._hears(track.key)
                    tracks.append(mixed if heard else replace(mixed, gain=0.0))
        return tuple(tracks)

    def _taps(self) -> tuple[TapTrack, ...]:
        """Tones in place of the recordings while a feel is tapped, else the MIDI parts; and strokes, if wished."""
        session, feel = self._work.session, self._work.feel_tapped
        if feel is not None:
            depends = (feel.groove, session.grid, session.length_s)
            return (self._keep(depends, lambda: _feel_taps(feel.groove, session)),)
        found = [self._stroke_taps()] if self._work.looks.tapping_strokes and self._work.view is not None else []
        for part in session.parts:
            view = self._work.view_of(session.group_of(part.key))
            if view is not None and self._hears(part.key):
                found.append(self._part_taps(session, part, view))
        return tuple(found)

    def _part_taps(self, session: Session, part: Part, view: GroupView) -> TapTrack:
        listening = self._work.looks.listening
        gain, pan = _PART_GAIN * db_to_amplitude(listening.level_db(part.key)), listening.pan(part.key)
        depends = (view.plan, part, view.group.aim, session.grid, gain, pan)
        return self._keep(depends, lambda: replace(_part_taps(session, view), gain=gain, pan=pan))

    def _stroke_taps(self) -> TapTrack:
        """A tap where the program takes each stroke of the page to begin, or each hit of the track being mended."""
        work, view = self._work, self._work.view
        assert view is not None
        rate = work.session.rate_hz
        if work.looks.step == "hits" and (key := chosen_track(work)) in view.hits:
            hits = view.hits[key]
            return self._keep((hits, rate), lambda: _taps_at(hits.time_s[hits.kind != Kind.BLEED], rate))
        strokes, plan = view.strokes, view.plan

        def both() -> TapTrack:
            tightened_s = strokes.time_s + ms_to_s(plan.move_ms)
            return TapTrack(_taps_at(strokes.time_s, rate).played, _taps_at(tightened_s, rate).played)

        return self._keep((strokes, plan, rate), both)

    def _keep(self, depends: tuple[object, ...], make: Callable[[], TapTrack]) -> TapTrack:
        if depends not in self._kept:
            if len(self._kept) >= _MOST_KEPT:
                self._kept.clear()
            self._kept[depends] = make()
        return self._kept[depends]


def mix_track(work: Workspace, group: Group, track: Track) -> MixTrack:
    """A track as it is listened to: its edits, level and pan."""
    listening = work.looks.listening
    gain = db_to_amplitude(listening.level_db(track.key))
    return MixTrack(track.recording, work.seams.edits_of(group), gain, listening.pan(track.key))


def click_of(session: Session, listening: Listening) -> Click:
    """The click as it is set."""
    return Click(session.grid, listening.click_db, listening.click_pan, listening.click_slots)


def _taps_at(time_s: FloatArray, rate_hz: int) -> TapTrack:
    taps = Taps.of_moments(np.sort(time_s), np.full(len(time_s), _TAP_DB), rate_hz)
    return TapTrack(taps, taps)


def _feel_taps(groove: Groove, session: Session) -> TapTrack:
    time_s, accent_db = groove_moments(groove, session.grid, 0.0, session.length_s)
    taps = Taps.of_moments(time_s, np.clip(accent_db, -18.0, 6.0) + _TAP_DB, session.rate_hz)
    return TapTrack(taps, taps)


def _part_taps(session: Session, view: GroupView) -> TapTrack:
    """The notes of a MIDI part as played and as they will be."""
    assert view.part is not None
    notes, change, rate = view.part.notes, change_of_part(session, view), session.rate_hz
    played = Taps.of_notes(notes.time_s, notes.end_s, velocity_to_db(notes.velocity), notes.pitch, rate)
    changed = Taps.of_notes(change.time_s, change.end_s, velocity_to_db(change.velocity), notes.pitch, rate)
    return TapTrack(played, changed)
