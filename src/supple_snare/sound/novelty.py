"""Coarse search: where the spectrum of a recording rises.

The recording is cut into short overlapping frames; each frame becomes levels in a few bands. A hit lifts several
bands at once, a ringing tail lifts none (spectral flux: P. Masri, "Computer modelling of sound for transformation and
synthesis of musical signals", 1996, here on logarithmic band levels so that soft strokes count like loud ones).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.ndimage import maximum_filter1d
from scipy.signal import find_peaks

from supple_snare.sound.files import AnyArray

WINDOW_S = 0.0107
HOP_S = 0.00267
_BAND_EDGES_HZ = (60.0, 250.0, 700.0, 1_600.0, 3_500.0, 7_500.0, 16_000.0)
_FLOOR_DB = -110.0
"""Band level below which nothing counts; the floor of a 16-bit recording lies near −100 dB a band."""

_SPACING_S = 0.018
"""Nearest two attacks that are told apart: the bounces of a buzz roll come every 25 to 50 ms."""

_RISE_DB = 2.2
"""Mean rise over the bands that makes a candidate; noise stays below 1.5 dB, see `bench/hits.py`."""

_RISE_CAP_DB = 15.0


class BandLevels:
    """Levels in dB of each frame in each band, gathered from blocks that follow one another."""

    def __init__(self, rate_hz: int) -> None:
        self.hop = max(1, round(HOP_S * rate_hz))
        self.window = 4 * self.hop
        self._taper = np.hanning(self.window + 1)[:-1].astype(np.float32)
        self._taper /= self._taper.sum()
        bins_hz = np.fft.rfftfreq(self.window, 1.0 / rate_hz)
        edges = np.searchsorted(bins_hz, _BAND_EDGES_HZ)
        edges = np.maximum.accumulate(np.minimum(edges, len(bins_hz) - 1))
        self._starts = edges[:-1]
        self._end = int(edges[-1])
        self._parts: list[NDArray[np.float32]] = []
        self._rest = np.zeros(self.window // 2, dtype=np.float32)  # the first frame is centred on sample 0

    def add(self, block: AnyArray) -> None:
        """Add the next samples, shape (count,), float32."""
        joined = np.concatenate([self._rest, block])
        frames = (len(joined) - self.window) // self.hop + 1
        if frames > 0:
            views = np.lib.stride_tricks.sliding_window_view(joined, self.window)[:: self.hop][:frames]
            spectrum = fft.rfft(views * self._taper, axis=1)
            power = spectrum.real**2 + spectrum.imag**2
            bands = np.add.reduceat(power[:, : self._end], self._starts, axis=1)
            self._parts.append((10.0 * np.log10(bands + 10.0 ** (_FLOOR_DB / 10.0))).astype(np.float32))
            joined = joined[frames * self.hop :]
        self._rest = joined

    def finish(self) -> NDArray[np.float32]:
        """Levels of all frames, shape (frames, bands); frame k is centred on sample k × hop."""
        self.add(np.zeros(self.window, dtype=np.float32))
        bands = len(self._starts)
        return np.concatenate(self._parts) if self._parts else np.zeros((0, bands), dtype=np.float32)


def rise_curve(levels_db: NDArray[np.float32]) -> NDArray[np.float32]:
    """Mean rise of the bands around each frame in dB, shape (frames,).

    Each band's rise is from the loudest of the frames just before to the loudest just after, so that beating inside a
    ringing tail does not count; and a single band cannot outvote the others.
    """
    if len(levels_db) < 8:
        return np.zeros(len(levels_db), dtype=np.float32)
    # Window and hop overlap by 4: frames 2 before and 2 after a sample share almost nothing of it.
    before = maximum_filter1d(levels_db, 3, axis=0, origin=1, mode="nearest")
    after = maximum_filter1d(levels_db, 3, axis=0, origin=-1, mode="nearest")
    rise = np.zeros_like(levels_db)
    rise[2:-2] = after[3:-1] - before[1:-3]
    mean: NDArray[np.float32] = np.clip(rise, 0.0, _RISE_CAP_DB).mean(axis=1)
    return mean


def find_candidates(levels_db: NDArray[np.float32]) -> tuple[NDArray[np.intp], NDArray[np.float32]]:
    """Frames at which something seems to start, and how much the bands rise there in dB."""
    rise = rise_curve(levels_db)
    distance = max(1, round(_SPACING_S / HOP_S))
    frames, _ = find_peaks(rise, height=_RISE_DB, distance=distance)
    return frames, rise[frames]
