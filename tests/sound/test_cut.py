"""The cut: attacks whole and where they belong, one list for all tracks, nothing touched that need not be."""

from __future__ import annotations

from unittest.mock import patch

import numpy as np
import pytest
import soundfile
from bench.flaws import levels, render
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.errors import UsageError
from supple_snare.sound.cut import SeamMemory, plan_cut
from supple_snare.sound.files import BlockReader, read_recording
from supple_snare.sound.gaps import CutSettings, Told
from supple_snare.sound.matching import Matcher
from supple_snare.sound.room_tone import find_room_tone
from tests.conftest import RATE_HZ, alike, drum


@pytest.fixture(scope="module")
def group(tmp_path_factory):
    """Two tracks of one drum, the second 2.5 ms away, and when it is struck."""
    folder = tmp_path_factory.mktemp("group")
    rng = np.random.default_rng(4)
    attack = np.sort(rng.choice(np.arange(5, 95), 40, replace=False)) * 2_000
    near = rng.normal(size=200_000) * 1e-4
    for at in attack:
        sound = drum(rng, 160.0)
        near[at : at + len(sound)] += sound[: 200_000 - at]
    recordings = []
    for name, mix in (("near", near), ("far", 0.3 * np.roll(near, 120))):
        path = folder / f"{name}.wav"
        soundfile.write(path, mix * 0.5, RATE_HZ, subtype="PCM_24")
        recordings.append(read_recording(path))
    return recordings, attack


def cut(group, move, **settings_):
    """Plan a cut of the group."""
    recordings, attack = group
    arrivals = np.sort(np.concatenate([attack, attack + 120]))
    return plan_cut(
        recordings,
        first_arrival=attack,
        arrivals=arrivals,
        move=np.asarray(move, dtype=np.int64),
        settings=CutSettings(**settings_),
    )


def rendered(recording, edits):
    """Recording and result."""
    with BlockReader(recording) as reader:
        frames = recording.frames
        return reader.read(0, frames)[:, 0], edits.render(reader.read, 0, frames, quantum=recording.quantum)[:, 0]


moves = st.lists(st.integers(-450, 450), min_size=40, max_size=40)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(moves)
def test_attacks_move_whole_and_stand_in_one_piece(group, wanted):
    """Each attack's first 6 ms are the recording's, moved by its amount, in every track; none sounds twice."""
    recordings, attack = group
    plan = cut(group, wanted)
    assert np.all(np.diff(plan.edits.at) > 0)
    assert np.all(plan.edits.at[1:] - plan.edits.fade[1:] >= plan.edits.at[:-1])
    kept = ~plan.limited
    assert np.array_equal(plan.move[kept], np.asarray(wanted)[kept])
    for recording, late in zip(recordings, (0, 120), strict=True):
        source, result = rendered(recording, plan.edits)
        for at, move in zip(attack + late, plan.move, strict=True):
            assert np.array_equal(result[at + move : at + move + 288], source[at : at + 288])
    onset_sources = plan.edits.source_of(np.arange(recordings[0].frames))
    for at in attack:
        assert np.count_nonzero(onset_sources == at) == 1


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(moves, moves, st.integers(0, 40), st.booleans())
def test_what_was_found_before_only_saves_time(group, first, second, changed, room_tone):
    """A plan beside another one that it shares moves with is the same as alone."""
    recordings, attack = group
    memory, lengths = SeamMemory(), CutSettings(room_tone=room_tone)
    for move in (first, [*second[:changed], *first[changed:]], first):
        asked = {"first_arrival": attack, "arrivals": attack, "move": np.array(move), "settings": lengths}
        assert alike(plan_cut(recordings, **asked, memory=memory), plan_cut(recordings, **asked))


