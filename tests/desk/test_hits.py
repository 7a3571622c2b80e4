"""Hits checked and mended by hand in the real window; asserting on the session and on what follows from it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QInputDialog

from supple_snare.desk import hit_tools
from supple_snare.desk.cards.hits import HitsCard
from supple_snare.desk.level_chart import set_limit
from supple_snare.desk.loupe import SPANS_MS
from supple_snare.desk.page_painter import hit_lanes
from supple_snare.session.cache import read_arrays, write_arrays
from supple_snare.session.judged import FILE_NAME
from supple_snare.sound.material import PRESETS, Material
from supple_snare.timing.hits import Kind, Origin
from tests.desk.conftest import settle, wait_until
from tests.desk.gestures import drag, mark_of, mouse, point_of


@pytest.fixture
def hits(ready):
    """The window in the Hits step, the first lead chosen."""
    ready.work.look(step="hits", track=ready.work.view.leads[0])
    return ready


def card_of(window) -> HitsCard:
    """The card, brought up to date."""
    card = window.cards["hits"]
    assert isinstance(card, HitsCard)
    card.refresh()
    return card


def chosen(window):
    """Hits of the chosen track."""
    return window.work.view.hits[hit_tools.chosen_track(window.work)]


class TestHits:
    """Which attacks count, by hand."""

    def test_a_hit_is_removed_and_put_back(self, ready):
        """Click a peg, Delete; then a double click near it finds the very attack again."""
        ready.work.look(step="hits")
        view = ready.work.view
        time_s = float(view.strokes.time_s[4])
        grid_s = float(view.offsets.grid_s[4])
        count = len(view.strokes)
        point = point_of(ready, grid_s)
        mouse(ready.page, QEvent.Type.MouseButtonPress, point)
        mouse(ready.page, QEvent.Type.MouseButtonRelease, point)
        assert ready.work.looks.selected_s == pytest.approx(time_s)
        QTest.keyClick(ready, Qt.Key.Key_Delete)
        assert len(ready.work.view.strokes) == count - 1
        key = view.lead_of(4)
        ready.work.look(track=key)
        mouse(ready.page, QEvent.Type.MouseButtonDblClick, point_of(ready, time_s + 0.004))
        assert len(ready.work.view.strokes) == count
        assert ready.work.view.strokes.time_s[4] == pytest.approx(time_s, abs=1e-6)

    def test_with_shift_a_hit_stands_exactly_there(self, ready):
        """No jump to an attack."""
        ready.work.look(step="hits")
        mouse(ready.page, QEvent.Type.MouseButtonDblClick, point_of(ready, 2.345), shift=True)
        key = ready.work.view.leads[0]
        added = ready.work.session.track(key).added_s
        assert added == pytest.approx((2.345,), abs=0.01)


class TestLevelChart:
    """Limits dragged over the take."""

    def test_the_level_limit_is_dragged_and_given_back(self, hits):
        """The page follows at once; one button makes it automatic again."""
        work, chart = hits.work, hits.levels
        before = len(work.view.strokes)
        drag(chart, QPointF(100, chart._y(-40)), QPointF(100, chart._y(-7.5)))
        key = hit_tools.chosen_track(work)
        assert work.session.track(key).rules.level_limit_db == pytest.approx(-7.5, abs=0.5)
        assert len(work.view.strokes) < before
        assert chosen(hits).level_db[chosen(hits).kind == Kind.PLAYED].min() >= -8.0
        card_of(hits)._auto.click()
        assert len(work.view.strokes) == before

    def test_while_a_limit_is_dragged_hits_change_at_once_and_strokes_when_the_hand_rests(self, hits):
        """Marks follow the hand; slots, which take longer, follow when it stops, and when it lets go."""
        work, key = hits.work, hit_tools.chosen_track(hits.work)
        before, played = len(work.view.strokes), np.count_nonzero(chosen(hits).kind == Kind.PLAYED)
        work.begin_gesture(of_hits=True)
        set_limit(work, key, None, -7.5)
        assert np.count_nonzero(chosen(hits).kind == Kind.PLAYED) < played
        assert len(work.view.strokes) == before
        wait_until(lambda: len(work.view.strokes) < before)
        set_limit(work, key, None, -40.0)
        assert len(work.view.strokes) < before  # at once again
        work.end_gesture()
        assert len(work.view.strokes) >= before
        work.undo()
        assert len(work.view.strokes) == before

    def test_a_section_has_a_limit_of_its_own(self, hits):
        """Dragged inside a section it holds there alone, and can follow the take again."""
        work, chart = hits.work, hits.levels
        hits.player.seek(float(work.session.grid.bar_time_s(5)))
        QTest.keyClick(hits, Qt.Key.Key_K)
        assert len(work.session.sections) == 2
        section = work.session.sections[1]
        late = chosen(hits).time_s > section.start_s
        x = float(chart._x(section.start_s + 2.0))
        drag(chart, QPointF(x, chart._y(-40)), QPointF(x, chart._y(-2.0)))
        found = chosen(hits)
        assert not (found.kind[late] == Kind.PLAYED).any()
        assert (found.kind[~late] == Kind.PLAYED).any()
        card = card_of(hits)
        card._scope.setCurrentIndex(2)
        assert card._follow.isEnabled()
        card._follow.click()
        assert (chosen(hits).kind[late] == Kind.PLAYED).any()

    def test_a_dot_is_chosen_by_a_click(self, hits):
        """And the page goes there."""
        time_s = float(chosen(hits).time_s[-1])
        level_db = float(chosen(hits).level_db[-1])
        at = QPointF(hits.levels._x(time_s), hits.levels._y(level_db))
        drag(hits.levels, at, at)
        assert hits.work.session.track(hit_tools.chosen_track(hits.work)).rules.level_limit_db is None
        assert hits.work.looks.hit == (hit_tools.chosen_track(hits.work), time_s)
        assert hits.player.position_s == pytest.approx(time_s, abs=0.001)


class TestMending:
    """Hits moved, removed, counted and restored."""

    def test_a_mark_is_dragged_to_another_place(self, hits):
        """With Shift it stays where it is let go; R brings it back."""
        key = hits.work.view.leads[0]
        time_s = float(chosen(hits).of_kind(Kind.PLAYED).time_s[2])
        start = mark_of(hits, key, time_s)
        mouse(hits.page, QEvent.Type.MouseButtonPress, start)
        mouse(hits.page, QEvent.Type.MouseMove, start + QPointF(14, 0))
        mouse(hits.page, QEvent.Type.MouseButtonRelease, start + QPointF(14, 0), shift=True)
        moved = hits.work.session.track(key).moved
        assert [fact.from_s for fact in moved] == pytest.approx([time_s])
        assert moved[0].to_s > time_s + 0.01
        assert Origin.MOVED in chosen(hits).origin
        QTest.keyClick(hits, Qt.Key.Key_R)
        assert not hits.work.session.track(key).is_corrected
        assert hits.work.looks.hit == (key, pytest.approx(time_s))

    def test_keys_nudge_by_a_millisecond_and_a_sample(self, hits):
        """However often, it is one correction of one hit."""
        QTest.keyClick(hits, Qt.Key.Key_N)
        key, time_s = hits.work.looks.hit
        alt, shift = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ShiftModifier
        for _ in range(3):
            QTest.keyClick(hits, Qt.Key.Key_Right, alt)
        QTest.keyClick(hits, Qt.Key.Key_Left, alt)
        QTest.keyClick(hits, Qt.Key.Key_Left, alt | shift)
        assert hits.work.looks.hit[1] == pytest.approx(time_s + 0.002 - 1 / 48_000, abs=1e-9)
        assert len(hits.work.session.track(key).moved) == 1

    def test_a_range_is_removed_counted_and_restored(self, hits):
        """On the chosen track; restoring drops everything done by hand in it."""
        key = hits.work.view.leads[0]
        found = chosen(hits)
        start_s, end_s = float(found.time_s[2]) - 0.01, float(found.time_s[9]) + 0.01
        inside = (found.time_s > start_s) & (found.time_s < end_s)
        hits.work.look(range_s=(start_s, end_s))
        QTest.keyClick(hits, Qt.Key.Key_Return)
        kinds = chosen(hits).kind[(chosen(hits).time_s > start_s) & (chosen(hits).time_s < end_s)]
        assert (kinds == Kind.PLAYED).all()
        QTest.keyClick(hits, Qt.Key.Key_Delete)
        left = chosen(hits).of_kind(Kind.PLAYED).time_s
        assert not ((left > start_s) & (left < end_s)).any()
        QTest.keyClick(hits, Qt.Key.Key_R)
        assert not hits.work.session.track(key).is_corrected
        assert np.array_equal(chosen(hits).kind, found.kind)
        assert np.count_nonzero(inside) == 8

    def test_a_double_click_on_bleed_counts_it(self, hits):
        """It becomes a hit of the track, where it is."""
        key = hits.work.view.leads[0]
        bleed = float(chosen(hits).of_kind(Kind.BLEED).time_s[3])
        mouse(hits.page, QEvent.Type.MouseButtonDblClick, mark_of(hits, key, bleed))
        at = int(np.argmin(np.abs(chosen(hits).time_s - bleed)))
        assert (chosen(hits).kind[at], chosen(hits).origin[at]) == (Kind.PLAYED, Origin.ADDED)
        before = hits.work.session
        QTest.keyClick(hits, Qt.Key.Key_Return)  # it counts already
        assert hits.work.session == before

    def test_only_the_track_to_mend_shows_its_bleed(self, hits):
        """It stands above the line, whichever it is; a double click where another's bleed is counts nothing."""
        first, second = hits.work.view.leads[:2]
        bleed = hits.work.view.hits[second].of_kind(Kind.BLEED).time_s
        at = mark_of(hits, second, float(bleed[3]))
        assert hits.page._targets.hit_at(at) is None
        hits.work.look(track=second)
        layout, view = hits.page.page_layout, hits.work.view
        lanes = dict(hit_lanes(layout, view, second))
        assert lanes[second] < layout.base_px < lanes[first] < layout.row_px
        found = hits.page._targets.hit_at(mark_of(hits, second, float(bleed[3])))
        assert found is not None
        assert view.hits[second].time_s[found[1]] == bleed[3]

    def test_lanes_of_many_leads_share_the_room_below_the_line(self, hits):
        """None is drawn outside of its row."""
        view, layout = hits.work.view, hits.page.page_layout
        many = replace(view, columns=tuple(f"track {number}" for number in range(12)))
        heights = [height for _, height in hit_lanes(layout, many, "track 7")]
        assert len(set(heights)) == 12
        assert max(heights) < layout.row_px - 4.0

    def test_nothing_chosen_is_said_and_nothing_done(self, hits):
        """A sentence instead of a step in the history."""
        hits.work.look(hit=None, range_s=None)
        said = []
        hits.work.told.connect(lambda text, _problem: said.append(text))
        before = hits.work.session
        for key in (Qt.Key.Key_Delete, Qt.Key.Key_Return, Qt.Key.Key_R):
            QTest.keyClick(hits, key)
        assert hits.work.session == before
        assert len(said) == 3

    def test_a_landing_moves_the_stroke_and_not_its_sound(self, hits):
        """The stroke's time is the landing; its start stays where the sound starts."""
        QTest.keyClick(hits, Qt.Key.Key_N)
        index = hits.work.selected
        time_s = float(hits.work.view.strokes.time_s[index])
        card_of(hits)._landing.setValue(12.0)
        strokes = hits.work.view.strokes
        assert strokes.time_s[index] == pytest.approx(time_s + 0.012)
        assert strokes.start_s[index] == pytest.approx(time_s)


