"""The demo as a session: the drums with their ranks, the sousaphone, each cornet, the accordion part."""

from __future__ import annotations

import msgspec

from supple_snare.demo import TAKE, score
from supple_snare.exchange.midi import read_notes
from supple_snare.session.document import Session
from supple_snare.session.edits import add_part, add_recordings, change_group
from supple_snare.session.listening import Listening
from supple_snare.sound.files import read_recording
from supple_snare.timing.grid import Grid

_GROUPS = {
    "Drums": ("snare", "bass-drum", "washboard", "pair-left", "pair-right", "boathouse"),
    "Sousaphone": ("sousaphone",),
    "Cornet one": ("cornet-one",),
    "Cornet two": ("cornet-two",),
}
_LEADS = {"Drums": ("Snare", "Bass drum", "Washboard")}
_LISTENING_DB = {"Boathouse": -6.0, "Sousaphone": -4.0, "Cornet one": -7.0, "Cornet two": -7.0}


def demo_session() -> Session:
    """The session that `--demo` opens."""
    session = Session(name="Dockside March", take_grid=Grid(score.TEMPO_BPM, score.FIRST_BEAT_S))
    for name, files in _GROUPS.items():
        session = add_recordings(session, [read_recording(TAKE / f"{file}.flac") for file in files], group_name=name)
    by_name = {track.name: track.key for track in session.tracks}
    for group in session.groups:
        if group.name in _LEADS:
            session = change_group(session, group.key, leads=tuple(by_name[name] for name in _LEADS[group.name]))
    accordion = TAKE / "accordion.mid"
    session = add_part(session, accordion, float(read_notes(accordion).end_s.max()))
    return msgspec.structs.replace(session, checked=("gather",))


def demo_listening(session: Session) -> Listening:
    """Levels at which the band is well balanced."""
    by_name = {track.name: track.key for track in session.tracks}
    return Listening(levels_db={by_name[name]: level_db for name, level_db in _LISTENING_DB.items()})
