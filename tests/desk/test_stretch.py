"""Stretching in the window: chosen on the card, shown on the page and in the loupe, heard as it is handed over."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from supple_snare.desk.cards.tighten import TightenCard
from supple_snare.desk.in_words import describe_stroke
from supple_snare.desk.stretch_tools import stretched_parts
from supple_snare.session.handover import plan_files, write_files
from supple_snare.sound.mixing import Mixer, MixTrack
from supple_snare.sound.stretch.ways import Method, Way
from tests.desk.conftest import settle, wait_until


@pytest.fixture
def tight(ready):
    """The small take in Tighten, its seams found."""
    ready.work.look(step="tighten")
    ready.work.when_cut(lambda: None)
    settle(ready)
    return ready


def card_of(window) -> TightenCard:
    """The card of the step."""
    card = window.cards["tighten"]
    assert isinstance(card, TightenCard)
    return card


def choose(box, value) -> None:
    """Choose an entry as a person does."""
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def fill_gap(window, stroke: int, way: Way) -> None:
    """Press the key until the gap before a stroke is filled that way."""
    work = window.work
    work.look(selected_s=float(work.view.strokes.time_s[stroke]))
    for _ in range(len(Way)):
        QTest.keyClick(window, Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
        if work.group.ways_given and work.group.ways_given[-1].way is way:
            break
    assert [given.way for given in work.group.ways_given] == [way]


def test_the_method_is_chosen_and_its_outcome_told(tight):
    """Automatic cuts drums; stretching tells how many gaps and how far; one step back and all is as before."""
    window, work, method = tight, tight.work, card_of(tight).method
    assert (work.method, method.method.currentText()) == (Method.AUTO, "Automatic")
    cut = work.seams.cut_of(work.group)
    assert not cut.edits.is_stretched.any() and np.all(cut.ratio == 1.0)
    choose(method.method, Method.STRETCH.value)
    settle(window)
    stretched = work.seams.cut_of(work.group)
    assert np.count_nonzero(stretched.ratio != 1.0) > 10
    assert "gaps are stretched" in method._told.text()
    method.most.setValue(1.0)
    assert work.group.stretch_limits == (0.75, 1.01)
    for _ in range(2):
        work.undo()
    settle(window)
    assert np.array_equal(work.seams.cut_of(work.group).edits.at, cut.edits.at)


def test_one_gap_is_stretched_seen_and_handed_over_as_heard(tight, tmp_path):
    """By a key, for one stroke; page and loupe show it, and the file holds what the mix plays."""
    window, work = tight, tight.work
    cut = work.seams.cut_of(work.group)
    long = np.diff(work.view.strokes.start_s, prepend=0.0) > 0.2
    stroke = int(np.flatnonzero(cut.has_seam & long)[2])
    fill_gap(window, stroke, Way.RINGING)
    settle(window)
    edits = work.seams.edits_of(work.group)
    rate_hz = work.session.rate_hz
    (part,) = stretched_parts(edits, rate_hz, 0.0, 1e9)
    assert part.end_s <= float(work.view.strokes.start_s[stroke] + work.view.plan.move_ms[stroke] / 1000.0)
    assert "before it" in describe_stroke(work, stroke)
    work.look(loupe=True)
    wait_until(lambda: window.loupe.is_loaded)
    while window.loupe.span_ms < 600.0:
        window.loupe.zoom(-1)
    wait_until(lambda: window.loupe.is_loaded)
    assert [each.ratio for each in window.loupe._stretched_seen()] == [part.ratio]
    window.grab()

    track = work.view.tracks[0]
    (target,) = write_files(plan_files([(track.recording, edits)], tmp_path / "out")).files
    written = soundfile.read(target, always_2d=True)[0]
    mixer = Mixer([MixTrack(track.recording, edits)], rate_hz)
    first, count = round((part.start_s - 0.1) * rate_hz), round((part.end_s - part.start_s + 0.2) * rate_hz)
    heard = mixer.block(first, count, tightened=True)[:, 0]
    mixer.close()
    assert np.abs(written[first : first + count, 0] - heard).max() < 2.0**-15


def test_an_anchor_is_set_and_taken_away_at_the_playhead(tight):
    """The same key both ways; what stands there stays."""
    window, work = tight, tight.work
    place_s = float(work.view.strokes.start_s[8]) + 0.09
    window.player.seek(place_s)
    QTest.keyClick(window, Qt.Key.Key_Q)
    assert len(work.group.anchors_s) == 1
    settle(window)
    window.grab()
    place = round(work.group.anchors_s[0] * work.session.rate_hz)
    assert int(work.seams.edits_of(work.group).source_of(place)) == place
    QTest.keyClick(window, Qt.Key.Key_Q)
    assert not work.group.anchors_s