class TestChecking:
    """From hit to hit, seen and heard."""

    def test_each_hit_is_heard_in_a_loop_when_wished(self, hits):
        """Going to a hit plays around it over and over; without the wish nothing plays."""
        QTest.keyClick(hits, Qt.Key.Key_N)
        assert not hits.player.is_playing
        card_of(hits)._hear.click()
        assert hits.player.is_playing
        time_s = hits.work.looks.hit[1]
        low, high = hits.player._programme.loop
        assert low < time_s * 48_000 < high
        assert high - low < 48_000
        QTest.keyClick(hits, Qt.Key.Key_N)
        assert hits.player._programme.loop[0] > low
        card_of(hits)._hear.click()
        assert hits.player._programme.loop is None

    def test_doubtful_hits_are_gone_through_in_order(self, hits, monkeypatch):
        """Of all leads, forward and back."""
        monkeypatch.setattr(hit_tools, "DOUBTFUL", 0.99999)
        view = hits.work.view
        expected = sorted(float(time) for key in view.columns for time in hit_tools.doubtful_s(hits.work, key))
        assert len(expected) > 2
        seen = []
        for _ in expected:
            QTest.keyClick(hits, Qt.Key.Key_D)
            seen.append(hits.work.looks.hit[1])
        assert seen == expected
        QTest.keyClick(hits, Qt.Key.Key_D, Qt.KeyboardModifier.ShiftModifier)
        assert hits.work.looks.hit[1] == expected[-2]

    def test_the_winner_of_two_leads_is_named(self, hits):
        """With how far the other one lies off."""
        view = hits.work.view
        first, second = view.leads[:2]
        time_s = float(view.hits[first].of_kind(Kind.PLAYED).time_s[0])
        hit_tools.choose_hit(hits.work, second, time_s)
        hit_tools.add_hit(hits.work, time_s + 0.0125, exact=True)
        names = {track.key: track.name for track in view.tracks}
        assert f"{names[first]} decides; {names[second]} 12.5 ms later" in card_of(hits)._hit.text()


