"""The last resort: what nobody expected is logged, the work is saved, and the person is told in one sentence.

Logs lie in the user's state folder: `supple-snare.log` and older ones, and `crash.log` for what ends the process.
"""

from __future__ import annotations

import contextlib
import faulthandler
import logging
import platform
import sys
import threading
import traceback
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import IO

import platformdirs
from PyQt6.QtCore import (
    PYQT_VERSION_STR,
    QT_VERSION_STR,
    QMessageLogContext,
    QObject,
    QtMsgType,
    pyqtSignal,
    qInstallMessageHandler,
)

from supple_snare import __version__

_log = logging.getLogger("supple_snare")
_LOG_BYTES, _LOGS = 512 << 10, 3


def log_folder() -> Path:
    """Where the logs are."""
    return platformdirs.user_log_path("supple-snare")


def start_log() -> IO[str] | None:
    """Write the log; returns the file for crashes, which must stay open. Without a place for it there is no log."""
    _log.setLevel(logging.INFO)
    try:
        folder = log_folder()
        folder.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            folder / "supple-snare.log", maxBytes=_LOG_BYTES, backupCount=_LOGS, encoding="utf-8", delay=True
        )
        crashes = (folder / "crash.log").open("a", encoding="utf-8")
    except OSError:
        return None
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    _log.addHandler(handler)
    _log.info("Supple Snare %s, Python %s, Qt %s", __version__, platform.python_version(), QT_VERSION_STR)
    faulthandler.enable(crashes)
    return crashes


class Faults(QObject):
    """Catches what was not expected, on any thread.

    Attributes
    ----------
    newest : str
        The details of the newest fault, for whoever wants to report it.
    """

    happened = pyqtSignal(str)
    """One sentence; on the interface thread."""

    _caught = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.newest = ""
        self._told: set[str] = set()
        self._caught.connect(self.take)

    def install(self) -> None:
        """Be asked from now on."""
        sys.excepthook = self._from_python
        threading.excepthook = lambda fault: self._caught.emit(fault.exc_value)
        qInstallMessageHandler(_from_qt)

    def take(self, error: BaseException) -> None:
        """Log a fault and tell of it, once for each place it comes from."""
        details = "".join(traceback.format_exception(error))
        _log.error("%s", details)
        with contextlib.suppress(OSError):  # there may be no terminal any more
            sys.stderr.write(details)
        place = details.splitlines()[-3:]
        if (key := "\n".join(place)) in self._told:
            return
        self._told.add(key)
        system = f"Supple Snare {__version__}, {platform.platform()}, Qt {QT_VERSION_STR}, PyQt {PYQT_VERSION_STR}"
        self.newest = f"{system}\n\n{details}"
        self.happened.emit(f"Something went wrong inside the program ({_named(error)}).")

    def _from_python(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if isinstance(error, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
        else:
            self._caught.emit(error)


def _named(error: BaseException) -> str:
    """The kind of an error and what it says, in short."""
    text = " ".join(str(error).split())
    text = text if len(text) <= 80 else f"{text[:79]}…"
    return f"{type(error).__name__}: {text}" if text else type(error).__name__


def _from_qt(kind: QtMsgType, _context: QMessageLogContext, text: str | None) -> None:
    """What Qt has to say goes into the log; what is grave, to the terminal as well."""
    level = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO}.get(kind, logging.WARNING)
    _log.log(level, "Qt: %s", text)
    if kind in (QtMsgType.QtCriticalMsg, QtMsgType.QtFatalMsg):
        sys.stderr.write(f"{text}\n")
