"""How a session is listened to: remembered, and never in the way of opening it."""

import json

import pytest

from supple_snare.session.listening import Desk, Heard, Listening, read_desk, write_desk


def test_solo_and_mute_are_of_a_step():
    """A solo goes before a mute; turned twice it is as before."""
    listening = Listening(steps={"feel": Heard().turned("soloed", "t1"), "grid": Heard().turned("muted", "t2")})
    assert [key for key in ("t1", "t2") if listening.heard_in("feel").hears(key)] == ["t1"]
    assert [key for key in ("t1", "t2") if listening.heard_in("grid").hears(key)] == ["t1"]
    assert listening.heard_in("hits") == Heard()
    assert Heard().turned("muted", "t2").turned("muted", "t2") == Heard()


def test_a_desk_comes_back(tmp_path):
    """All of it."""
    listening = Listening(levels_db={"t1": -6.0}, pans={"t2": 0.5}, mono="two", two=("t1", "t2"), click_slots=True)
    desk = Desk(step="proof", group="g1", tightened=False, loop_bars=(2, 5), looping=True, listening=listening)
    write_desk(tmp_path, desk)
    assert read_desk(tmp_path) == desk


@pytest.mark.parametrize(
    "text", ["", "{", "[]", '{"loop_bars": "x"}', '{"listening": {"mono": "left"}}', "[" * 100_000]
)
def test_a_spoilt_desk_is_the_usual_one(tmp_path, text):
    """Nothing of it is work."""
    (tmp_path / "desk.json").write_text(text)
    assert read_desk(tmp_path) == Desk()


def test_wild_levels_are_heard_tamely(tmp_path):
    """A number changed by hand cannot hurt an ear."""
    (tmp_path / "desk.json").write_text(json.dumps({"listening": {"levels_db": {"t1": 90.0}, "pans": {"t1": -7}}}))
    listening = read_desk(tmp_path).listening
    assert listening.level_db("t1") <= 6.0
    assert listening.pan("t1") == -1.0


def test_levels_of_older_sessions_are_kept(tmp_path):
    """They were in the session's file."""
    tracks = [{"key": "t1", "level_db": -9.0}, {"key": "t2"}]
    (tmp_path / "session.json").write_text(json.dumps({"version": 4, "session": {"tracks": tracks}}))
    assert read_desk(tmp_path).listening.levels_db == {"t1": -9.0}
