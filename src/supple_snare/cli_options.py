"""The words of the command line: which there are, and how each value is read."""

from __future__ import annotations

import argparse
import math
import sys
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn, TypeVar

from supple_snare.errors import UsageError
from supple_snare.timing.aim import Unpaired
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.meter import Meter
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.tighten import NO_REACH_MS

T = TypeVar("T")


class Parser(argparse.ArgumentParser):
    """Argparse that leaves with one clear line and status 2."""

    def error(self, message: str) -> NoReturn:
        print(f"{self.prog}: {message}", file=sys.stderr)
        sys.exit(2)


def command_parser() -> argparse.ArgumentParser:
    """Reads the words of all commands; the one that was given is called `command`."""
    parser = Parser(prog="supple-snare")
    commands = parser.add_subparsers(required=True, dest="command")

    files = Parser(add_help=False)
    files.add_argument("files", nargs="+", type=Path, metavar="FILE", help="recordings of one group")
    files.add_argument("--leads", metavar="A,B", help="files that decide the timing, the first one wins")
    files.add_argument("--json", action="store_true", help="print the result as JSON")

    timing = Parser(add_help=False)
    timing.add_argument("--tempo", type=_own(_number), metavar="BPM", help="quarter notes a minute")
    timing.add_argument("--first-beat", type=_own(_number), metavar="SECONDS", help="where bar 1 begins in the files")
    timing.add_argument(
        "--follow", action="store_true", help="instead of both: find the tempo, and follow the band where it wanders"
    )
    timing.add_argument(
        "--stiffness",
        type=_own(_number),
        default=0.25,
        metavar="SHARE",
        help="with --follow: 0 every beat as played … 1 one tempo; default 0.25",
    )
    timing.add_argument("--meter", type=_own(Meter.parse), metavar="N/D", help="default 4/4, or what --follow finds")
    timing.add_argument(
        "--grid",
        type=_own(Ruling.parse),
        default=Ruling(),
        metavar="1/N",
        help="1/4 … 1/32, 1/8T for triplets, 1/8D for dotted notes, 1/16+1/8T for both; default 1/16",
    )
    timing.add_argument(
        "--swing", type=_own(_number), default=0.5, metavar="R", help="second slot of each pair, 0.5 (straight) to 0.75"
    )
    timing.add_argument(
        "--swing-of", type=_own(_swing_note), metavar="1/N", help="the notes that swing, 1/8 or 1/16; default the slots"
    )

    timing.add_argument(
        "--cycle",
        type=_own(Cycle.parse),
        metavar="N",
        help="over what the feel repeats: 1 beat … 8 bars; default found",
    )
    timing.add_argument("--by-lead", action="store_true", help="each lead has a feel of its own")

    commands.add_parser("hits", parents=[files], help="find hits", description="Find the hits of each track.")
    commands.add_parser(
        "tempo", parents=[files], help="find the tempo", description="Find tempo, meter, first beat and all beats."
    )
    commands.add_parser(
        "measure", parents=[files, timing], help="measure offsets", description="Measure each stroke's offset."
    )
    groove = commands.add_parser(
        "groove",
        parents=[files, timing],
        help="take a groove template",
        description="Take a groove template: for each slot of a cycle its offset, spread and accent.",
    )
    groove.add_argument("--bars", type=_own(_bars), metavar="N", help="length of the cycle in bars; default found")
    groove.add_argument("--name", help="name of the template; default that of the first file")
    groove.add_argument("--keep-mean", action="store_true", help="keep what shifts all strokes alike")
    groove.add_argument("--replace", action="store_true", help="replace a file that is there already")
    groove.add_argument(
        "--out", type=Path, required=True, metavar="FILE", help="a .groove.json, or a .mid for sequencers"
    )
    tighten = commands.add_parser(
        "tighten",
        parents=[files, timing],
        help="write tightened files",
        description="Write tightened files with the names, rate, width and length of the recordings.",
    )
    tighten.add_argument(
        "--aim",
        default="grid",
        metavar="AIM",
        help="what strokes are drawn toward: grid, own-feel, groove=FILE or reference=FILE; default grid",
    )
    tighten.add_argument(
        "--amount",
        type=_own(_number),
        default=1.0,
        metavar="SHARE",
        help="how much of the own feel is kept, or how far the groove counts; default 1",
    )
    tighten.add_argument("--in-ms", action="store_true", help="keep a groove's milliseconds, whatever the tempo")
    tighten.add_argument(
        "--unknown",
        choices=("along", "grid"),
        default="along",
        help="slots the groove does not know go along with their neighbours, or keep to the grid; default along",
    )
    tighten.add_argument(
        "--behind", type=_own(_number), default=0.0, metavar="MS", help="wanted offset from the reference; default 0"
    )
    tighten.add_argument(
        "--unpaired",
        type=_own(_unpaired),
        default=Unpaired.NEIGHBOURS,
        metavar="HOW",
        help="strokes without a partner in the reference: neighbours (default), grid or stay",
    )
    tighten.add_argument(
        "--accents", type=_own(_number), default=0.0, metavar="SHARE", help="a groove's accents into MIDI velocities"
    )
    tighten.add_argument("--ends-follow", action="store_true", help="ends of MIDI notes go with what is played there")
    tighten.add_argument("--session-tempo", action="store_true", help="write the grid's tempo and meter into MIDI")
    tighten.add_argument("--keep-drift", type=_own(_number), default=0.0, metavar="SHARE", help="0 to 1, default 0")
    tighten.add_argument("--strength", type=_own(_number), default=0.8, metavar="SHARE", help="0 to 1, default 0.8")
    tighten.add_argument(
        "--tolerance", type=_own(_number), default=0.0, metavar="MS", help="deviations up to this stay; default 0"
    )
    tighten.add_argument(
        "--reach",
        type=_own(_number),
        default=NO_REACH_MS,
        metavar="MS",
        help="deviations past this stay; default no limit",
    )
    tighten.add_argument(
        "--times", type=int, default=1, metavar="N", help="how often, each time on what is left; default 1"
    )
    tighten.add_argument(
        "--join",
        type=_own(_number),
        default=0.0,
        metavar="MS",
        help="neighbours whose moves differ by no more than twice that travel as one piece; default 0",
    )
    tighten.add_argument("--click", action="store_true", help="write the click as a track, too")
    tighten.add_argument(
        "--replace", action="store_true", help="replace files that are there already; never what is read"
    )
    tighten.add_argument(
        "--method",
        default="cut",
        metavar="METHOD",
        help="how strokes come to their places: cut, stretch what rings between them, or auto (cut drums, stretch the "
        "rest); by default cut",
    )
    tighten.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for the files; made if needed")
    return parser


def _own(parse: Callable[[str], T]) -> Callable[[str], T]:
    """Let argparse say our own sentence about a value that makes no sense."""

    def convert(text: str) -> T:
        try:
            return parse(text)
        except UsageError as error:
            raise argparse.ArgumentTypeError(str(error)) from error

    return convert


def _number(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise UsageError(f"“{text}” is not a number that can be used here.")
    return value


def _bars(text: str) -> Cycle:
    count = _number(text)
    if count != int(count):
        raise UsageError(f"“{text}” is no number of bars.")
    return Cycle(int(count))


def _unpaired(text: str) -> Unpaired:
    try:
        return Unpaired(text)
    except ValueError as error:
        raise UsageError(f"“{text}” is not known: give neighbours, grid or stay.") from error


def _swing_note(text: str) -> int:
    notes = {"1/8": 8, "1/16": 16}
    if text.strip() not in notes:
        raise UsageError(f"“{text}” cannot swing: give 1/8 or 1/16.")
    return notes[text.strip()]
