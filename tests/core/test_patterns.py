"""Patterns against plain backtracking over the exported steps, on random logs and patterns."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import cache
from typing import Any, NamedTuple

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.measures.patterns import matches
from mossy_trail.core.model.log import split
from mossy_trail.core.model.pattern import (
    Condition,
    Edge,
    Either,
    InOrder,
    Node,
    PatternError,
    Repeat,
    Test,
    automaton,
)
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine.export import steps_table
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.pattern_text import read_pattern
from mossy_trail.intake.pattern_words import pattern_words
from mossy_trail.intake.reader import read_files
from tests.campaign import examples

Step = dict[str, Any]
Bound = str | None


class Walk(NamedTuple):
    """A journey's steps between its start and its end, with the time of each in microseconds."""

    steps: list[Step | None]
    times: list[int]


def holds(test: Test, step: Step, bound: Bound) -> bool:
    kind, _, name = test.key.partition(".")
    value = step.get(test.key)
    if kind == "param":
        value = json.loads(step["params"] or "{}").get(name)
        value = value if isinstance(value, str | None) else json.dumps(value)
    if test.held:
        return value is not None and bound is not None and (value == bound) != test.negated
    if test.key == "mark":
        return bool(set(test.values) & set(step["marks"])) != test.negated
    if test.key in ("dwell", "load", "depth"):
        value = step["depth"] if test.key == "depth" else step[f"{test.key}_ms"]
        wanted = int(test.values[0]) / (1 if test.key == "depth" else 1000)
        compared = {"<": lambda: value < wanted, ">": lambda: value > wanted}
        compared |= {"<=": lambda: value <= wanted, ">=": lambda: value >= wanted}
        compared |= {"=": lambda: value == wanted}
        return (value is not None and compared[test.operator]()) != test.negated
    return (value in test.values) != test.negated


def fits(condition: Condition, step: Step, bound: Bound) -> Iterator[Bound]:
    """What is bound after a step that fits."""
    held = condition.held
    if held and bound is None and not held.negated:
        kind, _, name = held.key.partition(".")
        given = json.loads(step["params"] or "{}").get(name) if kind == "param" else step[held.key]
        bound = given if isinstance(given, str | None) else json.dumps(given)
    if any(all(holds(test, step, bound) for test in all_) for all_ in condition.any) != (
        condition.negated
    ):
        yield bound


def ways(node: Node, walk: Walk, at: int, bound: Bound) -> Iterator[tuple[int, Bound]]:
    """Where the pattern may end that begins here, by trying everything."""
    if isinstance(node, Edge):
        if at == (len(walk.steps) - 1 if node.end else 0):
            yield at + 1, bound
    elif isinstance(node, Condition):
        step = walk.steps[at] if at < len(walk.steps) else None
        for after in fits(node, step, bound) if step else ():
            yield at + 1, after
    elif isinstance(node, Either):
        for part in node.parts:
            yield from ways(part, walk, at, bound)
    elif isinstance(node, InOrder):
        first, *rest = node.parts
        for then, after in ways(first, walk, at, bound):
            if rest:
                yield from ways(InOrder(tuple(rest)), walk, then, after)
            else:
                yield then, after
    elif isinstance(node, Repeat):
        if node.least == 0:
            yield at, bound
        if node.most != 0:
            less = Repeat(node.part, max(node.least - 1, 0), node.most and node.most - 1)
            for then, after in ways(node.part, walk, at, bound):
                if then > at or less.least:
                    yield from ways(less, walk, then, after)
    else:
        for then, after in ways(node.part, walk, at, bound):
            if then == at or walk.times[then - 1] - walk.times[at] <= node.limit:
                yield then, after


def plain_matches(node: Node, walk: Walk) -> list[tuple[int, int]]:
    """The steps, from 1, that the first match ends on and the last one that it can begin on."""
    found, begin, last = [], 0, len(walk.steps) - 2
    while True:
        spans = {
            (then, at) for at in range(begin, last + 2) for then, _ in ways(node, walk, at, None)
        }
        if not spans:
            return found
        end = min(then for then, _ in spans)
        start = max(at for then, at in spans if then == end)
        found.append((min(max(start, 1), last), min(max(end - 1, 1), last)))
        begin = end


