"""What took long to find out, kept on disk: attacks and peaks of recordings, verdicts on groups, planned cuts.

Everything is filed under what it follows from: the hashes of the recordings, the settings, and the code that made it.
So an entry is never out of date, it is only not asked for any more; and whatever is wrong with one, it is made anew.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import zipfile
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache, partial
from pathlib import Path
from tokenize import TokenError
from typing import Any, TypeVar

import numpy as np
import platformdirs
from numpy.typing import NDArray

import supple_snare
from supple_snare.disk.mapped import kept_rows
from supple_snare.disk.opening import read_bounded
from supple_snare.disk.replacing import replacing
from supple_snare.session.cutting import CutRequest
from supple_snare.sound.attacks import Analysis
from supple_snare.sound.cut import Cut
from supple_snare.sound.ear import Ear, Ensemble
from supple_snare.sound.editlist import EditList
from supple_snare.sound.material import Material
from supple_snare.sound.novelty import BANDS, BandLevels
from supple_snare.sound.peaks import Peaks
from supple_snare.sound.rises import Rises
from supple_snare.sound.sides import in_stereo
from supple_snare.sound.verdict import Verdict

FOLDER_NAME = "cache"
_LARGEST_BYTES = 1 << 30
_MOST_BYTES = 1 << 30
"""What the user's own cache may hold in all; the entries used longest ago go first."""

SPOILT = (
    *(OSError, EOFError, ValueError, LookupError, TypeError, AttributeError, ArithmeticError, RuntimeError),
    *(zipfile.BadZipFile, SyntaxError, TokenError),
)
"""What reading an entry may end in that is not there, cut short, or something else: NumPy reads headers as Python."""

Arrays = Mapping[str, NDArray[Any]]
T = TypeVar("T")


class Cache:
    """Entries in one or more folders.

    Parameters
    ----------
    sha256_of : callable
        Tells the hash of a recording by its path; "" if it is not known, and then nothing is kept.
    """

    def __init__(self, sha256_of: Callable[[Path], str]) -> None:
        self._sha256_of = sha256_of
        self._own = platformdirs.user_cache_path("supple-snare") / "takes"
        self._used: dict[str, None] = {}
        self.beside: Path | None = None
        """The folder of the session, if it has one."""

    def analysis(self, ear: Ear, make: Callable[[], Analysis]) -> Analysis:
        """What an ear hears: as kept, or made and kept."""
        frames = ear.frames
        return self._get(self._ear_key(ear), partial(_analysis_of, frames=frames), _arrays_of_analysis, make)

    def verdicts(self, ensemble: Ensemble, make: Callable[[], list[Verdict]]) -> list[Verdict]:
        """What is made of the attacks of a group."""
        keys = [self._ear_key(ear) for ear in ensemble.ears]
        told = repr((sorted(map(sorted, in_stereo(ensemble.ears))), ensemble.given))
        key = _key("verdicts", *keys, told) if all(keys) else ""
        return self._get(key, partial(_verdicts_of, count=len(ensemble.ears)), _arrays_of_verdicts, make)

    def cut(self, request: CutRequest, make: Callable[[], Cut]) -> Cut:
        """The seams of a group."""
        hashes = [self._sha256_of(recording.path) for recording in request.recordings]
        arrays = (request.first_arrival, request.arrivals, request.move)
        asked = [array.astype("<i8").tobytes().hex() for array in arrays]
        by_hand = (sorted(request.places.items()), request.slides, request.ways, request.anchors)
        settings = repr((request.settings, by_hand))
        key = _key("cut", *hashes, *asked, settings) if all(hashes) else ""
        return self._get(key, partial(_cut_of, count=len(request.move)), _arrays_of_cut, make)

    def copy_beside(self) -> None:
        """What a session without a folder had kept goes along when it gets one: used ones are linked or copied."""
        for key in list(self._used):
            with contextlib.suppress(OSError):
                source, target = self._own / key, self._folder() / key
                if source.is_file() and not target.exists():
                    target.parent.mkdir(parents=True, exist_ok=True)
                    with replacing(target, is_durable=False) as file:
                        file.write(read_bounded(source, _LARGEST_BYTES))

    def _folder(self) -> Path:
        beside = self.beside and self.beside / FOLDER_NAME
        return self._own if beside is None or beside.is_symlink() else beside

    def _ear_key(self, ear: Ear) -> str:
        hashes = [self._sha256_of(recording.path) for recording in ear.recordings]
        return _key("analysis", *hashes, repr((ear.band_hz, ear.material))) if all(hashes) else ""

    def _get(self, key: str, unpack: Callable[[Arrays], T], pack: Callable[[T], Arrays], make: Callable[[], T]) -> T:
        if not key:
            return make()
        self._used[key] = None
        for folder in dict.fromkeys((self._folder(), self._own)):
            try:
                value = unpack(read_arrays(folder / key))
            except SPOILT:
                continue  # made anew
            with contextlib.suppress(OSError):
                os.utime(folder / key)
            return value
        value = make()
        with contextlib.suppress(OSError):  # a full disk or a read-only folder only costs time
            write_arrays(self._folder() / key, pack(value))
        return value

    def prune(self) -> None:
        """Keep the user's own cache from growing without end."""
        with contextlib.suppress(OSError):
            entries = sorted(((file.stat(), file) for file in self._own.iterdir()), key=lambda each: -each[0].st_mtime)
            held = 0
            for state, file in entries:
                held += state.st_size
                if held > _MOST_BYTES:
                    file.unlink(missing_ok=True)


