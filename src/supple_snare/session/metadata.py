"""What recordings hold besides their sound, and how it goes along into tightened files."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from supple_snare import __version__
from supple_snare.exchange.chunks import Carried, carry_chunks, name_chunks
from supple_snare.exchange.tags import carry_flac_blocks, name_tags
from supple_snare.sound.editlist import EditList
from supple_snare.sound.files import TEXT_NAMES, Recording, read_texts

_RIFF, _AIFF = ("WAV", "WAVEX", "RF64"), ("AIFF",)
_BITS = {"PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}


@dataclass(frozen=True)
class Metadata:
    """What goes along into one file.

    Attributes
    ----------
    before, after : bytes
        Chunks, as `Writer` takes them.
    texts : dict of str to str
        Title and the like, where the file is of another kind than the recording.
    left_out : tuple of str
        What does not go along, each in a few words.
    """

    before: bytes = b""
    after: bytes = b""
    texts: dict[str, str] = field(default_factory=dict)
    left_out: tuple[str, ...] = ()


def metadata_for(recording: Recording, output: Recording, edits: EditList) -> Metadata:
    """Return what goes along when the sound of a recording is edited.

    Raises
    ------
    OSError
        If the recording cannot be read.
    """
    kinds = {recording.container, output.container}
    if kinds <= set(_RIFF) or kinds <= set(_AIFF):
        carried: Carried = carry_chunks(
            recording.path, lambda places: edits.result_of(places).tolist(), _coding_history(output)
        )
        return Metadata(carried.before, carried.after, left_out=carried.left_out)
    if kinds == {"FLAC"}:
        return Metadata()  # goes along when the file is whole: see `finish_metadata`
    texts = read_texts(recording)
    names = name_chunks(recording.path)
    names += tuple(f"“{name}”" for name in name_tags(recording.path) if name not in TEXT_NAMES)
    return Metadata(texts=texts, left_out=names)


def finish_metadata(recording: Recording, output: Recording, part: Path) -> tuple[str, ...]:
    """Add what can only be added to a whole file; return what does not go along.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    return carry_flac_blocks(recording.path, part) if recording.container == output.container == "FLAC" else ()


def _coding_history(output: Recording) -> str:
    """The line that a broadcast wave's coding history grows by (EBU R 98)."""
    width = f",W={_BITS[output.subtype]}" if output.subtype in _BITS else ""
    mode = "stereo" if output.channels == 2 else "mono"
    return f"A=PCM,F={output.rate_hz}{width},M={mode},T=Supple Snare {__version__} timing edited"
