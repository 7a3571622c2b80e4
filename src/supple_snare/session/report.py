"""What the command line prints: hits, measurements and plans as plain records, in the shapes that are promised."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from supple_snare.session.document import Session
from supple_snare.session.doubts import stroke_doubts
from supple_snare.session.stages import GroupView
from supple_snare.sound.cut import Cut
from supple_snare.timing.hits import Hits, Kind
from supple_snare.timing.ruling import Ruling
from supple_snare.timing.tempo import TempoFinding
from supple_snare.timing.tighten import Kept
from supple_snare.timing.units import FloatArray, ms_to_s

_AROUND_S = 0.1
"""Beats are told from the first stroke to the last, or so much around them."""


class HitRecord(msgspec.Struct, frozen=True):
    """One hit."""

    time: float
    level_db: float
    kind: str
    confidence: float


class TrackRecord(msgspec.Struct, frozen=True):
    """The hits of one file."""

    file: str
    hits: list[HitRecord]


class StrokeRecord(msgspec.Struct, frozen=True):
    """One stroke."""

    time: float
    lead: str
    level_db: float


class HitsReport(msgspec.Struct, frozen=True):
    """Output of `hits`."""

    sample_rate: int
    tracks: list[TrackRecord]
    strokes: list[StrokeRecord]


class TempoRecord(msgspec.Struct, frozen=True):
    """Another reading of the tempo."""

    tempo: float
    meter: str
    confidence: float


class TempoReport(msgspec.Struct, frozen=True):
    """Output of `tempo`; the slots suggested are null where too little was played to tell.

    `parts` holds the tempos of a take that changes its tempo at once, and is empty for others.
    """

    tempo: float
    first_beat: float
    meter: str
    steady: bool
    parts: list[float]
    beats: list[float]
    confidence: float
    bar_confidence: float
    runners_up: list[TempoRecord]
    grid: str | None
    swing: float | None
    swing_of: str | None


class PlaceRecord(msgspec.Struct, frozen=True):
    """A slot."""

    bar: int
    slot: int


class OffsetRecord(msgspec.Struct, frozen=True):
    """One measured stroke; null where a stroke has no slot of its own."""

    time: float
    lead: str
    bar: int | None
    slot: int | None
    grid_time: float | None
    offset_ms: float | None
    drift_ms: float | None
    feel_ms: float | None
    scatter_ms: float | None
    runner_up: PlaceRecord | None
    margin: float | None
    close_call: bool


class Summary(msgspec.Struct, frozen=True):
    """All strokes together, in ms."""

    strokes: int
    mean_ms: float
    median_ms: float
    spread_ms: float
    worst_ms: float
    early_share: float
    late_share: float
    drift_rms_ms: float
    feel_rms_ms: float
    scatter_rms_ms: float


class MeasureReport(msgspec.Struct, frozen=True):
    """Output of `measure`."""

    strokes: list[OffsetRecord]
    summary: Summary


class MoveRecord(msgspec.Struct, frozen=True):
    """One stroke of the plan."""

    time: float
    grid_time: float | None
    new_time: float
    moved_ms: float
    kept: str | None
    doubts: list[str]


class TightenReport(msgspec.Struct, frozen=True):
    """Output of `tighten`."""

    strokes: list[MoveRecord]
    files: list[str]


def hits_report(session: Session, view: GroupView) -> HitsReport:
    """The hits of every track and the strokes of the group."""
    return HitsReport(
        sample_rate=session.rate_hz,
        tracks=[TrackRecord(session.file_of(key), _hit_records(hits)) for key, hits in view.hits.items()],
        strokes=[
            StrokeRecord(float(time), name, round(float(level), 2))
            for time, name, level in zip(
                view.strokes.time_s, lead_files(session, view), view.strokes.level_db, strict=True
            )
        ],
    )


def _hit_records(hits: Hits) -> list[HitRecord]:
    columns = zip(hits.time_s, hits.level_db, hits.kind, hits.confidence, strict=True)
    return [
        HitRecord(float(time), round(float(level), 2), Kind(kind).word, round(float(confidence), 3))
        for time, level, kind, confidence in columns
    ]


def lead_files(session: Session, view: GroupView) -> list[str]:
    """File name of the lead that decides each stroke."""
    names = [session.file_of(key) for key in view.columns]
    return [names[number] for number in view.strokes.lead]


def tempo_report(view: GroupView, readings: Sequence[TempoFinding], ruling: Ruling | None) -> TempoReport:
    """The likeliest reading of the tempo, the others, and the slots suggested on its grid."""
    best = readings[0]
    played_s = view.strokes.time_s
    return TempoReport(
        tempo=best.tempo_bpm,
        first_beat=float(best.grid.bar_time_s(1)),
        meter=str(best.grid.meter),
        steady=best.steady,
        parts=list(best.parts_bpm),
        beats=best.beats_s(float(played_s[0]) - _AROUND_S, float(played_s[-1]) + _AROUND_S).tolist(),
        confidence=round(best.confidence, 3),
        bar_confidence=round(best.bar_confidence, 3),
        runners_up=[
            TempoRecord(each.tempo_bpm, str(each.grid.meter), round(each.confidence, 3)) for each in readings[1:]
        ],
        grid=str(ruling) if ruling is not None else None,
        swing=round(ruling.swing, 4) if ruling is not None else None,
        swing_of=ruling.swing_of if ruling is not None else None,
    )


def measure_report(session: Session, view: GroupView) -> MeasureReport:
    """Offsets of all strokes and their summary."""
    offsets = view.offsets
    next_bar, next_slot = session.grid.slot_numbers(offsets.runner_up, view.strokes.time_s)
    records = []
    for index, (time, name) in enumerate(zip(view.strokes.time_s, lead_files(session, view), strict=True)):
        placed = bool(offsets.placed[index])
        records.append(
            OffsetRecord(
                time=float(time),
                lead=name,
                bar=int(offsets.bar[index]) if placed else None,
                slot=int(offsets.slot[index]) if placed else None,
                grid_time=_number_or_none(offsets.grid_s[index]),
                offset_ms=_number_or_none(offsets.offset_ms[index]),
                drift_ms=_number_or_none(offsets.drift_ms[index]),
                feel_ms=_number_or_none(offsets.feel_ms[index]),
                scatter_ms=_number_or_none(offsets.scatter_ms[index]),
                runner_up=PlaceRecord(int(next_bar[index]), int(next_slot[index])) if placed else None,
                margin=_number_or_none(offsets.margin[index]),
                close_call=bool(offsets.close_call[index]),
            )
        )
    return MeasureReport(records, summarise(view))


def summarise(view: GroupView) -> Summary:
    """Mean, spread, worst and parts of all placed strokes' offsets."""
    offsets = view.offsets
    placed = offsets.placed
    values = offsets.offset_ms[placed]
    if not len(values):
        return Summary(len(view.strokes), 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
    return Summary(
        strokes=len(view.strokes),
        mean_ms=float(values.mean()),
        median_ms=float(np.median(values)),
        spread_ms=float(values.std()),
        worst_ms=float(values[np.argmax(np.abs(values))]),
        early_share=float(np.mean(values < 0)),
        late_share=float(np.mean(values > 0)),
        drift_rms_ms=_rms(offsets.drift_ms[placed]),
        feel_rms_ms=_rms(offsets.feel_ms[placed]),
        scatter_rms_ms=_rms(offsets.scatter_ms[placed]),
    )


def tighten_report(session: Session, view: GroupView, cut: Cut | None, written: Sequence[Path]) -> TightenReport:
    """What was done to each stroke, as rendered: moves of tracks are whole samples. A MIDI part has no cut."""
    moved_s = ms_to_s(view.plan.move_ms) if cut is None else cut.move / session.rate_hz
    doubts = stroke_doubts(view, cut)
    records = []
    for index, time in enumerate(view.strokes.time_s):
        records.append(
            MoveRecord(
                time=float(time),
                grid_time=_number_or_none(view.offsets.grid_s[index]),
                new_time=float(time + moved_s[index]),
                moved_ms=float(1000.0 * moved_s[index]),
                kept=Kept(view.plan.kept[index]).word,
                doubts=[doubt.word for doubt in doubts[index]],
            )
        )
    return TightenReport(records, [str(path) for path in written])


def _number_or_none(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def _rms(values: FloatArray) -> float:
    return float(np.sqrt(np.mean(values**2)))
