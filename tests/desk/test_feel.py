"""The Feel step, the groove library, the aims of Tighten, and MIDI parts, in the real window."""

from __future__ import annotations

import mido
import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtWidgets import QInputDialog, QLabel

from supple_snare.desk.cards.feel import FeelCard
from supple_snare.desk.cards.handover import HandOverCard
from supple_snare.desk.cards.tighten import TightenCard
from supple_snare.desk.feel_picture import FeelLayout, dots_from_grid
from supple_snare.desk.groove_library import GrooveLibrary, show_library
from supple_snare.desk.in_words import describe_stroke
from supple_snare.desk.level_chart import set_limit
from supple_snare.exchange.groove_files import read_groove, write_groove
from supple_snare.exchange.midi import read_notes
from supple_snare.session.edits import change_group, remove_part, set_aim
from supple_snare.session.feels import FeelOf
from supple_snare.session.section_edits import split_section
from supple_snare.timing.aim import Aim, AimAt, Unpaired
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.groove import Groove, GrooveSlot
from supple_snare.timing.tighten import Response
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, mouse, pick

LAID_BACK = Groove("Laid back", 4.0, tuple(GrooveSlot(n / 2, 0.02, 11.0, count=4) for n in range(8)), 109.0)


@pytest.fixture
def feel(ready):
    """The window in the Feel step, and its card."""
    ready.work.look(step="feel")
    settle(ready)
    card = ready.cards["feel"]
    assert isinstance(card, FeelCard)
    return ready, card


@pytest.fixture
def library(ready):
    """The library, holding one groove."""
    library = show_library(ready.work, ready)
    library.keep(LAID_BACK)
    return library


def write_chords(path, *, late_ms=0.0, scatter_ms=9.0):
    """A part of three-note chords on the eighths of the small take's grid."""
    rng = np.random.default_rng(4)
    track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(110)), mido.Message("control_change")])
    events = []
    for number in range(32):
        at = 0.5 + number * 30 / 110 + (late_ms + rng.normal(0, scatter_ms)) / 1000
        for tone in (60, 64, 67):
            start = round((at + abs(rng.normal(0, 0.003))) * 960 * 110 / 60)
            events += [
                (start, mido.Message("note_on", note=tone, velocity=70)),
                (start + 200, mido.Message("note_off", note=tone)),
            ]
    now = 0
    for tick, message in sorted(events, key=lambda event: event[0]):
        track.append(message.copy(time=tick - now))
        now = tick
    mido.MidiFile(ticks_per_beat=960, tracks=[track]).save(path)
    return path


def test_the_feel_step_shows_columns_and_lays_another_feel_over_them(feel):
    """Whose feel, over what it repeats, and how alike two of them are."""
    window, card = feel
    work = window.work
    assert window.feel.isVisible()
    assert not window.chart.isVisible()
    first, second = work.feels()
    assert first is not None
    assert second is None
    assert len(first.offset_ms) == np.count_nonzero(work.view.offsets.placed)
    lead = work.view.columns[0]
    pick(card.beside, FeelOf("lead", lead))
    assert work.feels()[1].name == work.session.name_of(lead)
    assert any("alike" in label.text() for label in card.findChildren(QLabel))
    pick(card.of, FeelOf("lead", lead))
    assert work.looks.feel_beside is None
    pick(card.cycle, Cycle(2))
    assert work.group.feel.cycle == Cycle(2)
    assert work.feels()[0].groove.cycle_beats == 8.0
    card.by_lead.click()
    assert work.group.feel.by_lead
    work.undo()
    work.undo()
    assert work.group.feel.cycle is None


def test_a_section_and_a_selection_have_feels_of_their_own(feel):
    """Only their strokes are drawn; without a selection the picture says what to do."""
    window, card = feel
    work = window.work
    work.do("Split", split_section(work.session, float(work.session.grid.bar_time_s(5))))
    settle(window)
    second = work.session.sections[1]
    pick(card.of, FeelOf("section", second.key))
    assert work.feels()[0].time_s.min() > second.start_s - 0.05
    work.undo()
    assert work.feels()[0] is None
    assert "no longer" in work.why_no_feel
    window.grab()
    work.redo()
    work.look(range_s=(0.4, 5.0))
    pick(card.of, FeelOf("range"))
    assert work.feels()[0].time_s.max() < 5.0
    work.look(range_s=None)
    assert work.feels()[0] is None
    assert "range" in work.why_no_feel