def test_a_moved_stroke_has_only_its_own_seams_looked_for(group):
    """With what was found before nothing else is read again; other settings find everything anew."""
    recordings, attack = group
    memory, move = SeamMemory(), np.full(40, 240)
    move[::2] = -240
    asked = {"first_arrival": attack, "arrivals": attack}
    plan_cut(recordings, **asked, move=move, memory=memory)
    move[20] = 0
    with patch.object(Matcher, "best", autospec=True, side_effect=Matcher.best) as best:
        plan_cut(recordings, **asked, move=move, memory=memory)
        assert 2 <= best.call_count < 12
        once = best.call_count
        plan_cut(recordings, **asked, move=move, memory=memory)
        assert best.call_count == once
        plan_cut(recordings, **asked, move=move, memory=memory, settings=CutSettings(fade_ms=4.0))
        assert best.call_count > once + 30


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(moves, st.booleans(), st.booleans())
def test_a_plan_that_was_kept_is_remembered_without_a_look(group, wanted, room_tone, slid):
    """It is the same once more, also with room tone and slides; after it, nothing of it is looked for."""
    recordings, attack = group
    asked = {"first_arrival": attack, "arrivals": attack, "move": np.array(wanted)}
    asked["settings"] = CutSettings(room_tone=room_tone)
    asked["slides"] = [(int(attack[9]) + 1_500, int(attack[10]) - 300, 30)] if slid else []
    kept, memory = plan_cut(recordings, **asked), SeamMemory()
    with patch.object(Matcher, "best", side_effect=AssertionError("looked for")):
        for known in (kept, None):
            assert alike(plan_cut(recordings, **asked, memory=memory, known=known), kept)


@pytest.fixture(scope="module")
def ringing(tmp_path_factory):
    """Two strokes two seconds apart over a steady sound, and where they stand."""
    rng = np.random.default_rng(5)
    sound = 0.05 * rng.normal(size=200_000)
    attack = np.array([20_000, 120_000])
    for at in attack:
        stroke = drum(rng, 160.0)
        sound[at : at + len(stroke)] += stroke
    path = tmp_path_factory.mktemp("ringing") / "a.wav"
    soundfile.write(path, sound * 0.5, RATE_HZ, subtype="PCM_24")
    return read_recording(path), attack


@pytest.mark.parametrize("by", [-240, 240])
@pytest.mark.parametrize("base", [0, 96])
def test_sound_inside_a_piece_is_slid_between_cuts_where_they_were_put(ringing, by, base):
    """It moves so much more than its piece; before and after it, and at the strokes, all is as without."""
    recording, attack = ringing
    plan = plan_cut(
        [recording],
        first_arrival=attack,
        arrivals=attack,
        move=np.array([base, base]),
        slides=[(60_000, 80_000, by)],
    )
    source, result = rendered(recording, plan.edits)
    assert plan.move.tolist() == [base, base]
    assert not plan.near.any() and not plan.extended.any()
    moved = base + by
    assert np.array_equal(result[60_000 + moved : 79_000 + moved], source[60_000:79_000])
    for start, count in ((20_000, 39_000), (81_000, 60_000)):
        assert np.array_equal(result[start + base : start + base + count], source[start : start + count])


def test_a_slide_ends_at_the_next_stroke(ringing):
    """However long it was meant to be: strokes go where the plan has them."""
    recording, attack = ringing
    plan = plan_cut(
        [recording],
        first_arrival=attack,
        arrivals=attack,
        move=np.array([0, 0]),
        slides=[(60_000, 150_000, 300)],
    )
    source, result = rendered(recording, plan.edits)
    assert np.array_equal(result[60_300:110_300], source[60_000:110_000])
    assert np.array_equal(result[119_900:199_000], source[119_900:199_000])


