"""Takes that change their tempo at once."""

import numpy as np
import pytest

from supple_snare.timing.course import PlayedBeats, following_course
from supple_snare.timing.tempo_parts import read_tempo
from tests.timing.bands import band


def one_after_another(tempos, bars, *, pause_s=0.0):
    """Hits of a band that goes from one tempo to the next; and where each part begins."""
    parts, starts, now = [], [], 0.7
    for seed, (tempo, count) in enumerate(zip(tempos, bars, strict=True)):
        time, level, lead, beats = band(tempo, bars=count, seed=seed)
        parts.append((time + now - beats[0], level, lead))
        starts.append(now)
        now += 60.0 / tempo * len(beats) + pause_s
    time, level, lead = (np.concatenate(column) for column in zip(*parts, strict=True))
    order = np.argsort(time)
    return time[order], level[order], lead[order], starts


@pytest.mark.parametrize(("tempos", "bars"), [((88.0, 126.0), (12, 16)), ((140.0, 104.5, 120.0), (14, 12, 16))])
def test_each_part_has_its_own_tempo_and_begins_where_it_is_played(tempos, bars):
    """The bars are counted on, and the last bar of a part is as long as the others."""
    *hits, starts = one_after_another(tempos, bars)
    best = read_tempo(*hits)[0]
    assert best.parts_bpm == pytest.approx(tempos, abs=0.05)
    assert not best.steady
    first_bars = 1 + np.cumsum([0, *bars[:-1]])
    assert best.grid.bar_time_s(first_bars) == pytest.approx(starts, abs=0.006)
    for tempo, bar in zip(tempos, first_bars, strict=True):
        assert best.grid.tempo_at(best.grid.bar_time_s(bar + 3)) == pytest.approx(tempo, abs=0.05)
    assert best.grid.meter_changes == ()


def test_a_breath_between_parts_lengthens_one_count():
    """All before it keep their tempo; the later part begins on a bar."""
    *hits, starts = one_after_another((96.0, 132.0), (12, 16), pause_s=0.8)
    grid = read_tempo(*hits)[0].grid
    before_s, after_s = starts[1] - 3.0, starts[1] + 3.0
    assert [grid.tempo_at(before_s), grid.tempo_at(after_s)] == pytest.approx([96.0, 132.0], abs=0.05)
    for moment_s in (starts[0], starts[1] - 0.8 - 60.0 / 96.0, starts[1]):
        beat = grid.course.beat_at(moment_s)
        assert beat == pytest.approx(np.rint(beat), abs=0.012)
    assert grid.bar_time_s(round(float(grid.bar_at(starts[1])))) == pytest.approx(starts[1], abs=0.006)


@pytest.mark.parametrize("wander", [0.0, 0.04])
def test_a_take_that_is_steady_or_wanders_is_in_one_part(wander):
    """However far it wanders within an eighth."""
    time, level, lead, _ = band(112.0, bars=40, wander=wander)
    best = read_tempo(time, level, lead)[0]
    assert best.parts_bpm == ()
    assert best.steady == (wander == 0.0)


def test_too_little_tells_nothing():
    """Nor does it break."""
    assert read_tempo(np.arange(3.0), np.zeros(3), np.zeros(3, dtype=np.int64)) == []


@pytest.mark.parametrize("breath_s", [0.0, 0.5])
def test_followed_beats_change_their_tempo_at_once_where_they_were_played_so(breath_s):
    """However stiff the course is, it neither rounds the corner nor swings past it."""
    lengths = np.concatenate([np.full(40, 60.0 / 88.0), np.full(40, 60.0 / 126.0)])
    lengths[39] += breath_s
    beats_s = np.concatenate([[0.0], np.cumsum(lengths)]) + np.random.default_rng(1).normal(0.0, 0.003, 81)
    course = following_course(PlayedBeats(tuple(beats_s), stiffness=0.6), (), ())
    assert course.time_at(np.arange(81.0)) == pytest.approx(beats_s, abs=0.012)
    tempo = 60.0 / np.diff(course.time_at(np.arange(81.0)))
    assert tempo[:39] == pytest.approx(88.0, abs=1.0)
    assert tempo[40:] == pytest.approx(126.0, abs=1.5)
