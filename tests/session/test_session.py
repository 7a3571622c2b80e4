"""The document: edits, history, storage."""

from __future__ import annotations

import json
import random
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from supple_snare.errors import GroupError, SessionError
from supple_snare.session import edits
from supple_snare.session.document import Session, check_group
from supple_snare.session.history import History
from supple_snare.session.storage import FILE_NAME, load_session, save_session
from supple_snare.sound.files import Recording
from tests.session.samples import recording, sample_session, steps


@settings(max_examples=50)
@given(steps, st.integers(0, 99))
def test_undo_brings_every_session_back(actions, seed):
    """Any row of steps, undone one by one, gives the very values from before; redone, the last one."""
    rng = random.Random(seed)
    history = History(sample_session())
    seen = [history.present]
    for action in actions:
        history = history.step("step", action(history.present, rng.randrange(100)))
        if history.present != seen[-1]:
            seen.append(history.present)
    for expected in reversed(seen):
        assert history.present == expected
        history = history.undo()
    for _ in seen:
        history = history.redo()
    assert history.present == seen[-1]


@settings(max_examples=25)
@given(steps, st.integers(0, 99))
def test_what_is_saved_is_what_opens(tmp_path_factory, actions, seed):
    """A session written and read is equal, paths made whole again."""
    session = sample_session()
    rng = random.Random(seed)
    for action in actions:
        session = action(session, rng.randrange(100))
    folder = tmp_path_factory.mktemp("session")
    save_session(session, folder)
    assert load_session(folder) == session
    assert load_session(folder / FILE_NAME) == session


def test_history_names_its_steps_and_forgets_redo_on_a_new_one():
    """Labels tell what undo and redo would do."""
    session = sample_session()
    history = History(session).step("Hold bar 9", edits.hold_range(session, "g1", 9, 10))
    assert (history.undo_label, history.redo_label) == ("Hold bar 9", None)
    history = history.undo()
    assert (history.undo_label, history.redo_label) == (None, "Hold bar 9")
    assert history.undo() is history
    other = history.step("Name", msgspec.structs.replace(session, name="Other"))
    assert other.redo_label is None
    assert other.redo() is other
    assert other.step("Nothing", other.present) is other


def test_the_file_is_readable_and_points_by_relative_path(tmp_path):
    """A person finds the recordings in it, relative to the folder, and the folder may be moved with them."""
    session = edits.add_recordings(Session(), [Recording(tmp_path / "a.wav", 10, 48_000, 1, "WAV", "PCM_16")])
    save_session(session, tmp_path / "sessions" / "one")
    text = (tmp_path / "sessions" / "one" / FILE_NAME).read_text()
    assert '"path": "../../a.wav"' in text
    assert text.count("\n") > 20
    (tmp_path / "sessions").rename(tmp_path / "moved")
    assert load_session(tmp_path / "moved" / "one").tracks[0].recording.path == tmp_path / "a.wav"


def damaged(data: dict, change) -> bytes:
    """The JSON with one thing wrong."""
    change(data)
    return json.dumps(data).encode()


DAMAGE = {
    "cut off": lambda raw: raw[: len(raw) // 2],
    "empty": lambda raw: b"",
    "not JSON": lambda raw: b"\xff\xfe nonsense",
    "another program's": lambda raw: damaged(json.loads(raw), lambda d: d.update(format="other")),
    "a newer version": lambda raw: damaged(json.loads(raw), lambda d: d.update(version=99)),
    "a wild tempo": lambda raw: damaged(json.loads(raw), lambda d: d["session"]["take_grid"].update(tempo_bpm=-3)),
    "a wrong type": lambda raw: damaged(json.loads(raw), lambda d: d["session"].update(tracks="none")),
    "a lost track": lambda raw: damaged(json.loads(raw), lambda d: d["session"]["tracks"].pop()),
    "a doubled key": lambda raw: damaged(json.loads(raw), lambda d: d["session"]["tracks"][0].update(key="t2")),
    "a strange lead": lambda raw: damaged(json.loads(raw), lambda d: d["session"]["groups"][0].update(leads=["t9"])),
}


@pytest.mark.parametrize("kind", DAMAGE)
def test_a_damaged_session_is_told_and_not_touched(tmp_path, kind):
    """Whatever is wrong: one message with the file's name, and the file as it was."""
    save_session(sample_session(), tmp_path)
    file = tmp_path / FILE_NAME
    file.write_bytes(DAMAGE[kind](file.read_bytes()))
    before = file.read_bytes()
    with pytest.raises(SessionError, match=FILE_NAME):
        load_session(tmp_path)
    assert file.read_bytes() == before


@settings(max_examples=150)
@given(st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), min_size=1, max_size=8))
def test_no_byte_out_of_place_crashes_the_opening(tmp_path_factory, changes):
    """It opens, or it is told: nothing else, whatever stands in the file."""
    folder = tmp_path_factory.mktemp("session")
    save_session(sample_session(), folder)
    file = folder / FILE_NAME
    data = bytearray(file.read_bytes())
    for place, value in changes:
        data[min(int(place * len(data)), len(data) - 1)] = value
    file.write_bytes(bytes(data))
    try:
        opened = load_session(folder)
    except SessionError as error:
        assert FILE_NAME in str(error)
    else:
        assert {key for group in opened.groups for key in group.tracks} == {track.key for track in opened.tracks}