class TestLoupe:
    """One attack in every track."""

    def test_it_follows_the_chosen_hit_and_zooms_to_samples(self, hits):
        """The sound of all tracks around it, read off the interface thread."""
        hits.work.look(loupe=False)
        QTest.keyClick(hits, Qt.Key.Key_O)
        QTest.keyClick(hits, Qt.Key.Key_N)
        wait_until(lambda: hits.loupe.is_loaded)
        stretch = hits.loupe._stretch
        assert set(stretch.played) == {track.key for track in hits.work.view.tracks}
        key, time_s = hits.work.looks.hit
        sound = stretch.played[key]
        start = round(time_s * 48_000) - stretch.first
        assert np.abs(sound[start : start + 480]).max() > 20.0 * np.abs(sound[start - 480 : start - 5]).max()
        middle = QPointF(hits.loupe.rect().center())
        for _ in range(10):
            hits.loupe.wheelEvent(
                QWheelEvent(middle, middle, QPointF().toPoint(), QPointF(0, 120).toPoint(), Qt.MouseButton.NoButton,
                            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)
            )  # fmt: skip
        assert hits.loupe.span_ms == SPANS_MS[0]
        hits.loupe.grab()

    def test_a_hit_is_dragged_to_the_sample(self, hits):
        """And a double click adds one to the lane it is in."""
        hits.work.look(loupe=True)
        QTest.keyClick(hits, Qt.Key.Key_N)
        wait_until(lambda: hits.loupe.is_loaded)
        key, time_s = hits.work.looks.hit
        loupe = hits.loupe
        lane = dict(loupe._lanes())[key]
        start = QPointF(float(loupe._x(time_s)), lane.center().y())
        drag(loupe, start, start + QPointF(25, 0))
        moved = hits.work.session.track(key).moved
        wished = 25 / lane.width() * loupe.span_ms / 1000.0
        assert moved[0].to_s - moved[0].from_s == pytest.approx(wished, abs=1.5 / 48_000)
        assert moved[0].to_s * 48_000 == pytest.approx(round(moved[0].to_s * 48_000), abs=1e-6)
        other, lane = next((other, lane) for other, lane in loupe._lanes() if other != key)
        mouse(loupe, QEvent.Type.MouseButtonDblClick, QPointF(lane.center().x() + 40, lane.center().y()))
        assert len(hits.work.session.track(other).added_s) == 1

    def test_a_landing_is_pulled_out_of_its_start_dragged_on_and_left_to_the_program(self, hits):
        """The start stays where it was; what meets the grid moves with the landing."""
        hits.work.look(loupe=True)
        QTest.keyClick(hits, Qt.Key.Key_N)
        wait_until(lambda: hits.loupe.is_loaded)
        (key, time_s), loupe = hits.work.looks.hit, hits.loupe
        lane = dict(loupe._lanes())[key]
        low = lane.center().y() + 0.25 * lane.height()

        def late_px():
            found = hits.work.view.hits[key]
            at = int(np.argmin(np.abs(found.time_s - time_s)))
            assert abs(found.time_s[at] - time_s) < 1e-9
            return float(loupe._x(found.landing_s[at]) - loupe._x(time_s))

        x = float(loupe._x(time_s))
        drag(loupe, QPointF(x, low), QPointF(x + 60, low), shift=True)
        assert late_px() == pytest.approx(60, abs=1.0)
        loupe.grab()
        drag(loupe, QPointF(x + 60, low), QPointF(x + 90, low))
        assert late_px() == pytest.approx(90, abs=1.0)
        assert not hits.work.session.track(key).moved
        drag(loupe, QPointF(x + 90, low), QPointF(x - 50, low))  # never before the start
        assert late_px() == 0.0
        drag(loupe, QPointF(x, low), QPointF(x + 60, low), shift=True)
        mouse(loupe, QEvent.Type.MouseButtonDblClick, QPointF(x + 60, low))
        assert not hits.work.session.track(key).landings
        assert late_px() == 0.0