def test_a_dot_is_a_stroke(feel):
    """Clicked, it is selected everywhere."""
    window, _ = feel
    columns = window.feel.picture
    first = window.work.feels()[0]
    layout = columns._layout()
    assert isinstance(layout, FeelLayout)
    index = int(np.argmax(dots_from_grid(first)))
    at = QPointF(float(layout.x(first.place_beats[index])), float(layout.y(dots_from_grid(first)[index])))
    mouse(columns, QEvent.Type.MouseButtonPress, at)
    assert window.work.looks.selected_s == pytest.approx(float(first.time_s[index]))


def test_a_feel_is_kept_under_a_name_and_read_again(feel, monkeypatch):
    """It is in the library, can be laid over, and is a file that others read."""
    window, card = feel
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("Boathouse", True))
    before = len(window.work.grooves())
    next(push for push in card.findChildren(type(card.tap)) if push.text().startswith("Keep")).click()
    assert len(window.work.grooves()) == before + 1
    path, groove = next((path, groove) for path, groove in window.work.grooves() if groove.name == "Boathouse")
    assert read_groove(path) == groove
    pick(card.beside, FeelOf("groove", str(path)))
    assert window.work.feels()[1].groove == groove
    pick(card.of, FeelOf("groove", str(path)))
    assert window.work.feels()[0].groove == groove
    assert window.work.looks.feel_beside is None


def test_a_feel_is_heard_as_taps_in_place_of_the_recordings(feel):
    """Y taps it, Y again brings the band back; taps stand where the feel puts them."""
    window, card = feel
    card.tap.click()
    assert window.work.looks.tapping == "first"
    programme = window._programmes.now()
    assert all(track.gain == 0.0 for track in programme.tracks)
    taps = programme.taps[0].played
    feel_ms = window.work.feels()[0].groove.feel_ms
    lines_s = window.work.session.grid.slots(0.0, 20.0).time_s
    apart = 1000 * np.abs((taps.at[:, None] / 48_000) - lines_s[None, :]).min(axis=1)
    assert apart.max() <= np.abs(feel_ms).max() + 0.1
    window.player.play()
    wait_until(lambda: len(window.player.output.sound()) > 48_000)
    assert np.abs(window.player.output.sound()).max() > 0.05
    window.player.stop()
    window._tap_feel("first")
    assert not window._programmes.now().taps
    assert window._programmes.now().tracks[0].gain > 0.0


# ---- library


def test_the_library_shows_shipped_grooves_that_cannot_be_changed(ready):
    """They have pictures and can be copied; the tools wait for a copy."""
    library = show_library(ready.work, ready)
    assert show_library(ready.work, ready) is library
    names = [library._list.item(row).text() for row in range(library._list.count())]
    assert sum("Lantern Quay" in name for name in names) >= 3
    assert not library._list.item(0).icon().isNull()
    assert not library._tools.isEnabled()
    library.close()


def test_a_column_is_dragged_and_taken_back(library):
    """The slot moves to the pointer, the file with it; Ctrl+Z brings the old one."""
    columns, before = library.columns, library.groove
    layout = columns._layout()
    start = QPointF(float(layout.x(1.0)), float(layout.y(before.feel_ms[2])))
    drag(columns, start, QPointF(start.x(), float(layout.y(-8.0))))
    assert library.groove.offset_ms[2] == pytest.approx(-8.0, abs=0.6)
    assert np.delete(library.groove.offset_ms, 2) == pytest.approx(np.delete(before.offset_ms, 2))
    assert read_groove(library._kept.path) == library.groove
    library.undo()
    assert library.groove == before


def test_the_tools_change_the_chosen_groove(library, tmp_path):
    """Centred, scaled, thinned, renamed, with other accents, deleted, brought back."""
    library.centre()
    assert library.groove.mean_ms == pytest.approx(0.0)
    library.undo()
    library.share.setValue(200)
    library.scale()
    assert library.groove.offset_ms[0] == pytest.approx(22.0)
    library.least.setValue(9)
    library.thin()
    assert "9 strokes" in library._hint.text()
    library.name.setText("Far back")
    library.name.editingFinished.emit()
    assert library.groove.name == "Far back"
    loud = tuple(GrooveSlot(float(n), 0.0, 0.0, accent_db=6.0 * (n == 1)) for n in range(4))
    library.take_accents(Groove("Loud", 4.0, loud))
    assert library.groove.accent_db[2] == 6.0
    count = len(library._shown)
    library._remove()
    assert len(library._shown) == count - 1
    library.undo()
    assert library.groove.name == "Far back"


