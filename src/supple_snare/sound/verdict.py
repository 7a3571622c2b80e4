"""What a group says of one of its tracks: which attacks were played into it, and exactly when."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.attacks import Analysis, keep_distinct
from supple_snare.sound.material import Material
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.sound.peaks import BIN_FRAMES, Peaks
from supple_snare.sound.players import starting
from supple_snare.sound.shapes import agreed_starts
from supple_snare.timing.units import FloatArray, amplitude_to_db, frozen

_SOON_S = 0.045
"""Levels are measured over some 25 ms: nearer strokes have a part in each other's."""

_SPECTRUM_FLOOR_DB, _LEAST_POWER = -30.0, 1e-12
"""Bands so far below the strongest one, or of no more power, say nothing of how an attack sounds."""


@dataclass(frozen=True, eq=False)
class Verdict:
    """What the group says of one track's attacks, arrays of shape (n,).

    Attributes
    ----------
    time_s : float array
        Starts of the attacks, with the neighbours' bleed taken into account.
    level_db : float array
        Peak levels.
    log_odds : float array
        Of having been played into this microphone; above 0 is played.
    sharpness : float array
        How fast each attack rises, dB per ms.
    is_far : bool
        Whether this microphone is close to no drum of its own.
    is_wide : bool
        Whether it hears a whole kit, and has those strokes that nobody is closer to.
    material : Material or None
        What the group takes the track for if that is something else than it is taken for by itself.
    later_s : float
        How much later it hears the kit than those that are closer.
    centre_hz : float
        Middle of the spectrum of what was played into this microphone; infinite if nothing was.
    drum : int
        Number of the drum it hears, the same for several microphones of one drum.
    own_odds : float
        Log odds that its microphone is close to a drum of its own; infinite where that is no question.
    twin_odds : float
        Log odds that it is one of several microphones of its drum, if it is taken for one; else infinite.
    spectrum_db : float32 array, shape (n, BANDS)
        What starts with each attack, band by band, below its strongest band (`alike`).
    """

    time_s: FloatArray
    level_db: FloatArray
    log_odds: FloatArray
    sharpness: FloatArray
    is_far: bool = False
    is_wide: bool = False
    material: Material | None = None
    later_s: float = 0.0
    centre_hz: float = math.inf
    drum: int = 0
    own_odds: float = math.inf
    twin_odds: float = math.inf
    spectrum_db: NDArray[np.float32] = field(default_factory=lambda: np.zeros((0, BANDS), np.float32))

    @property
    def played(self) -> NDArray[np.bool_]:
        """Which attacks were played into this microphone."""
        return self.log_odds > 0.0

    def if_also(self, other_odds: float) -> Verdict:
        """The same where attacks were played only if something else is true as well, independently, by its log odds."""
        # 1 / (p · q) − 1, in logarithms: either may be as good as impossible.
        either_fails = np.logaddexp(-self.log_odds, -other_odds)
        return replace(self, log_odds=frozen(-np.logaddexp(either_fails, -self.log_odds - other_odds)))


def verdict_of(
    analysis: Analysis, settled_s: FloatArray, others: FloatArray, log_odds: FloatArray, drum: int
) -> Verdict:
    """The verdict on a track whose attacks are judged: each told once, where strokes of its shape agree that it starts.

    Parameters
    ----------
    analysis : Analysis
        n attacks.
    settled_s, others : float array, shape (n,)
        Starts, and the amplitude of all else that sounds at each.
    log_odds : float array, shape (n,)
        Of having been played into this microphone.
    drum : int
    """
    found = analysis.attacks
    time_s = agreed_starts(found, settled_s, others, log_odds > 0.0)
    once = keep_distinct(time_s, log_odds)
    time_s, log_odds = time_s[once], log_odds[once]
    played = log_odds > 0.0
    return Verdict(
        time_s=frozen(time_s),
        level_db=frozen(_own_levels_db(analysis.peaks, time_s, found.level_db[once], played)),
        log_odds=frozen(log_odds),
        sharpness=frozen(found.sharpness[once]),
        centre_hz=float(np.median(analysis.levels.centre_hz(time_s[played]))) if played.any() else math.inf,
        drum=drum,
        spectrum_db=spectra_db(analysis.levels, time_s),
    )


def spectra_db(levels: BandLevels, time_s: FloatArray) -> NDArray[np.float32]:
    """What starts in each band at moments, below the strongest band of each, dB, shape (n, BANDS)."""
    power = starting(levels, time_s)
    against = power / np.maximum(power.max(axis=1, keepdims=True, initial=0.0), _LEAST_POWER)
    return frozen(np.maximum(amplitude_to_db(np.sqrt(against)), _SPECTRUM_FLOOR_DB), np.float32)


def _own_levels_db(peaks: Peaks, time_s: FloatArray, level_db: FloatArray, played: NDArray[np.bool_]) -> FloatArray:
    """Levels in which the stroke that follows at once has no part: a grace note is softer than the one it leads to."""
    own_db, hits = level_db.copy(), np.flatnonzero(played)
    if len(hits) < 2:
        return own_db
    bins_per_s = peaks.rate_hz / BIN_FRAMES
    first = (time_s[hits] * bins_per_s).astype(np.int64)
    amplitude = peaks.amplitude()
    for number in np.flatnonzero(np.diff(time_s[hits]) < _SOON_S).tolist():
        loudest = amplitude[first[number] : max(first[number + 1], first[number] + 1)].max(initial=0.0)
        own_db[hits[number]] = min(own_db[hits[number]], float(amplitude_to_db(loudest)))
    return own_db
