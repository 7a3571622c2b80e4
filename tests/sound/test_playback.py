"""The engine: a short share of `bench/engine.py`, and loops."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from bench.engine import make_material, through_operations, wrong_samples

from supple_snare.sound.ahead import ReadAhead
from supple_snare.sound.playback import LOOP_FADE, Block, Renderer


@pytest.fixture
def material(tmp_path):
    """Six tracks of six seconds."""
    return make_material(tmp_path, tracks=6, seconds=6.0, seed=3)


def test_what_sounds_is_the_files_through_starts_loops_and_switches(qapp, material):
    """Fades aside, to the sample; and at once."""
    blocks, _ran_out, waits_s = through_operations(material, seed=2, operations=24, pause_s=0.12)
    compared, wrong, _ = wrong_samples(material, blocks)
    assert compared > 40_000
    assert wrong == 0
    assert {block.programme.tightened for block in blocks} == {True, False}
    assert any(block.programme.loop for block in blocks)
    assert np.median(waits_s) < 0.06


@pytest.mark.parametrize("length", [300, 1_000, 1_024, 5_000])
def test_a_loop_of_any_length_goes_round_without_a_jump(material, length):
    """Also one shorter than a block."""
    reads = ReadAhead()
    renderer = Renderer(replace(material.programme, loop=(48_000, 48_000 + length)), 10_000, reads)
    blocks = []
    for _ in range(12):
        position = renderer.position
        blocks.append(Block(renderer.next(), position, renderer.programme))
    assert blocks[0].position == 48_000
    compared, wrong, _ = wrong_samples(material, blocks)
    assert wrong == 0
    assert compared > 12 * 1_024 * (length - LOOP_FADE) / length - 1_024
    renderer.close()
    reads.close()