class TestListening:
    """What is listened to for the attacks of a track."""

    def test_a_track_listens_to_another_and_is_cut_with_its_own_sound(self, hits):
        """The room takes the snare's hits over; its own recording is what is drawn."""
        room = next(track.key for track in hits.work.session.tracks if track.name == "Room")
        snare = next(track.key for track in hits.work.session.tracks if track.name == "Snare")
        hits.work.look(track=room)
        own = hits.work.stages.peaks(hits.work.session.track(room))
        card = card_of(hits)
        card._toggle_source(snare)
        card._toggle_source(room)
        settle(hits)
        assert hits.work.session.track(room).listens_to == (snare,)
        view = hits.work.view
        assert np.array_equal(view.hits[room].time_s, view.hits[snare].time_s)
        assert hits.work.stages.peaks(hits.work.session.track(room)) is own
        assert card_of(hits)._source.text() == "Snare"
        assert "which Snare hears too" in card_of(hits)._facts.text()

    def test_band_and_sound_are_listened_to_anew(self, hits):
        """Each makes a step that can be undone; a band turned round is refused."""
        card = card_of(hits)
        before = chosen(hits)
        card._low.setValue(2_000)
        settle(hits)
        assert chosen(hits) is not before
        card._material.setCurrentIndex(1 + list(Material).index(Material.VOICE))
        settle(hits)
        assert hits.work.view.materials[hit_tools.chosen_track(hits.work)] is Material.VOICE
        card_of(hits)._high.setValue(100)
        assert hits.work.session.track(hit_tools.chosen_track(hits.work)).band_hz == (2_000.0, 20_000.0)
        hits.work.undo()
        hits.work.undo()
        settle(hits)
        assert np.array_equal(chosen(hits).time_s, before.time_s)

    def test_the_band_of_a_sound_is_shown_and_can_be_widened(self, hits):
        """A voice is listened to in part of what sounds; all of it may be asked for."""
        card, key = card_of(hits), hit_tools.chosen_track(hits.work)
        card._material.setCurrentIndex(1 + list(Material).index(Material.VOICE))
        settle(hits)
        assert (card._low.value(), card._high.value()) == PRESETS[Material.VOICE].band_hz
        card._low.setValue(0)
        settle(hits)
        assert hits.work.session.track(key).band_hz == (0.0, 9_600.0)
        card._low.setValue(120)
        assert hits.work.session.track(key).band_hz is None


