"""Paths: figures of what comes after a place or before it, and the journeys behind each."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, ValidationError, model_validator

from mossy_trail.core.measures.cells import Frequencies, added
from mossy_trail.core.measures.paths import (
    AT,
    NODES,
    READINGS,
    Alike,
    Asked,
    Paths,
    Windows,
    alike,
    flows,
    node_names,
    paths,
    spelled,
    windows,
)
from mossy_trail.core.model.conditions import clause_of
from mossy_trail.core.model.log import EVENTS
from mossy_trail.core.model.scope import Scope, Unit
from mossy_trail.core.model.steps import EXIT, EXITS, STARTS, Steps
from mossy_trail.core.stats.intervals import Share, share
from mossy_trail.engine.registry import NoParams, document_of, evidence_of, measure_of
from mossy_trail.engine.scoped import each_inside, size_of
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
DRAWN, LISTED, WAYS = 8, 100, 50
"""Nodes of a column that flows lead through one by one, nodes of it that are told, and ways."""
MOST_TIES = 5000
"""Ways gone equally often that are looked at, for the last places among those told."""
LONGEST = 40
"""Nodes of a whole journey that is told as one of its kind, at the most."""
Kind = Literal["node", "rest", "ended", "cut", "began"]


class PathParams(NoParams):
    at: Literal[AT] = Field("entry", description="Where paths begin")  # type: ignore[valid-type]
    what: str = Field("", max_length=2000, description="Which screen, event, entry or exit it is")
    screen: str = Field("", max_length=2000, description="Only if that happens on this screen")
    direction: Literal["forward", "backward"] = "forward"
    deep: int = Field(5, ge=1, le=12, description="How many nodes further")
    reading: Literal[READINGS] = Field(  # type: ignore[valid-type]
        "walked", description="All steps, or those that no move back undid"
    )
    nodes: Literal[NODES] = "screen"  # type: ignore[valid-type]
    repeats: bool = Field(False, description="Like nodes in a row stand one by one")
    whole: bool = Field(False, description="Ways to the journey's end, or from its beginning, too")

    @model_validator(mode="after")
    def _known(self) -> PathParams:
        if self.at == "exit" and self.direction == "forward":
            raise ValueError("nothing comes after an exit: ask backward")
        if self.at == "entry" and self.direction == "backward":
            raise ValueError("nothing comes before an entry: ask forward")
        known = {"entry": ("", *STARTS, "link"), "exit": ("", *EXITS)}.get(self.at)
        if known and self.what not in known:
            raise ValueError(f"“{self.what}” is none of {', '.join(known[1:])}")
        return self


@dataclass(frozen=True)
class Opened:
    """So many journeys, or users."""

    figure: str
    count: int


@dataclass(frozen=True)
class PathNode:
    """What stands at a place of paths: a screen, role or tab, or the `rest` of these, folded
    together; that the journey ended, or was cut off by the log's end, or, backward, began there.
    `detours` are those that made steps from here which they took back, as kept. `share` is of all
    paths."""

    figure: str
    kind: Kind
    name: str
    share: Share
    detours: Opened | None
    drawn: bool


@dataclass(frozen=True)
class PathColumn:
    """What stands so many nodes from where paths begin. `folded` nodes are the rest."""

    nodes: list[PathNode]
    folded: int
    ended: int
    """Paths that ended before."""


@dataclass(frozen=True)
class Flow:
    """From one node to the next outward: places in the lists of drawn nodes of two columns."""

    figure: str
    column: int
    start: int
    end: int
    count: int


@dataclass(frozen=True)
class Way:
    """Paths with the same nodes, in the order walked."""

    figure: str
    nodes: list[str]
    share: Share


@dataclass(frozen=True)
class PathFigures:
    """`met` are the journeys, or users, with a path, of all in scope; of those `taken_back`, the
    place was on no step that was kept. `ways` have the same nodes up to `deep`; `wholes`, if asked
    for, on to the journey's end or from its beginning."""

    in_scope: int
    met: Share
    figure: str
    taken_back: Opened | None
    columns: list[PathColumn]
    flows: list[Flow]
    ways: list[Way]
    ways_left_out: int
    wholes: list[Way]
    wholes_left_out: int


class _Part(NamedTuple):
    """The paths of a part, what stands near to where they begin, and those that are alike up to
    `deep`, and altogether."""

    paths: Paths
    windows: Windows
    ways: Alike
    wholes: Alike
    in_scope: int


class _Frame(NamedTuple):
    """What is told one by one: the same for all groups of a scope, so that they add up to it."""

    names: list[str]
    listed: list[list[int]]
    drawn: list[list[int]]
    folded: list[int]
    ways: _Usual
    wholes: _Usual


