"""Formats of others: MIDI, and later CSV, groove files and the report. No session, no Qt."""
