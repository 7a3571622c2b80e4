"""Sessions to test with, and edits that hypothesis puts together."""

from __future__ import annotations

from pathlib import Path

from hypothesis import strategies as st

from supple_snare.session import edits
from supple_snare.session.document import HitRules, Session
from supple_snare.sound.files import Recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.meter import Meter
from supple_snare.timing.ruling import Ruling, Subdivision
from supple_snare.timing.tighten import Response


def recording(name: str, rate: int = 48_000, frames: int = 480_000, start_s: float = 0.0) -> Recording:
    """A recording that is not there."""
    return Recording(Path("/takes") / name, frames, rate, 1, "WAV", "PCM_24", start_s)


def sample_session() -> Session:
    """Two groups with everything set to something."""
    session = Session(name="Lantern Quay", take_grid=Grid(97.5, 0.25, Meter(6, 8), Ruling(Subdivision(8), swing=0.55)))
    session = edits.add_recordings(session, [recording("snare.wav"), recording("bass_drum.wav")], group_name="Drums")
    session = edits.add_recordings(session, [recording("horn.wav")])
    session = edits.change_group(session, "g1", leads=("t2", "t1"), response=Response(0.7, 3.0, 40.0))
    session = edits.hold_range(session, "g1", 1.0, 2.5)
    session = edits.add_hits(session, "t1", [3.25])
    session = edits.remove_hits(session, "t2", [4.5])
    session = edits.change_track(session, "t3", rules=HitRules(level_limit_db=-24.0))
    session = edits.add_part(session, Path("/takes/accordion.mid"), 48.0)
    return edits.tick_step(session, "gather", done=True)


steps = st.lists(
    st.sampled_from(
        [
            lambda s, n: edits.add_hits(s, "t1", [n / 7]),
            lambda s, n: edits.remove_hits(s, "t1", [n / 7]),
            lambda s, n: edits.hold_range(s, "g1", n / 5, n / 5 + 1),
            lambda s, n: edits.release_range(s, "g1", n / 5, n / 5 + 1),
            lambda s, n: edits.change_track(s, "t2", rules=HitRules(level_limit_db=-float(n))),
            lambda s, n: edits.change_group(s, "g1", response=Response(strength=n / 100)),
            lambda s, n: edits.move_track(s, "t1", "g2" if n % 2 else "g1"),
            lambda s, n: edits.tick_step(s, "grid", done=bool(n % 2)),
        ]
    ),
    max_size=12,
)
