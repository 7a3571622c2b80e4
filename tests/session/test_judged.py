"""What was judged when a session was last open, held against what is judged now."""

from __future__ import annotations

import numpy as np
import pytest

from supple_snare.session import edits
from supple_snare.session.document import Session
from supple_snare.session.judged import FILE_NAME, Judged, as_before, settle_judged
from supple_snare.sound.files import read_recording

BEFORE_S = np.array([1.0, 2.0, 3.0])


def judged(played_s, asked="as asked"):
    """One group of one track."""
    return {"g1": Judged(asked, {"t1": np.asarray(played_s, dtype=float)})}


def test_what_is_judged_otherwise_is_told_once(tmp_path):
    """Starts that moved a little are the same attacks."""
    assert settle_judged(tmp_path, judged(BEFORE_S)).places == ()
    found = settle_judged(tmp_path, judged([1.004, 3.0, 3.5]))
    assert found.counted_s["t1"].tolist() == [3.5]
    assert found.dropped_s["t1"].tolist() == [2.0]
    assert found.places == (("t1", 2.0), ("t1", 3.5))
    assert settle_judged(tmp_path, judged([1.004, 3.0, 3.5])).places == ()


def test_nothing_is_told_where_something_else_was_asked(tmp_path):
    """Another role, band or file gives other hits as a matter of course; other groups keep what stands there."""
    settle_judged(tmp_path, judged(BEFORE_S) | {"g2": judged(BEFORE_S)["g1"]})
    assert settle_judged(tmp_path, judged([9.0], asked="otherwise")).places == ()
    assert len(settle_judged(tmp_path, {"g2": judged([1.0, 2.0])["g1"]}).places) == 1


@pytest.mark.parametrize("damage", [b"", b"no archive", b"PK\x03\x04 cut short"])
def test_a_damaged_record_is_as_good_as_none(tmp_path, damage):
    """And is written anew."""
    (tmp_path / FILE_NAME).write_bytes(damage)
    assert settle_judged(tmp_path, judged(BEFORE_S)).places == ()
    assert len(settle_judged(tmp_path, judged([1.0])).places) == 2


def test_hits_are_kept_as_they_were_judged_but_for_those_mended_since(tmp_path, shared_take):
    """By corrections that outlive the next run of the detector."""
    session = edits.add_recordings(Session(), [read_recording(shared_take.files[0])])
    key = session.tracks[0].key
    session = edits.add_hits(session, key, [2.0])
    settle_judged(tmp_path, {"g1": Judged("", {key: BEFORE_S})})
    found = settle_judged(tmp_path, {"g1": Judged("", {key: np.array([1.0, 3.5])})})
    track = as_before(session, found).track(key)
    assert track.added_s == (2.0, 3.0)
    assert track.removed_s == (3.5,)
