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
from supple_snare.sound.attacks import Progress
from supple_snare.sound.files import Recording, read_recording
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


class FilesRead(NamedTuple):
    """What was found in files, in the order they were given.

    Attributes
    ----------
    recordings : list of Recording
    parts : dict
        From the path of each MIDI part that has notes to its `Notes`.
    grids : dict
        From the path of each MIDI file without notes to its tempos and meters.
    problems : list of str
        A sentence for each file that cannot be used.
    """

    recordings: list[Recording]
    parts: dict[Path, Notes]
    grids: dict[Path, Grid]
    problems: list[str]


def read_files(paths: Sequence[Path], progress: Progress | None = None) -> FilesRead:
    """Look at files; those that cannot be used are named, the others are taken.

    Parameters
    ----------
    paths : sequence of Path
    progress : callable, optional
        Called with the share done; may raise to stop the work.
    """
    read = FilesRead([], {}, {}, [])
    for number, path in enumerate(map(real_path, paths)):
        if progress is not None:
            progress(number / len(paths))
        try:
            if path.suffix.lower() not in MIDI_SUFFIXES:
                read.recordings.append(read_recording(path))
            elif len(notes := read_notes(path)):
                read.parts[path] = notes
            else:
                read.grids[path] = _grid_of(path)
        except SnareError as error:
            read.problems.append(str(error))
    return read


def gather(session: Session, read: FilesRead, *, group_name: str | None = None) -> Gathered:
    """Add what was found in files to a session.

    A MIDI file without notes is no part to be tightened: its tempos become the grid if nobody has set one yet.
    """
    problems, tempo_of = list(read.problems), None
    for path, grid in read.grids.items():
        if session.take_grid == Grid():
            session, tempo_of = take_reading(session, grid), path
        else:
            problems.append(
                f"{path.name}: it has no notes, only tempos; to lay the grid by them choose it in Grid, Find."
            )
    try:
        session = add_recordings(session, read.recordings, group_name=group_name)
    except SnareError as error:
        problems.append(str(error))
    for path, notes in read.parts.items():
        session = add_part(session, path, float(notes.end_s.max()))
    return Gathered(session, read.parts, tempo_of, problems)


def _grid_of(path: Path) -> Grid:
    """The tempos and meters of a MIDI file without notes.

    Raises
    ------
    RecordingError
        If it says nothing of tempo.
    """
    try:
        return read_grid(path)
    except RecordingError as error:
        raise RecordingError(path, "it has no notes, and no tempos that can be read; export it again.") from error
