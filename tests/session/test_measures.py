"""Tables of measurements against the strokes they come from, and as CSV."""

import csv

import numpy as np
import pytest

from supple_snare.errors import OutputError
from supple_snare.exchange.tables import write_csv
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings
from supple_snare.session.measures import KINDS, measure_table
from supple_snare.session.section_edits import split_section
from supple_snare.session.stages import Stages
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.measure import pull_of_bars


@pytest.fixture(scope="module")
def known(shared_take):
    """The small take on its grid, in two sections."""
    grid = Grid(shared_take.tempo_bpm, shared_take.first_beat_s)
    session = add_recordings(Session(take_grid=grid), [read_recording(path) for path in shared_take.files])
    session = split_section(session, float(grid.bar_time_s(4)))
    stages = Stages()
    stages.analyse_all(session)
    return session, stages.view(session, session.groups[0])


@pytest.mark.parametrize("kind", KINDS[1:])
def test_every_placed_stroke_is_in_one_row(known, kind):
    """Counts add up; mean and worst are those of the strokes of the row."""
    session, view = known
    table = measure_table(session, view, kind)
    columns = {name: index for index, name in enumerate(table.header)}
    offset_ms = view.offsets.offset_ms
    assert sum(row[columns["strokes"]] for row in table.rows) == np.count_nonzero(view.offsets.placed)
    for number, row in enumerate(table.rows):
        mine = offset_ms[table.group == number]
        assert row[columns["strokes"]] == len(mine)
        if len(mine):
            assert row[columns["mean ms"]] == pytest.approx(mine.mean(), abs=0.006)
            assert abs(row[columns["worst ms"]]) == pytest.approx(np.abs(mine).max(), abs=0.006)
            assert row[columns["early %"]] + row[columns["late %"]] <= 100.5


def test_strokes_are_told_one_by_one(known):
    """Offset is drift, feel and scatter together, in the table as well."""
    session, view = known
    table = measure_table(session, view, "strokes")
    assert len(table.rows) == len(view.strokes)
    for row in table.rows:
        told = dict(zip(table.header, row, strict=True))
        if told["offset ms"] is not None:
            parts = told["drift ms"] + told["feel ms"] + told["scatter ms"]
            assert told["offset ms"] == pytest.approx(parts, abs=0.02)


def test_a_band_that_gets_earlier_rushes():
    """Five milliseconds a bar, and the tempo that this is."""
    time = np.arange(0.0, 16.0, 0.5)
    assert pull_of_bars(time, -2.5 * time, np.arange(0.0, 15.0, 2.0)) == pytest.approx(-5.0)


def test_a_table_becomes_a_csv_file(known, tmp_path):
    """Read again it is the same; where nothing can be written, the message says where."""
    session, view = known
    table = measure_table(session, view, "strokes")
    path = tmp_path / "strokes.csv"
    write_csv(path, table.header, table.rows)
    with path.open(encoding="utf-8", newline="") as file:
        header, *rows = csv.reader(file)
    assert tuple(header) == table.header
    assert [float(row[0]) for row in rows] == [row[0] for row in table.rows]
    assert [entry.name for entry in tmp_path.iterdir()] == ["strokes.csv"]
    with pytest.raises(OutputError, match="nowhere"):
        write_csv(tmp_path / "nowhere" / "strokes.csv", table.header, table.rows)
