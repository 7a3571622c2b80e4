"""The command line: the window, and the same work without one.

Standard output carries JSON alone; progress and messages go to standard error. Exit status: 0 done, 1 the work
failed, 2 wrong use.
"""

from __future__ import annotations

import argparse
import contextlib
import errno
import io
import json
import os
import sys
import warnings
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from supple_snare import __version__
from supple_snare.cli_options import Parser, command_parser
from supple_snare.disk.opening import real_path
from supple_snare.disk.outputs import WriteGuard, check_outputs
from supple_snare.errors import OutputError, RecordingError, SnareError, UsageError
from supple_snare.exchange.groove_files import GrooveFile, read_groove, write_groove
from supple_snare.exchange.midi import MIDI_SUFFIXES
from supple_snare.session.cutting import cut_group
from supple_snare.session.document import Session, Track, check_group
from supple_snare.session.edits import (
    add_part,
    add_recordings,
    change_group,
    change_part,
    readable_name,
    set_aim,
)
from supple_snare.session.finding import tempos_of, weigh_slots
from supple_snare.session.handover import PartToWrite, own_track, part_to_write, plan_files, write_files
from supple_snare.session.open_sessions import files_in_use, paths_of
from supple_snare.session.report import hits_report, measure_report, tempo_report, tighten_report
from supple_snare.session.stages import GroupView, Stages
from supple_snare.sound.attacks import Analysis
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import read_recording
from supple_snare.sound.mixing import Click
from supple_snare.sound.stretch.ways import Method
from supple_snare.timing.aim import Aim, AimAt
from supple_snare.timing.course import check_stiffness
from supple_snare.timing.grid import Grid
from supple_snare.timing.groove import UNSURE_COUNT, take_groove
from supple_snare.timing.hits import Kind
from supple_snare.timing.meter import Meter
from supple_snare.timing.offsets import FeelRules
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.tempo import TempoFinding
from supple_snare.timing.tighten import Response

_EPILOG = """commands:
  hits FILE…       find the attacks of each track and the strokes of the group
  tempo FILE…      find tempo, meter and beats
  measure FILE…    how far each stroke lies from the grid
  groove FILE…     what the playing repeats, as a template for another performance
  tighten FILE…    write tightened files
Each has its own --help. Without a command the window opens: with the files given as a new session, with the session
in a folder given, or empty. Files given together are one group; a MIDI file is one by itself."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the program; returns its exit status."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    _speak_plainly()
    try:
        if words and words[0] in _COMMANDS:
            return _run_command(words)
        return _open_window(words)
    except UsageError as error:
        _say(f"supple-snare: {error}")
        return 2
    except SnareError as error:
        _say(f"supple-snare: {error}")
    except KeyboardInterrupt:
        _say("supple-snare: stopped.")
    except BrokenPipeError:
        pass  # whoever read standard output wanted no more of it
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        _say(f"supple-snare: {where}{error.strerror or error}; nothing was finished. Try again, or use another folder.")
    except MemoryError:
        _say("supple-snare: there is not enough memory for this; close other programs, or give fewer files at once.")
    except Exception as error:  # the edge of the program: a person gets a sentence, whoever mends it the place
        if os.environ.get(_SHOW_FAULTS):
            raise
        kind = type(error).__name__
        _say(f"supple-snare: a fault of the program ({kind}: {error}); {_SHOW_FAULTS}=1 shows where. Please report it.")
    return 1


_SHOW_FAULTS = "SUPPLE_SNARE_FAULTS"
"""Environment variable: faults of the program are shown with the place in the code."""


def _speak_plainly() -> None:
    """Let every name be printed, in any locale, and no warning of a library come between."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    if not sys.warnoptions:
        warnings.simplefilter("ignore", RuntimeWarning)


