"""From sound to leads and tempo, nothing set by hand: performances at random and written rhythms, recorded by a kit.

python bench/heard.py --kits FOLDER [--takes 60] [--bars 20] [--only KIT] [--each]

`grid.py` measures what is made of strokes that are known; here they are found by the program, in recordings with bleed.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np

from finders import view_of
from grid import is_read
from material import (
    BACK,
    FAR,
    LOW,
    RATE_HZ,
    WITHOUT_MICROPHONE,
    Kit,
    Made,
    Sound,
    Struck,
    kits_once,
    options,
    recorded,
    struck_at,
    varied,
)
from playing import Played, drawn, drums, play, written
from supple_snare.session.finding import tempos_of


def drums_of(kit: Kit, played: Played) -> list[str]:
    """Which drum of the kit plays each line of a performance; a kit without a drum of a kind gives another one."""
    free = list(kit)

    def take(*names: str) -> str:
        drum = next((each for each in free if each.startswith(names)), free[0])
        free.remove(drum)
        return drum

    low, back, third = take(*LOW), take(*BACK), take("hat", "ride", "conga", "kenkeni")
    spare = [drum for drum in free if drum not in WITHOUT_MICROPHONE]
    chosen = {"low": low, "snare": back, "hat": third} | ({"tom": spare[0]} if spare else {})
    return [chosen[drum] for drum in drums(played.manner) if drum in chosen]


def make(kit: Kit, played: Played, seed: int) -> Made:
    """A performance struck on a kit, in a room drawn at random."""
    rng = np.random.default_rng([seed, 5])
    recipe = replace(varied(seed), others_db=None)
    frames = round((float(played.hits_s[-1]) + 2.0) * RATE_HZ)
    lines: dict[str, Sound] = {}
    struck: dict[str, Struck] = {}
    for number, drum in enumerate(drums_of(kit, played)):
        mine = played.hits_lead == number
        lines[drum], struck[drum] = struck_at(kit[drum], played.hits_s[mine], played.hits_db[mine], frames, seed)
    for drum in kit:
        lines.setdefault(drum, np.zeros(frames))
    tracks = recorded(kit, lines, None, recipe, rng)
    return Made(tracks, {drum: struck[drum] for drum in tracks if drum in struck}, {}, frames / RATE_HZ)


@dataclass(frozen=True)
class Heard:
    """What the program made of one recording: what it read rightly; close microphones that lead and do not."""

    name: str
    is_read: tuple[bool, bool, bool, bool]
    found_bpm: float
    felt_bpm: float
    leads: tuple[str, ...]
    left_out: tuple[str, ...]

    @property
    def far_leads(self) -> list[str]:
        """Microphones of no drum that lead."""
        return [name for name in self.leads if name in FAR]


def measure(kits: Path | None, only: str, bars: int, seed: int) -> Heard:
    """One recording of so many bars, or up to eight more."""
    choice = [name for name in kits_once(kits) if only in name]
    kit = choice[seed % len(choice)]
    played = play((written if seed % 2 else drawn)(seed, bars=bars + seed % 9), seed)
    made = make(kits_once(kits)[kit], played, seed)
    view = view_of(made)
    readings = tempos_of(view)
    leads = tuple(track.recording.path.stem for track in view.tracks if track.key in view.leads)
    playing = [drum for drum, struck in made.struck.items() if len(struck.time_s) >= 8]
    return Heard(
        f"{seed} · {kit} · {played.manner.groove or played.manner.feel}",
        is_read(readings[0], played) if readings else (False,) * 4,
        readings[0].felt_bpm if readings else np.nan,
        played.manner.felt_bpm,
        leads,
        tuple(drum for drum in playing if drum not in leads),
    )


def main() -> None:
    """Print the shares that are right."""
    parser = options(__doc__ or "")
    parser.add_argument("--takes", type=int, default=60)
    parser.add_argument("--bars", type=int, default=20, help="the fewest bars of a take; up to eight more are played")
    parser.add_argument("--each", action="store_true", help="also print every recording that is not wholly right")
    chosen: argparse.Namespace = parser.parse_args()
    with ProcessPoolExecutor(chosen.jobs) as pool:
        found = list(pool.map(partial(measure, chosen.kits, chosen.only, chosen.bars), range(chosen.takes)))
    for each in found:
        if chosen.each and (not all(each.is_read) or each.left_out or each.far_leads):
            print(
                f"    {each.name}: {each.found_bpm:.2f} for {each.felt_bpm:.2f}, octave, tempo, beat, bar "
                f"{each.is_read}; leads {', '.join(each.leads)}; left out {', '.join(each.left_out) or 'none'}"
            )
    for name, part in (("drawn at random", found[::2]), ("written rhythms", found[1::2])):
        octave, tempo, beat, bar = np.mean([each.is_read for each in part], axis=0)
        print(
            f"{name}: octave {octave:.3f}, tempo within 0.02 bpm {tempo:.3f}, beat within 5 ms {beat:.3f}, "
            f"bar {bar:.3f}; every drum leads in {np.mean([not each.left_out for each in part]):.3f}, a far "
            f"microphone in {np.mean([bool(each.far_leads) for each in part]):.3f}"
        )


if __name__ == "__main__":
    main()
