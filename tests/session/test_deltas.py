"""Changes between JSON values: exact for any two, small for small edits, refused where they do not fit."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from supple_snare.session.deltas import SAME, changed, delta

scalars = st.none() | st.booleans() | st.integers(-3, 3) | st.floats(allow_nan=False) | st.text(max_size=3)
values = st.recursive(
    scalars,
    lambda inner: st.lists(inner, max_size=5) | st.dictionaries(st.sampled_from("abcd"), inner, max_size=4),
    max_leaves=20,
)


def text(value: object) -> str:
    """Tells 1 from 1.0 and true."""
    return json.dumps(value, sort_keys=True)


@given(values, values)
def test_a_change_leads_exactly_from_one_value_to_the_other(before, after):
    """Through a file and back, too; the same value makes no change."""
    change = json.loads(json.dumps(delta(before, after)))
    assert text(changed(before, change)) == text(after)
    assert (change == SAME) == (text(before) == text(after))


def test_one_fact_more_among_thousands_is_a_small_change():
    """And what did not change stays the same object, so that sessions go on sharing it."""
    before = {"groups": [{"key": "g1", "moves": [[n, 1.5] for n in range(5_000)]}, {"key": "g2", "moves": [1]}]}
    after = json.loads(json.dumps(before))
    after["groups"][0]["moves"].insert(2_000, [1999.5, 2.0])
    change = delta(before, after)
    assert len(json.dumps(change)) < 120
    assert changed(before, change)["groups"][1] is before["groups"][1]


@pytest.mark.parametrize("change", [[], ["?"], ["at", 0, 9, []], ["item", 3, ["="]], ["in", {}, []], ["to"], 7, ["at"]])
def test_a_change_that_does_not_fit_is_refused(change):
    """Whatever a damaged file says."""
    with pytest.raises(ValueError, match=r"change|items"):
        changed([1, 2], change)
