"""Files as they come in: recordings, MIDI parts, and MIDI files that have no notes but tell the tempo."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from supple_snare.disk.opening import real_path
from supple_snare.errors import RecordingError, SnareError
from supple_snare.exchange.midi import MIDI_SUFFIXES, read_grid, read_notes
from supple_snare.session.document import Session
from supple_snare.session.edits import add_part, add_recordings
from supple_snare.session.grid_edits import take_reading
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid
from supple_snare.timing.notes import Notes


class Gathered(NamedTuple):
    """What became of files.

    Attributes
    ----------
    session : Session
    notes : dict
        From the path of each MIDI part that was added to its `Notes`.
    tempo_of : Path or None
        The MIDI file whose tempos and meters are the grid now.
    problems : list of str
        A sentence for each file that was not used.
    """

    session: Session
    notes: dict[Path, Notes]
    tempo_of: Path | None
    problems: list[str]


def gather(session: Session, paths: Sequence[Path], *, group_name: str | None = None) -> Gathered:
    """Add files to a session; those that cannot be used are named, the others are taken.

    A MIDI file without notes is no part to be tightened: its tempos become the grid if nobody has set one yet.
    """
    recordings, problems = [], []
    parts: dict[Path, Notes] = {}
    tempo_of = None
    for path in map(real_path, paths):
        try:
            if path.suffix.lower() not in MIDI_SUFFIXES:
                recordings.append(read_recording(path))
            elif len(notes := read_notes(path)):
                parts[path] = notes
            else:
                session, tempo_of = _on_grid_of(path, session), path
        except SnareError as error:
            problems.append(str(error))
    try:
        session = add_recordings(session, recordings, group_name=group_name)
    except SnareError as error:
        problems.append(str(error))
    for path, notes in parts.items():
        session = add_part(session, path, float(notes.end_s.max()))
    return Gathered(session, parts, tempo_of, problems)


def _on_grid_of(path: Path, session: Session) -> Session:
    """The session on the grid of a MIDI file without notes.

    Raises
    ------
    RecordingError
        If the file says nothing of tempo, or somebody has set a grid already.
    """
    try:
        grid = read_grid(path)
    except RecordingError as error:
        raise RecordingError(path, "it has no notes, and no tempos that can be read; export it again.") from error
    if session.take_grid != Grid():
        raise RecordingError(path, "it has no notes, only tempos; to lay the grid by them choose it in Grid, Find.")
    return take_reading(session, grid)
