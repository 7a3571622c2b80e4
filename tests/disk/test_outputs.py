"""Files written for a person: all or none, and never over a recording."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from supple_snare.disk.outputs import NEW_FILES, OutputSet, WriteGuard, check_outputs, output_file
from supple_snare.errors import OutputError


def tree(folder: Path) -> dict[str, bytes | str | None]:
    """Everything below a folder: what files hold, where links lead."""
    return {
        str(path.relative_to(folder)): str(path.readlink())
        if path.is_symlink()
        else None
        if path.is_dir()
        else path.read_bytes()
        for path in sorted(folder.rglob("*"))
    }


@pytest.mark.parametrize("way", ["path", "dotted path", "link", "second name", "folder link", "link to a missing one"])
@pytest.mark.parametrize("asked", [True, False])
def test_a_protected_file_is_never_replaced(tmp_path, way, asked):
    """By whatever name it is reached, also when told to replace files."""
    recording = tmp_path / "take" / "snare.wav"
    recording.parent.mkdir()
    recording.write_bytes(b"sound")
    target = tmp_path / "out.wav"
    match way:
        case "path":
            target = recording
        case "dotted path":
            target = tmp_path / "take" / ".." / "take" / "snare.wav"
        case "link":
            target.symlink_to(recording)
        case "second name":
            os.link(recording, target)
        case "folder link":
            (tmp_path / "there").symlink_to(recording.parent)
            target = tmp_path / "there" / "snare.wav"
        case "link to a missing one":
            recording.unlink()
            target = recording
    before = tree(tmp_path)
    guard = WriteGuard((recording,), frozenset({target}) if asked else frozenset(), replaces_all=asked)
    for attempt in (lambda: check_outputs([target], guard), lambda: write(target, guard)):
        with pytest.raises(OutputError, match="replace a recording"):
            attempt()
    assert tree(tmp_path) == before


def write(target: Path, guard: WriteGuard = NEW_FILES) -> None:
    """One file."""
    with output_file(target, guard) as file:
        file.write(b"new")


def test_other_files_are_replaced_when_a_person_agreed(tmp_path):
    """Unasked they stay, also a link that leads nowhere; a link is replaced, not followed."""
    old, link, elsewhere = tmp_path / "old", tmp_path / "link", tmp_path / "elsewhere"
    old.write_bytes(b"old")
    old.chmod(0o444)
    elsewhere.write_bytes(b"else")
    link.symlink_to(elsewhere)
    for target in (old, link):
        with pytest.raises(OutputError, match="there already"):
            write(target)
        write(target, WriteGuard(replaceable=frozenset({target})))
        assert target.read_bytes() == b"new"
    assert elsewhere.read_bytes() == b"else"
    assert not link.is_symlink()
    with pytest.raises(OutputError, match="this is a folder"):
        write(tmp_path, WriteGuard(replaces_all=True))


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    existing=st.sets(st.integers(0, 4)),
    fails_at=st.integers(0, 5),
    when=st.sampled_from(["create", "write", "place", "stop"]),
)
def test_a_set_is_written_whole_or_the_folders_are_as_before(tmp_path_factory, existing, fails_at, when):
    """Whatever fails, at whichever file: the old files are there, no new one, no folder, nothing half-written."""
    root = tmp_path_factory.mktemp("set")
    folder = root / "new" / "out" if not existing else root / "out"
    if existing:
        folder.mkdir()
    targets = [folder / f"{number}.wav" for number in range(5)]
    for number in existing:
        targets[number].write_bytes(b"old %d" % number)
    before, fails = tree(root), fails_at < len(targets)
    error = KeyboardInterrupt if when == "stop" else OSError
    with pytest.MonkeyPatch.context() as patch:
        if fails and when in ("create", "place"):
            fail_at_call(patch, when, fails_at)
        try:
            with OutputSet(WriteGuard(replaces_all=True), makes_folders=True) as outputs:
                for number, target in enumerate(targets):
                    with outputs.writing(target) as file:
                        file.write(b"new %d" % number)
                        if fails and number == fails_at and when in ("write", "stop"):
                            raise error(28, "No space left on device")
        except (OutputError, KeyboardInterrupt):
            assert fails
            assert tree(root) == before
            return
    assert not fails
    assert [target.read_bytes() for target in targets] == [b"new %d" % number for number in range(5)]
    assert len(list(folder.iterdir())) == 5


def fail_at_call(patch: pytest.MonkeyPatch, when: str, number: int) -> None:
    """Let the making of a temporary file, or the giving of a name, fail the so-manieth time."""
    left = [number]

    def count(real):
        def call(*arguments, **named):
            left[0] -= 1
            if left[0] == -1:
                raise OSError(28, "No space left on device")
            return real(*arguments, **named)

        return call

    if when == "create":
        patch.setattr("supple_snare.disk.outputs.create_part", count(outputs_module().create_part))
    else:
        patch.setattr("supple_snare.disk.outputs._place_new", count(outputs_module()._place_new))
        patch.setattr(Path, "replace", count(Path.replace))


def outputs_module():
    """The module whose functions are made to fail."""
    from supple_snare.disk import outputs

    return outputs


def test_what_cannot_be_written_shows_before_the_work(tmp_path):
    """A name too long for the disk, a file in the way of a folder: nothing is made."""
    (tmp_path / "file").write_text("")
    with pytest.raises(OutputError, match="longer than 255 bytes"):
        check_outputs([tmp_path / f"{'ä' * 126}.wav"], NEW_FILES)
    with pytest.raises(OutputError, match="cannot be made"):
        check_outputs([tmp_path / "file" / "out" / "a.wav"], NEW_FILES)
    longest = tmp_path / "new" / f"{'n' * 251}.wav"
    check_outputs([longest], NEW_FILES)
    with OutputSet(makes_folders=True) as outputs, outputs.writing(longest) as file:
        file.write(b"sound")
    assert [path.name for path in tmp_path.iterdir()] == ["file", "new"] or longest.is_file()
