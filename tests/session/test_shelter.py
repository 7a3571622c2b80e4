"""Sessions without a folder: kept until saved, found after a crash, never those that somebody works on."""

from __future__ import annotations

import os

from supple_snare.session.document import Session
from supple_snare.session.folder import SessionFolder, open_history
from supple_snare.session.history import History
from supple_snare.session.shelter import Shelter


def keep(shelter: Shelter, name: str) -> SessionFolder:
    """A session kept in a place that is still held."""
    place = shelter.place()
    place.write(History(Session()).step("Name it", Session(name=name)))
    return place


def test_what_a_killed_window_left_is_found_and_given_up(tmp_path):
    """Newest first, with its undo list; once given up it is gone; a damaged one is passed over and stays."""
    shelter = Shelter(tmp_path)
    for number, name in enumerate(("Older", "Newer")):
        place = keep(shelter, name)
        place.release()
        os.utime(place.path / "session.json", (1_000 + number, 1_000 + number))
    (tmp_path / "broken").mkdir()
    (tmp_path / "broken" / "session.json").write_text("{")
    found = shelter.left()
    assert [left.session.name for left in found] == ["Newer", "Older"]
    assert open_history(found[0].folder).history.undo_label == "Name it"
    shelter.give_up(found[0].folder)
    assert [left.session.name for left in shelter.left()] == ["Older"]
    assert (tmp_path / "broken" / "session.json").exists()


def test_what_somebody_works_on_is_not_offered(tmp_path):
    """Each window has a place of its own; let go, it is there for all."""
    shelter = Shelter(tmp_path)
    mine, theirs = keep(shelter, "Mine"), keep(Shelter(tmp_path), "Theirs")
    assert mine.path != theirs.path
    assert shelter.left() == []
    theirs.release()
    assert [left.session.name for left in shelter.left()] == ["Theirs"]
    mine.release()


def test_only_its_own_places_are_ever_removed(tmp_path):
    """And there may be no shelter at all, as at the first start."""
    (tmp_path / "elsewhere").mkdir()
    shelter = Shelter(tmp_path / "never")
    assert shelter.left() == []
    shelter.give_up(tmp_path / "elsewhere")
    assert (tmp_path / "elsewhere").exists()
