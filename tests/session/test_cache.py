"""What is kept of earlier sittings: the same as made anew, and made anew whenever it is not whole."""

from __future__ import annotations

import io
import random
import zipfile
from dataclasses import fields, replace

import numpy as np
import pytest

from supple_snare.session import edits
from supple_snare.session.cache import Cache, read_arrays
from supple_snare.session.cutting import CutRequest, cut_of_request, cut_request
from supple_snare.session.document import Session
from supple_snare.session.stages import Stages
from supple_snare.sound.attacks import analyse
from supple_snare.sound.bleed import judge_bleed
from supple_snare.sound.ear import Ear, Ensemble
from supple_snare.sound.files import read_recording
from supple_snare.sound.gaps import CutSettings, Told
from supple_snare.sound.stretch.ways import Way
from tests.conftest import alike


def refuse() -> None:
    """It should have been kept."""
    raise AssertionError("made anew")


@pytest.fixture
def heard(shared_take):
    """An analysis of each track of a take, and a cache that holds all of it."""
    ears = tuple(Ear.of(read_recording(path)) for path in shared_take.files)
    return ears, [analyse(ear) for ear in ears]


def test_everything_comes_back_as_it_was_made(heard, tmp_path):
    """To the bit, from another sitting."""
    ears, analyses = heard
    session = edits.add_recordings(Session(), [ear.recordings[0] for ear in ears])
    stages = Stages()
    for ear, analysis in zip(ears, analyses, strict=True):
        stages.learn(ear, analysis)
    verdicts = judge_bleed(analyses)
    stages.learn_verdicts(Ensemble(ears), verdicts)
    request = cut_request(session, stages.view(session, session.groups[0]))
    cut = cut_of_request(request)
    for make in (lambda value: lambda: value, lambda _value: refuse):
        cache = Cache(lambda path: path.name)
        cache.beside = tmp_path
        for ear, analysis in zip(ears, analyses, strict=True):
            assert alike(cache.analysis(ear, make(analysis)), analysis)
        assert alike(cache.verdicts(Ensemble(ears), make(verdicts)), verdicts)
        assert alike(cache.cut(request, make(cut)), cut)


def test_seams_follow_from_all_that_was_asked(tmp_path, shared_take):
    """Whatever is other than it was (a move, a seam put by hand, sound slid), they are found anew."""
    recordings = tuple(read_recording(path) for path in shared_take.files)
    places = np.array([1_000, 30_000])
    request = CutRequest(recordings, places, places, np.array([0, 9]), CutSettings(), {})
    others = {
        "recordings": recordings[1:],
        "first_arrival": places + 1,
        "arrivals": places + 1,
        "move": np.array([0, 8]),
        "settings": CutSettings(fade_ms=6.0),
        "places": {1: Told(20_000)},
        "slides": ((10_000, 20_000, 5),),
        "ways": Way.RINGING,
        "anchors": (20_000,),
    }
    assert others.keys() == {field.name for field in fields(CutRequest)}
    cache = Cache(lambda path: path.name)
    cache.beside = tmp_path
    cut = cut_of_request(request)
    cache.cut(request, lambda: cut)
    assert alike(cache.cut(request, refuse), cut)
    for name, value in others.items():
        with pytest.raises(AssertionError, match="made anew"):
            cache.cut(replace(request, **{name: value}), refuse)


def test_another_file_or_way_of_listening_is_another_entry(heard, tmp_path):
    """And nothing is kept of what is not known whole."""
    (ear, *_), (analysis, *_) = heard
    cache = Cache(lambda path: path.name)
    cache.beside = tmp_path
    cache.analysis(ear, lambda: analysis)
    for other in (Ear(ear.recordings, (100.0, 900.0)), heard[0][1]):
        with pytest.raises(AssertionError, match="made anew"):
            cache.analysis(other, refuse)
    unknown = Cache(lambda path: "")
    unknown.analysis(ear, lambda: analysis)
    with pytest.raises(AssertionError, match="made anew"):
        unknown.analysis(ear, refuse)


def test_a_spoilt_entry_is_made_anew(heard, tmp_path):
    """Wherever it was cut off or a byte was changed: the result is right, or as right as that byte."""
    (ear, *_), (analysis, *_) = heard
    cache = Cache(lambda path: path.name)
    cache.beside = tmp_path
    cache.analysis(ear, lambda: analysis)
    (file,) = (tmp_path / "cache").iterdir()
    whole, rng = file.read_bytes(), random.Random(1)
    for number in range(60):
        data = bytearray(whole)
        place = rng.randrange(len(data))
        data[place:] = b"" if number % 2 else bytes([data[place] ^ 255]) + data[place + 1 :]
        file.write_bytes(data)
        assert alike(cache.analysis(ear, lambda: analysis), analysis)


def test_arrays_that_promise_more_than_there_is_take_no_memory(tmp_path):
    """Nor are objects or compressed files read."""
    path = tmp_path / "a.npz"
    head = io.BytesIO()
    np.lib.format.write_array_header_1_0(head, {"descr": "<f8", "fortran_order": False, "shape": (1 << 40,)})
    with zipfile.ZipFile(path, "w") as packed:
        packed.writestr("huge.npy", head.getvalue())
    with pytest.raises(ValueError, match="not the array"):
        read_arrays(path)
    np.savez(path, many=np.array([{}], dtype=object))
    with pytest.raises(ValueError, match="not the array"):
        read_arrays(path)
    np.savez_compressed(path, zeros=np.zeros(1000))
    with pytest.raises(ValueError, match="compressed"):
        read_arrays(path)