def test_files_are_loaded_and_what_is_none_is_told(library, tmp_path):
    """A MIDI file of notes is a groove too; a text is not, and says so in one sentence."""
    write_groove(tmp_path / "shuffle.mid", LAID_BACK)
    (tmp_path / "letter.groove.json").write_text("Dear band,")
    told = []
    library._work.told.connect(lambda text, problem: told.append((text, problem)))
    library.load([tmp_path / "shuffle.mid", tmp_path / "letter.groove.json"])
    assert library.groove.offset_beats == pytest.approx(LAID_BACK.offset_beats)
    assert len(told) == 1
    assert "letter.groove.json" in told[0][0]


def test_a_groove_becomes_the_aim(library, ready):
    """One button, one step of undo; at full strength every stroke goes to where the groove has it."""
    work = ready.work
    work.do("All", change_group(work.session, work.group.key, response=Response(strength=1.0)))
    library.use()
    assert work.looks.step == "tighten"
    assert work.group.aim.groove == LAID_BACK
    after = work.view.offsets.offset_ms + work.view.plan.move_ms
    assert after == pytest.approx(np.full(len(after), 0.02 * 60_000 / 110), abs=0.01)
    assert isinstance(ready.findChild(GrooveLibrary), GrooveLibrary)
    work.undo()
    assert work.group.aim.at is AimAt.GRID


# ---- aims


@pytest.fixture
def tighten(ready):
    """The window in Tighten, and its card."""
    ready.work.look(step="tighten")
    settle(ready)
    card = ready.cards["tighten"]
    assert isinstance(card, TightenCard)
    return ready, card


def test_each_aim_shows_what_it_asks_for(tighten):
    """Own feel has an amount; a groove is chosen at once; without another group there is no reference."""
    window, card = tighten
    work, aim = window.work, card.aim
    aim.kinds[AimAt.OWN_FEEL].click()
    assert aim.amount.isVisible()
    aim.amount.changed.emit(50.0)
    assert work.group.aim == Aim(at=AimAt.OWN_FEEL, amount=0.5)
    aim.keep_drift.changed.emit(100.0)
    assert work.group.response.keep_drift == 1.0
    aim.kinds[AimAt.GROOVE].click()
    assert work.group.aim.groove is not None
    assert aim._of_groove.isVisible()
    aim.between.click()
    assert not work.group.aim.between
    told = []
    work.told.connect(lambda text, _problem: told.append(text))
    aim.kinds[AimAt.REFERENCE].click()
    assert "no other group" in told[0]
    assert work.group.aim.at is AimAt.GROOVE
    assert aim.kinds[AimAt.GROOVE].isChecked()


def test_the_chart_shows_deviations_from_the_aim_when_wished(tighten):
    """What is drawn is the deviation; the bands lie level."""
    window, card = tighten
    card.aim.kinds[AimAt.OWN_FEEL].click()
    view = window.work.view
    assert window.chart._values(view)[0] == pytest.approx(view.offsets.offset_ms, nan_ok=True)
    window.chart.from_aim.click()
    assert window.chart._values(view)[0] == pytest.approx(view.offsets.scatter_ms, nan_ok=True)
    assert not window.chart._middles(view).any()
    window.grab()


def test_a_level_limit_is_dragged_beside_a_part(ready, tmp_path):
    """A part has no hits that could follow the hand; it stays as it is."""
    work = ready.work
    work.add_files([write_chords(tmp_path / "keys.mid")])
    settle(ready)
    before, part = len(work.view.strokes), work.view_of(work.session.groups[-1])
    work.begin_gesture(of_hits=True)
    set_limit(work, work.view.columns[0], None, -7.5)
    assert work.view_of(work.session.groups[-1]).strokes is part.strokes
    work.end_gesture()
    assert len(work.view.strokes) < before
    card = ready.cards["hits"]
    work.look(step="hits")
    assert card._body.isVisible()
    work.look(group=work.session.groups[-1].key)
    assert not card._body.isVisible()
    assert "its 96 notes are known" in card._told.text()


