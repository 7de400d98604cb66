"""Funnels: how many get from stage to stage, how long it takes, and where the others go.

A stage is met by a step or a row that fits one of its clauses. *Candidates* are the steps and rows
that fit any stage, in order: a step stands right before the row by which it became visible. One
candidate meets one stage, but in any order all that it fits.

A match of stages 1 to k is, *in order*, candidates one after the other, with anything between;
*next*: with no other step between; in *any* order: a candidate of each of k stages. Within a
window, the last comes no later than that after the first; no screen that voids an attempt lies
between; and with a held value, all have the same one. What counts is the match of the most stages,
of these the one that was complete first, and of these the one whose stages come earliest (within a
window: whose first comes latest).

From the *first ever*, a user has one match, which begins with the first candidate of stage 1 that
they ever have, and runs on across sessions.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel, rare_kernel, read_only
from mossy_trail.core.measures.patterns import matches
from mossy_trail.core.model.conditions import Bits, Clause, compiled, ends_at, of_row, of_step
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.pattern import Node, automaton
from mossy_trail.core.model.properties import value_of
from mossy_trail.core.model.steps import GOES_BACK, Steps

Order = Literal["in_order", "next", "any"]
Per = Literal["journey", "attempt"]
MOST_STAGES = 16
_ORDERS = ("in_order", "next", "any")
_IN_ORDER, _NEXT, _ANY = range(3)


@dataclass(frozen=True)
class Stage:
    """Met by what fits one of the clauses."""

    name: str
    clauses: tuple[Clause, ...]


@dataclass(frozen=True)
class Funnel:
    """Stages, and how they are matched.

    `window`, in microseconds, lets a match run on across sessions for so long; without one it stays
    in its session. `void` are screens that end an attempt. `held` is a param or property that is
    the same in all stages. From the `first_ever`, stages are told in order.
    """

    stages: tuple[Stage, ...]
    order: Order = "in_order"
    window: int | None = None
    void: tuple[str, ...] = ()
    held: str = ""
    first_ever: bool = False


@dataclass(frozen=True, eq=False)
class Labels:
    """The matches of one part; arrays of shape (matches,) or (matches, stages).

    `reached` counts stages; `went` is the screen to which those went who got no further, −1 where
    the journey ended, and `back` whether by going back. `times`, in microseconds since 1970, and
    `steps` say where each stage was met; a step is the one that was visible, −1 for none yet.
    """

    journey: NDArray[np.int32]
    reached: NDArray[np.int8]
    went: NDArray[np.int32]
    back: NDArray[np.bool_]
    times: NDArray[np.int64]
    steps: NDArray[np.int32]

    def take(self, chosen: NDArray[np.bool_] | NDArray[np.int64]) -> Labels:
        return Labels(*(getattr(self, one.name)[chosen] for one in fields(self)))


def label(steps: Steps, funnel: Funnel, inside: NDArray[np.bool_], per: Per = "journey") -> Labels:
    """Match a funnel in a part.

    Parameters
    ----------
    inside : which journeys are looked at, shape (journeys,).
    per : one match of each journey (with a window: of each that begins an attempt which the next
        one ends), or one of each attempt, which a new first stage begins and ends the one before.
        In any order, a stage that the attempt has already begins another.

    Returns
    -------
    The matches of one stage at the least, in order. Linear in steps and rows, but for the sorting
    of what has held values.
    """
    count = len(funnel.stages)
    if not 1 <= count <= MOST_STAGES:
        raise ValueError(f"a funnel has 1 to {MOST_STAGES} stages, this one {count}")
    clauses = [clause for stage in funnel.stages for clause in stage.clauses]
    rules = _Rules(
        _ORDERS.index(funnel.order),
        -1 if funnel.window is None else funnel.window,
        per == "attempt",
        funnel.first_ever,
    )
    columns = steps.log.columns
    rows = _Rows(*(read_only(columns[name]) for name in _Rows._fields))
    walked = _Walked(
        steps.screen, steps.steps.move, steps.tab, steps.params, steps.steps.visible,
        steps.steps.journey,
    )  # fmt: skip
    journeys = steps.journeys
    found = _match(
        compiled(steps, clauses, _ends(steps, clauses, inside)),
        _stage_of_clause(funnel.stages),
        np.isin(steps.places.names, funnel.void),
        _held(steps, funnel.held),
        rows,
        walked,
        _Journeys(
            journeys.first_row,
            journeys.rows,
            journeys.first_step,
            journeys.steps,
            journeys.user,
            inside,
        ),
        rules,
        count,
    )
    labels, done = _with_ways(steps, *found[:4]), found[4]
    if not funnel.held:
        return labels
    if funnel.first_ever:  # of all values, the one that the user began with
        user = steps.journeys.user[labels.journey]
        return labels.take(_firsts(user, labels.times[:, 0], done))
    own = labels.journey if per == "journey" else np.arange(len(done))
    chosen = _firsts(own, -labels.reached, done)
    return labels.take(chosen[np.lexsort((labels.times[chosen, 0], labels.journey[chosen]))])


class _Rules(NamedTuple):
    order: int
    window: int
    attempts: bool
    first_ever: bool


class _Rows(NamedTuple):
    event: Column
    outcome: Column
    word: Column
    props: Column
    time: Column


class _Journeys(NamedTuple):
    first_row: Column
    rows: Column
    first_step: Column
    steps: Column
    user: Column
    inside: Column


class _Held(NamedTuple):
    """Per params and per properties, one more than their code, a number for the held value; −1."""

    of_params: Column
    of_props: Column


class _Walked(NamedTuple):
    screen: Column
    move: Column
    tab: Column
    params: Column
    visible: Column
    journey: Column


def _stage_of_clause(stages: Sequence[Stage]) -> NDArray[np.int64]:
    return np.repeat(np.arange(len(stages)), [len(stage.clauses) for stage in stages])


def _held(steps: Steps, name: str) -> _Held:
    if not name:
        return _Held(np.empty(0, "i8"), np.empty(0, "i8"))
    values: dict[str, int] = {}

    def numbers(texts: Sequence[str]) -> NDArray[np.int64]:
        found = [value_of(text, name) for text in texts]
        own = [NONE if v is None else values.setdefault(v, len(values)) for v in found]
        return np.array([NONE, *own], "i8")

    return _Held(numbers(steps.places.params), numbers(steps.log.terms["props"]))


def _with_ways(steps: Steps, journey: Column, reached: Column, times: Column, at: Column) -> Labels:
    """What those did who got no further: the step after the last one that met a stage."""
    where, kind = at >> 2, at & 3
    met = np.where((kind == _VISIBLE) & (at >= 0), where, NONE).astype("i4")
    if not len(at) or not len(steps.screen):
        ended = np.full(len(at), NONE, "i4")
        return Labels(journey, reached, ended, np.zeros(len(at), bool), times, met)
    rows = np.arange(len(at))
    last, kind = where[rows, reached - 1], kind[rows, reached - 1]
    after = np.minimum(last + 1, len(steps.screen) - 1)
    own = steps.steps.journey
    on = last + 1 < len(steps.screen)
    on &= (kind == _NOTHING_YET) | ((kind == _VISIBLE) & (own[after] == own[np.maximum(last, 0)]))
    went = np.where(on, steps.screen[after], NONE).astype("i4")
    back = on & GOES_BACK[steps.steps.move[after]]
    return Labels(journey, reached, went, back, times, met)


_NOTHING_YET, _VISIBLE, _NOTHING_EVER = range(3)
"""Whether a step is visible at a candidate; if not, whether its journey comes to have one.

