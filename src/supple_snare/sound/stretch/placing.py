"""Where in a gap sound is stretched: in silence, else where what rings is steadiest. Attacks around it stay whole."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from supple_snare.sound.files import AnyArray
from supple_snare.sound.gaps import CutSettings, Gap, Joined, Seam
from supple_snare.sound.matching import Matcher
from supple_snare.sound.stretch.overlap_add import find_splices
from supple_snare.sound.stretch.vocoder import unmet_phase
from supple_snare.sound.stretch.ways import Way
from supple_snare.sound.transforms import spectrum_of
from supple_snare.timing.units import FloatArray, ms_to_samples

_LONGEST_S = 2.0
"""Of what rings between two attacks so much, its end, is looked at."""

_STRETCHED_S = {Way.RINGING: 0.4, Way.NOTES: 0.2, Way.STROKES: 0.2}
"""So much is stretched where there is room. In 0.4 s a bend of 4 cents makes up for half a turn from 540 Hz on; the
syllables of a voice change sooner."""

_LONGER, _UNMET = (1.5, 2.25), 0.1
"""So many times as much is stretched where partials could not be bent to meet what follows, as a share of unrelated."""

_HEARD_S = 0.085
"""Partials are told from so much of the end of a part."""

_DIED_AWAY, _SILENT = 1e-4, 1e-7
"""What rings is hardly heard from 40 dB below its gap's mean power on, and not below −70 dB of full scale."""

_CALM_RATIO = 0.15
"""Where the change is large, more is stretched, so that it is no larger than this share of it."""

_SHORTEST_S = 0.05
"""Less is not stretched."""

_HOP_S = 0.010
_FRAME_HOPS = 3


@dataclass(frozen=True)
class _Lengths:
    """In samples."""

    lead_in: int
    attack: int
    fade: int


@dataclass(frozen=True)
class _Part:
    """Samples `begin` to `end` of the recordings, and from where on more could be taken."""

    earliest: int
    begin: int
    end: int


class Stretcher:
    """Finds what is stretched in gaps, from the front of the take to its end.

    Parameters
    ----------
    matcher : Matcher
        What the recordings are read through.
    settings : CutSettings
        How much of an attack stays whole, from how long before it, and how long fades are.
    rate_hz : int
    """

    def __init__(self, matcher: Matcher, settings: CutSettings, rate_hz: int) -> None:
        self._matcher, self._rate_hz = matcher, rate_hz
        self._lengths = _Lengths(
            *(ms_to_samples(each, rate_hz) for each in (settings.lead_in_ms, settings.attack_ms, settings.fade_ms))
        )

    def join(self, gap: Gap) -> Joined | None:
        """Stretch what rings between two attacks; None where there is too little of it."""
        part = self._steadiest(gap, _STRETCHED_S[gap.way])
        if part is None:
            return None
        return self._spliced(gap, part) if gap.way is Way.STROKES else self._ringing(gap, part)

    def _ringing(self, gap: Gap, part: _Part) -> Joined:
        """Stretch a part; more of what lies before it if its partials would not meet what follows."""
        end, heard = part.end, round(_HEARD_S * self._rate_hz)
        first = min(part.earliest, end - heard)
        sound = self._matcher.sound(first, end - first)
        end_of_it = sound[:, -heard:]
        lengths = [min(end - part.earliest, round(times * (end - part.begin))) for times in (1.0, *_LONGER)]
        audible = _audible(end_of_it, sound)
        unmet = [share * audible for share in unmet_phase(end_of_it, lengths, gap.width)]
        which = next((number for number, share in enumerate(unmet) if share <= _UNMET), int(np.argmin(unmet)))
        begin = end - lengths[which]
        seams = (Seam(begin + gap.before, gap.before, 0, is_stretched=True), Seam(end + gap.after, gap.after, 0))
        return Joined(seams, gap.after, gap.after, ratio=1.0 + gap.width / (end - begin), unlike=unmet[which])

    def _spliced(self, gap: Gap, part: _Part) -> Joined | None:
        begin, end, fade = part.begin, part.end, self._lengths.fade
        splices = find_splices(self._matcher.sound(begin, end - begin), gap.width, fade, self._rate_hz)
        if not splices:
            return None
        shift, seams = gap.before, []
        for splice in splices:
            shift += splice.lag
            seams.append(Seam(begin + splice.place + shift, shift, fade))
        worst = max(splice.unlike for splice in splices)
        return Joined(tuple(seams), gap.after, gap.after, ratio=1.0 + gap.width / (end - begin), unlike=worst)

    def _steadiest(self, gap: Gap, stretched_s: float) -> _Part | None:
        """What is best stretched; None if nothing is long enough."""
        best, least = None, np.inf
        for first, end in gap.sustains(self._lengths.attack, self._lengths.lead_in):
            begin = max(first, gap.earliest, end - round(_LONGEST_S * self._rate_hz))
            wanted = max(stretched_s * self._rate_hz, abs(gap.width) / _CALM_RATIO)
            length = min(end - begin, round(wanted))
            if min(length, length + gap.width) < _SHORTEST_S * self._rate_hz:
                continue
            hop = round(_HOP_S * self._rate_hz)
            restless = self._restlessness(begin, end, hop)
            steps = max(1, length // hop)
            sums = np.convolve(restless, np.ones(min(steps, len(restless))), mode="valid")
            cost = float(sums.min()) / steps + 1e-9 / length
            if cost < least:
                after = (len(sums) - 1 - int(np.argmin(sums))) * hop
                best, least = _Part(begin, max(begin, end - after - length), end - after), cost
        return best

    def _restlessness(self, begin: int, end: int, hop: int) -> FloatArray:
        """How much the spectra of all tracks change from hop to hop up to `end`, each beside the loudest of its track.

        Silence does not change, and a note that rings on changes less than a consonant.
        """
        frame, hops = _FRAME_HOPS * hop, max(1, (end - begin) // hop)
        start = end - (hops + 1) * hop - (frame - hop) // 2
        sound = self._matcher.sound(start, hops * hop + frame)
        views = np.lib.stride_tricks.sliding_window_view(sound, frame, axis=1)[:, ::hop]
        size = np.abs(spectrum_of(views * np.hanning(frame).astype(np.float32)))
        change = np.abs(np.diff(size, axis=1)).sum(axis=2)
        loudest = np.maximum(size.sum(axis=2).max(axis=1, keepdims=True), 1e-4)
        return np.asarray((change / loudest).sum(axis=0)[-hops:], dtype=np.float64)


def _audible(sound: AnyArray, among: AnyArray) -> float:
    """How much of a sound is heard after a louder one, 0 to 1: none of what has died away, or is silence anyway."""
    power, loudest = ((each.astype(np.float64) ** 2).mean(axis=1).max() for each in (sound, among))
    return float(np.clip(power / max(_DIED_AWAY * loudest, _SILENT), 0.0, 1.0))