class _Usual(NamedTuple):
    """The ways that most went, by their nodes, each with its number and how many paths go so; and
    how many ways there are beside them."""

    ways: dict[tuple[int, ...], tuple[int, int]]
    left_out: int


@measure_of("paths", PathParams)
def measure(study: Study, scope: Scope, **given: Any) -> PathFigures:
    """What comes after a place in journeys, or before it, as walked and as kept."""
    asked = _asked(study, PathParams(**given))
    parts, frame = _parts(study, scope, asked), _frame(study, scope, asked)
    total = sum(len(part.paths.journey) for part in parts)
    in_scope = sum(part.in_scope for part in parts)
    figure, whole = _figures(PathParams(**given)), scope.part is None
    lost = sum(len(part.paths.taken_back) for part in parts)
    columns = [_column(parts, frame, asked, i, total, figure) for i in range(asked.deep + 1)]
    return PathFigures(
        in_scope,
        share(total, in_scope),
        figure("met"),
        Opened(figure("taken_back"), lost) if asked.reading == "kept" else None,
        columns,
        _flows(parts, frame, columns, figure),
        _ways(parts, asked, frame, "way", whole, total, figure),
        frame.ways.left_out,
        _ways(parts, asked, frame, "whole", whole, total, figure),
        frame.wholes.left_out,
    )


def _figures(params: PathParams) -> Callable[..., str]:
    """How figures of these parameters are named: by a document of them and the cell's words."""
    own = {k: v for k, v in params.model_dump().items() if v != PathParams.model_fields[k].default}

    def figure(*cell: str | int) -> str:
        return _written({"paths": own, "cell": [str(word) for word in cell]})

    return figure


_written = json.JSONEncoder(ensure_ascii=False, separators=(",", ":")).encode
"""A document as a figure's name: made once, as hundreds are written for an answer."""


def _asked(study: Study, params: PathParams) -> Asked:
    """Raises `KeyError` for a screen or event that there is not."""
    screens = study.parts[0].places.names if study.parts else []
    named = [params.screen, params.what if params.at == "screen" else ""]
    for name in named:
        if name and name not in screens:
            raise KeyError(name)
    if params.at == "screen" and not params.what:
        raise KeyError(params.what)
    if params.at == "event":
        event = clause_of(params.what, " ").event
        if event not in EVENTS and event not in study.terms["word"]:
            raise KeyError(params.what)
    given = params.model_dump()
    return Asked(forward=given.pop("direction") == "forward", **given)


def _parts(study: Study, scope: Scope, asked: Asked) -> list[_Part]:
    found: list[_Part] = study.labels.of(
        (scope, asked),
        lambda: each_inside(study, scope, lambda s, inside: _part(s, inside, asked, scope.unit)),
    )
    return found


def _part(steps: Steps, inside: Mask, asked: Asked, unit: Unit) -> _Part:
    found = paths(steps, asked, inside, once=unit == "users")
    cut = steps.journeys.exit[found.journey] == EXIT["cut"]
    ends = cut if asked.forward else np.zeros(len(cut), bool)
    shown = windows(found, asked, ends, len(node_names(steps, asked.nodes)))
    ways = alike(found, asked, asked.deep)
    wholes = alike(found, asked) if asked.whole else ways
    return _Part(found, shown, ways, wholes, size_of(steps, inside, unit))


def _end_names(asked: Asked) -> tuple[str, ...]:
    return ("ended", "cut") if asked.forward else ("began",)


def _frame(study: Study, scope: Scope, asked: Asked) -> _Frame:
    whole = replace(scope, part=None)
    found: _Frame = study.labels.of(
        (whole, asked, "frame"), lambda: _new_frame(study, whole, asked)
    )
    return found


def _new_frame(study: Study, scope: Scope, asked: Asked) -> _Frame:
    parts = _parts(study, scope, asked)
    names = node_names(study.parts[0], asked.nodes) if study.parts else []
    listed, drawn, folded = [], [], []
    for column in range(asked.deep + 1):
        counts = _counts(parts, column, len(names))
        some = np.flatnonzero(counts)
        order = some[np.argsort(-counts[some], kind="stable")].tolist()
        nodes = [code for code in order if code < len(names)]
        # One that would be folded alone stands for itself.
        most = DRAWN if len(nodes) > DRAWN + 1 else len(nodes)
        ends = [code for code in order if code >= len(names)]
        listed.append(nodes[:LISTED] + ends)
        drawn.append(nodes[:most] + ends)
        folded.append(len(nodes) - most)
    ways = _usual(parts, asked, "way")
    wholes = _usual(parts, asked, "whole") if asked.whole else _Usual({}, 0)
    return _Frame(names, listed, drawn, folded, ways, wholes)


