"""The bar that says what happened."""

from __future__ import annotations

import pytest

from supple_snare.desk.message_bar import MessageBar
from tests.desk.conftest import wait_until


@pytest.mark.parametrize(("problem", "acts"), [(False, []), (True, []), (False, [("Do it", "At once", lambda: None)])])
def test_a_note_goes_by_itself_and_what_wants_a_person_stays(qapp, problem, acts):
    """Problems and questions wait to be closed, also when they follow a note."""
    bar = MessageBar()
    bar._read.setInterval(30)
    bar.say("Read this.", False)
    bar.say("And this.", problem, acts)
    assert [push.text() for push in bar.acts] == [name for name, _, _ in acts]
    stays = problem or bool(acts)
    assert bar._read.isActive() is not stays
    if not stays:
        wait_until(bar.isHidden, 2.0)
    assert bar.isHidden() is not stays
