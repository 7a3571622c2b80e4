"""Fits the weights by which a beat is chosen (`timing/beat_signs.py`), on performances at random and written ones.

python bench/tempo.py [--takes 1200] [--folds]

With `--folds` the written rhythms are left out by turns, and it is told how often the right beat is chosen in those.
"""

from __future__ import annotations

import numpy as np

from choosing import Case, main
from playing import drawn, play, written
from supple_snare.timing.beat_signs import WEIGHTS
from supple_snare.timing.tempo import followed_tracks, hit_weights


def case(seed: int) -> Case:
    """A take, and which of the tempos that may be followed through it are right."""
    fixed: dict[str, object] = {"wander": 0.04} if seed % 2 else {}
    fixed["bars"] = 24 + seed % 13
    played = play((written if seed % 3 else drawn)(seed, **fixed), seed)
    time_s, level_db, lead = played.hits_s, played.hits_db, played.hits_lead
    if seed % 7 == 5:  # all in one track
        lead = np.zeros_like(lead)
    elif seed % 7 == 6 and len(np.unique(lead)) > 2:  # a drum without a microphone
        kept = lead != np.unique(lead)[seed % len(np.unique(lead))]
        time_s, level_db, lead = time_s[kept], level_db[kept], lead[kept]
    rows, right = [], []
    for signs, track in followed_tracks(time_s, hit_weights(level_db, lead), lead):
        beat = track.beat_at(played.beats_s)
        rows.append([signs[name] for name in WEIGHTS])
        near = abs(np.log(track.felt_bpm / played.manner.felt_bpm)) < 0.03
        right.append(near and float(np.median(np.abs(beat - np.rint(beat)))) < 0.12)
    return played.manner.groove, np.array(rows), np.array(right)


if __name__ == "__main__":
    main(__doc__ or "", case, WEIGHTS)