def _counts(parts: Sequence[_Part], column: int, size: int) -> NDArray[np.int64]:
    return sum((part.windows.counts[column] for part in parts), np.zeros(size + 2, "i8"))


def _groups_of(part: _Part, asked: Asked, kind: str) -> tuple[Alike, int | None]:
    """The paths of a part that are alike, and up to where."""
    return (part.ways, asked.deep) if kind == "way" else (part.wholes, None)


def _usual(parts: Sequence[_Part], asked: Asked, kind: str) -> _Usual:
    groups = [_groups_of(part, asked, kind)[0] for part in parts]
    if not groups:
        return _Usual({}, 0)
    number, counts = added([Frequencies(own.number, own.sizes) for own in groups])
    most = np.partition(counts, -WAYS)[-WAYS] if len(counts) > WAYS else 1
    # Where most ways were gone once, some of these stand for all, the same ones at every asking.
    alike_often = np.sort(number[counts == most])[:MOST_TIES]
    chosen = {*number[counts > most].tolist(), *alike_often.tolist()}
    found = _counted(parts, asked, kind, chosen)
    some = sorted(found, key=lambda nodes: (-found[nodes][1], nodes))
    told = [nodes for nodes in some if len(nodes) <= LONGEST][:WAYS]
    return _Usual({nodes: found[nodes] for nodes in told}, len(number) - len(told))


def _counted(
    parts: Sequence[_Part], asked: Asked, kind: str, numbers: set[int]
) -> dict[tuple[int, ...], tuple[int, int]]:
    """Ways with these numbers, by their nodes: the number, and how many paths go so."""
    wanted = np.array(sorted(numbers), "i8")
    found: dict[bytes, tuple[int, int]] = {}
    if not numbers:
        return {}
    for part in parts:
        groups, deep = _groups_of(part, asked, kind)
        near = np.searchsorted(wanted, groups.number, "right") - 1
        own = np.flatnonzero((near >= 0) & (wanted[near] == groups.number))
        ways = spelled(part.paths, asked, groups.one[own], deep)
        told = zip(ways, groups.number[own].tolist(), groups.sizes[own].tolist(), strict=True)
        for nodes, number, size in told:
            way = nodes.tobytes()
            found[way] = number, found.get(way, (0, 0))[1] + size
    return {tuple(np.frombuffer(way, "i4").tolist()): told for way, told in found.items()}


def _column(
    parts: Sequence[_Part],
    frame: _Frame,
    asked: Asked,
    column: int,
    total: int,
    figure: Callable[..., str],
) -> PathColumn:
    size = len(frame.names)
    counts = _counts(parts, column, size)
    detours = sum((part.windows.detours[column] for part in parts), np.zeros(size, "i8"))
    nodes = []
    for code in frame.listed[column]:
        drawn, opened = code in frame.drawn[column], None
        if code >= size:
            kind, name = _end_names(asked)[code - size], ""
        else:
            kind, name = "node", frame.names[code]
            if asked.reading == "kept":
                opened = Opened(figure("detour", column, name), int(detours[code]))
        cell = figure("at", column, kind, name)
        nodes.append(PathNode(cell, kind, name, share(int(counts[code]), total), opened, drawn))  # type: ignore[arg-type]
    if frame.folded[column]:
        rest = int(counts[:size].sum()) - sum(
            int(counts[code]) for code in frame.drawn[column] if code < size
        )
        cell = figure("at", column, "rest", "")
        nodes.append(PathNode(cell, "rest", "", share(rest, total), None, True))
    return PathColumn(nodes, frame.folded[column], total - int(counts.sum()))


def _places(frame: _Frame) -> tuple[NDArray[np.int32], int]:
    """Per column the place of each node among those drawn, the rest being one more; and how many
    places there are at the most."""
    most = max(map(len, frame.drawn)) + 1
    place = np.empty((len(frame.drawn), len(frame.names) + 2), "i4")
    for column, drawn in enumerate(frame.drawn):
        place[column] = len(drawn)
        place[column, drawn] = np.arange(len(drawn))
    return place, most


