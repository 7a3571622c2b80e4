"""Fits the weights by which the first beat of a bar is chosen (`timing/bar_signs.py`), the beats being known.

python bench/bars.py [--takes 1200] [--folds]

Takes begin with a pick-up, without their first stroke or with fewer drums, and end on a one or anywhere.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from choosing import Case, main
from playing import CENTRE_HZ, FloatArray, Played, drawn, drums, play, written
from supple_snare.timing.bar_signs import WEIGHTS, bar_signs
from supple_snare.timing.meter import Meter
from supple_snare.timing.tempo import hit_weights


@dataclass(frozen=True)
class Hits:
    """Hits in order of time, arrays of shape (n,): moments, levels, and names of the drums."""

    time_s: FloatArray
    level_db: FloatArray
    drum: np.ndarray[tuple[int], np.dtype[np.str_]]

    def only(self, kept: np.ndarray[tuple[int], np.dtype[np.bool_]]) -> Hits:
        """Some of them."""
        return Hits(self.time_s[kept], self.level_db[kept], self.drum[kept])

    def with_more(self, time_s: FloatArray, level_db: FloatArray, drum: list[str]) -> Hits:
        """Those and others."""
        time_s = np.concatenate([self.time_s, time_s])
        order = np.argsort(time_s, kind="stable")
        level_db, drums = np.concatenate([self.level_db, level_db]), np.concatenate([self.drum, np.array(drum, str)])
        return Hits(time_s[order], level_db[order], drums[order])


def arranged(played: Played, rng: np.random.Generator) -> Hits:
    """A performance with a beginning and an end such as takes have."""
    names = drums(played.manner)
    hits = Hits(played.hits_s, played.hits_db, np.array([names[number] for number in played.hits_lead], str))
    beats_s = played.beats_s
    beat_s = float(np.median(np.diff(beats_s)))
    count = played.manner.meter.felt_count
    if rng.random() < 0.2:  # a drum that enters later
        enters_s = beats_s[min(int(rng.choice([1, 2, 4])) * count, len(beats_s) - 1)] - 0.1
        hits = hits.only((hits.drum != rng.choice(names)) | (hits.time_s > enters_s))
    begins = rng.random()
    if begins < 0.2:
        hits = _with_pick_up(hits, played, count, beat_s, rng)
    elif begins > 0.95:  # the first stroke is missing
        hits = hits.only(hits.time_s > beats_s[0] + 0.4 * beat_s)
    ends = rng.random()
    if ends < 0.5:  # on a one
        struck = [name for name in ("low", "snare") if name in names][: 1 + int(rng.random() < 0.4)]
        last_s = beats_s[-1] + beat_s + rng.normal(0.0, 0.008, len(struck))
        return hits.with_more(last_s, np.zeros(len(struck)), struck)
    if ends < 0.75:  # anywhere
        return hits.only(hits.time_s < beats_s[-1 - rng.integers(0, count)] + 0.5 * beat_s)
    return hits


def _with_pick_up(hits: Hits, played: Played, count: int, beat_s: float, rng: np.random.Generator) -> Hits:
    """With a fill of some beats, less than a bar, before the first bar."""
    names = drums(played.manner)
    beats = 0.5 if rng.random() < 0.15 else float(rng.integers(1, max(count, 2)))
    division = int(rng.choice([2, 4])) if played.manner.feel.startswith(("straight", "mixed")) else 3
    at = np.arange(int(beats * division)) / division
    at = at[rng.random(len(at)) < 0.8]
    fills = [name for name in names if name in ("snare", "tom")] or names[:1]
    time_s = played.beats_s[0] + (at - beats) * beat_s + rng.normal(0.0, 0.008, len(at))
    return hits.with_more(time_s, rng.uniform(-6.0, 0.0, len(at)), rng.choice(fills, len(at)).tolist())


def case(seed: int) -> Case:
    """A take, and which beats of its bars are their first."""
    rng = np.random.default_rng([seed, 321])
    fixed: dict[str, object] = {"wander": 0.03} if seed % 2 else {}
    played = play((written if seed % 3 else drawn)(seed, bars=16 + seed % 20, **fixed), seed)
    hits = arranged(played, rng)
    names, lead = np.unique(hits.drum, return_inverse=True)
    centre_hz = np.array([CENTRE_HZ[name] * 2.0 ** rng.normal(0.0, 0.3) for name in names])
    beats_s, count = played.beats_s, played.manner.meter.felt_count
    ends = np.diff(beats_s)[[0, -1]]
    # The beats go on beyond both ends.
    before, behind = np.arange(-3 * count, 0), np.arange(1, 2 * count + 1)
    beats_s = np.concatenate([beats_s[0] + ends[0] * before, beats_s, beats_s[-1] + ends[1] * behind])
    turned = int(rng.integers(count))
    place = np.interp(hits.time_s, beats_s, np.arange(len(beats_s)) + turned)
    told = 4 if played.manner.meter == Meter(2, 4) else count  # nobody hears bars of two from bars of four
    signs = bar_signs(place, hit_weights(hits.level_db, lead), lead, centre_hz if seed % 5 else None, told)
    return (
        played.manner.groove,
        np.stack([signs[name] for name in WEIGHTS], axis=1),
        (np.arange(told) - turned) % count == 0,
    )


if __name__ == "__main__":
    main(__doc__ or "", case, WEIGHTS)
