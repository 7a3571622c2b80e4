"""Finding: what the hits of a group say about its grid."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from supple_snare.session.finding import tempos_of
from supple_snare.timing.hits import Hits, Kind

TEMPO_BPM, BARS = 77.0, 24
CLAVE = {"kick": "x..xx..xx..xx..x", "snare": "x..x..x...x..x..", "hat": "x.x.x.x.x.x.x.x."}
CENTRE_HZ = {"kick": 70.0, "snare": 300.0, "hat": 5_000.0}


def played(seed: int) -> dict[str, np.ndarray]:
    """A rhythm in sixteenths; of the hat only what no drum covers."""
    rng = np.random.default_rng(seed)
    slots = {drum: np.flatnonzero(np.array(list(line)) == "x") for drum, line in CLAVE.items()}
    beat = {drum: np.concatenate([4.0 * bar + own / 4.0 for bar in range(BARS)]) for drum, own in slots.items()}
    found = {d: 0.5 + each * 60.0 / TEMPO_BPM + rng.normal(0.0, 0.005, len(each)) for d, each in beat.items()}
    covered_s = np.append(found["kick"], found["snare"])
    hat_s = found["hat"]
    return found | {"hat": hat_s[np.abs(hat_s[:, None] - covered_s).min(axis=1) > 0.030]}


def felt_bpm(seed: int, *, is_wide: bool) -> float:
    """The tempo that is read first, the hat being what a microphone far from the kit, or one close to it, hears."""
    hits = {drum: Hits.of(time_s, kind=Kind.PLAYED) for drum, time_s in played(seed).items()}
    verdicts = {d: SimpleNamespace(centre_hz=hz, is_wide=is_wide and d == "hat") for d, hz in CENTRE_HZ.items()}
    view = SimpleNamespace(columns=tuple(hits), hits=hits, verdicts=verdicts, part=False)
    return tempos_of(view)[0].felt_bpm


@pytest.mark.parametrize("seed", range(4))
def test_a_hat_that_lost_its_strokes_on_the_beat_still_tells_the_beat(seed: int):
    """Beside close microphones an overhead has only what a hat plays between the drums, as if it were meant there."""
    assert felt_bpm(seed, is_wide=True) == pytest.approx(TEMPO_BPM, abs=0.1)
    assert felt_bpm(seed, is_wide=False) != pytest.approx(TEMPO_BPM, abs=0.1)
