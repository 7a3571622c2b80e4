"""A band made of times alone, which tests of tempos share."""

import numpy as np


def band(tempo, *, bars=24, counts=4, off_beat=0.5, wander=0.0, seed=0):
    """Hits of a low drum on strong beats, a back beat and a timekeeper: times, levels, leads, and the beats."""
    rng = np.random.default_rng(seed)
    beats = np.arange(bars * counts)
    gaps = 60.0 / (tempo * (1.0 + wander * np.sin(beats / 9.0)))
    start = 0.7 + np.concatenate([[0.0], np.cumsum(gaps[:-1])])
    strong = beats % counts == 0 if counts == 3 else beats % 2 == 0
    rows = [(start[strong], -3.0, 0), (start[~strong], -4.0, 1), (start, -9.0, 2), (start + off_beat * gaps, -12.0, 2)]
    time = np.concatenate([at + rng.normal(0, 0.006, len(at)) for at, _, _ in rows])
    level = np.concatenate([np.full(len(at), db) for at, db, _ in rows])
    lead = np.concatenate([np.full(len(at), number) for at, _, number in rows])
    kept = rng.random(len(time)) > 0.06
    order = np.argsort(time[kept])
    return time[kept][order], level[kept][order], lead[kept][order], start
