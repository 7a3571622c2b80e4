"""Ways to find hits that can be measured against one another on the same recordings.

The general-purpose onset libraries look at each track alone; they are not needed by the program
(`pip install librosa aubio`). `level` is the program's own search with one level limit a file, chosen by somebody who
knows the truth.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from material import RATE_HZ, Made, score
from supple_snare.session.document import Session
from supple_snare.session.edits import add_recordings
from supple_snare.session.stages import GroupView, Stages
from supple_snare.sound.files import read_recording
from supple_snare.timing.hits import Hits, Kind

Found = dict[str, Hits]


def program(made: Made) -> Found:
    """The program, nothing set by hand."""
    view = view_of(made)
    return {track.recording.path.stem: view.hits[track.key] for track in view.tracks}


def level(made: Made) -> Found:
    """The program's attacks and, for each file, the one level limit that serves it best."""
    view = view_of(made)
    found = {}
    for track in view.tracks:
        name, verdict = track.recording.path.stem, view.verdicts[track.key]
        truth = made.struck.get(name)
        best, best_f = np.inf, -1.0
        for limit in np.unique(verdict.level_db) if truth is not None else ():
            f_measure = score(verdict.time_s[verdict.level_db >= limit], truth.time_s, 0.010).f_measure
            best, best_f = (float(limit), f_measure) if f_measure > best_f else (best, best_f)
        kept = verdict.level_db >= best
        found[name] = Hits.of(verdict.time_s[kept], kind=Kind.PLAYED)
    return found


def librosa_onsets(made: Made) -> Found:
    """librosa's spectral flux and peak picking, as they come."""
    import librosa

    def onsets(sound: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.asarray(librosa.onset.onset_detect(y=sound.astype(np.float32), sr=RATE_HZ, units="time"))

    return _alone(made, onsets)


def aubio_onsets(made: Made) -> Found:
    """aubio's default onset method, as it comes."""
    import aubio

    def onsets(sound: NDArray[np.float64]) -> NDArray[np.float64]:
        hop = 512
        detect = aubio.onset("default", 1024, hop, RATE_HZ)
        times = []
        for start in range(0, len(sound) - hop, hop):
            if detect(sound[start : start + hop].astype(np.float32)):
                times.append(detect.get_last_s())
        return np.array(times)

    return _alone(made, onsets)


FINDERS: dict[str, Callable[[Made], Found]] = {
    "program": program,
    "level": level,
    "librosa": librosa_onsets,
    "aubio": aubio_onsets,
}


def _alone(made: Made, onsets: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> Found:
    return {name: Hits.of(onsets(sound)) for name, sound in made.tracks.items() if name in made.struck}


def view_of(made: Made) -> GroupView:
    """What the program makes of a recording."""
    with tempfile.TemporaryDirectory() as folder:
        paths = made.write(Path(folder))
        session = add_recordings(Session(), [read_recording(path) for path in paths])
        stages = Stages()
        stages.analyse_all(session)
        return stages.view(session, session.groups[0])
