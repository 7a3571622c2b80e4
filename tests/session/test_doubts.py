"""Doubts and reports: what the program says of each stroke."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import numpy as np
import pytest

from supple_snare.session.cutting import cut_group
from supple_snare.session.document import Session
from supple_snare.session.doubts import Doubt, stroke_doubts
from supple_snare.session.edits import add_recordings, change_group, hold_range
from supple_snare.session.report import hits_report, measure_report, summarise, tighten_report
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.hits import Hits
from supple_snare.timing.offsets import measure_offsets
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.strokes import gather_strokes
from supple_snare.timing.tighten import Response, plan_moves


@pytest.fixture(scope="module")
def known(shared_take):
    """The small take on its grid, and its stages."""
    grid = Grid(shared_take.tempo_bpm, shared_take.first_beat_s)
    session = add_recordings(Session(take_grid=grid), [read_recording(path) for path in shared_take.files])
    stages = Stages()
    stages.analyse_all(session)
    return session, stages


def view_with(known, **response):
    """The view under some response."""
    session, stages = known
    session = change_group(session, session.groups[0].key, response=Response(**response))
    return session, stages.view(session, session.groups[0])


def test_what_is_past_the_reach_is_the_worst_doubt(known):
    """Listed for just those strokes, and first; a held stroke asks for nothing."""
    session, view = view_with(known, strength=1.0, tolerance_ms=0.0, reach_ms=8.0)
    far = np.abs(view.plan.deviation_ms) > 8.0
    doubts = stroke_doubts(view)
    assert [Doubt.PAST_REACH in found for found in doubts] == far.tolist()
    assert all(found[0] == Doubt.PAST_REACH for found, is_far in zip(doubts, far, strict=True) if is_far)
    assert all(list(found) == sorted(found) for found in doubts)
    time = float(view.strokes.time_s[np.flatnonzero(far)[0]])
    held = hold_range(session, session.groups[0].key, time - 0.001, time + 0.001)
    doubts = stroke_doubts(known[1].view(held, held.groups[0]))
    assert doubts[int(np.flatnonzero(far)[0])] == ()


def test_a_grid_too_coarse_raises_doubts(known):
    """On quarter notes the eighths lie between two slots."""
    session, stages = known
    grid = Grid(session.grid.tempo_bpm, session.grid.first_beat_s, ruling=Ruling(Subdivision(4)))
    coarse = msgspec.structs.replace(session, take_grid=grid)
    view = stages.view(coarse, coarse.groups[0])
    reasons = {doubt for found in stroke_doubts(view) for doubt in found}
    assert reasons & {Doubt.CLOSE_CALL, Doubt.NO_SLOT}


def test_without_a_slot_is_a_doubt_only_in_the_open(known):
    """A bass that comes 45 ms after a drum goes with it; a stroke halfway between two asks for an answer."""
    _, view = view_with(known, strength=1.0)
    drum = 0.5 + 0.5 * np.arange(32)
    strokes = gather_strokes([Hits.of(drum), Hits.of([*(drum[:16:2] + 0.045), 10.25])])
    offsets = measure_offsets(strokes, Grid(120.0, 0.5, ruling=Ruling(Subdivision(4))))
    plan = plan_moves(strokes, offsets, Response(), held=np.zeros(len(strokes), dtype=bool))
    doubts = stroke_doubts(replace(view, strokes=strokes, offsets=offsets, plan=plan))
    assert strokes.time_s[[Doubt.NO_SLOT in found for found in doubts]].tolist() == [10.25]


def test_reports_agree_with_one_another(known):
    """Hits, offsets and moves are told of the same strokes, in the units the names promise."""
    session, view = view_with(known, strength=1.0)
    hits, measured = hits_report(session, view), measure_report(session, view)
    assert [stroke.time for stroke in hits.strokes] == [stroke.time for stroke in measured.strokes]
    for stroke in measured.strokes:
        assert stroke.offset_ms == pytest.approx(1000.0 * (stroke.time - stroke.grid_time))
        assert stroke.offset_ms == pytest.approx(stroke.drift_ms + stroke.feel_ms + stroke.scatter_ms)
    summary = summarise(view)
    assert summary.strokes == len(hits.strokes)
    assert summary.early_share + summary.late_share <= 1.0
    cut = cut_group(session, view)
    for stroke in tighten_report(session, view, cut, []).strokes:
        assert stroke.new_time == pytest.approx(stroke.time + stroke.moved_ms / 1000.0)
        if stroke.kept is None and not stroke.doubts:
            assert stroke.new_time == pytest.approx(stroke.grid_time, abs=0.6 / session.rate_hz)