class TestSections:
    """Drawn on the page, named, joined."""

    def test_a_range_becomes_a_section_from_bar_to_bar(self, hits, monkeypatch):
        """With the name that was typed; the menu joins it to the one before."""
        monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_words: ("Bridge", True))
        grid = hits.work.session.grid
        drag(
            hits.page, point_of(hits, float(grid.bar_time_s(3)) + 0.05), point_of(hits, float(grid.bar_time_s(4)) + 0.2)
        )
        QTest.keyClick(hits, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        names = [section.name for section in hits.work.session.sections]
        assert names[1] == "Bridge"
        assert hits.work.session.sections[1].start_s == pytest.approx(float(grid.bar_time_s(3)))
        menu = hits.sections.menu()
        menu.aboutToShow.emit()
        join = next(action for action in menu.actions() if action.text().startswith("Join Bridge"))
        join.trigger()
        assert "Bridge" not in [section.name for section in hits.work.session.sections]

    def test_a_section_ranks_its_leads_by_itself(self, hits):
        """Where both play, the other one wins there."""
        hits.player.seek(float(hits.work.session.grid.bar_time_s(5)))
        QTest.keyClick(hits, Qt.Key.Key_K)
        view = hits.work.view
        first, second = view.leads[:2]
        card = card_of(hits)
        card._scope.setCurrentIndex(2)
        card._leads.setCurrentIndex(1)
        own = hits.work.session.groups[0].section_leads
        assert own[0].leads[:2] == (second, first)
        assert hits.work.view.leads[:2] == (first, second)


class TestAlike:
    """One correction offered for all that sounds like it."""

    def test_a_class_of_hits_is_removed_and_counted_again_in_one_step_each(self, hits):
        """By the keys, on the chosen track alone; what is alike was not mended before."""
        work, key = hits.work, hit_tools.chosen_track(hits.work)
        played = chosen(hits).of_kind(Kind.PLAYED)
        hit_tools.choose_hit(work, key, float(played.time_s[np.argmax(played.confidence)]))
        like_s = hit_tools.alike_to_chosen_s(work)
        assert len(like_s) > 2
        card = card_of(hits)
        assert str(len(like_s)) in card._remove_alike.text()
        assert not card._promote_alike.isEnabled()
        before = len(played)
        QTest.keyClick(hits, Qt.Key.Key_Delete, Qt.KeyboardModifier.ShiftModifier)
        assert len(chosen(hits).of_kind(Kind.PLAYED)) == before - len(like_s) - 1
        work.undo()
        assert len(chosen(hits).of_kind(Kind.PLAYED)) == before
        bleed = chosen(hits).of_kind(Kind.BLEED)
        hit_tools.choose_hit(work, key, float(bleed.time_s[np.argmax(bleed.confidence)]))
        count = len(hit_tools.alike_to_chosen_s(work))
        QTest.keyClick(hits, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
        assert len(work.session.track(key).added_s) == count + 1


class TestRoles:
    """What each track is taken for, and what it is said to be."""

    def test_a_track_says_what_it_is_taken_for_and_how_sure_that_is(self, hits):
        """In words that name the tracks it hears."""
        assert "Close to a drum of its own" in card_of(hits)._facts.text()
        assert "% sure" in card_of(hits)._facts.text()

    def test_a_role_given_by_hand_judges_the_group_anew(self, hits):
        """One step, which can be undone; the words say who decided."""
        work, key = hits.work, hit_tools.chosen_track(hits.work)
        card = card_of(hits)
        card._drum.setCurrentIndex(card._drum.findData(""))
        settle(hits)
        assert not len(work.view.hits[key].of_kind(Kind.PLAYED))
        work.look(track=key)
        assert "set by hand" in card_of(hits)._facts.text()
        work.undo()
        assert len(work.view.hits[key].of_kind(Kind.PLAYED))


class TestRejudged:
    """A session opened by a version that judges otherwise."""

    @pytest.fixture
    def reopened(self, ready, tmp_path):
        """A saved session beside which one hit less stands than is judged now."""
        work, folder = ready.work, tmp_path / "session"
        assert work.save_as(folder)
        settle(ready)
        wait_until((folder / FILE_NAME).is_file)
        key = work.view.leads[0]
        arrays = dict(read_arrays(folder / FILE_NAME))
        name = next(name for name in arrays if name.endswith(f"/played/{key}"))
        write_arrays(folder / FILE_NAME, arrays | {name: arrays[name][1:]})
        ready.doors.begin()
        ready.doors.open_paths([folder])
        settle(ready)
        wait_until(lambda: "judged differently" in ready.message.text)
        return ready, key, float(arrays[name][0])

    def test_it_is_told_and_looked_at(self, reopened):
        """The first of them is chosen, and stands among the doubts."""
        window, key, time_s = reopened
        window.message.acts[0].click()
        assert window.work.looks.step == "hits"
        assert window.work.looks.hit == (key, pytest.approx(time_s, abs=1e-6))
        assert time_s in hit_tools.doubtful_s(window.work, key)

    def test_it_is_kept_as_it_was_in_one_step(self, reopened):
        """By a correction; the next opening says nothing."""
        window, key, time_s = reopened
        window.message.acts[1].click()
        assert window.work.session.track(key).removed_s == (pytest.approx(time_s),)
        folder = window.work.folder
        settle(window)
        window.message.hide()
        window.doors.begin()
        window.doors.open_paths([folder])
        settle(window)
        assert window.message.isHidden()
