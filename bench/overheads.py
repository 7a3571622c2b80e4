"""How well strokes are found of a kit that few microphones hear: a pair, a room, a bass drum and a snare at most.

python bench/overheads.py --kits FOLDER --notes FOLDER [--takes 24] [--each]

Takes as in `bench/bands.py`, but that few drums have a microphone of their own, or none. Told are F within 30 ms of all
that was struck (nearer strokes count as one) against what is found in any of the kit's files, and F of the players'
lines.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from bands import Row, made_band, measure_takes
from finders import program
from material import BACK, FAR, LOW, Made, Sound, kits_once, score
from supple_snare.sound.events import merged_moments
from supple_snare.timing.hits import Kind

_WITHIN_S, _LINE_WITHIN_S = 0.030, 0.050
_LEFT, _RIGHT, _ROOM = FAR


def layouts(drums: Made, band: Made, lines: list[str]) -> dict[str, Made]:
    """The same take as heard by different sets of files."""

    def of(made: Made, players: list[str], kit: dict[str, Sound]) -> Made:
        return replace(made, tracks=kit | {name: made.tracks[name] for name in players})

    def pair(made: Made) -> dict[str, Sound]:
        return {"kit": np.stack([made.tracks[_LEFT], made.tracks[_RIGHT]], axis=1)}

    def mixed(made: Made) -> dict[str, Sound]:
        close = sum(made.tracks[drum] for drum in made.struck)
        return {"kit": np.stack([close + made.tracks[_LEFT], 0.9 * close + made.tracks[_RIGHT]], axis=1)}

    def two(made: Made) -> dict[str, Sound]:
        return {_LEFT: made.tracks[_LEFT], _RIGHT: made.tracks[_RIGHT]}

    def close(made: Made, *among: tuple[str, ...]) -> dict[str, Sound]:
        names = [next((drum for drum in drums if drum in made.struck), None) for drums in among]
        return {name: made.tracks[name] for name in names if name is not None}

    room, in_stereo = band.tracks[_ROOM], np.stack([drums.tracks[_ROOM], 0.8 * drums.tracks[_ROOM]], axis=1)
    return {
        "a pair in one file, alone": of(drums, [], pair(drums)),
        "all microphones mixed to one file in stereo, alone": of(drums, [], mixed(drums)),
        "a pair in two files, alone": of(drums, [], two(drums)),
        "a pair in one file, one player": of(band, lines[:1], pair(band)),
        "a pair in one file, three players": of(band, lines, pair(band)),
        "the same and a room": of(band, lines, pair(band) | {_ROOM: room}),
        "a pair in two files, three players": of(band, lines, two(band)),
        "a mono file, three players": of(band, lines, {"kit": band.tracks[_LEFT]}),
        "a bass drum and a pair, alone": of(drums, [], close(drums, LOW) | two(drums)),
        "bass drum, snare, room in stereo, alone": of(drums, [], close(drums, LOW, BACK) | {_ROOM: in_stereo}),
        "a bass drum, a pair, three players": of(band, lines, close(band, LOW) | two(band)),
        "bass drum, snare, a pair, three players": of(band, lines, close(band, LOW, BACK) | pair(band)),
    }


def measure(kits: Path, notes: Path, seed: int) -> list[Row]:
    """What is found of the kit and of each line of one take, in each layout."""
    drums, band, lines = made_band(kits_once(kits), notes, seed)
    struck = [each.time_s for each in (*drums.struck.values(), *drums.without_microphone.values())]
    rows = []
    for name, made in layouts(drums, band, list(lines)).items():
        found = program(made)
        heard = {track: hits.time_s[hits.kind != Kind.BLEED] for track, hits in found.items()}
        of_kit = [heard[each] for each in heard if each not in lines]
        results = {"kit": score(merged_moments(of_kit, _WITHIN_S), merged_moments(struck, _WITHIN_S), _WITHIN_S)}
        for each in [track for track in heard if track in lines]:
            true_s = merged_moments([band.struck[each].time_s], _WITHIN_S)
            results[each] = score(heard[each], true_s, _LINE_WITHIN_S)
        for each, result in results.items():
            kind = "kit" if each == "kit" else lines[each][0]
            rows.append((f"{name}: {kind}", each, result.f_measure, result.precision, result.recall))
    return rows


if __name__ == "__main__":
    measure_takes(__doc__, measure, 0.9)
