"""Supple Snare tightens the timing of recorded performances and keeps their feel."""

import os
from importlib.metadata import PackageNotFoundError, version

# Its matrices are small, and tracks are worked on side by side: threads of the algebra library beneath NumPy would wait
# for one another most of the time, and use cores that the next track could have. It reads this when it is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

try:
    __version__ = version("supple-snare")
except PackageNotFoundError:  # run from a source tree that was never installed
    __version__ = "0+source"
