"""Syllables of a voice: where each begins, by the level between the lowest voiced sounds and the hiss of consonants.

A syllable has one nucleus, a vowel, at which the level is highest, and two nuclei are parted by a dip (P. Mermelstein,
"Automatic segmentation of speech into syllabic units", J. Acoust. Soc. Am. 58, 1975). The consonant that leads to the
vowel lies in the dip, so there the syllable begins. A rise of the spectrum would be found at the release of the
consonant, at the vowel, and at each change within the vowel as well.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from supple_snare.sound.novelty import BandLevels
from supple_snare.timing.units import FloatArray


@dataclass(frozen=True)
class SyllableParams:
    """How syllables are told.

    Chosen on speech of two synthesisers (24 recordings, 850 syllables, `bench/speech.py`). Other bands from 150 Hz to
    9.6 kHz, half or twice the smoothing, and a third of the prominence change F by no more than .04 there.

    Attributes
    ----------
    band_hz : (float, float)
        Edges of the bands that count: the formants of vowels lie between them.
    smooth_s : float
        Standard deviation of the smoothing of the level.
    prominence_db : float
        A nucleus is at least so much louder than the dips around it.
    spacing_s : float
        Nearest two nuclei: nobody sings eleven syllables a second.
    range_db : float
        A nucleus is at most so much softer than the loudest one.
    dip_fraction : float
        The dip ends where the level, in dB, has risen by that fraction of the way to the nucleus: a pause is long.
    lead_s : float
        The consonant begins so much before the end of the dip.
    """

    band_hz: tuple[float, float] = (300.0, 9_600.0)
    smooth_s: float = 0.010
    prominence_db: float = 3.0
    spacing_s: float = 0.09
    range_db: float = 28.0
    dip_fraction: float = 0.03
    lead_s: float = 0.015


@dataclass(frozen=True, eq=False)
class Syllables:
    """The n syllables of a voice, in order of time.

    Attributes
    ----------
    start_s : float array, shape (n,)
        Where each begins, with its consonant.
    vowel : int array, shape (n,)
        The frame of the levels at which its level rises most: its vowel begins.
    rise_db : float array, shape (n,)
        By how much the nucleus is louder than the dip before it.
    """

    start_s: FloatArray
    vowel: NDArray[np.intp]
    rise_db: FloatArray


_TINY = 1e-11
"""Power far below the noise of any recording."""


def find_syllables(levels: BandLevels, params: SyllableParams | None = None) -> Syllables:
    """The syllables of a voice.

    Parameters
    ----------
    levels : BandLevels
        Of its recording.
    params : SyllableParams, optional
    """
    from scipy.signal import find_peaks  # takes long to import, and most takes hold no voice

    told, frame_s = params or SyllableParams(), levels.hop / levels.rate_hz
    level_db = _level_db(levels, told)
    nuclei, _ = find_peaks(level_db, prominence=told.prominence_db, distance=max(1, round(told.spacing_s / frame_s)))
    nuclei = nuclei[level_db[nuclei] > level_db.max(initial=-np.inf) - told.range_db]
    starts, vowels, rises = [], [], []
    for before, nucleus in pairwise([0, *nuclei.tolist()]):
        between = level_db[before : nucleus + 1]
        rise_db = float(between[-1] - between.min())
        dip = before + int(np.flatnonzero(between <= between.min() + told.dip_fraction * rise_db)[-1])
        starts.append(max(dip * frame_s - told.lead_s, before * frame_s))
        vowels.append(dip + int(np.argmax(np.diff(level_db[dip : nucleus + 1], append=-np.inf))))
        rises.append(rise_db)
    return Syllables(np.array(starts, dtype=float), np.array(vowels, dtype=np.intp), np.array(rises, dtype=float))


def _level_db(levels: BandLevels, params: SyllableParams) -> FloatArray:
    """The smoothed level of each frame in the bands that count, shape (frames,)."""
    from scipy.ndimage import gaussian_filter1d

    smooth = params.smooth_s * levels.rate_hz / levels.hop
    return np.asarray(10.0 * np.log10(gaussian_filter1d(levels.power_between(*params.band_hz), smooth) + _TINY))