@cache
def log_of(seed: int) -> tuple[Study, list[Walk]]:
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as folder:
        path, *_ = write(simulate(900, seed), Path(folder))
        study = Study(split(read_files([path]).log, 1), map_of(parse_map(MAP.read_text())))
    (part,) = study.parts
    rows, own, walks = steps_table(part).to_pylist(), part.journeys, []
    for i, (first, count) in enumerate(zip(own.first_step, own.steps, strict=True)):
        some = rows[first : first + count] if count <= 12 else []
        times = part.steps.visible[first : first + len(some)].tolist()
        edges = int(own.start[i]), int(own.end[i])
        walks.append(Walk([None, *some, None], [edges[0], *times, edges[1]]))
    return study, walks


SCREENS = ("Splash", "Welcome", "SailingsBoard", "SailingDetail", "PassWallet", "SignIn")
TESTS = (
    *("move=push", "move=pop|pop_to", "move=switch_tab", "tab=Sailings", "tab!=Passes", "depth>=2"),
    *("dwell<2s", "dwell>=800ms", "below=SailingsBoard", "mark=bounce", "load>200ms", "!depth=1"),
)
HELD = ("param.sailing=$v", "screen=$v", "screen!=$v", "below=$v")
PLAIN_STEPS = st.one_of(
    st.sampled_from([*SCREENS, ".", "..", "^", "$"]),
    st.builds("[{}]".format, st.sampled_from(TESTS)),
    st.builds("!{}".format, st.sampled_from(SCREENS)),
    st.builds("!({}|[{}])".format, st.sampled_from(SCREENS), st.sampled_from(TESTS)),
    st.builds("{}[{} {}]".format, *map(st.sampled_from, (SCREENS, TESTS, TESTS))),
)
HOLDING_STEPS = st.one_of(
    PLAIN_STEPS,
    st.builds("[{}]".format, st.sampled_from(HELD)),
    st.builds("[{} {}]".format, st.sampled_from(HELD), st.sampled_from(TESTS)),
)


def texts(steps: st.SearchStrategy[str], limits: bool) -> st.SearchStrategy[str]:
    repeats = st.sampled_from(["*", "+", "?", "{2}", "{1,3}", "{2,}"])

    def larger(parts: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
        kinds = [
            st.builds("{} {}".format, parts, parts),
            st.builds("({} | {})".format, parts, parts),
            st.builds("({}){}".format, parts, repeats),
        ]
        timed = st.builds("({}) within {}".format, parts, st.sampled_from(["900ms", "5s", "1min"]))
        return st.one_of(*kinds, *([timed] if limits else []))

    return st.recursive(steps, larger, max_leaves=6)


@examples(200)
@given(text=texts(PLAIN_STEPS, False) | texts(HOLDING_STEPS, False), seed=st.integers(1, 4))
def test_matches_are_those_of_plain_backtracking(text: str, seed: int) -> None:
    _same_as_plain(text, seed, starts=True)


@examples(120)
@given(text=texts(PLAIN_STEPS, True), seed=st.integers(1, 4))
def test_so_are_those_with_time_limits(text: str, seed: int) -> None:
    _same_as_plain(text, seed, starts=False)


def _same_as_plain(text: str, seed: int, starts: bool) -> None:
    try:
        node = read_pattern(text)
        automatic = automaton(node)
    except PatternError:
        return
    assert pattern_words(node)
    study, walks = log_of(seed)
    (part,) = study.parts
    short = np.array([len(walk.steps) > 2 for walk in walks])
    found = matches(part, automatic, short)
    begin = part.journeys.first_step[found.journey] - 1
    own: dict[int, list[tuple[int, int]]] = {}
    spans = zip(found.journey.tolist(), found.first - begin, found.last - begin, strict=True)
    for journey, first, last in spans:
        own.setdefault(journey, []).append((int(first), int(last)))
    assert found.took.min(initial=0) >= 0
    for i in np.flatnonzero(short).tolist():
        plain, told = plain_matches(node, walks[i]), own.get(i, [])
        if not starts:
            plain, told = ([last for _, last in one] for one in (plain, told))  # type: ignore[misc]
        assert told == plain, (text, [s and s["screen"] for s in walks[i].steps])