@pytest.mark.parametrize(("base", "goal"), [(2_000, -1_500), (-1_500, -5_000)])
def test_no_seam_comes_before_the_one_that_was_put_by_hand(ringing, base, goal):
    """A stroke that should come much earlier comes as early as the slide just before it allows, and no less."""
    recording, attack = ringing
    plan = plan_cut(
        [recording],
        first_arrival=attack,
        arrivals=attack,
        move=np.array([base, goal]),
        slides=[(119_000, 150_000, 10)],
    )
    assert np.all(plan.edits.at[1:] - plan.edits.fade[1:] >= plan.edits.at[:-1])
    assert plan.limited.tolist() == [False, True]
    assert base - 1_000 < plan.move[1] < base - 600


def test_gaps_are_filled_with_room_tone_where_that_is_wished(tmp_path):
    """Two strokes 62 ms apart, the second moved 45 ms later: what nobody played sounds between, and no attack twice."""
    rng = np.random.default_rng(6)
    attack = np.array([60_000, 62_976, 140_000])
    played = np.zeros((200_000, 2))
    for at in attack:
        stroke = drum(rng, 160.0)
        played[at : at + len(stroke)] += stroke[:, None] * (1.0, 0.3)
    tone = 0.002 * np.sin(2 * np.pi * 300 / RATE_HZ * np.arange(len(played)))
    recordings = []
    for side in range(2):
        path = tmp_path / f"{side}.wav"
        soundfile.write(path, 0.5 * played[:, side] + tone, RATE_HZ, subtype="PCM_24")
        recordings.append(read_recording(path))
    move = np.array([0, 2_160, 0])
    wanted = {"first_arrival": attack, "arrivals": attack, "move": move}
    tail = plan_cut(recordings, **wanted)
    room = plan_cut(recordings, settings=CutSettings(room_tone=True), **wanted)
    assert tail.extended.any() and not room.extended.any() and not room.limited.any()
    assert 0 < tail.fits[1] < tail.move[1]
    less = plan_cut(recordings, first_arrival=attack, arrivals=attack, move=np.array([0, tail.fits[1], 0]))
    assert not less.extended.any() and not less.near.any()
    sources = room.edits.source_of(np.arange(200_000))
    for at in attack:
        assert np.count_nonzero(sources == at) == 1
    for recording in recordings:
        source, result = rendered(recording, room.edits)
        for at, by in zip(attack, move, strict=True):
            assert np.array_equal(result[at + by : at + by + 1_440], source[at : at + 1_440])
        filled = result[62_976 : 62_976 + 1_700] / 2**31
        assert np.abs(filled).max() < 0.0025


def test_without_a_quiet_stretch_tails_are_extended_all_the_same(group):
    """Strokes too close everywhere: there is no room tone in the take."""
    recordings, attack = group
    assert find_room_tone(recordings, np.arange(0, 200_000, 3_000)) is None
    stretch = find_room_tone(recordings, attack)
    assert not np.any((attack > stretch.start - 4_800) & (attack < stretch.start + stretch.length))


def test_nothing_moved_is_the_recording_to_the_bit(group):
    """A move of nothing makes no seam."""
    plan = cut(group, np.zeros(40))
    assert len(plan.edits) == 1
    source, result = rendered(group[0][0], plan.edits)
    assert np.array_equal(source, result)


def test_neighbours_that_move_alike_stay_joined(group):
    """One move for all: seams only before the first stroke and after the last."""
    plan = cut(group, np.full(40, 200))
    assert len(plan.edits) <= 3
    assert plan.move.tolist() == [200] * 40


def test_what_follows_the_last_stroke_comes_back_to_its_place(group):
    """The end of the file is the recording's end."""
    source, result = rendered(group[0][0], cut(group, np.full(40, -200)).edits)
    assert np.array_equal(source[-190:], result[-190:])


def test_most_samples_are_exact_copies(group):
    """Fades are the only new samples, and they are short."""
    rng = np.random.default_rng(8)
    plan = cut(group, rng.integers(-300, 300, 40))
    assert plan.edits.fade.sum() < 0.06 * 200_000