The place of a candidate is four times its step, or the one before its journey's first, and one of
these."""


def _ends(
    steps: Steps, clauses: Sequence[Clause], inside: NDArray[np.bool_]
) -> dict[Node, NDArray[np.bool_]]:
    """On which steps a match of each clause's pattern ends; shape (steps,)."""
    found = {}
    for pattern in {clause.pattern for clause in clauses if clause.pattern is not None}:
        found[pattern] = np.zeros(len(steps.screen), bool)
        found[pattern][matches(steps, automaton(pattern), inside).last] = True
    return found


class _Candidates(NamedTuple):
    """What fits a stage, in order: its stages as bits, when, its place among the steps, its value,
    and how many voiding screens came before it."""

    stages: Column
    time: Column
    step: Column
    value: Column
    voids: Column
    journey: Column
    order: Column
    """Where a value is held, their order by it."""


class _State(NamedTuple):
    """Matches under way: per number of stages less one, the stages' times and steps."""

    times: Column
    steps: Column
    voids: Column
    journey: Column
    best_times: Column
    best_steps: Column
    best: Column
    """How many stages the best match has, the journey in which it began, and the candidate that
    completed it."""


class _Found(NamedTuple):
    journey: Column
    reached: Column
    times: Column
    steps: Column
    done: Column


