"""The engine: a short share of `bench/engine.py`, and loops."""

from __future__ import annotations

import time
from dataclasses import replace

import pytest
from bench.engine import GIVE_UP_S, make_material, through_operations, wrong_samples

from supple_snare.sound.ahead import ReadAhead
from supple_snare.sound.playback import LOOP_FADE, Block, BlockQueue, Producer, Renderer


@pytest.fixture
def material(tmp_path):
    """Six tracks of six seconds."""
    return make_material(tmp_path, tracks=6, seconds=6.0, seed=3)


def test_what_sounds_is_the_files_through_starts_loops_and_switches(qapp, material):
    """Fades aside, to the sample, after every start."""
    blocks, _ran_out, waits_s = through_operations(material, seed=2, operations=24, pause_s=0.12)
    compared, wrong, _ = wrong_samples(material, blocks)
    assert compared > 40_000
    assert wrong == 0
    assert {block.programme.tightened for block in blocks} == {True, False}
    assert any(block.programme.loop for block in blocks)
    assert max(waits_s) < GIVE_UP_S


def test_a_change_is_heard_once_what_lies_ready_is_over(material):
    """Whatever the pace of the machine: six blocks lie ready or are being made, and the seventh fades over."""
    queue, reads = BlockQueue(), ReadAhead()
    producer = Producer(queue, material.programme, 10_000, reads)
    producer.start()
    taken(queue, 4)
    producer.wanted = replace(material.programme, tightened=False)
    blocks = taken(queue, 8)
    producer.running.clear()
    producer.join()
    reads.close()
    first = next(number for number, block in enumerate(blocks) if not block.programme.tightened)
    assert first <= 6
    assert [block.fades for block in blocks].index(True) == first


def taken(queue: BlockQueue, count: int) -> list[Block]:
    """The next blocks, as soon as they are there."""
    blocks: list[Block] = []
    until = time.monotonic() + GIVE_UP_S
    while len(blocks) < count and time.monotonic() < until:
        block = queue.take()
        if block is None:
            time.sleep(0.001)
        else:
            blocks.append(block)
    return blocks


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