def test_a_gap_longer_than_the_sustain_is_filled_and_told(tmp_path):
    """A stroke moved 60 ms later from one only 50 ms before it: the tail repeats, the attack is still whole."""
    rng = np.random.default_rng(6)
    sound = rng.normal(size=60_000) * 1e-4
    for at in (20_000, 22_400):
        sound[at : at + 12_000] += drum(rng, 150.0)
    path = tmp_path / "a.wav"
    soundfile.write(path, sound * 0.5, RATE_HZ, subtype="PCM_24")
    arrival = np.array([20_000, 22_400])
    recording = read_recording(path)
    plan = plan_cut([recording], first_arrival=arrival, arrivals=arrival, move=np.array([0, 2_880]))
    assert plan.move.tolist() == [0, 2_880]
    assert plan.extended.tolist() == [False, True]
    source, result = rendered(recording, plan.edits)
    assert np.array_equal(result[22_400 + 2_880 : 22_400 + 3_880], source[22_400:23_400])
    gap = result[22_400:25_200].astype(float)
    assert np.sqrt(np.mean(gap**2)) > 0.1 * np.sqrt(np.mean(source[20_400:22_300].astype(float) ** 2))


def test_a_move_into_the_attack_before_is_limited_and_told(group):
    """An attack cannot be moved through the one before it; the plan says so."""
    recordings, _ = group
    arrival = np.array([50_000, 51_500])
    plan = plan_cut(recordings, first_arrival=arrival, arrivals=arrival, move=np.array([0, -1_490]))
    assert plan.limited.tolist() == [False, True]
    assert -1_490 < plan.move[1] <= 0


def test_the_first_stroke_is_never_moved_out_of_the_file(group):
    """An attack at 2 ms cannot go back by 10."""
    recordings, _ = group
    arrival = np.array([96, 50_000])
    plan = plan_cut(recordings, first_arrival=arrival, arrivals=arrival, move=np.array([-480, 0]))
    assert plan.move[0] >= -96


def test_progress_is_told(group):
    """Long work reports its share and can be stopped by it."""
    recordings, attack = group
    shares = []
    move = np.arange(40)
    plan_cut(recordings, first_arrival=attack, arrivals=attack, move=move, progress=shares.append)
    assert shares == sorted(shares)
    assert len(shares) >= 2


@pytest.mark.parametrize("later", [1_900, -1_900])
def test_a_decay_is_wound_on_or_back_in_small_steps(tmp_path, later):
    """A tone that falls by 0.35 dB a millisecond, its next stroke 40 ms off: no step of 9 dB, in no track."""
    rng = np.random.default_rng(7)
    place = np.arange(14_000) / RATE_HZ
    fast = np.sin(2 * np.pi * 180.0 * place) * 10 ** (-0.35 * 1000 * place / 20)
    slow = np.sin(2 * np.pi * 90.0 * place) * 10 ** (-0.03 * 1000 * place / 20)
    attack = np.array([20_000, 26_400])
    recordings = []
    for name, tone in (("close", fast), ("room", slow)):
        sound = rng.normal(size=60_000) * 1e-5
        for at in attack:
            sound[at : at + len(tone)] += 0.5 * tone
        soundfile.write(tmp_path / f"{name}.wav", sound, RATE_HZ, subtype="PCM_24")
        recordings.append(read_recording(tmp_path / f"{name}.wav"))
    plan = plan_cut(recordings, first_arrival=attack, arrivals=attack, move=np.array([0, later]))
    assert plan.move.tolist() == [0, later]
    edits = plan.edits
    inside = edits.at < attack[1] + later
    for recording in recordings:
        with BlockReader(recording, "float64") as reader:
            sound = reader.read(0, recording.frames)[:, 0]
        power = np.convolve(sound**2, np.ones(480) / 480, "same") + 1e-8
        ends = zip(edits.at[1:], edits.shift[1:], edits.shift[:-1], inside[1:], strict=True)
        steps = [10 * np.log10(power[at - come] / power[at - leave]) for at, come, leave, own in ends if own]
        assert steps
        assert np.abs(steps).max() < 9.0


