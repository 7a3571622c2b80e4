"""The demo take: the Lantern Quay street band rehearses its "Dockside March" in a boathouse, and how it was made."""

from pathlib import Path

TAKE = Path(__file__).parent / "take"
"""Where the rendered take lies."""

GROOVES = Path(__file__).parent / "grooves"
"""Groove templates taken from it, which come with the program."""