def _flows(
    parts: Sequence[_Part],
    frame: _Frame,
    columns: Sequence[PathColumn],
    figure: Callable[..., str],
) -> list[Flow]:
    place, most = _places(frame)
    nothing = np.zeros((len(columns) - 1, most, most), "i8")
    counts = sum((flows(part.windows, place, most) for part in parts), nothing)
    drawn = [[node for node in column.nodes if node.drawn] for column in columns]
    found = []
    for i, a, b in np.argwhere(counts).tolist():
        one, other = drawn[i][a], drawn[i + 1][b]
        cell = figure("flow", i, one.kind, one.name, other.kind, other.name)
        found.append(Flow(cell, i, a, b, int(counts[i, a, b])))
    return found


def _ways(
    parts: Sequence[_Part],
    asked: Asked,
    frame: _Frame,
    kind: str,
    whole: bool,
    total: int,
    figure: Callable[..., str],
) -> list[Way]:
    told = (frame.ways if kind == "way" else frame.wholes).ways
    counts = told if whole else _counted(parts, asked, kind, {one for one, _ in told.values()})
    found = []
    for nodes in told:
        spelt = [frame.names[code] for code in nodes]
        _, count = counts.get(nodes, (0, 0))
        found.append(Way(figure(kind, *spelt), spelt, share(count, total)))
    return found


def _going(found: Paths, asked: Asked, nodes: Sequence[int], deep: int | None) -> Mask:
    """Which paths have just these nodes, up to `deep` from where they begin."""
    length = found.end - found.begin
    if deep is not None:
        length = np.minimum(length, deep + 1)
    same = length == len(nodes)
    own = np.flatnonzero(same)
    at = found.begin[own] if asked.forward else found.end[own] - len(nodes)
    for k, code in enumerate(nodes):
        fits = found.nodes[at + k] == code
        own, at = own[fits], at[fits]
    going = np.zeros(len(same), bool)
    going[own] = True
    return going


@evidence_of("paths")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    """The journeys of a cell: `met`, `taken_back`, `at COLUMN KIND NAME`, `detour COLUMN NAME`,
    `flow COLUMN KIND NAME KIND NAME`, `way NAME…`, `whole NAME…`; raises `KeyError` for others."""
    document = document_of(figure)
    try:
        asked = _asked(study, PathParams(**document["paths"]))
        cell, *words = document["cell"]
        frame, parts = _frame(study, scope, asked), _parts(study, scope, asked)
        test = _CELLS[cell](frame, asked, *words)
    except (TypeError, ValueError, ValidationError, IndexError):
        raise KeyError(figure) from None

    found = np.zeros(len(study.index.start), bool)
    for begin, part in zip(study.edges, parts, strict=False):
        own = part.paths
        found[begin + (own.taken_back if cell == "taken_back" else own.journey[test(part)])] = True
    return found


Test = Callable[[_Part], Mask]


def _at(frame: _Frame, asked: Asked, column: str, kind: str, name: str) -> Test:
    i, size = _column_of(column, asked), len(frame.names)
    if kind == "rest":
        own = np.array([code for code in frame.drawn[i] if code < size], "i4")

        def rest(part: _Part) -> Mask:
            nodes = part.windows.nodes[i]
            return np.asarray((nodes >= 0) & (nodes < size) & ~np.isin(nodes, own))

        return rest
    code = frame.names.index(name) if kind == "node" else size + _end_names(asked).index(kind)
    return lambda part: part.windows.nodes[i] == code


def _column_of(column: str, asked: Asked) -> int:
    i = int(column)
    if not 0 <= i <= asked.deep:
        raise KeyError(column)
    return i


def _detour(frame: _Frame, asked: Asked, column: str, name: str) -> Test:
    at, i = _at(frame, asked, column, "node", name), _column_of(column, asked)
    return lambda part: at(part) & part.windows.detour[i]


def _flow(frame: _Frame, asked: Asked, column: str, *ends: str) -> Test:
    a, first, b, second = ends
    start = _at(frame, asked, column, a, first)
    end = _at(frame, asked, str(_column_of(column, asked) + 1), b, second)
    return lambda part: start(part) & end(part)


def _met(frame: _Frame, asked: Asked) -> Test:
    return lambda part: np.ones(len(part.paths.journey), bool)


def _way(frame: _Frame, asked: Asked, *names: str) -> Test:
    nodes = [frame.names.index(name) for name in names]
    return lambda part: _going(part.paths, asked, nodes, asked.deep)


def _whole(frame: _Frame, asked: Asked, *names: str) -> Test:
    if not asked.whole:
        raise KeyError("whole")
    nodes = [frame.names.index(name) for name in names]
    return lambda part: _going(part.paths, asked, nodes, None)


_CELLS: dict[str, Callable[..., Test]] = {
    "met": _met,
    "taken_back": _met,
    "at": _at,
    "detour": _detour,
    "flow": _flow,
    "way": _way,
    "whole": _whole,
}
