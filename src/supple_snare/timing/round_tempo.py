"""Whether a take was made to a click of a whole number, where slow drift hides its tempo.

Players drift by ten or twenty milliseconds over many bars, and over a short take nobody can tell that from a tempo that
is a little off: a minute that drifts by 15 ms is known to a tenth of a bpm or so. But clicks are mostly set to whole
numbers, so that one within reach is likelier than any single tempo beside it.
"""

from __future__ import annotations

import numpy as np

from supple_snare.timing.units import FloatArray

_WHOLE_SHARE = 0.2
"""How many takes were made to a whole number, as far as is believed beforehand: few, for a wrong one is worse."""

ALIKE_BPM = 0.02
"""Tempos nearer than this are as good as one another."""

_DRIFT_S = (0.0, 0.002, 0.004, 0.008, 0.016, 0.032)
_MEMORY_BEATS = (8.0, 16.0, 32.0)
"""Standard deviations of drifts, and after how many beats they are forgotten: each is as likely as the others."""

_BLOCK_BEATS, _MOST_BLOCKS, _FEWEST_BLOCKS = 8.0, 256, 3
_FINEST_S = 3e-5


def whole_tempo(tempo_bpm: float, beat_s: float, line: FloatArray, rest_s: FloatArray, weight: FloatArray) -> float:
    """The whole number next to a measured tempo, if that is likelier than what was measured; else the latter.

    What hits leave of a straight line through them is drift, which is forgotten by and by (G. E. Uhlenbeck and
    L. S. Ornstein, Phys. Rev. 36, 1930), and scatter. How likely it is under another tempo is known in closed form for
    each size and memory of the drift, and summed over them.

    Parameters
    ----------
    tempo_bpm, beat_s : float
        Tempo of the straight line, and length of what is counted as a beat under it.
    line, rest_s, weight : float array, shape (n,)
        Beat of each hit, what it leaves of the line, and how much it counts.

    Returns
    -------
    float
    """
    size = max(_BLOCK_BEATS, float(np.ptp(line)) / _MOST_BLOCKS)
    block = ((line - line.min()) / size).astype(np.int64)
    counted = np.bincount(block, weight)
    heard = counted > 0.0
    if np.count_nonzero(heard) < _FEWEST_BLOCKS:
        return tempo_bpm
    total = counted[heard]
    mean_s, beat, twice = (
        np.bincount(block, sums)[heard] / total for sums in (weight * rest_s, weight * line, weight**2)
    )
    scatter = float(np.average((rest_s - np.interp(line, beat, mean_s)) ** 2, weights=weight))
    noise = scatter * twice / total + _FINEST_S**2
    leaning_s = beat * beat_s / tempo_bpm  # what a tempo one bpm faster would leave
    whole = float(round(tempo_bpm))
    explained = [
        _explained(mean_s, leaning_s, np.diag(noise) + drift) for drift in _drifts(np.abs(beat[:, None] - beat))
    ]
    likely, middle, sharp = np.array(explained).T
    share = np.exp(likely - likely.max())
    # Of a measured tempo all that are as good as it count, of a click the whole number alone.
    as_good = np.minimum(2.0 * ALIKE_BPM, np.sqrt(2.0 * np.pi / sharp))
    for_whole = np.sum(share * np.exp(-0.5 * sharp * (whole - tempo_bpm - middle) ** 2))
    for_measured = np.sum(share * np.exp(-0.5 * sharp * middle**2) * as_good)
    return whole if _WHOLE_SHARE * for_whole > (1.0 - _WHOLE_SHARE) * for_measured else tempo_bpm


def _drifts(apart_beats: FloatArray) -> list[FloatArray]:
    """What blocks have in common under each kind of drift; that of no drift counts as often as one of another size."""
    shapes = [np.exp(-apart_beats / memory) for memory in _MEMORY_BEATS]
    return [size**2 * shape for size in _DRIFT_S for shape in shapes]


def _explained(values: FloatArray, leaning: FloatArray, common: FloatArray) -> tuple[float, float, float]:
    """How likely values are, as a natural logarithm, if they lean as fits best; how much that is, and how sharply."""
    from scipy.linalg import cho_factor, cho_solve

    factor = cho_factor(common, check_finite=False)
    columns = np.stack([values, leaning, np.ones_like(values)], axis=1)
    sums = columns.T @ cho_solve(factor, columns, check_finite=False)
    left = sums - np.outer(sums[:, 2], sums[2]) / sums[2, 2]  # wherever the whole of it lies
    middle, sharp = -left[0, 1] / left[1, 1], left[1, 1]
    own = -float(np.log(np.diag(factor[0])).sum()) - 0.5 * float(np.log(sums[2, 2]))
    return own - 0.5 * float(left[0, 0] - middle**2 * sharp), float(middle), float(sharp)
