"""Files that may be anything are opened at once, or refused in a sentence."""

from __future__ import annotations

import os
import socket

import pytest

from supple_snare.disk.opening import FileTooLargeError, NotARegularFileError, open_own, read_bounded


@pytest.mark.timeout(20)
@pytest.mark.parametrize("kind", ["pipe", "device", "socket", "folder", "loop"])
def test_what_is_no_file_is_told_at_once(tmp_path, kind, monkeypatch):
    """Nothing waits for somebody to write into a pipe, or reads a device that never ends."""
    monkeypatch.chdir(tmp_path)
    path = tmp_path / "session.json"
    match kind:
        case "pipe":
            os.mkfifo(path)
        case "device":
            path.symlink_to("/dev/zero")
        case "socket":
            with socket.socket(socket.AF_UNIX) as made:
                made.bind("session.json")
        case "folder":
            path.mkdir()
        case "loop":
            path.symlink_to(path)
    with pytest.raises(NotARegularFileError):
        read_bounded(path, 1 << 20)
    for attempt in (lambda: read_bounded(path, 100, follow_links=False), lambda: open_own(path, os.O_RDWR)):
        with pytest.raises(NotARegularFileError):
            attempt()


def test_links_to_recordings_are_not_followed_where_the_program_writes(tmp_path):
    """Neither by a symbolic link nor by a second name; reading what a person names may follow a link."""
    recording, link, second = tmp_path / "snare.wav", tmp_path / "link", tmp_path / "second"
    recording.write_bytes(b"sound")
    link.symlink_to(recording)
    os.link(recording, second)
    for path in (link, second):
        with pytest.raises(NotARegularFileError):
            open_own(path, os.O_RDWR | os.O_CREAT)
        assert read_bounded(path, 5) == b"sound"
    with pytest.raises(FileTooLargeError, match="larger than 4 bytes"):
        read_bounded(link, 4)
    assert recording.read_bytes() == b"sound"
