"""Recordings: reading, peaks, attacks, bleed, cutting, mixing. NumPy, SciPy and soundfile: no session, no Qt."""