def _beating(rng):
    """Two close tones that beat and a third, each with a decay of its own: a ring that swells and dips as it falls."""
    tones = (
        (rng.uniform(120, 400), 1.0, rng.uniform(0.05, 0.2)),
        (rng.uniform(130, 430), rng.uniform(0.3, 1.0), rng.uniform(0.15, 0.35)),
        (rng.uniform(300, 900), rng.uniform(0.1, 0.5), rng.uniform(0.1, 0.3)),
    )
    place_s = np.arange(12_000) / RATE_HZ
    return sum(
        level * np.sin(2 * np.pi * hz * place_s + rng.uniform(0, 6)) * 10 ** (-falls * 1000 * place_s / 20)
        for hz, level, falls in tones
    )


@pytest.mark.parametrize("seed", range(40, 56))
def test_levels_neither_waver_through_a_fade_nor_jump(tmp_path, seed):
    """Rings that beat, in three microphones, struck every 100 to 160 ms and moved 12 to 30 ms apart and together."""
    rng = np.random.default_rng(seed)
    attack = 20_000 + np.concatenate([[0], np.cumsum(rng.integers(4_800, 7_500, 7))])
    move = np.where(np.arange(8) % 2, 1, -1) * rng.integers(600, 1_500, 8)
    recordings, later = [], (0, 140, 1_000)
    for behind, level in zip(later, (0.4, 0.12, 0.08), strict=True):
        sound = rng.normal(size=130_000) * 1e-4
        for at in attack + behind:
            sound[at : at + 12_000] += level * _beating(rng)
        soundfile.write(tmp_path / f"{behind}.wav", sound, RATE_HZ, subtype="PCM_24")
        recordings.append(read_recording(tmp_path / f"{behind}.wav"))
    arrivals = np.sort(np.concatenate([attack + behind for behind in later]))
    edits = plan_cut(recordings, first_arrival=attack, arrivals=arrivals, move=move).edits
    for recording in recordings:
        with BlockReader(recording, "float64") as reader:
            sound = reader.read(0, recording.frames)[:, 0]
        away_db, jump_db, _ = levels(sound, render(edits, sound), edits)
        assert np.abs(away_db).max() < 2.0
        assert abs(jump_db) < 11.0


def test_a_seam_put_by_hand_is_where_it_was_put_and_one_that_cannot_be_is_not_believed(group):
    """Earlier in the sustain by 5 ms; inside the attack it belongs to, or before the last seam, it is left out."""
    recordings, attack = group
    move = np.zeros(40, dtype=np.int64)
    index = int(np.argmax(np.diff(attack[:39]) > 8_000)) + 1
    move[index:] = 300
    arrivals = np.sort(np.concatenate([attack, attack + 120]))

    def places(told):
        plan = plan_cut(recordings, first_arrival=attack, arrivals=arrivals, move=move, places=told)
        return plan.edits.at[1:] - plan.edits.shift[1:], plan

    own, _ = places(None)
    put, plan = places({index: Told(int(own[0]) - 240)})
    assert put[0] == own[0] - 240
    assert plan.move.tolist() == move.tolist()
    assert plan.edits.fade[1] == 240
    assert places({index: Told(int(own[0]), 700)})[1].edits.fade[1] == 700
    assert places({index: Told(int(attack[index]) + 500)})[0].tolist() == own.tolist()
    assert places({index: Told(int(own[0]), int(own[0]) + 500)})[0].tolist() == own.tolist()
    assert places({index: Told(-9_000)})[0].tolist() == own.tolist()


@pytest.mark.parametrize("wrong", [{"lead_in_ms": 0.0}, {"fade_ms": 200.0}, {"attack_ms": -1.0}])
def test_lengths_that_make_no_sense_are_refused(wrong):
    """In words."""
    with pytest.raises(UsageError, match="ms"):
        CutSettings(**wrong)
