"""Stretching what rings between attacks: where, by which way, and the sound of it."""