def read_arrays(path: Path) -> dict[str, NDArray[Any]]:
    """The arrays of an uncompressed .npz file, read-only.

    Headers are held against what is really there before anything is made of them, and objects are refused, since the
    file may come from anywhere.

    Raises
    ------
    OSError, ValueError, zipfile.BadZipFile
        If there is no such file, or it is anything else.
    """
    found = {}
    with zipfile.ZipFile(io.BytesIO(read_bounded(path, _LARGEST_BYTES, follow_links=False))) as packed:
        for entry in packed.infolist():
            if entry.compress_type != zipfile.ZIP_STORED:
                raise ValueError("compressed")
            stream = io.BytesIO(packed.read(entry))
            if np.lib.format.read_magic(stream) != (1, 0):
                raise ValueError("an array of another version")
            shape, fortran, kind = np.lib.format.read_array_header_1_0(stream)
            data = stream.read()
            if fortran or kind.hasobject or kind.itemsize * int(np.prod(shape, dtype=object)) != len(data):
                raise ValueError("not the array it says it is")
            array = np.frombuffer(data, kind).reshape(shape)
            found[entry.filename.removesuffix(".npy")] = kept_rows(array) if shape else array
    return found


def write_arrays(path: Path, arrays: Arrays) -> None:
    """Write arrays as an uncompressed .npz file, whole or not at all.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path, is_durable=False) as file:
        np.savez(file, allow_pickle=False, **arrays)


def _key(kind: str, *follows_from: str) -> str:
    text = "\n".join((kind, _maker(), *follows_from))
    return f"{kind}-{hashlib.sha256(text.encode()).hexdigest()[:40]}.npz"


@lru_cache
def _maker() -> str:
    """The code that makes what is kept: another version of it makes other things."""
    digest = hashlib.sha256()
    package = Path(supple_snare.__file__).parent
    for folder in (package / "sound", package / "timing"):
        for file in sorted([*folder.rglob("*.py"), *folder.rglob("*.json")]):
            digest.update(file.read_bytes())
    return digest.hexdigest()


def _arrays_of_analysis(analysis: Analysis) -> dict[str, NDArray[Any]]:
    levels, attacks, peaks = analysis.levels, analysis.attacks, analysis.peaks
    arrays: dict[str, NDArray[Any]] = {f"attacks.{name}": getattr(attacks, name) for name in _names(Rises)}
    arrays |= {f"peaks.{number}": level for number, level in enumerate(peaks.levels)}
    arrays["peaks.of"] = np.array([peaks.frames, peaks.rate_hz])
    arrays |= {"levels.steps": levels.steps, "levels.of": np.array([levels.hop, levels.rate_hz])}
    arrays["material"] = np.array(analysis.material.value)
    arrays["note_features"] = analysis.note_features
    return arrays


def _analysis_of(arrays: Arrays, *, frames: int) -> Analysis:
    told_frames, rate_hz = (int(each) for each in arrays["peaks.of"])
    hop, levels_rate_hz = (int(each) for each in arrays["levels.of"])
    if told_frames != frames:
        raise ValueError("of another recording")
    levels = [arrays[f"peaks.{number}"] for number in range(sum(name.startswith("peaks.") for name in arrays) - 1)]
    attacks = Rises(**{name: arrays[f"attacks.{name}"] for name in _names(Rises)})
    _check_alike(getattr(attacks, name) for name in _names(Rises))
    return Analysis(
        peaks=Peaks(tuple(levels), frames, rate_hz),
        levels=BandLevels(arrays["levels.steps"], hop, levels_rate_hz),
        attacks=attacks,
        material=Material(str(arrays["material"])),
        note_features=arrays["note_features"].astype(np.float64),
    )


_VERDICT_ARRAYS = ("time_s", "level_db", "log_odds", "sharpness", "spectrum_db")
_VERDICT_FACTS: dict[str, type] = {
    "is_far": np.bool_,
    "is_wide": np.bool_,
    "later_s": np.float64,
    "centre_hz": np.float64,
    "drum": np.int64,
    "own_odds": np.float64,
    "twin_odds": np.float64,
}


def _arrays_of_verdicts(verdicts: list[Verdict]) -> dict[str, NDArray[Any]]:
    arrays = {
        f"{number}.{name}": getattr(each, name) for number, each in enumerate(verdicts) for name in _VERDICT_ARRAYS
    }
    arrays["material"] = np.array([each.material.value if each.material else "" for each in verdicts], dtype=np.str_)
    return arrays | {
        name: np.array([getattr(each, name) for each in verdicts], dtype=kind) for name, kind in _VERDICT_FACTS.items()
    }


def _verdicts_of(arrays: Arrays, *, count: int) -> list[Verdict]:
    facts: Arrays = {name: arrays[name].astype(kind) for name, kind in _VERDICT_FACTS.items()}
    material = [Material(each) if each else None for each in arrays["material"].astype(np.str_).tolist()]
    found = []
    if any(each.shape != (count,) for each in facts.values()) or len(material) != count:
        raise ValueError("of another group")
    for number in range(count):
        columns: dict[str, Any] = {name: arrays[f"{number}.{name}"] for name in _VERDICT_ARRAYS}
        _check_alike(columns.values())
        if columns["spectrum_db"].shape[1:] != (BANDS,):
            raise ValueError("no spectra")
        told = {name: each[number].item() for name, each in facts.items()}
        found.append(Verdict(**columns, **told, material=material[number]))
    return found


_EDIT_ARRAYS = ("at", "shift", "fade", "is_stretched")
_CUT_ARRAYS = ("move", "extended", "limited", "near", "jump_db", "fits", "ratio", "unlike", "short")


def _arrays_of_cut(cut: Cut) -> dict[str, NDArray[Any]]:
    arrays = {f"edits.{name}": getattr(cut.edits, name) for name in _EDIT_ARRAYS}
    return arrays | {name: getattr(cut, name) for name in (*_CUT_ARRAYS, "added")}


def _cut_of(arrays: Arrays, *, count: int) -> Cut:
    edits = EditList(**{name: arrays[f"edits.{name}"] for name in _EDIT_ARRAYS}, sound=None)
    columns = {name: arrays[name] for name in _CUT_ARRAYS}
    _check_alike(getattr(edits, name) for name in _EDIT_ARRAYS)
    if edits.is_stretched.dtype != np.bool_ or edits.is_stretched[-1:].any():
        raise ValueError("stretched to no end")
    _check_alike([*columns.values(), np.zeros(count)])
    added = arrays["added"]
    if added.dtype.kind != "i" or added.ndim != 1 or (added < 0).any() or added.sum() != len(edits) - 1:
        raise ValueError("not the seams of these strokes")
    return Cut(edits, **columns, added=added)


def _names(kind: type) -> tuple[str, ...]:
    fields: dict[str, object] = kind.__dataclass_fields__  # type: ignore[attr-defined]
    return tuple(fields)


def _check_alike(columns: Iterable[NDArray[Any]]) -> None:
    """Rows of numbers, all of one length."""
    lengths = set()
    for column in columns:
        if column.dtype.kind not in "biuf":
            raise ValueError("no numbers")
        lengths.add(len(column))
    if len(lengths) != 1:
        raise ValueError("columns of different lengths")
