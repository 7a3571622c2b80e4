"""A dozen short recordings of three generators, and the figures below which hits must not fall again.

python bench/ratchet.py [--finder program|level|librosa|aubio] [--write]

The suite measures the same recordings and holds each against the file that `--write` leaves. No one-shots need to be
installed: the kits are made of numbers (`voices`).
"""

from __future__ import annotations

import argparse
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import msgspec
import numpy as np

import passages
import rooms
import voices
from finders import FINDERS
from hits import Tally
from material import EASY, HARD, Kit, Maker

RECORDED = Path(__file__).parent.parent / "tests" / "sound" / "ratchet.json"
KIT, SEED = 7102, 77
"""The seeds of the kit and of the playing: no model was fitted to such a kit."""

FAR: tuple[str, ...] = ()
"""No far microphones here: the more tracks, the longer it takes."""

FEWEST = 4
"""A microphone of fewer strokes says little by itself."""


@dataclass(frozen=True)
class Figures:
    """What is recorded of one recording.

    Attributes
    ----------
    mean_f, worst_f : float
        F at 10 ms, in the mean over all microphones, and of the worst one with four strokes or more.
    ghosts : float
        Fraction that was found; 1 where there are none.
    false_a_minute : float
        On the microphone of an idle drum.
    error_95_ms : float
        95th percentile of the distance of found starts from true ones.
    """

    mean_f: float
    worst_f: float
    ghosts: float
    false_a_minute: float
    error_95_ms: float

    def is_no_worse(self, than: Figures) -> bool:
        """Whether no figure has fallen, but for what rounding of numbers does."""
        return (
            self.mean_f >= than.mean_f - 1e-3
            and self.worst_f >= than.worst_f - 1e-3
            and self.ghosts >= than.ghosts - 1e-3
            and self.false_a_minute <= than.false_a_minute + 1e-3
            and self.error_95_ms <= 1.1 * than.error_95_ms + 0.02
        )


def recipes() -> dict[str, Maker]:
    """How each recording is made, by its name."""
    own = {recipe.name: recipe for recipe in EASY + HARD}
    places = {place.name: place for place in rooms.PLACES}
    played = {passage.name: passage for passage in passages.PASSAGES}
    chosen: list[Maker] = [
        replace(own[name], bars=bars)
        for name, bars in (("ghost notes, bleed not alike", 3), ("double bass drum, 195 bpm", 5), ("an idle drum", 4))
    ]
    chosen += [
        replace(places[name], bars=3, far=FAR)
        for name in ("ghosts in a room", "ghosts, wires that buzz", "a fader moved", "second microphones", "idle toms")
    ]
    chosen += [
        replace(played[name], bars=3, far=FAR)
        for name in ("ghosts under the hat", "fast feet", "triplets", "heavy bleed")
    ]
    return {recipe.name: recipe for recipe in chosen}


@cache
def kit() -> Kit:
    """The kit of numbers, made once."""
    return voices.kit(KIT)


def measure(name: str, finder: str = "program") -> Figures:
    """The figures of one recording, by its name."""
    made, tally = recipes()[name].build(kit(), SEED), Tally()
    made = replace(made, tracks={name: sound for name, sound in made.tracks.items() if name in made.struck})
    scores = tally.add(made, FINDERS[finder](made))
    got, of = tally.kinds.get("ghost", (1, 1))
    return Figures(
        mean_f=float(np.mean([score.f_measure for _drum, score in scores])),
        worst_f=min(score.f_measure for _drum, score in scores if score.hits >= FEWEST),
        ghosts=got / of,
        false_a_minute=max(tally.false_a_minute, default=0.0),
        error_95_ms=1000.0 * float(np.percentile(np.abs(tally.errors_s), 95)) if tally.errors_s else 0.0,
    )


def recorded() -> dict[str, Figures]:
    """The figures that stand."""
    return msgspec.json.decode(RECORDED.read_bytes(), type=dict[str, Figures])


def main() -> None:
    """Print the figures, and keep them if told so."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--finder", choices=list(FINDERS), default="program", help="what finds the hits")
    parser.add_argument("--write", action="store_true", help="these figures stand from now on")
    chosen = parser.parse_args()
    print(f"{'recording':32}mean F  worst F  ghosts  idle/min  95 % ms")
    found = {}
    for name in recipes():
        found[name] = each = measure(name, chosen.finder)
        row = f"{name:32}{each.mean_f:6.3f}  {each.worst_f:7.3f}  {each.ghosts:6.2f}"
        print(f"{row}  {each.false_a_minute:8.1f}  {each.error_95_ms:7.2f}", flush=True)
    if chosen.write:
        RECORDED.write_bytes(msgspec.json.format(msgspec.json.encode(found), indent=2) + b"\n")


if __name__ == "__main__":
    main()
