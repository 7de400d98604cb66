"""Funnels, held against a plain telling of what a match is that tries every one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.measures.funnel import Funnel, Labels, Stage, by_user, label
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.conditions import Clause
from mossy_trail.core.model.log import EVENT, SECOND, split
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.replay.replay import replay
from tests.campaign import examples
from tests.core.test_log import log_of

MAP = AppMap.from_dict({})
ROW = st.fixed_dictionaries(
    {
        "user": st.sampled_from(["ann", "bo"]),
        "session": st.sampled_from(["s1", "s2"]),
        "event": st.sampled_from([EVENT["screen_view"]] * 5 + [EVENT["sign_in"]]),
        "screen": st.sampled_from("ABCD"),
        "params": st.sampled_from(['{"x": "1"}', '{"x": "2"}', None]),
        "gap": st.sampled_from([2, 3, 30]),
    }
)
CLAUSE = st.sampled_from([Clause(screens=(name,)) for name in "ABC"] + [Clause(event="sign_in")])
STAGE = st.lists(CLAUSE, min_size=1, max_size=2, unique_by=repr).map(lambda c: Stage("", tuple(c)))
FUNNEL = st.builds(
    Funnel,
    stages=st.lists(STAGE, min_size=1, max_size=3).map(tuple),
    order=st.sampled_from(["in_order", "next", "any"]),
    window=st.sampled_from([None, 0, 5 * SECOND, 60 * SECOND]),
    void=st.sampled_from([(), ("D",)]),
    held=st.sampled_from(["", "x"]),
    first_ever=st.sampled_from([False, False, True]),
).filter(lambda funnel: not (funnel.first_ever and funnel.order == "any"))


class Candidate(NamedTuple):
    stages: set[int]
    time: int
    step: int
    value: str | None
    voids: int
    journey: int


def replayed(rows: Sequence[dict[str, Any]]) -> Steps:
    time, made = 0, []
    for row in sorted(rows, key=lambda row: (row["user"], row["session"])):
        time += row["gap"] * SECOND
        screen = row["screen"] if row["event"] == EVENT["screen_view"] else None
        params = row["params"] if screen else None
        kept = {k: v for k, v in row.items() if k != "gap"}
        made.append({**kept, "time": time, "screen": screen, "params": params})
    (part,) = split(log_of(made, "f"), 1)
    return replay(part, MAP)


def candidates(steps: Steps, funnel: Funnel) -> Iterator[list[Candidate]]:
    """Per session, or per user, what fits a stage."""

    def fits(screen: str | None, event: str | None) -> set[int]:
        return {
            i
            for i, stage in enumerate(funnel.stages)
            for c in stage.clauses
            if (event == c.event if c.event else screen is not None and screen in c.screens)
        }

    def value(code: int) -> str | None:
        return steps.places.params[code][7] if code >= 0 else None

    voids, columns = 0, steps.log.columns
    found: dict[Any, list[Candidate]] = {}
    step = -1
    for j in range(len(steps.journeys.start)):
        first, visible = steps.journeys.first_row[j], None
        for row in range(first, first + steps.journeys.rows[j]):
            by_user = funnel.window is not None or funnel.first_ever
            group = found.setdefault(steps.journeys.user[j] if by_user else j, [])
            time, at, then = int(columns["time"][row]), steps.steps, step + 1
            if then < len(at.entry) and at.journey[then] == j and at.visible[then] <= time:
                step = visible = then
                name = steps.places.names[steps.screen[step]]
                voids += name in funnel.void
                stages, held = fits(name, None), value(steps.params[step])
                group.append(Candidate(stages, int(at.visible[step]), step, held, voids, j))
            if columns["event"][row] == EVENT["sign_in"]:
                held = None if visible is None else value(steps.params[visible])
                first_step = int(steps.journeys.first_step[j])
                at_step = first_step - 1 if visible is None else visible
                group.append(Candidate(fits(None, "sign_in"), time, at_step, held, voids, j))
    yield from found.values()


def goes_together(match: Sequence[Candidate], funnel: Funnel) -> bool:
    """Whether candidates in order of time can be one match."""
    first, last = match[0], match[-1]
    if funnel.held and len({c.value for c in match} | {None}) > 2 - (first.value is None):
        return False
    if funnel.held and any(c.value is None for c in match):
        return False
    if funnel.window is not None and last.time - first.time > funnel.window:
        return False
    pairs = zip(match, match[1:], strict=False)
    near = funnel.order != "next" or all(b.step - a.step <= 1 for a, b in pairs)
    return near and first.voids == last.voids


def every_match(group: list[Candidate], funnel: Funnel) -> Iterator[list[Candidate]]:
    """All matches of stages in order, by trying."""

    def longer(match: list[Candidate], begin: int) -> Iterator[list[Candidate]]:
        if match:
            yield match
        if len(match) == len(funnel.stages):
            return
        for i in range(begin, len(group)):
            more = [*match, group[i]]
            if len(match) in group[i].stages and goes_together(more, funnel):
                yield from longer(more, i + 1)

    if funnel.first_ever:
        begin = (i for i, c in enumerate(group) if 0 in c.stages and (c.value or not funnel.held))
        for first in list(begin)[:1]:
            yield from longer([group[first]], first + 1)
    else:
        yield from longer([], 0)


def most_at_once(group: list[Candidate], funnel: Funnel) -> int:
    """How many stages have a candidate among some that go together."""
    best = 0
    for i in range(len(group)):
        for j in range(i, len(group)):
            some = [c for c in group[i : j + 1] if not funnel.held or c.value == group[i].value]
            some = [c for c in some if c.stages]
            if some and goes_together([some[0], some[-1]], replace(funnel, order="in_order")):
                best = max(best, len(set().union(*(c.stages for c in some))))
    return best


def told(labels: Labels, kept: int) -> set[tuple[int, ...]]:
    return {
        (int(j), int(r), int(times[r - 1]), *map(int, times[:r] if kept else ()))
        for j, r, times in zip(labels.journey, labels.reached, labels.times, strict=True)
    }


@examples(300)
@given(rows=st.lists(ROW, max_size=14), funnel=FUNNEL)
def test_the_furthest_match_is_found(rows: list[dict[str, Any]], funnel: Funnel) -> None:
    if not rows:
        return
    steps = replayed(rows)
    inside = np.ones(len(steps.journeys.start), bool)
    if (
        funnel.window is not None and not funnel.first_ever
    ):  # else each session that begins it has a match of its own
        labels = by_user(label(steps, funnel, inside, "journey"), steps.journeys.user)
    else:
        labels = label(steps, funnel, inside)
    true = []
    for group in candidates(steps, funnel):
        if funnel.order == "any":
            true.append(most_at_once(group, funnel))
            continue
        matches = list(every_match(group, funnel))
        true.append(max(map(len, matches), default=0))
        by_session = funnel.window is None or funnel.first_ever
        if by_session and not funnel.void and matches:
            best = min(
                (m for m in matches if len(m) == true[-1]),
                key=lambda m: (m[-1].time, [c.time for c in m]),
            )
            times = [c.time for c in best]
            exact = funnel.order == "in_order"
            own = (best[0].journey, len(best), times[-1], *(times if exact else ()))
            assert own in told(labels, kept=exact)
    if funnel.window is None or funnel.first_ever:
        assert sorted(labels.reached.tolist()) == sorted(n for n in true if n)
    else:
        # A session that begins it again ends the one before, so a user may have got less far.
        assert all(a <= max(true) for a in labels.reached.tolist())
        assert (labels.reached.max(initial=0) > 0) == (max(true) > 0)


@pytest.mark.parametrize(
    ("order", "window", "reached"),
    [
        ("in_order", None, [2, 2]),
        ("next", None, [2, 1]),
        ("in_order", 100 * SECOND, [2, 3]),
        ("any", None, [2, 2]),
    ],
)
def test_a_worked_example(order: Any, window: int | None, reached: list[int]) -> None:
    """A B | A D B, then the same user's C in another session: by sessions, and by attempts."""
    walked = [("s1", "A"), ("s1", "B"), ("s2", "A"), ("s2", "D"), ("s2", "B"), ("s3", "C")]
    view = {"user": "u", "event": EVENT["screen_view"], "params": None, "gap": 5}
    steps = replayed([{**view, "session": s, "screen": screen} for s, screen in walked])
    stages = tuple(Stage(name, (Clause(screens=(name,)),)) for name in "ABC")
    funnel = Funnel(stages, order, window)
    inside = np.ones(len(steps.journeys.start), bool)
    for per in ("journey", "attempt"):
        labels = label(steps, funnel, inside, per)  # type: ignore[arg-type]
        assert labels.reached.tolist()[:2] == reached
    names = [steps.places.names[s] if s >= 0 else None for s in labels.went]
    if order == "next":
        assert names[:2] == [None, "D"]


