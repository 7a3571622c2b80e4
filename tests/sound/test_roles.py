"""Roles given by hand go before what the sound tells."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from supple_snare.sound.alike import alike
from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_group
from supple_snare.sound.ear import Ear
from supple_snare.sound.files import read_recording
from supple_snare.sound.roles import NO_DRUM, given_among, with_given


@pytest.fixture(scope="module")
def heard(shared_take):
    """Ears and analyses of the tracks of a take."""
    ears = [Ear.of(read_recording(path)) for path in shared_take.files]
    return ears, [analyse(ear) for ear in ears]


def test_given_drums_move_who_stands_for_the_others():
    """Those that a track stood for keep one another."""
    assert with_given(np.array([0, 0, 0, 3]), {0: 0}).tolist() == [0, 1, 1, 3]
    assert with_given(np.array([0, 1, 2, 2]), {2: 0, 3: NO_DRUM}).tolist() == [0, 1, 0, 3]
    assert given_among({1: 2, 4: NO_DRUM, 3: 9}, [1, 3, 4]) == {0: 0, 1: 1, 2: NO_DRUM}


def test_nothing_is_played_into_a_track_that_is_said_to_have_no_drum(heard):
    """However loud it is; the others keep most of their strokes."""
    ears, analyses = heard
    as_told = judge_group(ears, analyses, {0: NO_DRUM})
    as_heard = judge_group(ears, analyses)
    assert as_heard[0].played.any()
    assert not as_told[0].played.any()
    for mine, before in zip(as_told[1:], as_heard[1:], strict=True):
        assert np.count_nonzero(mine.played) >= 0.8 * np.count_nonzero(before.played)


def test_a_track_is_another_microphone_of_a_drum_if_it_is_said_to_be(heard):
    """It has the number of that drum, and is judged without the other."""
    ears, analyses = heard
    told = judge_group(ears, analyses, {1: 0})
    assert told[1].drum == told[0].drum
    assert np.isinf(told[1].twin_odds)


def test_attacks_are_alike_by_spectrum_level_verdict_and_sureness(heard):
    """Each of these parts what is not alike."""
    verdict = judge_group(*heard)[0]
    index = int(np.argmin(np.where(verdict.played, verdict.log_odds, np.inf)))
    near = alike(verdict, index)
    assert near[index]
    assert (verdict.played[near] == verdict.played[index]).all()
    others = np.flatnonzero(near & (np.arange(len(near)) != index))
    surest = replace(verdict, log_odds=np.where(np.arange(len(near)) == index, 1e3, verdict.log_odds))
    assert np.count_nonzero(alike(surest, index)) > len(others)
    for changed in (
        replace(surest, level_db=np.where(np.arange(len(near)) == index, -99.0, verdict.level_db)),
        replace(surest, spectrum_db=np.where(np.arange(len(near))[:, None] == index, 30.0, verdict.spectrum_db)),
    ):
        assert np.flatnonzero(alike(changed, index)).tolist() == [index]