def test_a_part_is_tightened_to_the_drums_and_handed_over(tighten, tmp_path):
    """Added, paired, shown, set 5 ms behind, written; the drums' own plan is followed."""
    window, card = tighten
    work = window.work
    drums = work.group.key
    work.add_files([write_chords(tmp_path / "keys.mid", late_ms=18.0)])
    settle(window)
    part = work.session.groups[-1]
    work.look(group=part.key)
    settle(window)
    assert len(work.view.strokes) == 32
    assert window.cast.rows["p1"].isVisible()
    assert describe_stroke(work, 0).startswith("Keys · bar 1, beat 1 · ")
    work.do("All", change_group(work.session, part.key, response=Response(strength=1.0)))
    card.aim.kinds[AimAt.REFERENCE].click()
    assert work.group.aim.reference == drums
    pick(card.aim.unpaired, Unpaired.STAY)
    card.aim.behind.changed.emit(5.0)
    pairs, plan = work.view.pairs, work.view.plan
    met = pairs.partner >= 0
    assert 24 <= np.count_nonzero(met) < 32
    after = work.view.strokes.time_s + plan.move_ms / 1000
    there = work.view_of(work.session.group(drums))
    moved = there.strokes.time_s + there.plan.move_ms / 1000
    assert after[met] == pytest.approx(moved[pairs.partner[met]] + 0.005, abs=1e-6)
    assert (plan.move_ms[~met] == 0.0).all()
    window.grab()
    work.look(step="hand over")
    hand = window.cards["hand over"]
    assert isinstance(hand, HandOverCard)
    hand.folder.setText(str(tmp_path / "out"))
    hand.start()
    wait_until((tmp_path / "out" / "keys.mid").exists)
    settle(window)
    written = read_notes(tmp_path / "out" / "keys.mid")
    chords = work.view.part.chords.of_note
    expected = work.view.part.notes.time_s + plan.move_ms[chords] / 1000
    assert written.time_s == pytest.approx(expected, abs=0.0006)


def test_a_part_is_heard_as_tones_and_goes_through_every_step(tighten, tmp_path):
    """Muted, soloed, looked at in each step, taken out; nothing about it is a track."""
    window, _ = tighten
    work = window.work
    work.add_files([write_chords(tmp_path / "keys.mid")])
    settle(window)
    row = window.cast.rows["p1"]
    assert len(window._programmes.now().taps) == 1
    mouse(row, QEvent.Type.MouseButtonPress, row._mute_box().center())
    assert work.looks.heard.muted == ("p1",)
    assert not window._programmes.now().taps
    mouse(row, QEvent.Type.MouseButtonPress, row._mute_box().center())
    mouse(row, QEvent.Type.MouseButtonPress, row._solo_box().center())
    assert all(track.gain == 0.0 for track in window._programmes.now().tracks)
    mouse(row, QEvent.Type.MouseButtonPress, QPointF(60.0, 8.0))
    assert work.group.part == "p1"
    for step in ("gather", "grid", "hits", "feel", "proof", "tighten"):
        work.look(step=step, loupe=True)
        window.page.step_stroke(1)
        window.page.setFocus()
        settle(window)
        window.grab()
    window.hand.mend(lambda _work: None)
    card = window.cards["tighten"]
    assert isinstance(card, TightenCard)
    card.part.ends_follow.click()
    assert work.session.parts[0].ends_follow
    assert Qt.CheckState.Checked == card.part.ends_follow.checkState()


def test_a_reference_goes_with_its_group(tighten, tmp_path):
    """Taken out of the session, what was tightened to it aims at the grid again."""
    window, _ = tighten
    work = window.work
    work.add_files([write_chords(tmp_path / "keys.mid")])
    settle(window)
    drums = work.session.groups[0].key
    work.do("Aim", set_aim(work.session, drums, Aim(at=AimAt.REFERENCE, reference="p1")))
    settle(window)
    assert work.view_of(work.session.groups[0]).pairs is not None
    work.do("Take out", remove_part(work.session, "p1"))
    assert work.session.groups[0].aim.at is AimAt.GRID
