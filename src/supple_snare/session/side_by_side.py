"""Pieces of long work side by side, one a processor: listening spends its time outside the interpreter's lock."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from threading import Lock
from typing import TypeVar

from supple_snare.errors import CancelledError
from supple_snare.sound.attacks import Progress

Result = TypeVar("Result")


def side_by_side(works: Sequence[Callable[[Progress], Result]], progress: Progress | None = None) -> list[Result]:
    """What each of some pieces of work gives, in their order.

    Parameters
    ----------
    works : sequence of callables
        Each is called with its own progress, which it reports often: there it is stopped, if need be.
    progress : callable, optional
        Called with the share of all that is done, by one thread at a time; may raise to stop the work.

    Raises
    ------
    BaseException
        The first that any of them or `progress` raises; all others are stopped.
    """
    lock, shares, raised = Lock(), [0.0] * len(works), list[BaseException]()

    def report(number: int, share: float) -> None:
        with lock:
            if raised:
                raise CancelledError
            shares[number] = share
            if progress is not None:
                progress(sum(shares) / len(shares))

    def run(number: int) -> Result:
        try:
            report(number, 0.0)
            return works[number](lambda share: report(number, share))
        except BaseException as error:
            raised.append(error)
            raise

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        running = [pool.submit(run, number) for number in range(len(works))]
        try:
            return [each.result() for each in running]
        except BaseException as error:  # an interrupt comes here, not to the threads
            raised.append(error)
            raise raised[0] from None
