"""Sources: what the take teaches about its microphones."""

from __future__ import annotations

from functools import partial

import numpy as np
import pytest

from supple_snare.sound.events import gather_events
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.sound.sources import Sources, learn_sources, strengths
from tests.conftest import RATE_HZ, drum_line, levels_of

SECONDS = 20
line = partial(drum_line, seconds=SECONDS, softest=0.5)
SNARE_S = np.arange(0.6, 19.0, 1.13)
KICK_S = np.arange(0.9, 19.0, 0.71)


@pytest.fixture(scope="module")
def learned() -> tuple[Sources, list[BandLevels]]:
    """Snare, kick, a tom nobody plays, and a room microphone 14 ms away."""
    rng = np.random.default_rng(6)
    snare, kick = line(rng, SNARE_S, 210.0), line(rng, KICK_S, 70.0)
    delay = {"snare": 95, "kick": 80, "tom": 60, "room": round(0.014 * RATE_HZ)}
    microphones = [
        snare + 0.2 * np.roll(kick, delay["snare"]),
        kick + 0.1 * np.roll(snare, delay["kick"]),
        0.25 * np.roll(snare, delay["tom"]) + 0.3 * np.roll(kick, delay["tom"]),
        0.5 * np.roll(snare + kick, delay["room"]),
    ]
    noisy = [sound + rng.normal(size=len(sound)) * 1e-4 for sound in microphones]
    heard = [
        np.sort(np.concatenate([SNARE_S + own_snare, KICK_S + own_kick]))
        for own_snare, own_kick in (
            (0.0, delay["snare"] / RATE_HZ),
            (delay["kick"] / RATE_HZ, 0.0),
            (delay["tom"] / RATE_HZ, delay["tom"] / RATE_HZ),
            (0.014, 0.014),
        )
    ]
    levels = [levels_of(sound) for sound in noisy]
    return learn_sources(gather_events(levels, heard)), levels


@pytest.mark.parametrize(("strays_s", "farther_s"), [(0.0005, 0.025), (0.009, 0.0)])
def test_a_player_who_lags_is_no_far_microphone(strays_s, farther_s):
    """What a room hears follows each drum by a steady time; a bass 25 ms behind does not."""
    rng = np.random.default_rng(3)
    behind_s = np.sort(np.concatenate([SNARE_S, KICK_S])) + 0.025
    heard = [SNARE_S, KICK_S, np.sort(behind_s + rng.normal(0.0, strays_s, len(behind_s)))]
    nothing = levels_of(np.zeros(SECONDS * RATE_HZ))
    distance_s = gather_events([nothing] * 3, heard).distance_s
    assert distance_s == pytest.approx([0.0, 0.0, farther_s], abs=0.001)


def test_close_microphones_are_told_from_idle_and_far_ones(learned):
    """Snare and kick have a drum of their own, the tom and the room have not; the room's distance is found."""
    sources, _ = learned
    assert (sources.closeness > 0.0).tolist() == [True, True, False, False]
    assert sources.distance_s[:3].tolist() == [0.0, 0.0, 0.0]
    assert sources.distance_s[3] == pytest.approx(0.013, abs=0.002)


def test_a_pattern_has_its_source_loudest_in_its_own_microphone(learned):
    """One unit there, less in all others, and in the kick's microphone a tenth of the snare."""
    sources, _ = learned
    size = np.sqrt(np.sum(sources.pattern**2, axis=1))
    assert np.diagonal(size) == pytest.approx(np.ones(4))
    assert (size <= 1.0 + 1e-9).all()
    assert size[1, 0] == pytest.approx(0.1, abs=0.08)


def test_strengths_say_who_was_struck(learned):
    """At the snare's strokes the snare, at the kick's the kick, between them neither."""
    sources, levels = learned
    apart = [np.min(np.abs(KICK_S - time)) > 0.08 for time in SNARE_S]
    for times, own, other in ((SNARE_S[apart], 0, 1), (KICK_S[1::3], 1, 0)):
        clear = times[[np.min(np.abs((SNARE_S if own else KICK_S) - time)) > 0.08 for time in times]]
        strength = strengths(sources.heard(levels, clear), sources.pattern)
        assert np.median(strength[:, own]) > 5.0 * np.median(strength[:, other])
    quiet = strengths(sources.heard(levels, np.array([0.1, 0.2, 0.3])), sources.pattern)
    assert quiet[:, :2].max() < 0.05