@kernel
def _match(
    bits: Bits,
    stage_of: Column,
    void: Column,
    held: _Held,
    rows: _Rows,
    walked: _Walked,
    journeys: _Journeys,
    rules: _Rules,
    stages: int,
) -> tuple[Column, Column, Column, Column, Column]:
    across = rules.window >= 0 or rules.first_ever
    most = 2 * _longest(journeys.rows, journeys.user, across) + 1
    found = _Candidates(
        np.empty(most, np.uint64), np.empty(most, np.int64), np.empty(most, np.int64),
        np.empty(most, np.int64), np.empty(most, np.int64), np.empty(most, np.int64),
        np.empty(most if len(held.of_params) else 0, np.int64),
    )  # fmt: skip
    state = _State(
        np.empty((stages, stages), np.int64), np.empty((stages, stages), np.int64),
        np.full(stages, -1, np.int64), np.empty(stages, np.int64), np.empty(stages, np.int64),
        np.empty(stages, np.int64), np.zeros(3, np.int64),
    )  # fmt: skip
    # Where no condition is on rows or their properties, rows need not be looked at.
    by_steps = bits.event.max() == 0 and len(bits.props) == 1 and not len(held.of_params)
    room = len(journeys.user)
    if rules.attempts or rules.window >= 0 or len(held.of_params):
        room += len(walked.screen) + len(rows.event) * (not by_steps)
    out = _Found(
        np.empty(room, np.int32), np.empty(room, np.int8),
        np.empty((room, stages), np.int64), np.empty((room, stages), np.int64),
        np.empty(room, np.int64),
    )  # fmt: skip
    made = _match_all(
        bits, stage_of, void, held, rows, walked, journeys, rules, by_steps, found, state, out
    )
    return (
        out.journey[:made].copy(),
        out.reached[:made].copy(),
        out.times[:made].copy(),
        out.steps[:made].copy(),
        out.done[:made].copy(),
    )


@rare_kernel
def _match_all(
    bits: Bits,
    stage_of: Column,
    void: Column,
    held: _Held,
    rows: _Rows,
    walked: _Walked,
    journeys: _Journeys,
    rules: _Rules,
    by_steps: bool,
    found: _Candidates,
    state: _State,
    out: _Found,
) -> int:
    """Match every stretch: a journey, or with a window all those of a user."""
    user, across = journeys.user, rules.window >= 0 or rules.first_ever
    made = j = 0
    while j < len(user):
        total, voids, first = 0, 0, j
        while j < len(user) and (j == first or (across and user[j] == user[first])):
            if journeys.inside[j] and by_steps:
                total, voids = _gather_steps(
                    bits, stage_of, void, walked, found, total, voids, journeys, j
                )
            elif journeys.inside[j]:
                total, voids = _gather(
                    bits, stage_of, void, held, rows, walked, found, total, voids, journeys, j
                )
            j += 1
        if total:
            made = _match_stretch(found, total, state, rules, out, made)
    return made


@inner_kernel
def _match_stretch(
    found: _Candidates, total: int, state: _State, rules: _Rules, out: _Found, made: int
) -> int:
    held = len(found.order) > 0
    if held:
        _sort_by_value(found, total)
    _clear(state)
    for k in range(total):
        i = found.order[k] if held else k
        if held and found.value[i] == -1:
            continue
        if held and k and found.value[i] != found.value[found.order[k - 1]]:
            if state.best[0]:
                made = _emit(out, state, made)
            _clear(state)
        if _begins_anew(found, state, rules, i):
            made = _emit(out, state, made)
            _clear(state)
        if rules.order == _ANY:
            _take_any(found, state, rules, i)
        else:
            _take(found, state, rules, i)
    return _emit(out, state, made) if state.best[0] else made


