"""What nobody expected: logged, saved, told in one sentence, on whatever thread; and the menu entry."""

from __future__ import annotations

import logging
import os
import signal
import stat
import subprocess
import sys
import threading
import time
from pathlib import Path
from xml.etree import ElementTree

import msgspec
import pytest
from PyQt6.QtWidgets import QApplication

from supple_snare import cli
from supple_snare.desk import faults as faults_module
from supple_snare.desk.faults import Faults, log_folder, start_log
from supple_snare.desk.menu_entry import add_to_menu, remove_from_menu
from supple_snare.session.open_sessions import unsaved_folder
from supple_snare.session.shelter import Shelter
from supple_snare.session.storage import load_session
from tests.desk.conftest import wait_until


@pytest.fixture
def faults(qapp, monkeypatch):
    """Hooks and a log that are taken away again."""
    for name in ("excepthook",):
        monkeypatch.setattr(sys, name, getattr(sys, name))
        monkeypatch.setattr(threading, name, getattr(threading, name))
    monkeypatch.setattr(faults_module, "qInstallMessageHandler", lambda _handler: None)
    monkeypatch.setattr(faults_module.faulthandler, "enable", lambda _file: None)
    log = logging.getLogger("supple_snare")
    before = list(log.handlers)
    crashes = start_log()
    faults = Faults()
    faults.install()
    yield faults
    crashes.close()
    for handler in log.handlers[:]:
        if handler not in before:
            handler.close()
            log.removeHandler(handler)


def test_a_fault_saves_the_work_and_is_told_without_a_traceback(window, faults, tmp_path, capsys):
    """The details can be copied and are in the log; the same fault is told once."""
    window.watch(faults)
    assert window.work.save_as(tmp_path / "session")
    window.work.do("Name it", msgspec.structs.replace(window.work.session, name="Dockside March"))
    for _ in range(3):
        sys.excepthook(KeyError, KeyError("washboard"), None)
    wait_until(window.message.isVisible, 2.0)
    assert load_session(tmp_path / "session").name == "Dockside March"
    words = window.message.text
    assert "KeyError: 'washboard'" in words
    assert "Your work is saved" in words
    assert "Traceback" not in words
    window.message.acts[0].click()
    assert "KeyError: 'washboard'" in QApplication.clipboard().text()
    assert "Supple Snare" in QApplication.clipboard().text()
    assert (log_folder() / "supple-snare.log").read_text().count("KeyError") == 3
    window.message.hide()
    sys.excepthook(KeyError, KeyError("washboard"), None)
    assert not window.message.isVisible()


def test_faults_of_other_threads_and_of_work_are_told_too(window, faults, capsys):
    """A thread of any kind, and the worker; a person's errors are told as what they are."""
    window.watch(faults)
    thread = threading.Thread(target=lambda: 1 / 0)
    thread.start()
    thread.join()
    wait_until(lambda: "ZeroDivisionError" in window.message.text, 2.0)
    window.work.jobs.submit("Work", lambda _progress: {}["missing"], print, window.work.tell_error)
    wait_until(lambda: "KeyError: 'missing'" in window.message.text, 2.0)


def test_a_program_told_to_end_leaves_its_work_in_the_shelter(tmp_path):
    """As when the desktop's session ends: nobody is asked, nothing is lost."""
    code = """
import sys
from PyQt6.QtCore import QTimer
import msgspec
from supple_snare.desk import app, doors
def told(self):
    from supple_snare.session.edits import add_part
    from pathlib import Path
    self._work.do("Add", add_part(self._work.session, Path("/takes/a.mid"), 3.0))
    print("ready", flush=True)
doors.Doors.offer_lost = told
sys.exit(app.run_window([]))
"""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    pipe = subprocess.PIPE
    with subprocess.Popen(
        [sys.executable, "-c", code], stdout=pipe, stderr=pipe, text=True, env=environment
    ) as program:
        patience = threading.Timer(60.0, program.kill)  # a program that never gets ready holds nobody up
        patience.start()
        assert program.stdout.readline() == "ready\n"
        patience.cancel()
        time.sleep(0.1)
        program.send_signal(signal.SIGTERM)
        assert program.wait(20) == 0
    assert [left.session.parts[0].path.name for left in Shelter(unsaved_folder()).left()] == ["a.mid"]


def test_the_menu_entry_starts_the_program_on_sessions(tmp_path, capsys):
    """The files are what the desktop expects; a second time changes nothing, and they go again."""
    assert cli.main(["--add-to-menu"]) == 0
    entry, icon, mime = add_to_menu()
    lines = dict(line.split("=", 1) for line in entry.read_text().splitlines() if "=" in line)
    command = lines["Exec"].removesuffix(" %F").strip('"')
    assert Path(command).stat().st_mode & stat.S_IXUSR
    kind = ElementTree.parse(mime).getroot()[0]
    assert kind.get("type") in lines["MimeType"].split(";")
    assert ElementTree.parse(icon).getroot().tag.endswith("svg")
    assert cli.main(["--remove-from-menu"]) == 0
    assert not any(path.exists() for path in (entry, icon, mime))
    assert remove_from_menu() == []