def test_a_failed_save_leaves_the_former_one(tmp_path, monkeypatch):
    """A disk that refuses costs nothing that was there."""
    save_session(sample_session(), tmp_path)
    before = (tmp_path / FILE_NAME).read_bytes()
    monkeypatch.setattr("supple_snare.session.storage.os.fsync", lambda _fd: (_ for _ in ()).throw(OSError(28, "full")))
    with pytest.raises(SessionError, match="could not be saved"):
        save_session(Session(), tmp_path)
    assert (tmp_path / FILE_NAME).read_bytes() == before
    assert [path.name for path in tmp_path.iterdir()] == [FILE_NAME]


def test_a_session_of_the_first_version_keeps_its_level_limits(tmp_path):
    """They held for the whole take, and do so still."""
    save_session(sample_session(), tmp_path)
    whole = json.loads((tmp_path / FILE_NAME).read_text())
    whole["version"] = 1
    grid = whole["session"].pop("take_grid")
    steady = {name: grid[name] for name in ("tempo_bpm", "first_beat_s", "meter")}
    ruling = {name: grid["ruling"][name] for name in ("subdivision", "swing")}
    whole["session"]["grid"] = steady | ruling
    for track in whole["session"]["tracks"]:
        track["level_limit_db"] = track.pop("rules")["level_limit_db"]
    whole["session"]["parts"] = [{"name": "Accordion", "path": whole["session"]["parts"][0]["path"]}]
    whole["session"]["groups"] = [group for group in whole["session"]["groups"] if not group.get("part")]
    (tmp_path / FILE_NAME).write_text(json.dumps(whole))
    assert load_session(tmp_path) == edits.change_part(sample_session(), "p1", length_s=0.0)


def test_no_session_here(tmp_path):
    """A folder without one is named."""
    with pytest.raises(SessionError, match="no session"):
        load_session(tmp_path)


class TestGroups:
    """Tracks that belong together."""

    def test_rates_and_names_must_agree(self):
        """Neither another rate nor a second file of one name is taken."""
        with pytest.raises(GroupError, match=r"b\.wav: its rate of 44100 Hz differs"):
            check_group((recording("a.wav"), recording("b.wav", rate=44_100)))
        twin = Recording(Path("/other/a.wav"), 480_000, 48_000, 1, "WAV", "PCM_24")
        with pytest.raises(GroupError, match=r"a\.wav: two files have this name"):
            check_group((recording("a.wav"), twin))

    def test_other_lengths_and_starts_are_only_warned_of(self):
        """They may be right."""
        warnings = check_group((recording("a.wav"), recording("b.wav", frames=1_000), recording("c.wav", start_s=1.5)))
        assert len(warnings) == 2
        assert "b.wav" in warnings[0]
        assert "+1.500 s" in warnings[1]

    def test_adding_a_file_twice_adds_it_once(self):
        """Known recordings are left out; another rate is refused whatever the group."""
        session = sample_session()
        again = edits.add_recordings(session, [recording("snare.wav"), recording("tom.wav")], group_name="Drums")
        assert [track.name for track in again.tracks] == ["Snare", "Bass drum", "Horn", "Tom"]
        assert again.groups[0].tracks == ("t1", "t2", "t4")
        with pytest.raises(GroupError, match="44100"):
            edits.add_recordings(session, [recording("flute.wav", rate=44_100)])

    def test_moving_and_removing_tracks_keeps_groups_whole(self):
        """A moved lead loses its rank; an emptied group goes."""
        moved = edits.move_track(sample_session(), "t2", "g2")
        assert (moved.groups[0].leads, moved.groups[1].tracks) == (("t1",), ("t3", "t2"))
        alone = edits.move_track(moved, "t2", None)
        assert [group.tracks for group in alone.groups] == [("t1",), ("t3",), (), ("t2",)]
        gone = edits.remove_track(alone, "t3")
        assert [group.tracks for group in gone.groups] == [("t1",), (), ("t2",)]
        assert [group.tracks for group in edits.remove_part(gone, "p1").groups] == [("t1",), ("t2",)]


def test_a_group_of_one_is_called_like_its_track():
    """Unless another one is called so; several tracks get a number."""
    session = edits.add_recordings(Session(), [recording("bass"), recording("drums")])
    session = edits.add_recordings(session, [recording("cornet")])
    session = edits.add_recordings(session, [recording("elsewhere/cornet")])
    assert [group.name for group in session.groups] == ["Group 1", "Cornet", "Group 3"]
