"""Work side by side: results in order, one progress, and an error that stops the others."""

from __future__ import annotations

from collections.abc import Callable
from threading import Event

import pytest

from supple_snare.errors import CancelledError
from supple_snare.session.side_by_side import side_by_side
from supple_snare.sound.attacks import Progress


def counting(to: int, seen: list[int]) -> Callable[[Progress], int]:
    """Work in so many steps that notes each of them."""

    def work(report: Progress) -> int:
        for step in range(to):
            report(step / to)
            seen.append(step)
        report(1.0)
        return to

    return work


def test_results_come_in_order_and_progress_rises_to_all_of_it() -> None:
    shares: list[float] = []
    assert side_by_side([counting(to, []) for to in (40, 3, 20, 1, 7)], shares.append) == [40, 3, 20, 1, 7]
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert side_by_side([], shares.append) == []


def test_an_error_stops_the_others_and_is_the_one_that_is_raised() -> None:
    others_run = Event()
    seen: list[int] = []

    def fails(_report: Progress) -> int:
        others_run.wait(1.0)  # on one processor nothing else runs
        raise ValueError("broken")

    def goes_on(report: Progress) -> int:
        others_run.set()
        while True:
            report(0.5)

    with pytest.raises(ValueError, match="broken"):
        side_by_side([fails, goes_on, *[counting(1000, seen)] * 20])
    assert len(seen) < 20_000


def test_whoever_is_told_of_the_progress_may_stop_the_work() -> None:
    seen: list[int] = []

    def stop(share: float) -> None:
        if share > 0.25:
            raise CancelledError

    with pytest.raises(CancelledError):
        side_by_side([counting(100, seen) for _ in range(8)], stop)
    assert 100 < len(seen) < 400