def _print_json(result: Any) -> None:
    """Write a result to standard output as one line of UTF-8.

    Raises
    ------
    OutputError
        If standard output is closed or takes no more.
    BrokenPipeError
        If nobody reads it any more.
    """
    try:
        data = msgspec.json.encode(result)
    except UnicodeEncodeError:  # a file name that is no UTF-8: escaped as \\udcff, which JSON allows
        data = json.dumps(msgspec.to_builtins(result)).encode()
    try:
        if sys.stdout is None:
            raise OSError(errno.EBADF, "it is closed")
        sys.stdout.flush()
        sys.stdout.buffer.write(data + b"\n")
        sys.stdout.buffer.flush()
    except OSError as error:
        if sys.stdout is not None:  # what is left in its buffer must not fail once more when Python ends
            with contextlib.suppress(OSError, ValueError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        if isinstance(error, BrokenPipeError):
            raise
        raise OutputError(f"Standard output could not be written: {error.strerror}.") from error


def _open_window(words: list[str]) -> int:
    parser = Parser(
        prog="supple-snare",
        description="Tightens the timing of recorded performances and keeps their feel.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "paths", nargs="*", type=Path, metavar="SESSION or FILE", help="a session folder, or recordings"
    )
    parser.add_argument("--demo", action="store_true", help="open the Lantern Quay street band's rehearsal")
    parser.add_argument("--version", action="version", version=f"supple-snare {__version__}")
    parser.add_argument("--add-to-menu", action="store_true", help="an entry, icon and file type on this desktop")
    parser.add_argument("--remove-from-menu", action="store_true", help="take them away again")
    options = parser.parse_args(words)
    if options.add_to_menu or options.remove_from_menu:
        return _change_menu(remove=options.remove_from_menu)
    if options.demo and options.paths:
        parser.error("--demo opens a session of its own; leave the other files out.")
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        _say("supple-snare: there is no screen to open a window on; the commands work without one.")
        return 1
    # Qt's sound module tells on standard error which of its optional back ends are missing; nobody asked.
    os.environ.setdefault("QT_LOGGING_RULES", "qt.multimedia.symbolsresolver=false")
    from supple_snare.desk.app import run_window

    return run_window(options.paths, demo=options.demo)


def _change_menu(*, remove: bool) -> int:
    from supple_snare.desk.menu_entry import add_to_menu, remove_from_menu

    for file in remove_from_menu() if remove else add_to_menu():
        _say(f"{'removed' if remove else 'written'}: {file}")
    return 0


def _run_command(words: list[str]) -> int:
    options = command_parser().parse_args(words)
    result = _COMMANDS[options.command](options)
    if options.json:
        _print_json(result)
    return 0


def _read_group(options: argparse.Namespace) -> Session:
    """The files as a session of one group."""
    in_midi = [path.suffix.lower() in MIDI_SUFFIXES for path in options.files]
    if any(in_midi):
        if len(in_midi) > 1:
            raise UsageError("A MIDI file is a group of its own: give it alone.")
        session = add_part(Session(), real_path(options.files[0]), 0.0)
        return _with_feel(session, options)
    recordings = [read_recording(path) for path in options.files]
    for warning in check_group(tuple(recordings)):
        _say(f"note: {warning}")
    session = add_recordings(Session(), recordings)
    group = session.groups[0]
    if options.leads is not None:
        session = change_group(session, group.key, leads=_lead_keys(session, options.leads))
    return _with_feel(session, options)


def _with_feel(session: Session, options: argparse.Namespace) -> Session:
    """The session with what was said of the feel, where the command has a say in it."""
    if not hasattr(options, "cycle"):
        return session
    return change_group(session, session.groups[0].key, feel=FeelRules(options.cycle, options.by_lead))


def _listen(session: Session, stages: Stages) -> GroupView:
    """Analyse the files; says so where there is nothing to find."""
    stages.analyse_all(session, _progress("listening"))
    view = stages.view(session, session.groups[0])
    for track in view.tracks:
        _report_missing_hits(track, session, view, stages)
    if view.part is not None and not len(view.strokes):
        raise RecordingError(session.parts[0].path, "it holds no notes; choose another file.")
    if not len(view.strokes):
        first = next((t for t in view.tracks if t.key in view.leads), view.tracks[0])
        raise RecordingError(first.recording.path, _no_attacks(stages.heard(session, first)))
    return view


def _no_attacks(analysis: Analysis | None) -> str:
    if analysis is not None and analysis.is_silent:
        return "the recording is silent; check that it is the right file."
    return "no clear attacks found; choose another lead with --leads."


def _report_missing_hits(track: Track, session: Session, view: GroupView, stages: Stages) -> None:
    analysis, path = stages.heard(session, track), track.recording.path
    leads = track.key in (view.group.leads or ())
    if analysis is not None and analysis.is_silent:
        _say(f"note: {path.name} is silent.")
        if leads:
            raise RecordingError(path, "the recording is silent and cannot be a lead; choose another with --leads.")
    elif leads and not np.any(view.hits[track.key].kind == Kind.PLAYED):
        raise RecordingError(path, "no clear attacks found; choose another lead with --leads.")


def _lead_keys(session: Session, text: str) -> tuple[str, ...]:
    by_name = {str(track.recording.path): track.key for track in session.tracks}
    by_name |= {track.recording.path.stem: track.key for track in session.tracks}
    by_name |= {track.recording.path.name: track.key for track in session.tracks}
    keys = []
    for word in text.split(","):
        name = word.strip()
        if name not in by_name:
            known = ", ".join(track.recording.path.name for track in session.tracks)
            raise UsageError(f"The lead “{name}” is not among the files: give one of {known}.")
        if by_name[name] not in keys:
            keys.append(by_name[name])
    return tuple(keys)


def _grid(options: argparse.Namespace) -> Grid | None:
    """The grid told on the command line; None where the band is to be followed."""
    ruling = _ruling(options)
    if options.follow:
        if options.tempo is not None or options.first_beat is not None:
            raise UsageError("--follow finds tempo and first beat itself: leave --tempo and --first-beat out.")
        check_stiffness(options.stiffness)
        return None
    if options.tempo is None or options.first_beat is None:
        raise UsageError("Give --tempo and --first-beat, or --follow for a recording without a click.")
    return Grid(options.tempo, options.first_beat, options.meter or Meter(), ruling)


def _ruling(options: argparse.Namespace) -> Ruling:
    return replace(options.grid, swing=options.swing, swing_note=options.swing_of)


def _on_grid(session: Session, options: argparse.Namespace, grid: Grid | None, stages: Stages) -> Session:
    """The session on the grid told, or on the one that its band plays to."""
    if grid is None:
        found = _readings(session, _listen(session, stages))[0].grid
        played = found.played and replace(found.played, stiffness=options.stiffness)
        grid = replace(found, ruling=_ruling(options), meter=options.meter or found.meter, played=played)
        kind = "steady" if grid.played is None else "following the band"
        _say(f"{grid.tempo_bpm:.2f} bpm in {grid.meter}, {kind}; bar 1 at {float(grid.bar_time_s(1)):.3f} s")
    return msgspec.structs.replace(session, take_grid=grid)


def _readings(session: Session, view: GroupView) -> list[TempoFinding]:
    """What the tempo may be, likeliest first."""
    readings = tempos_of(view)
    if not readings:
        path = Path(session.file_of(view.leads[0]))
        raise RecordingError(path, "too few strokes to tell a tempo; give --tempo and --first-beat by hand.")
    return readings


def _note_slots(session: Session, view: GroupView) -> None:
    """Say so where other slots fit plainly better than those that were told."""
    evidence = weigh_slots(session, view.strokes, session.grid, None)
    if evidence is not None and (better := evidence.better) is not None:
        _say(f"note: another --grid fits plainly better: {better.in_words}; {evidence.now.in_words}.")


def _hits(options: argparse.Namespace) -> Any:
    session = _read_group(options)
    view = _listen(session, Stages())
    result = hits_report(session, view)
    for key, track in zip(view.hits, result.tracks, strict=True):
        sound = f" ({view.materials[key]})" if key in view.materials else ""
        played = sum(hit.kind == "played" for hit in track.hits)
        _say(f"{track.file}{sound}: {played} played of {len(track.hits)} attacks")
    _say(f"{len(result.strokes)} strokes")
    return result


def _tempo(options: argparse.Namespace) -> Any:
    session = _read_group(options)
    view = _listen(session, Stages())
    readings = _readings(session, view)
    evidence = weigh_slots(session, view.strokes, readings[0].grid, None)
    ruling = evidence.candidates[0].ruling if evidence is not None else None
    result = tempo_report(view, readings, ruling)
    others = ", ".join(f"{other.tempo:.2f} in {other.meter}" for other in result.runners_up)
    first = f"bar 1 at {result.first_beat:.3f} s{', not sure' if readings[0].is_bar_unsure else ''}"
    _say(f"{readings[0].in_words}; {first}; else: {others}")
    if ruling is not None:
        _say(f"slots that fit best: {ruling.in_words}")
    return result


def _measure(options: argparse.Namespace) -> Any:
    grid = _grid(options)
    stages = Stages()
    session = _on_grid(_read_group(options), options, grid, stages)
    view = _listen(session, stages)
    _note_slots(session, view)
    result = measure_report(session, view)
    summary = result.summary
    _say(f"{summary.strokes} strokes, mean {summary.mean_ms:+.1f} ms, spread {summary.spread_ms:.1f} ms")
    return result


def _groove(options: argparse.Namespace) -> Any:
    grid = _grid(options)
    options.cycle = options.bars or options.cycle
    session = _read_group(options)
    guard = _guard(session, options)
    if not options.out.parent.is_dir():
        raise OutputError(f"{options.out.parent}: there is no such folder; make it or choose another.")
    check_outputs([options.out], guard)
    stages = Stages()
    session = _on_grid(session, options, grid, stages)
    view = _listen(session, stages)
    _note_slots(session, view)
    groove = take_groove(
        view.strokes,
        view.offsets,
        session.grid,
        view.offsets.placed,
        name=options.name or readable_name(options.files[0]),
        centred=not options.keep_mean,
        source=", ".join(path.name for path in options.files),
    )
    write_groove(options.out, groove, guard=guard)
    unsure = sum(slot.count <= UNSURE_COUNT for slot in groove.slots)
    seldom = f", {unsure} of them heard once or twice" if unsure else ""
    _say(f"{len(groove.slots)} slots of {groove.cycle_beats:g} beats{seldom}; written to {options.out}")
    return GrooveFile.of(groove)


def _tighten(options: argparse.Namespace) -> Any:
    if options.method not in list(Method):
        raise UsageError(f"The method “{options.method}” is not known: give cut, stretch or auto.")
    grid = _grid(options)
    response = Response(options.strength, options.tolerance, options.reach, options.keep_drift, options.times)
    session = _read_group(options)
    key = session.groups[0].key
    if not 0.0 <= options.join <= 20.0:
        raise UsageError(f"A join of {options.join:g} ms makes no sense: give one from 0 to 20.")
    join_ms = 0.0 if session.parts else options.join
    session = change_group(session, key, response=response, join_ms=join_ms, method=Method(options.method))
    session = _aimed(session, key, options)
    for part in session.parts:
        session = change_part(session, part.key, ends_follow=options.ends_follow, session_tempo=options.session_tempo)
    group = session.groups[0]
    own_parts = [PartToWrite(session.part(group.part).path)] if group.part else []
    # A target that cannot be written must show itself before minutes of work.
    tracks = session.tracks_of(group)
    guard = _guard(session, options)
    own = [own_track(session, Click(session.grid))] if options.click else []
    as_played = [(track.recording, EditList.identity()) for track in tracks]
    plan_files(as_played, options.out, guard=guard, parts=own_parts, own=own)
    stages = Stages()
    session = _on_grid(session, options, grid, stages)
    view = _listen(session, stages)
    _note_slots(session, view)
    cut = None if view.part is not None else cut_group(session, view, _progress("finding seams"))
    edits = EditList.identity() if cut is None else cut.edits
    parts = [part_to_write(session, view)] if view.part is not None else []
    own = [own_track(session, Click(session.grid))] if options.click else []
    jobs = plan_files(
        [(track.recording, edits) for track in view.tracks], options.out, guard=guard, parts=parts, own=own
    )
    written = write_files(jobs, guard=guard, progress=_progress("writing"))
    result = tighten_report(session, view, cut, written.files)
    moved = sum(record.moved_ms != 0.0 for record in result.strokes)
    _say(f"{moved} of {len(view.strokes)} strokes moved; {len(written.files)} files in {options.out}")
    for each in written.left_out:
        _say(f"note: held by the recording besides its sound, and not in the file written: {each}")
    return result


def _guard(session: Session, options: argparse.Namespace) -> WriteGuard:
    """What this run may write: never over what it reads, and over other files only when told to."""
    inputs = [*options.files, *paths_of(session)]
    kind, _, name = getattr(options, "aim", "").partition("=")
    inputs += [Path(name)] if name and kind in (AimAt.GROOVE, AimAt.REFERENCE) else []
    return WriteGuard((*inputs, *(files_in_use() if options.replace else ())), replaces_all=options.replace)


def _aimed(session: Session, key: str, options: argparse.Namespace) -> Session:
    """The session with its group tightened toward what was told."""
    kind, _, name = options.aim.partition("=")
    if kind not in list(AimAt) or bool(name) != (kind in (AimAt.GROOVE, AimAt.REFERENCE)):
        raise UsageError(
            f"The aim “{options.aim}” is not understood: give grid, own-feel, groove=FILE or reference=FILE."
        )
    aim = Aim(
        at=AimAt(kind),
        amount=options.amount,
        groove=read_groove(Path(name)) if kind == AimAt.GROOVE else None,
        by_tempo=not options.in_ms,
        between=options.unknown == "along",
        behind_ms=options.behind,
        unpaired=options.unpaired,
        accents=options.accents,
    )
    if aim.at is AimAt.REFERENCE:
        path = Path(name)
        if path.suffix.lower() in MIDI_SUFFIXES:
            session = add_part(session, real_path(path), 0.0)
        else:
            session = add_recordings(session, [read_recording(path)])
        if len(session.groups) < 2:
            raise UsageError(f"{path.name} is among the files to tighten: a reference is another performance.")
        # What is aimed at stays as it was played.
        reference = session.groups[-1].key
        session = change_group(session, reference, response=Response(strength=0.0))
        aim = replace(aim, reference=reference)
    return set_aim(session, key, aim)


_COMMANDS: dict[str, Callable[[argparse.Namespace], Any]] = {
    "hits": _hits,
    "tempo": _tempo,
    "measure": _measure,
    "groove": _groove,
    "tighten": _tighten,
}


def _say(text: str) -> None:
    """Tell a person something; with standard error closed or full there is nobody to tell."""
    if sys.stderr is not None:
        with contextlib.suppress(OSError):
            print(text, file=sys.stderr)


def _progress(what: str) -> Callable[[float], None] | None:
    """Shows progress on a terminal; says nothing into files and pipes."""
    if sys.stderr is None or not sys.stderr.isatty():
        return None

    def show(share: float) -> None:
        print(f"\r{what} … {100 * share:3.0f} %", end="\n" if share >= 1.0 else "", file=sys.stderr, flush=True)

    return show