@pytest.mark.parametrize(
    ("walked", "per", "reached"),
    [
        (["AAB"], "attempt", [1, 2]),  # A, met again, begins another
        (["BA", "BC", "A"], "journey", [2, 3]),  # so it does in another session
        (["BA", "BC", "A"], "attempt", [2, 3]),
    ],
)
def test_in_any_order_a_stage_met_again_begins_another(
    walked: list[str], per: Any, reached: list[int]
) -> None:
    view = {"user": "u", "event": EVENT["screen_view"], "params": None, "gap": 5}
    rows = [{**view, "session": f"s{i}", "screen": x} for i, own in enumerate(walked) for x in own]
    steps = replayed([row | {"params": str(i)} for i, row in enumerate(rows)])
    stages = tuple(Stage(name, (Clause(screens=(name,)),)) for name in "ABC")
    inside = np.ones(len(steps.journeys.start), bool)
    labels = label(steps, Funnel(stages, "any", 3600 * SECOND), inside, per)
    assert labels.reached.tolist() == reached


def test_what_comes_after_a_row_before_the_first_screen_is_the_next_of_its_session() -> None:
    rows = [
        {"user": "u", "session": "s1", "event": EVENT["sign_in"], "screen": "A", "params": None},
        {"user": "u", "session": "s1", "event": EVENT["screen_view"], "screen": "A"},
        {"user": "u", "session": "s2", "event": EVENT["screen_view"], "screen": "B"},
        {"user": "u", "session": "s3", "event": EVENT["sign_in"], "screen": "B"},
    ]
    steps = replayed([{"params": None, **row, "gap": 5} for row in rows])
    inside = np.ones(len(steps.journeys.start), bool)
    signed_in = Stage("in", (Clause(event="sign_in"),))
    labels = label(steps, Funnel((signed_in,)), inside)
    names = [steps.places.names[s] if s >= 0 else None for s in labels.went]
    assert (labels.journey.tolist(), names) == ([0, 2], ["A", None])
    then = Funnel((signed_in, Stage("A", (Clause(screens=("A",)),))), "next")
    assert label(steps, then, inside).reached.tolist() == [2, 1]


def test_from_the_first_ever_a_later_beginning_takes_nothing_away() -> None:
    view = {"user": "u", "event": EVENT["screen_view"], "params": None, "gap": 3}
    steps = replayed([{**view, "session": f"s{i}", "screen": s} for i, s in enumerate("ADAB")])
    stages = tuple(Stage(name, (Clause(screens=(name,)),)) for name in "AB")
    labels = label(steps, Funnel(stages, first_ever=True), np.ones(4, bool))
    assert (labels.journey.tolist(), labels.reached.tolist()) == ([0], [2])
    assert int(labels.times[0, 1] - labels.times[0, 0]) == 9 * SECOND
