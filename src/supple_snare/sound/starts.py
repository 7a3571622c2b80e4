"""Starts of attacks, from how they rise.

The *start* of an attack is the first moment at which its amplitude, averaged over 0.25 ms, passes 5 % of the attack's
peak, were nothing else sounding. Where something else does sound (the ring of the stroke before, a neighbour's bleed,
noise), that moment cannot be seen. It is then told from what can: a higher share of the peak, or a band in which the
attack stands clear, less the time that usually lies between the start and that sign: first on this track at large
(`rough_starts`), then in those attacks of it that rise the same way (`likeliest`).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.beginnings import begins_at_once
from supple_snare.sound.likeliest import likeliest_starts
from supple_snare.sound.quantiles import weighted_quantile
from supple_snare.sound.rises import CLEARANCE, VIEWS, Rises
from supple_snare.timing.units import FloatArray

_STEP_SLACK_S = 0.0012
_SURE_SHARE = 2
_MIN_CLEAR = 4
_ENOUGH = 8
_USUAL_PERCENT = 40
_LEAST_JITTER_S = 0.00005
_AGREE_S = 0.0007
_STRAY_PERCENT = 90
"""One stroke in ten may rise in its own way; if more do, that sign tells little on this track."""

_ASTRAY_S = 0.007
"""What passed a share so long before the spectrum rises was still the ring of the stroke before."""

_PLAIN_CLEARANCE = 1.8
"""A share this much above all else is seen plainly."""

_COVER_SHARE = 0.8
_MOST_COVER = 0.2
"""A neighbour that starts a few ms before or after covers less of an attack's first moments than its level over some
20 ms tells, and never so much that an attack which was found all the same could not be seen to rise."""


def rough_starts(rises: Rises, covered: FloatArray | float = 0.0) -> FloatArray:
    """Starts of attacks from what all attacks of the track have in common; see `settle_starts` for the arguments."""
    if not len(rises):
        return np.zeros(0)
    covered = np.broadcast_to(np.asarray(covered, dtype=np.float64), rises.peak.shape)
    heights = rises.heights()
    clear = heights > CLEARANCE * np.maximum(rises.quiet, covered)[:, :, None]
    plain = _starts_in_whole(rises, covered[:, 0])
    estimates, jitter_s = _estimates(rises, plain, clear)
    usable = clear & np.isfinite(jitter_s)
    flat = estimates.reshape(len(rises), -1)
    usable = usable.reshape(len(rises), -1)
    weight = np.where(usable, 1.0 / np.where(np.isfinite(jitter_s), jitter_s, 1.0).reshape(1, -1), 0.0)
    middle = weighted_quantile(flat, weight, 0.5)
    near = usable & (np.abs(flat - middle[:, None]) <= 2.0 * jitter_s.reshape(1, -1) + _AGREE_S)
    score = np.where(near, jitter_s.reshape(1, -1), np.inf)
    best = np.argmin(score, axis=1)
    rows = np.arange(len(rises))
    start = np.where(np.isfinite(score[rows, best]), flat[rows, best], plain)
    start = _where_visible(rises, heights[:, 0], np.maximum(rises.quiet, covered)[:, 0], start)
    return np.maximum(start, 0.0)


def settle_starts(rises: Rises, covered: FloatArray | float) -> FloatArray:
    """Starts of attacks; a stroke has the same start whether or not something covers it.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    covered : float array, shape (n, views), or a number
        Amplitude of what else is expected to sound at each attack in each view, beyond what was heard just before.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    """
    covered = np.broadcast_to(np.asarray(covered, dtype=np.float64), rises.peak.shape)
    return likeliest_starts(rises, np.maximum(rises.quiet, covered), rough_starts(rises, covered))


def settle_beside(rises: Rises, heard: FloatArray, bleed: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Starts of attacks beside what neighbours make, and the amplitude of all else that sounds at each in each view.

    Parameters
    ----------
    rises : Rises
        n attacks of one track.
    heard, bleed : float array, shape (n, BANDS)
        Amplitude that starts there in each band, and how much of it the neighbours make, on one scale.

    Returns
    -------
    float array, shape (n,)
        Starts in seconds.
    float array, shape (n, views)
    """
    covered = _covered_by(rises, heard, bleed)
    return settle_starts(rises, covered), np.maximum(rises.quiet, covered)


def _covered_by(rises: Rises, heard: FloatArray, bleed: FloatArray) -> FloatArray:
    """Amplitude of the neighbours in each view of each attack, shape (n, views)."""
    shares = [
        np.sqrt(
            np.sum(bleed[:, view.bands] ** 2, axis=1) / np.maximum(np.sum(heard[:, view.bands] ** 2, axis=1), 1e-12)
        )
        for view in VIEWS
    ]
    return np.minimum(_COVER_SHARE * np.stack(shares, axis=1), _MOST_COVER) * rises.peak


