"""A short share of `bench/damage.py`: damaged journals, and saving on a slow disk."""

from __future__ import annotations

from bench.damage import damage, slow_saves


def test_a_damaged_journal_is_told_kept_and_costs_no_session(tmp_path):
    """A flipped byte loses nothing; whatever else is lost with the file, the session opens and the damage is told."""
    found = damage(60, tmp_path / "damaged")
    assert found["flip: damaged"] > 20
    assert not found["flip: sessions lost"]
    for name in ("present lost", "not told", "told as changed outside", "not whole afterwards"):
        assert not sum(count for what, count in found.items() if what.endswith(name)), name
    assert not found["flip: no copy kept"]


def test_saves_on_a_slow_disk_never_queue(qapp, tmp_path):
    """However many edits come, what is not saved is never older than two writes, and closing takes as long at most."""
    oldest_s, closing_s, is_whole = slow_saves(0.15, 4.0, tmp_path)
    assert is_whole
    assert oldest_s < 3.0
    assert closing_s < 3.0
