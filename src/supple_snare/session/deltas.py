"""What changed between two JSON values, as a JSON value: small where little changed, and exact.

A change is a list whose first item names its kind:

    ["="]                          nothing
    ["to", value]                  another value
    ["in", {name: change}, [...]]  members of an object that changed or are new, and names of those that went
    ["at", place, count, [...]]    so many items of a list, from that place on, replaced by others
    ["item", place, change]        one item of a list changed
"""

from __future__ import annotations

from typing import Any

Json = Any
"""None, bool, int, float, str, lists of them, or dicts of them by name."""

SAME: list[Json] = ["="]


def delta(before: Json, after: Json) -> list[Json]:
    """What has to be done to one value to get the other.

    >>> delta({"a": [1, 2, 3], "b": 1}, {"a": [1, 9, 3], "b": 1})
    ['in', {'a': ['at', 1, 1, [9]]}, []]
    """
    if before is after:
        return SAME
    if isinstance(before, dict) and isinstance(after, dict):
        return _delta_of_objects(before, after)
    if isinstance(before, list) and isinstance(after, list):
        return _delta_of_lists(before, after)
    return SAME if _is_same(before, after) else ["to", after]


def changed(before: Json, change: list[Json]) -> Json:
    """The value after a change. What did not change is the very same object as before.

    Raises
    ------
    ValueError
        If the change does not fit the value.
    """
    try:
        return _changed(before, change)
    except (TypeError, KeyError, IndexError, AttributeError) as error:
        raise ValueError(f"a change that does not fit ({error})") from error


def _changed(before: Json, change: list[Json]) -> Json:
    match change:
        case ["="]:
            return before
        case ["to", value]:
            return value
        case ["in", dict(members), list(gone)] if isinstance(before, dict):
            after = {name: value for name, value in before.items() if name not in gone}
            return after | {name: _changed(before.get(name), inner) for name, inner in members.items()}
        case ["at", int(place), int(count), list(items)] if isinstance(before, list):
            if not 0 <= place <= place + count <= len(before):
                raise ValueError(f"no {count} items at {place}")
            return [*before[:place], *items, *before[place + count :]]
        case ["item", int(place), inner] if isinstance(before, list) and 0 <= place < len(before):
            return [*before[:place], _changed(before[place], inner), *before[place + 1 :]]
    raise ValueError(f"an unknown kind of change: {str(change)[:40]}")


def _is_same(before: Json, after: Json) -> bool:
    """Equal and of one type: 1, 1.0 and True are three values."""
    return type(before) is type(after) and bool(before == after)


def _delta_of_objects(before: dict[str, Json], after: dict[str, Json]) -> list[Json]:
    members: dict[str, Json] = {}
    for name, value in after.items():
        change = delta(before[name], value) if name in before else ["to", value]
        if change != SAME:
            members[name] = change
    gone = [name for name in before if name not in after]
    return ["in", members, gone] if members or gone else SAME


def _delta_of_lists(before: list[Json], after: list[Json]) -> list[Json]:
    first = 0
    shorter = min(len(before), len(after))
    while first < shorter and delta(before[first], after[first]) == SAME:
        first += 1
    last = 0
    while last < shorter - first and delta(before[-1 - last], after[-1 - last]) == SAME:
        last += 1
    old, new = before[first : len(before) - last], after[first : len(after) - last]
    if not old and not new:
        return SAME
    if len(old) == len(new) == 1:
        inner = delta(old[0], new[0])
        return ["at", first, 1, new] if inner[0] == "to" else ["item", first, inner]
    return ["at", first, len(old), new]