def test_a_lone_microphone_is_close_and_silence_teaches_nothing():
    """One track has nobody to be compared with; a silent one has no attacks."""
    rng = np.random.default_rng(7)
    alone = learn_sources(gather_events([levels_of(line(rng, SNARE_S, 200.0))], [SNARE_S]))
    assert alone.closeness[0] > 0.0
    silent = learn_sources(gather_events([levels_of(np.zeros(RATE_HZ))] * 2, [np.zeros(0), np.zeros(0)]))
    assert np.isfinite(silent.pattern).all()


def test_a_drum_struck_five_times_is_learned_from_its_strokes():
    """All else bleeds less than 5 dB down and comes 2 ms late, and what plays most (hats) has no microphone."""
    rng, late_s, bleed = np.random.default_rng(6), 0.002, 0.6
    tom_s, hats_s = np.array([3.13, 6.97, 10.41, 14.29, 17.83]), np.arange(0.35, 19.0, 0.29)
    hats_s = hats_s[np.min(np.abs(hats_s[:, None] - tom_s), axis=1) > 0.05]
    played = {"snare": SNARE_S, "kick": KICK_S, "tom": tom_s, "hats": hats_s}
    snare, kick, tom = line(rng, SNARE_S, 210.0), line(rng, KICK_S, 70.0), line(rng, tom_s, 110.0)
    hats = np.diff(line(rng, hats_s, 5_000.0), prepend=0.0)
    hats *= np.abs(snare).max() / np.abs(hats).max()

    def delayed(sound: np.ndarray) -> np.ndarray:
        return np.roll(sound, round(late_s * RATE_HZ))

    microphones = [
        snare + delayed(bleed * (kick + tom) + 0.2 * hats),
        kick + delayed(bleed * (snare + tom) + 0.1 * hats),
        tom + delayed(bleed * (snare + kick) + 0.4 * hats),
        delayed(hats + bleed * (snare + kick + tom)),
    ]
    levels = [levels_of(sound + rng.normal(size=len(sound)) * 1e-4) for sound in microphones]
    heard_s = [
        np.sort(np.concatenate([times + late_s * (name != own) for name, times in played.items()]))
        for own in ("snare", "kick", "tom", "")
    ]
    sources = learn_sources(gather_events(levels, heard_s))
    heard = sources.heard(levels, tom_s)
    strength = strengths(heard, sources.pattern)
    worth = [sources.worth(heard, strength, source) for source in range(3)]
    assert (worth[2] > np.maximum(worth[0], worth[1])).all()
    likeness = [
        np.corrcoef(each[:, :, 2].ravel(), heard.mean(axis=0).ravel())[0, 1]
        for each in (sources.pattern, sources.usual_pattern)
    ]
    assert likeness[0] > max(0.95, likeness[1]), "what is struck five times is not made a mixture of all else"
    left_over = {name: sources.left_over(sources.heard(levels, times), 2) for name, times in played.items()}
    assert left_over["tom"].min() > 0.4
    assert max(left_over[name].max() for name in ("snare", "kick", "hats")) < 0.2


def test_a_source_learned_twice_does_not_foretell_itself():
    """An overhead that hears the kick as loud as anything may have learned it too: the kick's strokes stay its own."""
    rng = np.random.default_rng(9)
    kick, snare = (np.abs(rng.normal(size=(3, BANDS))) for _ in range(2))
    kick[1], snare[0] = 0.1 * kick[1], 0.1 * snare[0]
    pattern = np.stack([kick, snare, kick], axis=2)
    pattern /= np.sqrt(np.sum(pattern**2, axis=1)).max(axis=0)
    size = np.sqrt(np.sum(pattern[0, :, 0] ** 2))
    sources = Sources(np.zeros(3), np.ones(3), pattern / size, pattern / size, np.array([9.0, 9.0, 1.0]))
    heard = np.einsum("n,jb->njb", [0.5, 1.0], sources.pattern[:, :, 0])
    assert sources.left_over(heard, 0) == pytest.approx([0.5, 1.0], rel=0.1)
    strength = strengths(heard, sources.pattern)
    assert (sources.worth(heard, strength, 0) > sources.worth(heard, strength, 1)).all()
