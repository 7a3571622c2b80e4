"""Where the beat may be: for every tempo and moment, how well the hits around it fall where hits of a beat fall.

Each way of dividing the beat has a template: how likely a hit is at each place of it. In windows of a few seconds, the
places that hits take within a beat of a tempo are laid under each template at every shift, all tempos at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from supple_snare.timing.units import FloatArray, IntArray

PLACES = 64
"""A beat is looked at in so many places."""

WINDOW_S, HOP_S = 7.0, 2.5
SLOWEST_BPM, FASTEST_BPM = 42.0, 216.0
TEMPO_STEP = 0.006
_STRAY = 0.12
"""Share of hits that may be anywhere."""

_WIDTH = 0.028
"""Usual distance of a hit from its place, as a part of the beat."""


@dataclass(frozen=True)
class Template:
    """A way of dividing the beat: places within it, and how often each is played."""

    name: str
    places: tuple[float, ...]
    shares: tuple[float, ...]
    width: float = _WIDTH

    @property
    def in_threes(self) -> bool:
        """Whether it divides the beat by three."""
        return len(self.places) % 3 == 0

    def log_density(self) -> FloatArray:
        """Logarithm of the density of hits over the beat, shape (PLACES,)."""
        grid = np.arange(PLACES) / PLACES
        away = (grid[:, None] - np.array(self.places) + 0.5) % 1.0 - 0.5
        bells = np.exp(-0.5 * (away / self.width) ** 2) / (self.width * np.sqrt(2.0 * np.pi))
        shares = np.array(self.shares) / np.sum(self.shares)
        return np.asarray(np.log((1.0 - _STRAY) * (bells @ shares) + _STRAY))


TEMPLATES = (
    Template("quarters in four", (0.0, 0.25, 0.5, 0.75), (1.0, 0.35, 0.7, 0.35)),
    Template("in two", (0.0, 0.5), (1.0, 0.7)),
    Template("in three", (0.0, 1 / 3, 2 / 3), (1.0, 0.45, 0.6)),
    Template("in six", tuple(n / 6 for n in range(6)), (1.0, 0.25, 0.5, 0.3, 0.55, 0.25), 0.022),
    Template("in two, swung a little", (0.0, 0.58), (1.0, 0.6), 0.036),
    Template("in two, swung", (0.0, 0.65), (1.0, 0.6), 0.036),
    Template("in four, swung", (0.0, 0.30, 0.5, 0.80), (1.0, 0.35, 0.7, 0.35), 0.034),
)


@dataclass(frozen=True, eq=False)
class Pulses:
    """Scores of all tempos and templates.

    Attributes
    ----------
    centre_s : float array, shape (windows,)
    tempo_bpm : float array, shape (tempos,)
        Of what is felt as one beat.
    places : float32 array, shape (windows, tempos, PLACES)
        How much was played at each place of a beat that begins at the window's centre.
    score : float array, shape (windows, tempos, templates)
        Logarithm of likelihood of the hits at the best shift.
    """

    centre_s: FloatArray
    tempo_bpm: FloatArray
    places: NDArray[np.float32]
    score: FloatArray


def hear_pulses(time_s: FloatArray, weight: FloatArray, templates: Sequence[Template] = TEMPLATES) -> Pulses:
    """Score every tempo in every window.

    Parameters
    ----------
    time_s, weight : float array, shape (n,)
        Hits in order of time, and how much each counts.
    """
    tempo = np.exp(np.arange(np.log(SLOWEST_BPM), np.log(FASTEST_BPM), TEMPO_STEP))
    starts = np.arange(time_s[0] - 0.5 * WINDOW_S, max(time_s[-1], time_s[0] + HOP_S), HOP_S)
    shifted = np.stack([_shifted(each) for each in templates])
    places = np.zeros((len(starts), len(tempo), PLACES), dtype=np.float32)
    score = np.zeros((len(starts), len(tempo), len(templates)))
    rows = np.arange(len(tempo))[:, None] * PLACES
    for number, start in enumerate(starts):
        first, last = np.searchsorted(time_s, [start, start + WINDOW_S])
        if last - first < 2:
            continue
        away_s = time_s[first:last] - (start + 0.5 * WINDOW_S)
        counts = weight[first:last] * np.cos(np.pi * away_s / WINDOW_S)
        place: IntArray = np.rint((away_s * tempo[:, None] / 60.0) % 1.0 * PLACES).astype(np.int64) % PLACES
        histogram = np.bincount((place + rows).ravel(), np.tile(counts, len(tempo)), len(tempo) * PLACES)
        places[number] = histogram.reshape(-1, PLACES)
        each = places[number] @ shifted.reshape(-1, PLACES).T
        score[number] = each.reshape(len(tempo), len(templates), PLACES).max(axis=2)
    return Pulses(starts + 0.5 * WINDOW_S, tempo, places, score)


def _shifted(template: Template) -> NDArray[np.float32]:
    """The density of a template with its beat at every place, shape (PLACES, PLACES)."""
    place = np.arange(PLACES)
    return template.log_density().astype(np.float32)[(place - place[:, None]) % PLACES]


@dataclass(frozen=True, eq=False)
class Track:
    """One tempo followed through the take.

    Attributes
    ----------
    template : Template
    centre_s, beat : float array, shape (windows,)
        Moments and the beats, with fractions, that fall on them.
    """

    template: Template
    centre_s: FloatArray
    beat: FloatArray

    def beat_at(self, time_s: FloatArray) -> FloatArray:
        """Beats at moments, going on at either end as it was there."""
        rate = np.gradient(self.beat, self.centre_s) if len(self.beat) > 1 else np.array([2.0])
        inside = np.interp(time_s, self.centre_s, self.beat)
        before = np.minimum(time_s - self.centre_s[0], 0.0) * rate[0]
        return np.asarray(inside + before + np.maximum(time_s - self.centre_s[-1], 0.0) * rate[-1])

    @property
    def felt_bpm(self) -> float:
        """Mean tempo of felt beats."""
        return float(60.0 * (self.beat[-1] - self.beat[0]) / (self.centre_s[-1] - self.centre_s[0]))


_BAND = 22
_FASTEST_CHANGE = 6
"""The tempo changes by so many steps at most from window to window."""

_CHANGE_COST = 0.4
"""Cost of a change of tempo from window to window, for each step."""

_SLACK_COST = 0.1
"""Cost of a beat that comes one place early or late."""


def follow(pulses: Pulses, tempo: int, template: int) -> Track:
    """Follow a tempo through all windows, up to an eighth away from where it starts.

    Tempo and place of the beat are followed together, so that a beat cannot slip to a place that looks alike: the best
    course through both is found by dynamic programming, as in N. Whiteley, A. T. Cemgil and S. Godsill, "Bayesian
    modelling of temporal structure in musical audio", ISMIR 2006.
    """
    low, high = max(0, tempo - _BAND), min(len(pulses.tempo_bpm), tempo + _BAND + 1)
    score = pulses.places[:, low:high] @ _shifted(TEMPLATES[template]).T  # windows, tempos, shifts
    windows, tempos, _ = score.shape
    rate = pulses.tempo_bpm[low:high] / 60.0
    # From each tempo and shift: the tempos it may come from, and where the beat lay then.
    change = np.arange(-_FASTEST_CHANGE, _FASTEST_CHANGE + 1)
    source = np.arange(tempos) + change[:, None]
    possible = (source >= 0) & (source < tempos)
    source = np.clip(source, 0, tempos - 1)
    gained = np.rint(0.5 * (rate[source] + rate) * HOP_S * PLACES).astype(np.int64)  # in places
    lay = (np.arange(PLACES) + gained[:, :, None]) % PLACES
    cost = np.where(possible, _CHANGE_COST * np.abs(change[:, None]), np.inf).astype(np.float32)
    came = np.zeros((windows, tempos, PLACES), dtype=np.int8)
    slid = np.zeros((windows, tempos, PLACES), dtype=np.int8)
    total = score[0]
    for window in range(1, windows):
        slides = np.stack([np.roll(total, -1, axis=1) - _SLACK_COST, total, np.roll(total, 1, axis=1) - _SLACK_COST])
        slid[window] = slides.argmax(axis=0)
        ways = slides.max(axis=0)[source[:, :, None], lay] - cost[:, :, None]
        came[window] = ways.argmax(axis=0)
        total = ways.max(axis=0) + score[window]
    beat = np.zeros(windows)
    at, shift = np.unravel_index(int(total.argmax()), total.shape)
    beat[-1] = -shift / PLACES
    for window in range(windows - 1, 0, -1):
        way = came[window, at, shift]
        before, shift_before = source[way, at], lay[way, at, shift]
        slide = int(slid[window, before, shift_before]) - 1
        beat[window - 1] = beat[window] + (slide - gained[way, at]) / PLACES
        at, shift = before, (shift_before - slide) % PLACES
    return Track(TEMPLATES[template], pulses.centre_s, beat)
