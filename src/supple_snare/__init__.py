"""Supple Snare tightens the timing of recorded performances and keeps their feel."""

from importlib.metadata import PackageNotFoundError, version

try:
    __version__ = version("supple-snare")
except PackageNotFoundError:  # run from a source tree that was never installed
    __version__ = "0+source"
