"""What the Grid step says where something cannot be done, and that nothing is changed then."""

from __future__ import annotations

import mido
import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from supple_snare.desk.cards.grid import GridCard
from supple_snare.session.document import Session
from supple_snare.session.grid_edits import with_grid
from supple_snare.timing.course import PlayedBeats
from supple_snare.timing.grid import Grid
from tests.desk.gestures import drag


@pytest.fixture
def grid(ready):
    """The window at its Grid step."""
    ready.work.look(step="grid")
    return ready


def card_of(window) -> GridCard:
    """The card of the step."""
    card = window.cards["grid"]
    assert isinstance(card, GridCard)
    return card


def bend_a_steady_tempo(window) -> None:
    """Pull the curve of a grid that has none."""
    chart = window.tempo
    at = QPointF(float(chart._x(5.0)), float(chart._y(110.0)))
    drag(chart, at, at - QPointF(0, 30))


REFUSED = {
    "first beat": (lambda w: card_of(w)._first_beat_here(), "Select a stroke"),
    "range": (lambda w: card_of(w)._span(), "Drag over the page"),
    "reading": (lambda w: QTest.keyClick(w, Qt.Key.Key_BracketRight), "Find the tempo first"),
    "move": (lambda w: QTest.keyClick(w, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier), "Select a stroke"),
    "lock": (lambda w: QTest.keyClick(w, Qt.Key.Key_G), "Select a stroke"),
    "free": (lambda w: QTest.keyClick(w, Qt.Key.Key_G, Qt.KeyboardModifier.ShiftModifier), "Select a stroke"),
    "bend": (bend_a_steady_tempo, "no curve to bend"),
    "tempo": (lambda w: [card_of(w)._do("x", with_scaled, 8.0)], "makes no sense"),
}


def with_scaled(session: Session, factor: float) -> Session:
    """A tempo out of all bounds."""
    return with_grid(session, Grid(session.grid.tempo_bpm * factor))


@pytest.mark.parametrize("deed", REFUSED)
def test_what_cannot_be_done_is_told_and_changes_nothing(grid, deed):
    """One sentence in the message bar, the session as it was."""
    act, words = REFUSED[deed]
    before = grid.work.session
    act(grid)
    assert words in grid.message.text
    assert grid.work.session == before
    assert not grid.work.looks.range_s


def test_a_tempo_track_is_taken_or_refused(grid, tmp_path):
    """A file of two tempos lays both; one without a tempo is named and leaves the grid alone."""
    file, track = mido.MidiFile(ticks_per_beat=480), mido.MidiTrack()
    file.tracks.append(track)
    file.save(tmp_path / "silent.mid")
    before = grid.work.session
    card_of(grid).take_midi(tmp_path / "silent.mid")
    assert "silent.mid" in grid.message.text
    assert grid.work.session == before
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(100)))
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(125), time=8 * 480))
    file.save(tmp_path / "two.mid")
    card_of(grid).take_midi(tmp_path / "two.mid")
    tempo = grid.work.session.grid.tempo_at([2.0, 12.0])
    assert tempo == pytest.approx([100.0, 125.0], abs=0.01)
    grid.work.undo()
    assert grid.work.session == before


def test_a_typed_or_tapped_tempo_takes_the_place_of_followed_beats(grid):
    """Bar 1 stays where it was; pins and beats go, one undo brings both back."""
    beats = PlayedBeats(tuple(0.5 + 0.545 * np.arange(34)))
    grid.work.do("Follow", with_grid(grid.work.session, Grid(110.0, 0.5, played=beats)))
    before = grid.work.session
    first_s = float(before.grid.bar_time_s(1))
    card_of(grid)._type_tempo(96.0)
    now = grid.work.session.take_grid
    assert (now.tempo_bpm, now.played, now.pins) == (96.0, None, ())
    assert float(now.bar_time_s(1)) == pytest.approx(first_s)
    grid.work.undo()
    assert grid.work.session == before


def test_the_tempo_chart_leads_to_a_place_on_the_page(grid):
    """A click goes there, and its range covers the tempo it draws."""
    chart = grid.tempo
    drag(chart, QPointF(float(chart._x(6.0)), 80.0), QPointF(float(chart._x(6.0)), 80.0), steps=1)
    assert grid.player.position_s == pytest.approx(6.0, abs=0.05)
    low, high = chart._tempos()
    assert low < grid.work.session.grid.tempo_bpm < high
    assert float(chart._y(high)) < float(chart._y(low))
