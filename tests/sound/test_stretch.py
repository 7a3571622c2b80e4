"""Stretching: attacks copied bit for bit, microphones in phase with one another, pitch and level as they were."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.signal import hilbert

from supple_snare.sound.cut import SeamMemory, plan_cut
from supple_snare.sound.files import BlockReader, read_recording
from supple_snare.sound.gaps import CutSettings
from supple_snare.sound.material import Material
from supple_snare.sound.stretch.overlap_add import find_splices
from supple_snare.sound.stretch.vocoder import StretchedPart, margin, stretch_locked, unmet_phase
from supple_snare.sound.stretch.ways import Method, Way, way_of
from tests.conftest import RATE_HZ

ATTACK_S = np.array([0.3, 1.0, 1.6, 2.5])
APART = 31
"""Samples by which the far microphone hears everything later."""


def plucked(hz: float, length_s: float, rng: np.random.Generator) -> np.ndarray:
    """Six partials that die away, and a noisy beginning."""
    place = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
    sound = sum(
        np.sin(2 * np.pi * hz * number * place + rng.uniform(0, 6)) * np.exp(-place * (1.0 + 0.4 * number)) / number
        for number in range(1, 7)
    )
    sound[:480] += rng.normal(size=480) * np.linspace(1.0, 0.0, 480)
    return sound


@pytest.fixture(scope="module")
def guitar(tmp_path_factory):
    """Two tracks of one guitar whose notes ring into one another, one of them stereo."""
    folder, rng = tmp_path_factory.mktemp("guitar"), np.random.default_rng(5)
    near = np.zeros(4 * RATE_HZ)
    for at, hz in zip(np.rint(ATTACK_S * RATE_HZ).astype(int), (220.0, 330.0, 247.0, 440.0), strict=True):
        note = plucked(hz, 1.4, rng)
        near[at : at + len(note)] += note[: len(near) - at]
    near *= 0.2
    far = np.stack([0.5 * np.roll(near, APART), -0.3 * np.roll(near, APART)], axis=1)
    recordings = []
    for name, sound in (("near", near), ("far", far)):
        path = folder / f"{name}.wav"
        soundfile.write(path, sound, RATE_HZ, subtype="PCM_24")
        recordings.append(read_recording(path))
    return recordings


def planned(recordings, move, way=Way.RINGING, **more):
    """A plan that moves the notes of the guitar."""
    attack = np.rint(ATTACK_S * RATE_HZ).astype(np.int64)
    return plan_cut(
        recordings,
        first_arrival=attack,
        arrivals=np.sort(np.concatenate([attack, attack + APART])),
        move=np.asarray(move, dtype=np.int64),
        settings=CutSettings(lead_in_ms=4.0, attack_ms=40.0),
        ways=way,
        **more,
    )


def rendered(recording, edits, size=70_000):
    """Recording and result, block by block."""
    with BlockReader(recording) as reader:
        spans = [(begin, min(size, recording.frames - begin)) for begin in range(0, recording.frames, size)]
        parts = [edits.render(reader.read, *span, quantum=recording.quantum, recording=recording) for span in spans]
        return reader.read(0, recording.frames), np.concatenate(parts)


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.integers(-1_440, 1_440), min_size=4, max_size=4),
    st.sampled_from([Way.RINGING, Way.NOTES, Way.STROKES]),
    st.integers(3_000, 90_000),
)
def test_attacks_are_copied_bit_for_bit(guitar, move, way, size):
    """In every track, from before each attack until 40 ms after it; and the size of blocks cannot be heard."""
    cut = planned(guitar, move, way)
    assert cut.move.tolist() == move
    for recording in guitar:
        source, result = rendered(recording, cut.edits, size)
        for at, by in zip(np.rint(ATTACK_S * RATE_HZ).astype(int), move, strict=True):
            first, last = at - 190, at + 1_900
            assert np.array_equal(result[first + by : last + by], source[first:last])
        assert np.array_equal(rendered(recording, cut.edits)[1], result)


def test_nothing_changes_where_neighbours_move_alike(guitar):
    """Between strokes that move by the same amount every sample is a copy."""
    cut = planned(guitar, [0, 480, 480, 0])
    assert cut.ratio.tolist()[2] == 1.0
    source, result = rendered(guitar[0], cut.edits)
    first, last = round(1.0 * RATE_HZ), round(1.6 * RATE_HZ)
    assert np.array_equal(result[first + 480 : last + 480], source[first:last])


@pytest.mark.parametrize("way", [Way.RINGING, Way.NOTES])
def test_microphones_keep_their_phase_to_one_another(guitar, way):
    """The far one still hears everything as much later, and just as loud."""
    cut = planned(guitar, [0, 1_200, -900, 300], way)
    near = rendered(guitar[0], cut.edits)[1][:, 0].astype(float)
    far = rendered(guitar[1], cut.edits)[1].astype(float)
    inside = slice(round(0.3 * RATE_HZ), round(3.0 * RATE_HZ))
    for channel, gain in ((0, 0.5), (1, -0.3)):
        expected = gain * np.roll(near, APART)
        rest = (far[:, channel] - expected)[inside]
        assert np.sqrt(np.mean(rest**2)) < 0.02 * np.sqrt(np.mean(expected[inside] ** 2))


@pytest.mark.parametrize("change", [-2_400, -700, 333, 1_500, 3_000])
def test_a_partial_keeps_pitch_and_level_and_joins_what_follows(change):
    """A tone of 500 Hz: within 5 cents, within half a dB, and in phase with the copy behind it."""
    hz, source, until = 500.0, 20_000, 40_000
    sound = np.sin(2 * np.pi * hz * np.arange(80_000) / RATE_HZ)
    part = StretchedPart(source, until, until - source + change)
    around = margin(part, RATE_HZ)
    stretched = stretch_locked(sound[None, source - around : until + around], part, RATE_HZ)[0]
    whole = np.concatenate([sound[:source], stretched, sound[until:]])
    tone = hilbert(whole)[5_000:-5_000]
    cents = 1200 * np.log2(np.diff(np.unwrap(np.angle(tone))) * RATE_HZ / (2 * np.pi * hz))
    assert np.abs(np.convolve(cents, np.ones(4_800) / 4_800, mode="valid")).max() < 5.5
    assert np.abs(20 * np.log10(np.abs(tone))).max() < 0.5


def test_what_follows_is_not_heard_before_its_time():
    """Silence before a loud attack stays silent however it is stretched."""
    sound = np.zeros((1, 60_000))
    sound[0, 40_000:] = np.random.default_rng(1).normal(size=20_000)
    part = StretchedPart(20_000, 39_800, 21_000)
    around = margin(part, RATE_HZ)
    stretched = stretch_locked(sound[:, 20_000 - around : 39_800 + around], part, RATE_HZ)
    assert np.abs(stretched).max() < 1e-6


def test_what_cannot_be_bent_to_meet_what_follows_is_told_beforehand():
    """A low tone half a period off does not join, a whole period off it does, and over a longer part it is bent."""
    tone = np.sin(2 * np.pi * 100.0 * np.arange(4_080) / RATE_HZ)[None].astype(np.float32)
    assert unmet_phase(tone, [9_600], 480)[0] < 0.01
    short, long = unmet_phase(tone, [9_600, 120_000], 240)
    assert short > 1.5 and long < 0.1
    assert unmet_phase(0.0 * tone, [9_600], 240) == [0.0]


def test_splices_follow_the_period_and_make_up_the_change():
    """A buzz of 6.1 ms: a change of four periods costs nothing, and any change is met to the sample."""
    period = 293
    sound = np.tile(np.random.default_rng(2).normal(size=period), 80)[None]
    for change in (4 * period, -3 * period, 1_000, -777, 40):
        splices = find_splices(sound, change, 480, RATE_HZ)
        assert sum(each.lag for each in splices) == change
        if change % period == 0:
            assert max(each.unlike for each in splices) < 1e-6
    assert find_splices(sound[:, :600], 500, 480, RATE_HZ) == []


def test_the_sustain_is_stretched_and_silence_before_it(guitar):
    """No stretched part touches an attack; where it is silent between two notes, only silence is stretched."""
    cut = planned(guitar, [0, 0, 0, 900])
    edits = cut.edits
    piece = int(np.flatnonzero(edits.is_stretched)[0])
    begin, end = (int(edits.source_of(edits.at[piece + step] - step)) for step in (0, 1))
    assert ATTACK_S[2] + 0.04 <= begin / RATE_HZ and end / RATE_HZ <= ATTACK_S[3] - 0.004 + 1e-4
    assert cut.ratio[3] == pytest.approx(1.0 + 900 / (end - begin), abs=1e-3)


def test_beyond_an_anchor_nothing_moves(guitar):
    """A place amid a note stays where it is, to the sample, though the strokes around it move."""
    at = round(2.1 * RATE_HZ)
    cut = planned(guitar, [0, 300, 700, -600], anchors=[at])
    assert cut.move.tolist() == [0, 300, 700, -600]
    assert int(cut.edits.source_of(at)) == at


def test_what_was_rendered_is_not_rendered_again(guitar, monkeypatch):
    """A plan that differs in one move shares all other stretched parts with the one before."""
    from supple_snare.sound.stretch import rendering

    made = []
    plain = rendering.stretch_locked
    monkeypatch.setattr(rendering, "stretch_locked", lambda *given: made.append(1) or plain(*given))
    memory = SeamMemory()
    first = rendered(guitar[0], planned(guitar, [100, 400, -300, 0], memory=memory).edits)[1]
    before = len(made)
    rendered(guitar[1], planned(guitar, [100, 400, -300, 0], memory=memory).edits)
    assert before > 2 and len(made) == before
    rendered(guitar[0], planned(guitar, [100, 400, -300, 200], memory=memory).edits)
    assert len(made) <= before + 2
    assert np.array_equal(first, rendered(guitar[0], planned(guitar, [100, 400, -300, 0]).edits)[1])


def test_automatic_cuts_drums_and_stretches_what_rings():
    """Stretching by hand is possible for all; cutting, too."""
    assert way_of(Method.AUTO, Material.DRUM_CLOSE) is Way.CUT
    assert way_of(Method.AUTO, Material.KEYS) is Way.RINGING
    assert way_of(Method.STRETCH, Material.HAND_PERCUSSION) is Way.STROKES
    assert way_of(Method.CUT, Material.VOICE) is Way.CUT
