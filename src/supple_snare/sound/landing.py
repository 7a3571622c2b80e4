"""Landing points: where inside a soft attack the note is felt to begin.

A note that swells is felt to begin when its envelope passes a level some 6 to 15 dB below its maximum, not when its
sound starts (J. Vos and R. Rasch, "The perceptual onset of musical tones", Perception & Psychophysics 29, 1981,
323–335). Here the level is 10 dB below the loudest moment of the note's first 300 ms, or of what there is of them
before the next.
"""

from __future__ import annotations

import numpy as np

from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.timing.units import FloatArray, db_to_amplitude

_BELOW_DB = 10.0
_NOTE_S = 0.3
_LATEST_S = 0.15


def landing_points(peaks: Peaks, start_s: FloatArray) -> FloatArray:
    """Landing points of soft attacks.

    Parameters
    ----------
    peaks : Peaks
        Of the track.
    start_s : float array, shape (n,)
        Starts of the attacks, increasing.

    Returns
    -------
    float array, shape (n,)
        Never before the start, nor more than 150 ms after it.
    """
    if not len(start_s):
        return start_s
    envelope = peaks.amplitude().astype(np.float64)
    bins_per_s = peaks.rate_hz / BIN_FRAMES
    first = np.clip((start_s * bins_per_s).astype(np.int64), 0, len(envelope) - 1)
    length = round(_NOTE_S * bins_per_s)
    until = np.minimum(np.append(first[1:], len(envelope)) - first, length)
    span = np.arange(length)
    note = np.where(span < until[:, None], envelope[np.minimum(first[:, None] + span, len(envelope) - 1)], 0.0)
    level = note.max(axis=1) * db_to_amplitude(-_BELOW_DB)
    at = np.argmax(note >= level[:, None], axis=1)
    rows = np.arange(len(note))
    before, after = np.where(at > 0, note[rows, np.maximum(at - 1, 0)], 0.0), note[rows, at]
    part = np.clip((level - before) / np.maximum(after - before, 1e-12), 0.0, 1.0)
    # A bin tells the loudest of its frames, so the level is passed inside it, in proportion to how far it rises.
    passed_s = (first + at + part) / bins_per_s
    return np.clip(np.where(at > 0, passed_s, start_s), start_s, start_s + _LATEST_S)
