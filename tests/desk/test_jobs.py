"""Work off the interface thread: in order, with progress, stopped when asked, errors brought back."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest

from supple_snare.desk.controls import NumberSlider, WholeBox
from supple_snare.desk.jobs import JobRunner
from tests.desk.conftest import wait_until


@pytest.fixture
def runner(qapp) -> Iterator[JobRunner]:
    """A runner that is shut down at the end."""
    runner = JobRunner()
    yield runner
    runner.shut_down()


def test_jobs_run_one_after_another_off_this_thread(runner):
    """Results come back on this thread, in the order of asking."""
    results, threads = [], set()

    def work(number: int):
        def run(_progress) -> int:
            threads.add(threading.current_thread())
            return number

        return run

    for number in range(5):
        runner.submit(f"job {number}", work(number), results.append, results.append)
    wait_until(lambda: len(results) == 5)
    assert results == [0, 1, 2, 3, 4]
    assert threading.main_thread() not in threads
    wait_until(lambda: not runner.jobs)


def test_a_fault_is_brought_back_and_the_next_job_runs(runner):
    """One job that fails ends nothing but itself."""
    failed, done = [], []

    def broken(_progress) -> None:
        raise OSError("the disk is gone")

    runner.submit("broken", broken, done.append, failed.append)
    runner.submit("sound", lambda _progress: "fine", done.append, failed.append)
    wait_until(lambda: bool(done) and bool(failed))
    assert done == ["fine"]
    assert str(failed[0]) == "the disk is gone"


def test_a_job_stops_at_its_next_report(runner):
    """Cancelled work gives no result; what waits behind it can be cancelled too."""
    begun, shares, done = threading.Event(), [], []

    def endless(progress) -> None:
        begun.set()
        while True:
            progress(0.5)

    job = runner.submit("endless", endless, done.append, done.append)
    job.progressed.connect(shares.append)
    waiting = runner.submit("waiting", lambda _progress: "late", done.append, done.append)
    assert begun.wait(5.0)
    wait_until(lambda: bool(shares))
    cancelled = []
    job.cancelled.connect(lambda: cancelled.append("endless"))
    waiting.cancelled.connect(lambda: cancelled.append("waiting"))
    runner.cancel_all()
    wait_until(lambda: len(cancelled) == 2)
    assert done == []
    assert set(shares) == {0.5}


def test_a_number_is_typed_or_slid(qapp):
    """Slider and box show one value; told once, and not when it is set from outside."""
    control = NumberSlider("Strength", 0, 100, unit=" %")
    told: list[float] = []
    control.changed.connect(told.append)
    control.set_value(40.0)
    assert told == []
    control._slider.setValue(55)
    control._box.setValue(70.0)
    assert told == [55.0, 70.0]
    assert control._slider.value() == 70


@pytest.mark.parametrize(("typed", "value"), [("−12", -12), ("-12", -12), ("3", 3), ("−12 dB", -12)])
def test_a_real_minus_sign_can_be_typed(qapp, typed, value):
    """A hyphen does as well; letters and numbers out of range are not taken."""
    box = WholeBox(-40, 6, "Click", unit=" dB")
    assert box.valueFromText(typed) == value
    state, _, _ = box.validate(typed, 0)
    assert state == box.validate("0", 0)[0]
    assert box.validate("x", 0)[0] != state
    assert box.validate("99", 0)[0] != state
    assert box.textFromValue(-5) == "−5"
