"""Which slots a stretch of music is played to: candidates weighed by how well each explains the strokes.

Each candidate says where strokes may stand within a beat. The slow drift is taken out as the candidate sees it; what
remains is explained by a mixture of its lines, each as often as it is played, and of strokes that belong nowhere. A
candidate with more lines explains more, and pays for each of them (G. Schwarz, "Estimating the dimension of a model",
Ann. Stat. 6, 1978).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from supple_snare.timing.drift_path import find_drift, slow_part
from supple_snare.timing.ruling import SWING_RANGE, Ruling, Subdivision
from supple_snare.timing.units import FloatArray, IntArray

LEAST_STROKES = 12
"""Fewer than this tell nothing."""

_LEAST_SWING = 0.535
"""Less than this is feel, not swing."""

_SWINGS = np.linspace(0.55, 0.74, 9)

_SWUNG = (
    (Ruling(Subdivision(8)), SWING_RANGE[1]),
    (Ruling(Subdivision(16)), SWING_RANGE[1]),
    (Ruling(Subdivision(16), swing_note=8), 0.63),
)
"""Slots that may swing, and how far. Sixteenths among eighths that swing further cannot be told from triplets."""

_STRAY = 0.02
_LINE_COST = 5.0
_SWING_LINES = 0.5
_LEAST_ON_LINE = 3
_SWING_ROUNDS = 3
_NEAR_S = 0.035

_SLOW_WIDTHS = (2.0, 2.0, 1.0, 1.0)
"""The drift is taken out in steps ever finer: what is left of it by coarse lines speaks for dense ones."""

_WIDTH_S = (0.004, 0.030)

_PLAINLY, _PLAINLY_IN_ALL = 0.1, 10.0
"""By so much a stroke, and in all, triplets and swing are likelier on their own lines than on sixteenths; strokes on
lines that are right are not likelier on others by as much."""

_FEWER, _TIGHTER, _TIGHT_MS = 0.92, 0.55, 10.0
"""Loose playing lies nearer to dense lines by chance. Where the better lines are denser, it must be tight about them or
lie much tighter there than where it is, or fewer strokes must be explained where it is."""

_ROUNDS = 8


@dataclass(frozen=True)
class Candidate:
    """One way of ruling the music, and what speaks for it.

    Attributes
    ----------
    ruling : Ruling
    fit : float
        Logarithm of likelihood for each stroke, what the lines cost taken off; only differences mean something.
    share : float
        Share of strokes that its lines explain.
    spread_ms : float
        Usual distance of those from their lines, drift left out.
    strokes : int
        How many strokes it had to explain.
    """

    ruling: Ruling
    fit: float
    share: float
    spread_ms: float
    strokes: int

    def is_plainly_better(self, other: Candidate) -> bool:
        """Whether it explains the strokes so much better than another one that a person should know.

        Lines that the other has too are no reason to leave it: a coarser ruling is only simpler.
        """
        more = self.fit - other.fit
        likelier = more > _PLAINLY and more * self.strokes > _PLAINLY_IN_ALL
        fewer, tighter = other.share < _FEWER * self.share, self.spread_ms < _TIGHTER * other.spread_ms
        seen = fewer or tighter or self.spread_ms < _TIGHT_MS or not self.ruling.is_denser_than(other.ruling)
        return likelier and seen and not other.ruling.has_all_of(self.ruling)

    @property
    def in_words(self) -> str:
        """What speaks for it, in a few words."""
        return f"{self.ruling.in_words} explains {100.0 * self.share:.0f} %, spread {self.spread_ms:.0f} ms"


def suggest_ruling(
    beat: FloatArray, beat_s: float, *, compound: bool = False, drifting: bool = True, now: Ruling | None = None
) -> list[Candidate]:
    """Weigh the usual rulings.

    Parameters
    ----------
    beat : float array, shape (n,)
        Places of the strokes in felt beats, in order.
    beat_s : float
        Usual length of a felt beat in seconds.
    compound : bool
        Whether a felt beat is a dotted quarter.
    drifting : bool
        Whether strokes may lie up to half a slot off their lines for bars on end, as they do on a grid that does not
        follow them.
    now : Ruling, optional
        Weighed too, though it may be no usual one.

    Returns
    -------
    list of Candidate
        Best first; none if there are too few strokes to tell.
    """
    if len(beat) < LEAST_STROKES:
        return []
    music = _Music(beat, beat_s, 1.5 if compound else 1.0, drifting)
    plain = _plain_rulings(compound)
    found = [music.weighed(ruling) for ruling in (plain if now is None or now in plain else [*plain, now])]
    if not compound:
        for notes, most in _SWUNG:
            pairs = [replace(notes, swing=float(swing)) for swing in _SWINGS if swing <= most]
            swung = max((music.weighed(ruling) for ruling in pairs), key=lambda candidate: candidate.fit)
            finer = music.weighed(music.with_finer_swing(swung.ruling))
            if _LEAST_SWING <= finer.ruling.swing <= most and (now is None or not finer.ruling.is_like(now)):
                found.append(finer)
    return sorted(found, key=lambda candidate: -candidate.fit)


def _plain_rulings(compound: bool) -> list[Ruling]:
    if compound:
        return [Ruling(Subdivision(4, dotted=True)), Ruling(Subdivision(8)), Ruling(Subdivision(16))]
    names = ("1/4", "1/8", "1/16", "1/32", "1/8T", "1/16T", "1/16+1/8T")
    return [Ruling.parse(name) for name in names]


@dataclass(frozen=True)
class _Music:
    """The strokes that candidates have to explain."""

    beat: FloatArray
    beat_s: float
    length: float
    """Quarter notes in a felt beat."""

    drifting: bool

    def weighed(self, ruling: Ruling) -> Candidate:
        lines = ruling.positions(self.length) / self.length
        away, line = self._distances(lines)
        return _explained(ruling, away, line, len(lines), self.beat_s)

    def with_finer_swing(self, ruling: Ruling) -> Ruling:
        """The ruling with the swing at which its strokes stand."""
        slots_of_pair = round(ruling.pair_beats / ruling.subdivision.slot_beats)
        for _ in range(_SWING_ROUNDS):
            away, line = self._distances(ruling.positions(self.length) / self.length)
            near = np.abs(away) < _NEAR_S
            of_pair = line % slots_of_pair
            swung, straight = near & (of_pair == slots_of_pair // 2), near & (of_pair == 0)
            if min(np.count_nonzero(swung), np.count_nonzero(straight)) < _LEAST_ON_LINE:
                return ruling
            # What the swung lines lie later than the others is swing.
            late_s = float(np.mean(away[swung]) - np.mean(away[straight]))
            swing = np.clip(ruling.swing + late_s / (self.beat_s * ruling.pair_beats), 0.5, 0.75)
            ruling = replace(ruling, swing=float(swing))
        return ruling

    def _distances(self, lines: FloatArray) -> tuple[FloatArray, IntArray]:
        """Seconds from the nearest line, drift left out, and which line that is."""
        around = np.concatenate([lines[-1:] - 1.0, lines, lines[:1] + 1.0])
        number = np.concatenate([[len(lines) - 1], np.arange(len(lines)), [0]])
        away = (self.beat - np.floor(self.beat))[:, None] - around
        if self.drifting:
            unit = max(float(np.median(np.diff(np.append(lines, 1.0)))), 0.2)
            drift = find_drift((self.beat - self.beat[0]) / unit, away / unit, np.zeros_like(away))
            away = away - (drift * unit)[:, None]
        nearest = np.abs(away).argmin(axis=1)
        seconds = away[np.arange(len(away)), nearest] * self.beat_s
        for width in _SLOW_WIDTHS:
            seconds = seconds - slow_part(self.beat, seconds, width=width, wild=0.06, doubt=2.0)
        return seconds, number[nearest]


def _explained(ruling: Ruling, away: FloatArray, line: IntArray, lines: int, beat_s: float) -> Candidate:
    """Fit of a mixture: the share of each line, one width for all, and strays spread over the beat."""
    width = 0.010
    share = np.full(lines, (1.0 - _STRAY) / lines)
    stray = _STRAY
    uniform = 1.0 / beat_s
    for _ in range(_ROUNDS):
        bell = np.exp(-0.5 * (away / width) ** 2) / (width * np.sqrt(2.0 * np.pi))
        likely = share[line] * bell
        explained = likely / (likely + stray * uniform)
        width = float(np.clip(np.sqrt(np.sum(explained * away**2) / max(explained.sum(), 1e-9)), *_WIDTH_S))
        played = np.bincount(line, explained, lines)
        # What stands on a line once or twice in a section strayed there.
        share = np.where(played < _LEAST_ON_LINE - 0.5, 1e-4, played) / len(away)
        stray = max(1.0 - float(share.sum()), _STRAY)
    bell = np.exp(-0.5 * (away / width) ** 2) / (width * np.sqrt(2.0 * np.pi))
    likelihood = np.log((share[line] * bell + stray * uniform) * beat_s)
    parameters = lines + (_SWING_LINES if ruling.swing > 0.5 else 0.0)
    fit = float(likelihood.mean()) - _LINE_COST * parameters / len(away)
    return Candidate(ruling, fit, float(explained.mean()), 1000.0 * width, len(away))
