"""Attacks without what the neighbours' strokes put into their microphone."""

from dataclasses import replace

import numpy as np
import pytest

from supple_snare.sound.bare import Heard, bare_attacks
from supple_snare.sound.rises import AFTER_S, BEFORE_S, measure_rises
from supple_snare.sound.shapes import likeness, loudness
from supple_snare.sound.signs import SIGNS, Signs

RATE = 48_000
BASS_S = np.arange(0.5, 12.0, 0.5)
SNARE_S = BASS_S[:8] + 0.25
GHOSTS_S = BASS_S[[5, 11, 17]] + 0.003


def stroke(seed, low_hz, high_hz, length_s=0.12):
    """A burst that is alike at every stroke."""
    rng = np.random.default_rng(seed)
    at = np.arange(round(length_s * RATE)) / RATE
    tones = sum(
        np.sin(2.0 * np.pi * hz * at + phase) for hz, phase in rng.uniform([low_hz, 0.0], [high_hz, 6.0], (20, 2))
    )
    return tones / np.abs(tones).max() * np.exp(-at / 0.02)


def line(stroke_, times_s, level=1.0, seed=0):
    rng = np.random.default_rng(seed)
    sound = np.zeros(13 * RATE)
    for time_s in times_s:
        at = round(time_s * RATE)
        sound[at : at + len(stroke_)] += level * rng.uniform(0.8, 1.0) * stroke_
    return sound


def heard(sound, times_s, odds, is_close=True):
    centres = np.rint(times_s * RATE).astype(np.intp) + 200
    windows = np.stack([sound[at - round(BEFORE_S * RATE) : at + round(AFTER_S * RATE)] for at in centres])
    rises = measure_rises(windows, centres, np.full(len(centres), 12.0, dtype=np.float32), rate_hz=RATE)
    return Heard(rises, times_s, odds, is_close)


@pytest.fixture(scope="module")
def duet():
    """The microphones of a snare and a bass drum, which bleeds twice as loud as the ghost notes beneath it."""
    bass, snare = stroke(1, 60.0, 900.0), stroke(2, 200.0, 3_500.0)
    rng = np.random.default_rng(3)
    low, high = line(bass, BASS_S, seed=4), line(snare, SNARE_S, seed=5)
    way = np.zeros(400)
    way[[90, 130, 220, 310]] = 0.4, 0.2, -0.15, 0.08
    bled = np.convolve(low, way)[: len(low)]
    mine = high + line(snare, GHOSTS_S, 0.15, seed=6) + bled + 1e-4 * rng.normal(size=len(low))
    bass_heard_s = BASS_S + 90 / RATE
    all_s = np.sort(np.concatenate([SNARE_S, bass_heard_s]))
    odds = np.where(np.isin(all_s, SNARE_S), 4.0, -4.0)
    theirs = heard(low + 1e-4 * rng.normal(size=len(low)), BASS_S, np.full(len(BASS_S), 4.0))
    return heard(mine, all_s, odds), theirs, np.isin(all_s, bass_heard_s[[5, 11, 17]])


def test_what_only_bleeds_in_goes_and_a_ghost_note_comes_out(duet):
    snare, bass, ghosts = duet
    bare, own = bare_attacks([snare, bass], 0), snare.guess > 0.0
    change_db = 20.0 * np.log10(loudness(bare, snare.start_s) / loudness(snare.rises, snare.start_s))
    assert np.all(change_db[~own & ~ghosts] < -15.0)
    assert np.all(np.abs(change_db[own]) < 0.1)
    like, _ = likeness(bare, snare.start_s, own)
    assert np.all(like[ghosts] > 0.8)
    assert np.all(likeness(snare.rises, snare.start_s, own)[0][ghosts] < 0.6)


@pytest.mark.parametrize(
    "other",
    [
        lambda bass: replace(bass, is_close=False),
        lambda bass: replace(bass, guess=-bass.guess),
        lambda bass: replace(bass, start_s=bass.start_s + 0.1),
    ],
    ids=["far", "never struck", "at other times"],
)
def test_nothing_is_taken_off_for_who_did_not_play_along(duet, other):
    snare, bass, _ = duet
    bare = bare_attacks([snare, other(bass)], 0)
    assert np.array_equal(bare.shape, snare.rises.shape)
    assert bare.shape_peak == pytest.approx(snare.rises.shape_peak, rel=1e-9)


def test_an_attack_that_is_like_one_example_only_is_not_like_the_strokes():
    """The beater bounces off the drum now and then, and one bounce is taken for a stroke at first."""
    blow, bounce = stroke(1, 60.0, 900.0), stroke(7, 300.0, 3_000.0)
    bounces_s = BASS_S[::4] + 0.2
    times_s = np.sort(np.concatenate([BASS_S, bounces_s]))
    is_bounce = np.isin(times_s, bounces_s)
    odds = np.where(is_bounce & (times_s > bounces_s[0]), -1.0, 4.0)
    drum = heard(line(blow, BASS_S) + line(bounce, bounces_s, 0.3), times_s, odds)
    signs = Signs(**dict.fromkeys(SIGNS, np.zeros(len(times_s)))).beside_plain_ones(drum, drum.rises)
    assert likeness(drum.rises, times_s, odds > 2.0)[0][is_bounce][1:].min() > 0.9
    assert signs.bare_like_own[is_bounce].max() < 0.8
    assert signs.bare_like_own[~is_bounce].min() > 1.5
