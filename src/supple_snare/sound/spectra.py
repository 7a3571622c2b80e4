"""Power spectra of overlapping frames, from blocks that follow one another."""

from __future__ import annotations

import numpy as np

from supple_snare.sound.files import AnyArray
from supple_snare.sound.transforms import spectrum_of
from supple_snare.timing.units import FloatArray

HOPS_A_FRAME = 4

_AT_A_TIME = 64
"""So many frames stay in the processor's cache from the taper to the power."""


class SpectraReader:
    """Cuts a sound into frames four hops long, tapered, as blocks of it come in; frame k is centred on sample k × hop.

    Parameters
    ----------
    hop : int
        Samples from frame to frame.
    rate_hz : int
    highest_hz : float
        What lies above is left out.

    Attributes
    ----------
    bins_hz : float array, shape (bins,)
        What each bin of the spectra stands for.
    """

    def __init__(self, hop: int, rate_hz: int, highest_hz: float) -> None:
        self.hop = hop
        self.frame = HOPS_A_FRAME * hop
        bins_hz = np.fft.rfftfreq(self.frame, 1.0 / rate_hz).astype(np.float64)
        self.bins_hz: FloatArray = bins_hz[bins_hz < highest_hz]
        self._taper = np.hanning(self.frame + 1)[:-1].astype(np.float32)
        self._taper *= np.sqrt(self.frame) / self._taper.sum()  # transforms are scaled by the root
        self._rest = np.zeros(self.frame // 2, dtype=np.float32)  # the first frame is centred on sample 0

    def add(self, block: AnyArray) -> AnyArray:
        """Take the next samples, shape (count,), float32; the power of the frames they complete, shape (n, bins)."""
        joined = np.concatenate([self._rest, block])
        count = max(0, (len(joined) - self.frame) // self.hop + 1)
        self._rest = joined[count * self.hop :].copy()  # else the whole block would be kept
        if not count:
            return np.zeros((0, len(self.bins_hz)), dtype=np.float32)
        views = np.lib.stride_tricks.sliding_window_view(joined, self.frame)[:: self.hop][:count]
        power = np.empty((count, len(self.bins_hz)), dtype=np.float32)
        for first in range(0, count, _AT_A_TIME):
            some = slice(first, first + _AT_A_TIME)
            spectrum = spectrum_of(views[some] * self._taper)[:, : len(self.bins_hz)]
            np.add(spectrum.real**2, spectrum.imag**2, out=power[some])
        return power

    def finish(self) -> AnyArray:
        """The frames that reach beyond the end, where nothing sounds."""
        return self.add(np.zeros(self.frame, dtype=np.float32))