def _where_visible(rises: Rises, heights: FloatArray, others: FloatArray, start: FloatArray) -> FloatArray:
    """Starts, taken from the first or second share wherever that stands plainly above all else that sounds.

    Then it is the start by definition, or nearly, however the attack goes on: drums differ from stroke to stroke in how
    they rise, hardly in how they begin.
    """
    first = (heights[:, 0] > _PLAIN_CLEARANCE * others) & begins_at_once(rises)
    second = (heights[:, 1] > _PLAIN_CLEARANCE * others) & begins_at_once(rises, 1)
    step_s = rises.crossing_s[:, 0, 1] - rises.crossing_s[:, 0, 0]
    usual_s = float(np.median(step_s[first])) if np.count_nonzero(first) >= _MIN_CLEAR else 0.0
    start = np.where(second, rises.crossing_s[:, 0, 1] - usual_s, start)
    return np.where(first, rises.crossing_s[:, 0, 0], start)


def _estimates(rises: Rises, plain: FloatArray, clear: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray]:
    """Start told by each sign, shape (n, views, shares), and how far it strays, shape (views, shares)."""
    loud = rises.peak[:, 0] > 0.25 * np.percentile(rises.peak[:, 0], 95)
    sure = loud & clear[:, 0, : _SURE_SHARE + 1].any(axis=1)
    lag = rises.crossing_s - plain[:, None, None]
    usual = np.zeros(lag.shape[1:])
    jitter = np.full(lag.shape[1:], np.inf)
    for view, share in np.ndindex(*usual.shape):
        known = lag[sure & clear[:, view, share], view, share]
        if len(known) >= _MIN_CLEAR:
            usual[view, share] = np.median(known)
            stray = np.percentile(np.abs(known - usual[view, share]), _STRAY_PERCENT)
            jitter[view, share] = max(float(stray), _LEAST_JITTER_S)
    # The first sign is the start itself.
    usual[0, 0], jitter[0, 0] = 0.0, _LEAST_JITTER_S / 2.0
    return rises.crossing_s - usual, jitter


def _starts_in_whole(rises: Rises, covered: FloatArray) -> FloatArray:
    """Starts from the whole sound alone.

    The lowest share counts from which on the attack rises as fast as this recording's attacks usually do, and the
    usual time from 5 % to that share is taken off: where something else sounds louder than a share, the moment at
    which that share is passed is early, and the step from it to the next is long.
    """
    crossing, peak, quiet = rises.crossing_s[:, 0], rises.peak[:, 0], rises.quiet[:, 0]
    heights = rises.heights()[:, 0]
    above_ring = heights > CLEARANCE * quiet[:, None]
    above_all = above_ring & (heights > CLEARANCE * covered[:, None])
    above_ring[:, -1] = above_all[:, -1] = True
    lag_s = _usual_lags(crossing, above_all, peak)
    steps_s = np.diff(crossing, axis=1)
    steady = steps_s <= 2.0 * np.diff(lag_s) + _STEP_SLACK_S
    # Every step up to the first share that nothing covers (20 % or 40 %) must be an ordinary one.
    sure = np.clip(np.argmax(above_all, axis=1), _SURE_SHARE, _SURE_SHARE + 1)
    sure = np.maximum(sure, np.argmax(above_ring, axis=1))
    counted = np.arange(steps_s.shape[1])[None, :] < sure[:, None]
    unbroken = np.cumprod((steady | ~counted)[:, ::-1], axis=1)[:, ::-1].astype(bool)
    believed = above_ring[:, :-1] & unbroken
    seen = believed.any(axis=1)
    lowest = np.where(seen, np.argmax(believed, axis=1), sure)
    rows = np.arange(len(rises))
    start_s = crossing[rows, lowest] - lag_s[lowest]
    # The spectrum rises most about where an attack starts; how far from it, only many of them tell.
    enough = np.count_nonzero(seen) >= _MIN_CLEAR
    told_s = rises.centre_s - (np.median((rises.centre_s - start_s)[seen]) if enough else 0.0)
    return np.where(start_s < told_s - _ASTRAY_S, told_s, start_s)


def _usual_lags(crossing_s: FloatArray, clear: NDArray[np.bool_], peak: FloatArray) -> FloatArray:
    """Usual time from the first share to each, shape (shares,), from loud attacks that nothing covers.

    What covers an attack only ever makes a step longer, so the shorter ones are the attack's own. Where enough attacks
    are seen from the first share on, they tell the lags as a whole: an attack whose click comes first takes its time
    now between these shares, now between those.
    """
    loud = peak > 0.25 * np.percentile(peak, 95)
    whole = (crossing_s - crossing_s[:, :1])[loud & clear[:, 0]]
    if len(whole) >= _ENOUGH:
        return np.asarray(np.percentile(whole, _USUAL_PERCENT, axis=0))
    steps_s = np.diff(crossing_s, axis=1)
    step_s = np.zeros(steps_s.shape[1])
    for share in reversed(range(len(step_s))):
        known = steps_s[loud & clear[:, share], share]
        step_s[share] = np.percentile(known if len(known) >= _MIN_CLEAR else steps_s[loud, share], _USUAL_PERCENT)
        if not len(known) and share + 1 < len(step_s):
            # Noise hides where it begins. Each step doubles the amplitude, nearly: it takes as long as the next one.
            step_s[share] = min(step_s[share], step_s[share + 1])
    return np.concatenate([[0.0], np.cumsum(step_s)])