@inner_kernel
def _sort_by_value(found: _Candidates, total: int) -> None:
    """Heapsort of the candidates by value and order (R. Floyd, Comm. ACM 7, 1964)."""
    order = found.order
    for i in range(total):
        order[i] = i
    for start in range(total // 2 - 1, -1, -1):
        _sift(found, start, total)
    for end in range(total - 1, 0, -1):
        order[0], order[end] = order[end], order[0]
        _sift(found, 0, end)


@inner_kernel
def _sift(found: _Candidates, at: int, end: int) -> None:
    order = found.order
    while 2 * at + 1 < end:
        child = 2 * at + 1
        if child + 1 < end and _before(found, order[child], order[child + 1]):
            child += 1
        if not _before(found, order[at], order[child]):
            return
        order[at], order[child] = order[child], order[at]
        at = child


@inner_kernel
def _before(found: _Candidates, a: int, b: int) -> bool:
    return found.value[a] < found.value[b] or (found.value[a] == found.value[b] and a < b)


@inner_kernel
def _clear(state: _State) -> None:
    """No match is under way any more."""
    state.best[0] = 0
    for stage in range(len(state.voids)):
        state.voids[stage] = -1


@inner_kernel
def _longest(rows: Column, user: Column, across: bool) -> int:
    """Rows of the longest stretch that is matched at a time: a journey's, or a user's."""
    longest = run = 0
    for j in range(len(rows)):
        if j == 0 or not across or user[j] != user[j - 1]:
            run = 0
        run += rows[j]
        longest = max(longest, run)
    return longest


@inner_kernel
def _gather_steps(
    bits: Bits,
    stage_of: Column,
    void: Column,
    walked: _Walked,
    found: _Candidates,
    total: int,
    voids: int,
    journeys: _Journeys,
    journey: int,
) -> tuple[int, int]:
    """Add the candidates among a journey's steps; returns how many there are, and voids so far."""
    first = journeys.first_step[journey]
    for step in range(first, first + journeys.steps[journey]):
        screen = walked.screen[step]
        voids += void[screen]
        ends = ends_at(bits, step)
        if not bits.screen[screen + 1] and not ends:
            continue
        move, tab, params = walked.move[step], walked.tab[step], walked.params[step]
        clauses = of_step(bits, screen, move, tab, params, -1) | ends
        if clauses:
            stages, time = _stages(clauses, stage_of), walked.visible[step]
            _add(found, total, stages, time, 4 * step + _VISIBLE, -1, voids, journey)
            total += 1
    return total, voids


@inner_kernel
def _gather(
    bits: Bits,
    stage_of: Column,
    void: Column,
    held: _Held,
    rows: _Rows,
    walked: _Walked,
    found: _Candidates,
    total: int,
    voids: int,
    journeys: _Journeys,
    journey: int,
) -> tuple[int, int]:
    """Add a journey's candidates; returns how many there are, and voids so far."""
    begin, step = journeys.first_row[journey], journeys.first_step[journey]
    end, visible = begin + journeys.rows[journey], -1
    for row in range(begin, end):
        props = rows.props[row]
        while _shows(walked, step, journey, rows.time[row]):
            visible = step
            screen, params = walked.screen[step], walked.params[step]
            clauses = of_step(bits, screen, walked.move[step], walked.tab[step], params, props)
            clauses |= ends_at(bits, step)
            voids += void[screen]
            if clauses:
                value = -1
                if len(held.of_params):
                    value = held.of_params[params + 1]
                    value = held.of_props[props + 1] if value == -1 else value
                time, place = walked.visible[step], 4 * step + _VISIBLE
                _add(found, total, _stages(clauses, stage_of), time, place, value, voids, journey)
                total += 1
            step += 1
        clauses = of_row(bits, rows.event[row], rows.outcome[row], rows.word[row], props)
        if clauses:
            value = -1
            if len(held.of_params):
                value = held.of_props[props + 1]
                if value == -1 and visible >= 0:
                    value = held.of_params[walked.params[visible] + 1]
            time, place = rows.time[row], 4 * visible + _VISIBLE
            if visible < 0:
                some = journeys.steps[journey] > 0
                place = 4 * (journeys.first_step[journey] - 1)
                place += _NOTHING_YET if some else _NOTHING_EVER
            _add(found, total, _stages(clauses, stage_of), time, place, value, voids, journey)
            total += 1
    return total, voids


@inner_kernel
def _shows(walked: _Walked, step: int, journey: int, time: int) -> bool:
    """Whether the next step of the journey is visible by now."""
    if step >= len(walked.visible) or walked.journey[step] != journey:
        return False
    return walked.visible[step] <= time


@inner_kernel
def _stages(clauses: int, stage_of: Column) -> np.uint64:
    """The stages of these clauses, as bits."""
    stages = np.uint64(0)
    for i in range(len(stage_of)):
        if (clauses >> np.uint64(i)) & np.uint64(1):
            stages |= np.uint64(1) << np.uint64(stage_of[i])
    return stages


@inner_kernel
def _add(
    found: _Candidates,
    i: int,
    stages: np.uint64,
    time: int,
    step: int,
    value: int,
    voids: int,
    journey: int,
) -> None:
    found.stages[i], found.time[i], found.step[i] = stages, time, step
    found.value[i], found.voids[i], found.journey[i] = value, voids, journey


@inner_kernel
def _fits(found: _Candidates, i: int, stage: int) -> bool:
    return (found.stages[i] >> np.uint64(stage)) & np.uint64(1) != 0


@inner_kernel
def _follows(found: _Candidates, state: _State, rules: _Rules, i: int, stage: int) -> bool:
    """Whether a candidate can be this stage, after the match of those before it."""
    if not _fits(found, i, stage) or state.voids[stage - 1] != found.voids[i]:
        return False
    if rules.window >= 0 and found.time[i] - state.times[stage - 1, 0] > rules.window:
        return False
    between = (found.step[i] >> 2) - (state.steps[stage - 1, stage - 1] >> 2)
    return rules.order != _NEXT or between <= 1


@inner_kernel
def _begins_anew(found: _Candidates, state: _State, rules: _Rules, i: int) -> bool:
    """Whether a candidate ends the attempt under way, as it begins another one."""
    if rules.first_ever or not (rules.attempts or rules.window >= 0) or not state.best[0]:
        return False
    if not rules.attempts and found.journey[i] == state.best[1]:
        return False
    if rules.order == _ANY:
        return not _adds(found, state, rules, i)
    if not _fits(found, i, 0):
        return False
    for stage in range(1, len(state.voids)):
        if stage >= state.best[0] and _follows(found, state, rules, i, stage):
            return False
    return True


@inner_kernel
def _adds(found: _Candidates, state: _State, rules: _Rules, i: int) -> bool:
    """Whether a candidate of any order is a stage that the match under way has not met yet."""
    for stage in range(len(state.voids)):
        stands = state.voids[stage] == found.voids[i]
        if stands and 0 <= rules.window < found.time[i] - state.times[stage, 0]:
            stands = False
        if _fits(found, i, stage) and not stands:
            return True
    return False


@inner_kernel
def _take(found: _Candidates, state: _State, rules: _Rules, i: int) -> None:
    """Let a candidate lengthen the matches that it can, the longest first."""
    time, step = found.time[i], found.step[i]
    for stage in range(len(state.voids) - 1, 0, -1):
        if not _follows(found, state, rules, i, stage):
            continue
        begun = state.times[stage - 1, 0]
        stands = state.voids[stage] == found.voids[i]
        if stands and rules.order != _NEXT and not begun > state.times[stage, 0]:
            continue
        for s in range(stage):
            state.times[stage, s] = state.times[stage - 1, s]
            state.steps[stage, s] = state.steps[stage - 1, s]
        _stand(found, state, i, stage, time, step, state.journey[stage - 1])
    if _fits(found, i, 0):
        stands = state.voids[0] == found.voids[i]
        if rules.first_ever:
            stands = state.best[0] > 0
        elif rules.window >= 0 or rules.order == _NEXT:
            stands = False
        if not stands:
            _stand(found, state, i, 0, time, step, found.journey[i])


@inner_kernel
def _stand(
    found: _Candidates, state: _State, i: int, stage: int, time: int, step: int, journey: int
) -> None:
    """A match of so many stages stands; keep it if none had as many."""
    state.times[stage, stage], state.steps[stage, stage] = time, step
    state.voids[stage], state.journey[stage] = found.voids[i], journey
    if stage + 1 > state.best[0]:
        state.best[0], state.best[1], state.best[2] = stage + 1, journey, i
        for s in range(stage + 1):
            state.best_times[s] = state.times[stage, s]
            state.best_steps[s] = state.steps[stage, s]


@inner_kernel
def _take_any(found: _Candidates, state: _State, rules: _Rules, i: int) -> None:
    """Let a candidate stand for the stages that it fits, and count those that stand together."""
    time, count = found.time[i], 0
    for stage in range(len(state.voids)):
        stands = state.voids[stage] == found.voids[i]
        if stands and rules.window >= 0 and time - state.times[stage, 0] > rules.window:
            state.voids[stage], stands = -1, False
        if _fits(found, i, stage) and (not stands or rules.window >= 0):
            state.times[stage, 0], state.steps[stage, 0] = time, found.step[i]
            state.voids[stage], state.journey[stage] = found.voids[i], found.journey[i]
        count += state.voids[stage] == found.voids[i]
    if count <= state.best[0]:
        return
    state.best[0], state.best[2], filled = count, i, 0
    for stage in range(len(state.voids)):
        if state.voids[stage] != found.voids[i]:
            continue
        k = filled  # sorted in: by time, stages of one candidate in their order
        while k > 0 and state.best_times[k - 1] > state.times[stage, 0]:
            state.best_times[k], state.best_steps[k] = (
                state.best_times[k - 1],
                state.best_steps[k - 1],
            )
            k -= 1
        state.best_times[k], state.best_steps[k] = state.times[stage, 0], state.steps[stage, 0]
        if k == 0:
            state.best[1] = state.journey[stage]
        filled += 1


@inner_kernel
def _emit(out: _Found, state: _State, made: int) -> int:
    reached = state.best[0]
    out.journey[made], out.reached[made], out.done[made] = state.best[1], reached, state.best[2]
    for s in range(len(state.voids)):
        out.times[made, s] = state.best_times[s] if s < reached else -1
        out.steps[made, s] = state.best_steps[s] if s < reached else -1
    return made + 1


class Tally(NamedTuple):
    """What matches tell: of those with so many stages and no more, how many went each way (`ENDED`,
    `BACK`, or `TO` and the screen), shape (stages, 2 + screens); and the times to each stage from
    the one before, but for the first the time of the whole, in microseconds."""

    left: NDArray[np.int64]
    took: list[NDArray[np.int64]]


ENDED, BACK, TO = range(3)


def tally(labels: Labels, inside: NDArray[np.bool_], screens: int) -> Tally:
    """Count the matches of the journeys `inside`, of an app with so many screens."""
    found = (labels.journey, labels.reached, labels.went, labels.back, labels.times)
    left, took, many = _tally(*found, inside, screens)
    return Tally(left, [own[:n] for own, n in zip(took, many, strict=True)])


@kernel
def _tally(
    journey: Column,
    reached: Column,
    went: Column,
    back: Column,
    times: Column,
    inside: Column,
    screens: int,
) -> tuple[Column, Column, Column]:
    stages = times.shape[1]
    left = np.zeros((stages, screens + TO), np.int64)
    took, many = np.empty((stages, len(journey)), np.int64), np.zeros(stages, np.int64)
    for i in range(len(journey)):
        if not inside[journey[i]]:
            continue
        here = reached[i]
        way = ENDED if went[i] < 0 else BACK if back[i] else TO + went[i]
        left[here - 1, way] += 1
        for stage in range(1, here):
            took[stage, many[stage]] = times[i, stage] - times[i, stage - 1]
            many[stage] += 1
        if here == stages:
            took[0, many[0]] = times[i, stages - 1] - times[i, 0]
            many[0] += 1
    return left, took, many


def by_user(labels: Labels, user: NDArray[np.int32]) -> Labels:
    """Per user the match that got furthest, the first of those; `user` is of each journey."""
    order = np.arange(len(labels.reached))
    return labels.take(_firsts(user[labels.journey], -labels.reached, order))


def _firsts(
    group: NDArray[np.integer[Any]], key: NDArray[np.integer[Any]], then: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Of each group the least by `key`, and by what comes `then`; in the order of groups."""
    order = np.lexsort((then, key, group))
    firsts = np.ones(len(order), bool)
    firsts[1:] = group[order][1:] != group[order][:-1]
    return order[firsts]
