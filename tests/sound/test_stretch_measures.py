"""The measures of `bench/stretch.py`, on faults made for them: each sees its own, by about its size."""

from types import SimpleNamespace

import numpy as np
import pytest
from bench.stretch import dips_db, joins, partials_waver

from supple_snare.sound.editlist import EditList
from tests.conftest import RATE_HZ

FRAMES = 3 * RATE_HZ
BEGIN, END = RATE_HZ, 2 * RATE_HZ
"""The part that counts as stretched."""

CUT = SimpleNamespace(edits=EditList.of([0, BEGIN, END], [0, 0, 0], [0, 0, 0], [False, True, False]))
PLACE = np.arange(FRAMES) / RATE_HZ
CHORD_HZ = (300.0, 470.0, 760.0)


def chord(turn: np.ndarray | float = 0.0, bend: np.ndarray | float = 1.0) -> np.ndarray:
    """Three partials, all turned by an angle, or their pitch bent by a factor that may change."""
    phase = np.cumsum(np.broadcast_to(bend, FRAMES)) / RATE_HZ
    return sum(np.sin(2 * np.pi * hz * phase + turn) for hz in CHORD_HZ)


INSIDE = ((np.arange(FRAMES) >= BEGIN) & (np.arange(FRAMES) < END)).astype(float)


def test_what_is_as_it_was_has_no_faults():
    """No cents, no warble, no jump, no dip."""
    cents, warble = partials_waver(chord(), chord(), CUT)
    join, jump = joins(chord(), chord(), CUT)
    assert len(cents) == 3 and len(join) == 1
    assert cents.max() < 0.01 and warble.max() < 0.01 and join[0] < 0.001 and jump[0] < 0.1
    assert np.abs(dips_db(chord(), chord(), np.arange(FRAMES))).max() < 1e-6


def test_tremolo_and_vibrato_are_warble():
    """An amplitude that swings by 4 % is one of 2.8; a pitch that swings by 0.3 % one of 0.21."""
    tremolo = chord() * (1.0 + 0.04 * np.sin(2 * np.pi * 5.0 * PLACE) * INSIDE)
    assert partials_waver(chord(), tremolo, CUT)[1] == pytest.approx(2.8, abs=0.6)
    vibrato = chord(bend=1.0 + 0.003 * np.sin(2 * np.pi * 5.0 * PLACE) * INSIDE)
    assert partials_waver(chord(), vibrato, CUT)[1] == pytest.approx(0.21, abs=0.15)


def test_a_bend_is_told_in_cents():
    """A part 6 cents sharp."""
    bent = chord(bend=2.0 ** (6.0 * INSIDE / 1200.0))
    assert partials_waver(chord(), bent, CUT)[0] == pytest.approx(6.0, abs=0.8)


@pytest.mark.parametrize("degrees", [30.0, 90.0, 170.0])
def test_a_seam_out_of_phase_is_a_bad_join(degrees):
    """The angle of the jump, and how little both sides then have in common."""
    turned = np.where(np.arange(FRAMES) < END, chord(np.radians(degrees)), chord())
    join, jump = joins(chord(), turned, CUT)
    assert jump[0] == pytest.approx(degrees, abs=3.0)
    assert join[0] == pytest.approx(1.0 - np.cos(np.radians(degrees)), abs=0.1)


def test_a_dip_is_seen():
    """Half the amplitude for 50 ms is 6 dB."""
    dipped = chord() * np.where(np.abs(PLACE - 1.5) < 0.025, 0.5, 1.0)
    assert dips_db(chord(), dipped, np.arange(FRAMES)).max() == pytest.approx(6.0, abs=0.6)
