"""The hand-over: tightened tracks written to a folder, with the rate, width, length and names of what came in.

What the recordings hold besides their sound goes along where it still holds. All files are put in place together, or
none.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from supple_snare.disk.identity import SEEN, FileIdentity
from supple_snare.disk.opening import open_for_reading
from supple_snare.disk.outputs import NEW_FILES, OutputSet, WriteGuard, check_outputs, told_if_not_written
from supple_snare.errors import OutputError, RecordingChangedError, RecordingError
from supple_snare.exchange.midi import write_part
from supple_snare.session.document import Session
from supple_snare.session.library import unused_name
from supple_snare.session.metadata import finish_metadata, metadata_for
from supple_snare.session.stages import GroupView, change_of_part
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import BlockReader, Recording, block_spans
from supple_snare.sound.mixing import Click, Mixer, MixTrack, click_block
from supple_snare.sound.writing import Writer
from supple_snare.timing.grid import Grid
from supple_snare.timing.notes import NoteChange

_SUFFIX = {"WAV": ".wav", "FLAC": ".flac"}
_LOSSY = ("VORBIS", "OPUS", "MPEG_LAYER_III")
Tell = Callable[[float], None]
"""Told how many frames of a file are written; may raise to stop the work."""

_LOUDEST = 0.98
"""Of full scale: a mix is turned down to that where it would not fit."""

_FLAC_WIDTHS = ("PCM_S8", "PCM_16", "PCM_24")
_COPY_BYTES = 1 << 22


@dataclass(frozen=True)
class Job:
    """One track to write: its recording, what is done to it, and where it goes."""

    recording: Recording
    edits: EditList
    target: Path

    @property
    def source(self) -> Path:
        """What is read."""
        return self.recording.path


@dataclass(frozen=True, eq=False)
class PartToWrite:
    """A MIDI part and what becomes of it; a grid gives it its tempo and meters. No change, before it is known."""

    path: Path
    change: NoteChange | None = None
    grid: Grid | None = None


@dataclass(frozen=True, eq=False)
class PartJob:
    """One MIDI part to write, and where it goes."""

    part: PartToWrite
    target: Path

    @property
    def source(self) -> Path:
        """What is read."""
        return self.part.path


@dataclass(frozen=True)
class OwnTrack:
    """A track that is none of the recordings, in line with them: the click, or a mix of tracks, tightened.

    Attributes
    ----------
    sound : Click or tuple of MixTrack
    frames, rate_hz : int
    start_s : float
        Time of day of its first frame, as the recordings have it.
    """

    sound: Click | tuple[MixTrack, ...]
    frames: int
    rate_hz: int
    start_s: float = 0.0


@dataclass(frozen=True)
class OwnJob:
    """Such a track to write, and the file it becomes."""

    sound: Click | tuple[MixTrack, ...]
    output: Recording

    @property
    def target(self) -> Path:
        """Where it goes."""
        return self.output.path


AnyJob = Job | PartJob | OwnJob


@dataclass(frozen=True)
class Written:
    """What was handed over.

    Attributes
    ----------
    files : tuple of Path
        In the order of the jobs; then the account, if there is one.
    left_out : tuple of str
        What recordings hold besides their sound and did not go along: a sentence for each such file.
    """

    files: tuple[Path, ...]
    left_out: tuple[str, ...] = ()


def plan_files(
    tracks: Sequence[tuple[Recording, EditList]],
    folder: Path,
    *,
    guard: WriteGuard = NEW_FILES,
    parts: Sequence[PartToWrite] = (),
    own: Sequence[OwnTrack] = (),
    container: str | None = None,
) -> list[AnyJob]:
    """Decide the files of a hand-over and check that they may be written. Nothing is made yet.

    Parameters
    ----------
    tracks : sequence of (Recording, EditList)
    folder : Path
    guard : WriteGuard
        What may be replaced; the recordings and parts themselves never.
    parts : sequence of PartToWrite
    own : sequence of OwnTrack
    container : "WAV", "FLAC" or None
        None keeps the kind of each recording.

    Raises
    ------
    OutputError
        If a file would replace a recording or, unasked, any other file, two would have one name, or the folder cannot
        be written.
    """
    jobs = _jobs(tracks, folder, parts, own, container)
    check_outputs([job.target for job in jobs], _guarding(jobs, guard))
    return jobs


def files_there(
    tracks: Sequence[tuple[Recording, EditList]],
    folder: Path,
    *,
    parts: Sequence[PartToWrite] = (),
    own: Sequence[OwnTrack] = (),
    container: str | None = None,
) -> list[Path]:
    """Return the files of a hand-over that exist already; the arguments are those of `plan_files`.

    Raises
    ------
    OutputError
        If two would have one name.
    """
    return [job.target for job in _jobs(tracks, folder, parts, own, container) if os.path.lexists(job.target)]


def _jobs(
    tracks: Sequence[tuple[Recording, EditList]],
    folder: Path,
    parts: Sequence[PartToWrite],
    own: Sequence[OwnTrack],
    container: str | None,
) -> list[AnyJob]:
    """The files of a hand-over, each under a name of its own."""
    jobs: list[AnyJob] = []
    for recording, edits in tracks:
        output = _output_format(recording, container)
        jobs.append(Job(recording, edits, folder / output.path.name))
    jobs += [PartJob(part, folder / part.path.name) for part in parts]
    names = [job.target.name for job in jobs]
    stems = [Path(name).stem for name in names]
    jobs += [OwnJob(track.sound, _own_format(track, folder, stems, container)) for track in own]
    for name in names:
        if names.count(name) > 1:
            raise OutputError(f"{name}: two tracks would be written under this name; rename one of the recordings.")
    return jobs


def _guarding(jobs: Sequence[AnyJob], guard: WriteGuard) -> WriteGuard:
    """The guard that also protects what the jobs read."""
    sources = [job.source for job in jobs if isinstance(job, Job | PartJob)]
    mixed = [
        track.recording.path
        for job in jobs
        if isinstance(job, OwnJob) and isinstance(job.sound, tuple)
        for track in job.sound
    ]
    return replace(guard, protected=(*guard.protected, *sources, *mixed))


def part_to_write(session: Session, view: GroupView) -> PartToWrite:
    """The MIDI part of a group with what becomes of its notes."""
    part = session.part(view.group.part)
    return PartToWrite(part.path, change_of_part(session, view), session.grid if part.session_tempo else None)


def own_track(session: Session, sound: Click | Sequence[MixTrack]) -> OwnTrack:
    """The click, or a mix of tracks, over the whole take."""
    recordings = [track.recording for track in session.tracks]
    frames = max((recording.frames for recording in recordings), default=round(session.length_s * session.rate_hz))
    start_s = recordings[0].start_s if recordings else 0.0
    return OwnTrack(sound if isinstance(sound, Click) else tuple(sound), frames, session.rate_hz, start_s)


def write_files(
    jobs: Sequence[AnyJob],
    *,
    guard: WriteGuard = NEW_FILES,
    container: str | None = None,
    account: tuple[Path, Callable[[Written], str]] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Written:
    """Write the files block by block, and put them in place when all are whole: all of them or none.

    Parameters
    ----------
    jobs : sequence of Job, PartJob and OwnJob
    guard : WriteGuard
    container : "WAV", "FLAC" or None
        As given to `plan_files`.
    account : (Path, callable), optional
        A text to write beside them, made when all else is known.
    progress : callable, optional
        Called with the share done; may raise to stop the work, which leaves every folder as it was.

    Raises
    ------
    OutputError, RecordingError
        If writing or reading fails part-way. Every folder is as it was.
    """
    total = sum(map(_frames_of, jobs)) or 1
    done = 0
    left_out: list[str] = []

    def tell(frames: float) -> None:
        if progress is not None:
            progress((done + frames) / total)

    with OutputSet(_guarding(jobs, guard), makes_folders=True) as outputs:
        for job in jobs:
            match job:
                case PartJob():
                    assert job.part.change is not None
                    write_part(job.source, job.target, job.part.change, outputs, grid=job.part.grid)
                case Job():
                    lost = _write_track(job, _output_format(job.recording, container), outputs, tell)
                    left_out += [f"{job.source.name}: {', '.join(lost)}"] if lost else []
                case OwnJob(sound=Click() as click):
                    _write_click(click, job.output, outputs, tell)
                case OwnJob(sound=tuple() as tracks):
                    _write_mix(tracks, job.output, outputs, tell)
            done += _frames_of(job)
        written = Written(tuple(job.target for job in jobs), tuple(left_out))
        if account is not None:
            target, text_of = account
            with outputs.writing(target) as file:
                file.write(text_of(written).encode(errors="backslashreplace"))
            written = replace(written, files=(*written.files, target))
        tell(0)
    return written


def _frames_of(job: AnyJob) -> int:
    """How much there is to write: next to nothing for a MIDI part."""
    match job:
        case Job():
            return job.recording.frames
        case OwnJob():
            return job.output.frames
        case _:
            return 0


def _write_track(job: Job, output: Recording, outputs: OutputSet, tell: Tell) -> tuple[str, ...]:
    """Write a track; return what its recording holds besides its sound and did not go along."""
    recording, kind = job.recording, output.container
    if job.edits.is_identity and (kind, output.subtype) == (recording.container, recording.subtype):
        _copy_file(recording, job.target, outputs, tell)
        return ()
    try:
        metadata = metadata_for(recording, output, job.edits)
    except OSError as error:
        raise _unreadable(recording.path, error) from error
    with (
        BlockReader(recording, output.dtype, as_it_is=True) as reader,
        Writer(
            outputs, job.target, output, before=metadata.before, after=metadata.after, texts=metadata.texts
        ) as writer,
    ):
        for start, count in block_spans(recording.frames):
            tell(start)
            sound = job.edits.render(reader.read, start, count, quantum=output.quantum, recording=recording)
            writer.write(sound)
    with told_if_not_written(job.target):
        return metadata.left_out + finish_metadata(recording, output, writer.part)


def _unreadable(path: Path, error: OSError) -> RecordingError:
    if isinstance(error, RecordingError):
        return error
    return RecordingError(path, f"it cannot be read in {path.parent} ({error.strerror}).")


def _copy_file(recording: Recording, target: Path, outputs: OutputSet, tell: Tell) -> None:
    """Where nothing is edited, the file is the recording, to the last byte."""
    path = recording.path
    try:
        source = os.fdopen(open_for_reading(path), "rb", buffering=0)
    except OSError as error:
        raise _unreadable(path, error) from error
    with source, outputs.writing(target) as file:
        size, copied = max(FileIdentity.of(source.fileno()).size, 1), 0
        while block := source.read(_COPY_BYTES):
            if not SEEN.is_same(path, FileIdentity.of(source.fileno())):
                raise RecordingChangedError(path)
            file.write(block)
            copied += len(block)
            tell(recording.frames * min(copied / size, 1.0))


def _write_click(click: Click, output: Recording, outputs: OutputSet, tell: Tell) -> None:
    with Writer(outputs, output.path, output) as writer:
        for start, count in block_spans(output.frames):
            tell(start)
            writer.write(np.clip(click_block(click, start, count, output.rate_hz), -1.0, 1.0)[:, None])


def _write_mix(tracks: Sequence[MixTrack], output: Recording, outputs: OutputSet, tell: Tell) -> None:
    """As loud as it is heard, or softer where its largest sample would not fit into the file."""
    mixer, loudest = Mixer(tracks, output.rate_hz), 1e-9
    try:
        for start, count in block_spans(output.frames):
            tell(start / 2)
            loudest = max(loudest, float(np.abs(mixer.block(start, count, tightened=True)).max()))
        gain = np.float32(min(1.0, _LOUDEST / loudest))
        with Writer(outputs, output.path, output) as writer:
            for start, count in block_spans(output.frames):
                tell((output.frames + start) / 2)
                writer.write(gain * mixer.block(start, count, tightened=True))
    finally:
        mixer.close()


def _own_format(track: OwnTrack, folder: Path, taken: Sequence[str], container: str | None) -> Recording:
    """A file 24 bits wide, under a name that no other track has."""
    kind = container or "WAV"
    name, channels = ("click", 1) if isinstance(track.sound, Click) else ("mix", 2)
    return Recording(
        path=folder / f"{unused_name(name, taken)}{_SUFFIX[kind]}",
        frames=track.frames,
        rate_hz=track.rate_hz,
        channels=channels,
        container=kind,
        subtype="PCM_24",
        start_s=track.start_s,
    )


def _output_format(recording: Recording, container: str | None) -> Recording:
    """The recording as it will be written. Kinds that lose sound are written as 24-bit WAV."""
    kind, subtype = recording.container, recording.subtype
    if container is None and subtype not in _LOSSY:
        return recording
    kind = container or "WAV"
    if subtype in _LOSSY or (kind == "FLAC" and subtype not in _FLAC_WIDTHS):
        subtype = "PCM_24"  # the widest that FLAC holds
    if subtype == "PCM_S8" and kind == "WAV":
        subtype = "PCM_U8"
    return Recording(
        path=recording.path.with_suffix(_SUFFIX[kind]),
        frames=recording.frames,
        rate_hz=recording.rate_hz,
        channels=recording.channels,
        container=kind,
        subtype=subtype,
        start_s=recording.start_s,
    )
