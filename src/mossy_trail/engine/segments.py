"""Segments: which journeys a question is asked of, beside the dates.

A segment is JSON, one of: `{"all": [...]}`, `{"any": [...]}`, `{"not": ...}` and
`{"users_with": ...}` (all journeys of users that have such a one) of other segments; and of
journeys: `{"property": NAME, "values": [...]}` (of the first row), `{"screen": NAME}` (was on it),
`{"mark": ...}`, `{"move": ...}`, `{"start": ...}`, `{"exit": ...}`, `{"users": [...]}`,
`{"since": DAY, "until": DAY}` (both days are in it; either may be left out), and
`{"measure": ..., "figure": ...}`, those that a figure counts, by sessions.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import DAY
from mossy_trail.core.model.scope import Part, Scope
from mossy_trail.core.model.steps import EXITS, MARK, MOVE, STARTS, Steps
from mossy_trail.engine.journeys import Wanted
from mossy_trail.engine.registry import EVIDENCE
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
DEEPEST = 12
"""How deep segments may lie in each other."""


class SegmentError(ValueError):
    """A segment that cannot be used; the message says what is wrong."""


def of(study: Study, segment: str) -> Mask:
    """Which journeys of the index are in a segment, given as its JSON; kept with the study."""

    def found() -> Mask:
        try:
            return find(study, json.loads(segment))
        except (json.JSONDecodeError, RecursionError):
            raise SegmentError("it is no JSON") from None

    return study.segments.of(segment, found)


def find(study: Study, segment: Any) -> Mask:
    """Which journeys of the index are in a segment; raises `SegmentError`."""
    try:
        return _found(study, segment, DEEPEST)
    except (TypeError, KeyError):
        raise SegmentError("a part of it is missing, or of the wrong kind") from None


def _found(study: Study, segment: Any, deepest: int) -> Mask:
    if not isinstance(segment, dict) or not segment or not deepest:
        raise SegmentError("a segment is a JSON object, or lies too deep")
    key = next((key for key in _KINDS if key in segment), None)
    if key is None:
        raise SegmentError(f"no segment has {', '.join(map(str, segment))} in it")
    return _KINDS[key](study, segment, deepest - 1)


def _all(study: Study, segment: Any, deepest: int) -> Mask:
    masks = [_found(study, one, deepest) for one in segment["all"]]
    return np.logical_and.reduce([np.ones(len(study.index.start), bool), *masks])


def _any(study: Study, segment: Any, deepest: int) -> Mask:
    masks = [_found(study, one, deepest) for one in segment["any"]]
    return np.logical_or.reduce([np.zeros(len(study.index.start), bool), *masks])


def _not(study: Study, segment: Any, deepest: int) -> Mask:
    return ~_found(study, segment["not"], deepest)


def _users_with(study: Study, segment: Any, deepest: int) -> Mask:
    users = study.index.user
    chosen = np.zeros(int(users.max(initial=-1)) + 1, bool)
    chosen[users[_found(study, segment["users_with"], deepest)]] = True
    return chosen[users] if len(users) else np.zeros(0, bool)


def _property(study: Study, segment: Any, _: int) -> Mask:
    wanted = study.property(str(segment["property"]))
    values = {str(value) for value in segment["values"]}
    return study.joined(lambda steps: wanted.having(steps, values))


def _screen(study: Study, segment: Any, _: int) -> Mask:
    def ask(steps: Steps) -> Mask:
        found = np.zeros(len(steps.journeys.start), bool)
        shown = np.array([name == segment["screen"] for name in steps.places.names], bool)
        found[steps.steps.journey[shown[steps.screen]]] = True
        return found

    return study.joined(ask)


def _dates(study: Study, segment: Any, _: int) -> Mask:
    found = np.ones(len(study.index.start), bool)
    try:
        since, until = (_midnight(segment.get(key)) for key in ("since", "until"))
    except ValueError:
        raise SegmentError("a day is written as 2026-05-04") from None
    if since is not None:
        found &= study.index.start >= since
    if until is not None:
        found &= study.index.start < until + DAY
    return found


def _midnight(day: Any) -> int | None:
    return None if day is None else int(np.datetime64(str(day), "D").astype("i8")) * DAY


def _wanted(key: str, words: Any) -> Callable[[Study, Any, int], Mask]:
    def find(study: Study, segment: Any, _: int) -> Mask:
        if segment[key] not in words:
            raise SegmentError(f"{segment[key]} is none of {', '.join(words)}")
        wanted = Wanted(**{key: segment[key]})
        return study.joined(wanted.mask)

    return find


def _users(study: Study, segment: Any, _: int) -> Mask:
    names = {str(name) for name in segment["users"]}
    chosen = np.array([name in names for name in study.terms["user"]], bool)
    return chosen[study.index.user] if len(chosen) else np.zeros(0, bool)


def _figure(study: Study, segment: Any, _: int) -> Mask:
    try:
        return EVIDENCE[segment["measure"]](study, _scope_of(segment), str(segment["figure"]))
    except KeyError:
        raise SegmentError("there is no such figure") from None


def _scope_of(segment: Any) -> Scope:
    """All journeys, or those of the group that the figure is of."""
    if "part" not in segment:
        return Scope()
    own = (str(segment.get(key, "")) for key in ("part", "part_by", "part_over"))
    return Scope(part=Part(*own))


_KINDS: dict[str, Callable[[Study, Any, int], Mask]] = {
    "all": _all,
    "any": _any,
    "not": _not,
    "users_with": _users_with,
    "property": _property,
    "screen": _screen,
    "mark": _wanted("mark", MARK),
    "move": _wanted("move", MOVE),
    "start": _wanted("start", [*STARTS, "link"]),
    "exit": _wanted("exit", EXITS),
    "users": _users,
    "measure": _figure,
    "since": _dates,
    "until": _dates,
}
