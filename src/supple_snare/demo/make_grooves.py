"""Takes the grooves that come with the program from the demo take: `python -m supple_snare.demo.make_grooves`."""

from __future__ import annotations

import sys
from pathlib import Path

from supple_snare.demo import GROOVES, score
from supple_snare.demo.session import demo_session
from supple_snare.exchange.groove_files import JSON_SUFFIX, write_groove
from supple_snare.session.document import Session
from supple_snare.session.edits import change_group
from supple_snare.session.feels import FeelOf, see_feel
from supple_snare.session.grid_edits import set_ruling
from supple_snare.session.section_edits import split_section
from supple_snare.session.stages import Stages
from supple_snare.timing.cycle import Cycle
from supple_snare.timing.groove import Groove
from supple_snare.timing.offsets import FeelRules
from supple_snare.timing.ruling import Ruling, Subdivision


def demo_grooves() -> list[Groove]:
    """The band's grooves: the drums marching and swinging, the snare, the washboard, the sousaphone."""
    stages, session = Stages(), demo_session()
    drums, sousaphone = session.groups[0].key, session.groups[1].key
    for key in (drums, sousaphone):
        session = change_group(session, key, feel=FeelRules(Cycle(1)))
    for bar, name in ((score.SWUNG_BARS.start, "Swung"), (score.SWUNG_BARS.stop, "Last part")):
        session = split_section(session, float(session.grid.bar_time_s(bar)), name=name)
    swung = next(section.key for section in session.sections if section.name == "Swung")
    session = set_ruling(session, swung, Ruling(Subdivision(16), swing=score.SWING))
    stages.analyse_all(session)
    snare, _, washboard = session.groups[0].tracks[:3]
    return [
        _taken(stages, session, drums, FeelOf("section", session.sections[0].key), "Lantern Quay drums, marching"),
        _taken(stages, session, drums, FeelOf("section", swung), "Lantern Quay drums, swinging"),
        _taken(stages, session, drums, FeelOf("lead", snare), "Lantern Quay snare"),
        _taken(stages, session, drums, FeelOf("lead", washboard), "Lantern Quay washboard"),
        _taken(stages, session, sousaphone, FeelOf(), "Lantern Quay sousaphone"),
    ]


def _taken(stages: Stages, session: Session, group: str, of: FeelOf, name: str) -> Groove:
    view = stages.view(session, session.group(group))
    groove = see_feel(session, view, of, name=name).groove
    return groove.thinned(3).centred()


def main() -> None:
    """Write them into a folder, by default the one that is shipped."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else GROOVES
    folder.mkdir(parents=True, exist_ok=True)
    for groove in demo_grooves():
        stem = groove.name.lower().replace(",", "").replace(" ", "-")
        write_groove(folder / f"{stem}{JSON_SUFFIX}", groove)


if __name__ == "__main__":
    main()
