"""Edits of sections: drawn, named, split, joined. What was set for a section goes with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import msgspec

from supple_snare.session.document import Section, SectionLeads, SectionRules, Session
from supple_snare.timing.sections import EARLY_S

_LEAST_S = 2.0 * EARLY_S
"""A section shorter than this could not be told from its neighbour's first stroke."""


@dataclass(frozen=True)
class Span:
    """A section and where it ends."""

    section: Section
    end_s: float


def section_spans(session: Session) -> list[Span]:
    """All sections with their ends, in order; none while the take is one."""
    ends = [section.start_s for section in session.sections[1:]] + [session.length_s]
    return [Span(section, end) for section, end in zip(session.sections, ends, strict=False)]


def split_section(session: Session, time_s: float, *, name: str | None = None) -> Session:
    """Let a new section start at a moment. It begins with the settings of the one it is split from."""
    if not 0.0 < time_s < session.length_s:
        return session
    sections = session.sections or (Section("s1", "Section A", 0.0),)
    if any(abs(section.start_s - time_s) < _LEAST_S for section in sections):
        return session
    before = [section for section in sections if section.start_s < time_s][-1]
    number = 1 + max(int(section.key[1:]) for section in sections)
    new = Section(f"s{number}", name or _free_name(sections), time_s)
    ordered = tuple(sorted((*sections, new), key=lambda section: section.start_s))
    return _copied(msgspec.structs.replace(session, sections=ordered), before.key, new.key)


def draw_section(session: Session, start_s: float, end_s: float, *, name: str | None = None) -> Session:
    """Make a range of time a section of its own; sections that lie inside it are taken up by it."""
    session = split_section(session, start_s)
    session = split_section(session, end_s)
    for section in session.sections:
        if start_s + _LEAST_S <= section.start_s <= end_s - _LEAST_S:
            session = join_section(session, section.key)
    if name and session.sections:
        here = session.section_at(0.5 * (start_s + end_s))
        assert here is not None
        session = rename_section(session, here.key, name)
    return session


def join_section(session: Session, key: str) -> Session:
    """Join a section to the one before it (the first to the one after it), whose settings then hold for both."""
    if len(session.sections) < 2:
        return session
    gone = next(section for section in session.sections if section.key == key)
    kept = [section for section in session.sections if section is not gone]
    if gone is session.sections[0]:
        kept[0] = msgspec.structs.replace(kept[0], start_s=gone.start_s)
    session = _forgotten(session, key)
    if len(kept) == 1:
        session = _forgotten(session, kept[0].key)
        kept = []
    return msgspec.structs.replace(session, sections=tuple(kept))


def rename_section(session: Session, key: str, name: str) -> Session:
    """Name a section."""
    return _replaced(session, key, name=name)


def move_section(session: Session, key: str, start_s: float) -> Session:
    """Let a section start elsewhere, between its neighbours' starts; the first always starts with the take."""
    sections = session.sections
    index = next(number for number, section in enumerate(sections) if section.key == key)
    if index == 0:
        return session
    last = sections[index + 1].start_s if index + 1 < len(sections) else session.length_s
    start_s = min(max(start_s, sections[index - 1].start_s + _LEAST_S), last - _LEAST_S)
    return _replaced(session, key, start_s=start_s)


def _free_name(sections: tuple[Section, ...]) -> str:
    taken = {section.name for section in sections}
    letters = (f"Section {chr(65 + number % 26)}{number // 26 or ''}" for number in range(len(sections) + 1))
    return next(name for name in letters if name not in taken)


def _replaced(session: Session, key: str, **changes: object) -> Session:
    sections = tuple(
        msgspec.structs.replace(section, **changes) if section.key == key else section for section in session.sections
    )
    return msgspec.structs.replace(session, sections=sections)


def _copied(session: Session, old: str, new: str) -> Session:
    """What was set for one section, set for another as well."""
    return _with_settings(
        session,
        lambda rules: (*rules, *(SectionRules(new, own.rules) for own in rules if own.section == old)),
        lambda leads: (*leads, *(SectionLeads(new, own.leads) for own in leads if own.section == old)),
    )


def _forgotten(session: Session, key: str) -> Session:
    """Nothing set for a section any more."""
    return _with_settings(
        session,
        lambda rules: tuple(own for own in rules if own.section != key),
        lambda leads: tuple(own for own in leads if own.section != key),
    )


def _with_settings(
    session: Session,
    rules: Callable[[tuple[SectionRules, ...]], tuple[SectionRules, ...]],
    leads: Callable[[tuple[SectionLeads, ...]], tuple[SectionLeads, ...]],
) -> Session:
    """The session with other settings of its sections: the one list of all that belongs to a section."""
    return msgspec.structs.replace(
        session,
        tracks=tuple(
            msgspec.structs.replace(track, section_rules=rules(track.section_rules)) for track in session.tracks
        ),
        groups=tuple(
            msgspec.structs.replace(group, section_leads=leads(group.section_leads)) for group in session.groups
        ),
    )
