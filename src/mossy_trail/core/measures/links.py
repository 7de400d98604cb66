"""Deep links: from opened to landed to stayed, by pattern and source.

A link is *opened* by its row. What it led to is the first step that bears it: its *target*, a
screen that says *not_found*, a *gate* that sent the user to sign in (from where the wanted screen
was *recovered* in the session, or *lost*), another screen (*fallback*), or *nothing*. It landed on
that step, and if it was recovered, on the wanted screen.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.measures.cells import Cells, Grid, cells
from mossy_trail.core.model.app_map import ROLE, Link, matcher
from mossy_trail.core.model.log import EVENT, NONE, Column
from mossy_trail.core.model.steps import GOES_BACK, MOVE, Steps

OUTCOMES = ("target", "fallback", "not_found", "recovered", "lost", "nothing")
_TARGET, _FALLBACK, _NOT_FOUND, _RECOVERED, _LOST, _NOTHING = range(len(OUTCOMES))
AFTERS = ("bounced", "returned", "parent", "back_out", "stayed")
"""After a landing: the journey ended there; the user went back to where they had been, or to
another screen, as a parent of the wanted one; went back and no further; or anything else."""
_BOUNCED, _RETURNED, _PARENT, _BACK_OUT, _STAYED = range(len(AFTERS))
_OPEN_LINK, _APP_START, _REDIRECT = EVENT["open_link"], EVENT["app_start"], MOVE["redirect"]
_NOT_FOUND_ROLE, _SIGN_IN_ROLE, _SPLASH = ROLE["not_found"], ROLE["sign_in"], ROLE["splash"]
UNMATCHED = "no pattern"
_MOST_AT_ONCE = 64
"""Links of a journey that may still land, so that time is linear in its rows."""


class Opens(NamedTuple):
    """Links opened, in order; arrays of shape (opens,). `step` is where it landed, or −1."""

    journey: NDArray[np.int32]
    row: NDArray[np.int32]
    step: NDArray[np.int32]
    outcome: NDArray[np.int8]
    cold: NDArray[np.bool_]


def opens(steps: Steps, inside: NDArray[np.bool_]) -> Opens:
    """The links opened in the journeys `inside`; linear in rows and steps."""
    columns, journeys, own = steps.log.columns, steps.journeys, steps.steps
    event = read_only(columns["event"])
    told = np.flatnonzero(event == _OPEN_LINK)
    most = len(told)
    made = (
        np.empty(most, "i4"),
        np.empty(most, "i4"),
        np.full(most, NONE, "i4"),
        np.full(most, _NOTHING, "i1"),
        np.empty(most, bool),
    )
    count = _opens(
        told,
        event,
        read_only(columns["time"]),
        read_only(columns["uri"]),
        read_only(columns["screen"]),
        (journeys.first_row, journeys.rows, journeys.first_step, journeys.steps, inside),
        (steps.screen, own.move, own.uri, own.wanted, own.visible),
        (steps.role, steps.places.link_target),
        made,
    )
    return Opens(*(column[:count] for column in made))


@kernel
def _opens(
    told: Column,
    event: Column,
    time: Column,
    uri: Column,
    named: Column,
    journeys: tuple[Column, Column, Column, Column, Column],
    walked: tuple[Column, Column, Column, Column, Column],
    known: tuple[Column, Column],
    made: tuple[Column, Column, Column, Column, Column],
) -> int:
    first_row, rows, first_step, steps, inside = journeys
    screen, move, step_uri, wanted, visible = walked
    role, target = known
    own, at_row, landed, outcome, cold = made
    count = k = 0
    for j in range(len(inside)):
        begin, until = k, first_row[j] + rows[j]
        while k < len(told) and told[k] < until:
            k += 1
        if k == begin or not inside[j]:
            continue
        step, end = first_step[j], first_step[j] + steps[j]
        began, fresh, started = count, False, NONE
        for row in range(first_row[j], until):
            tells = event[row] == _OPEN_LINK or event[row] == _APP_START
            if not tells and row + 1 < until:
                continue  # what it showed is looked at by the next one that tells
            link = uri[row] if event[row] == _OPEN_LINK else NONE
            while step < end and visible[step] <= time[row]:
                if link != NONE and visible[step] == time[row] and step_uri[step] == link:
                    break  # of one moment: it is where this link led, which is to be told first
                for i in range(began, count):
                    if outcome[i] == _LOST and screen[step] == wanted[landed[i]]:
                        landed[i], outcome[i] = step, _RECOVERED
                    waits = landed[i] == NONE and step_uri[step] != NONE
                    if waits and uri[at_row[i]] == step_uri[step]:
                        landed[i], outcome[i] = step, _FALLBACK
                        if role[step] == _NOT_FOUND_ROLE:
                            outcome[i] = _NOT_FOUND
                        elif move[step] == _REDIRECT and role[step] == _SIGN_IN_ROLE:
                            outcome[i] = _LOST
                        elif screen[step] == target[step_uri[step]]:
                            outcome[i] = _TARGET
                        break
                fresh = fresh and (role[step] == _SPLASH or visible[step] == started)
                step += 1
            if event[row] == _APP_START:
                fresh, started = True, time[row] if named[row] != NONE else NONE
            elif event[row] == _OPEN_LINK and uri[row] != NONE:
                own[count], at_row[count], cold[count] = j, row, fresh
                by_start = step > first_step[j] and visible[step - 1] == started
                if by_start and step_uri[step - 1] == uri[row]:
                    landed[count] = step - 1
                    lost = role[step - 1] == _NOT_FOUND_ROLE
                    outcome[count] = _NOT_FOUND if lost else _TARGET
                count += 1
                began = max(began, count - _MOST_AT_ONCE)
    return count


@dataclass(frozen=True, eq=False)
class Known:
    """A log's links by the map: per logged link its pattern, the last of `patterns` standing for
    none, and its shape; shape (uris + 1,), the last for no link at all."""

    patterns: list[str]
    shapes: list[str]
    pattern_of: NDArray[np.int64]
    shape_of: NDArray[np.int64]

    @classmethod
    def of(cls, links: Sequence[Link], uris: Sequence[str]) -> Known:
        patterns = [*dict.fromkeys(link.pattern for link in links), UNMATCHED]
        order = sorted(range(len(patterns) - 1), key=lambda i: patterns[i].count("{"))
        fits = [(i, matcher(patterns[i])) for i in order]
        none = len(patterns) - 1
        fitting = (next((i for i, fit in fits if fit.fullmatch(uri)), none) for uri in uris)
        texts = [shape(uri) for uri in uris]
        shapes = {text: i for i, text in enumerate(dict.fromkeys(texts))}
        codes = [*(shapes[text] for text in texts), NONE]
        return cls(patterns, list(shapes), np.array([*fitting, none], "i8"), np.array(codes, "i8"))


def shape(uri: str) -> str:
    """The link without its ids: those that differ in them alone have one."""
    return re.sub(r"(?<=[/=])-?[\w-]*\d[\w-]*", "{id}", uri)


class Landings(NamedTuple):
    """Where links landed, or journeys without one began: the step, its journey, what came `after`,
    how many steps more, and whether the goal was reached by then. Shape (landings,)."""

    step: NDArray[np.int64]
    journey: NDArray[np.int64]
    after: NDArray[np.int64]
    more: NDArray[np.int64]
    goal: NDArray[np.bool_]


class Labels(NamedTuple):
    """The cells; per way to group links each open's word, −1 for none; which opens landed, their
    landings, and those of journeys without a link."""

    cells: dict[str, Cells]
    groups: dict[str, NDArray[np.int64]]
    landed: NDArray[np.int64]
    links: Landings
    without: Landings


STARTS = ("warm", "cold")


def label(steps: Steps, known: Known, goal: str, inside: NDArray[np.bool_]) -> Labels:
    """Cells of links by GROUP (`every`, `pattern`, `source`, `start`): `GROUP.open`,
    `GROUP.landed` with an outcome, `GROUP.after` with what came then, `GROUP.goal` with the goal,
    `GROUP.placeholder`; `without.open`, `.after` and `.goal` of journeys without a link; `uri`, of
    links without a pattern. Without a goal there are no cells of one."""
    found = opens(steps, inside)
    code, own = steps.log.columns["uri"][found.row], found.journey
    groups = {
        "every": np.zeros(len(code), "i8"),
        "pattern": known.pattern_of[code],
        "source": steps.log.columns["source"][found.row].astype("i8"),
        "start": found.cold.astype("i8"),
    }
    words = {"every": [""], "pattern": known.patterns, "start": STARTS}
    words["source"] = steps.log.terms["word"]
    landed = np.flatnonzero(found.step >= 0)
    links = _landings(steps, found.step[landed].astype("i8"), goal)
    without = _landings(steps, _beginnings(steps, inside, own), goal)
    odd = np.append(steps.places.placeholder, False)[code]
    unmatched = np.where(groups["pattern"] == len(known.patterns) - 1, known.shape_of[code], NONE)
    told = {"uri": cells(Grid(known.shapes), unmatched, own)}
    for by, which in groups.items():
        told |= _of_landings(by, words[by], which[landed], links, goal)
        told[f"{by}.open"] = cells(Grid(words[by]), which, own)
        told[f"{by}.placeholder"] = cells(Grid(words[by]), np.where(odd, which, NONE), own)
        told[f"{by}.landed"] = cells(
            Grid(words[by], OUTCOMES), _both(which, found.outcome.astype("i8"), len(OUTCOMES)), own
        )
    plain = np.zeros(len(without.step), "i8")
    told["without.open"] = cells(Grid([""]), plain, without.journey)
    told |= _of_landings("without", [""], plain, without, goal)
    return Labels(told, groups, landed, links, without)


def _of_landings(
    by: str, words: Sequence[str], which: NDArray[np.int64], found: Landings, goal: str
) -> dict[str, Cells]:
    after = _both(which, found.after, len(AFTERS))
    told = {f"{by}.after": cells(Grid(words, AFTERS), after, found.journey)}
    if goal:
        there = np.where(found.goal, which, NONE)
        told[f"{by}.goal"] = cells(Grid(words, [goal]), there, found.journey)
    return told


def _both(which: NDArray[np.int64], code: NDArray[np.int64], size: int) -> NDArray[np.int64]:
    return np.where(which == NONE, NONE, which * size + code)


def _beginnings(
    steps: Steps, inside: NDArray[np.bool_], linked: NDArray[np.int32]
) -> NDArray[np.int64]:
    """Of journeys without a link the first step, but for the splash where more came after."""
    journeys = steps.journeys
    plain = inside & (journeys.steps > 0)
    plain[linked] = False
    first = journeys.first_step[plain].astype("i8")
    splash = (steps.role[first] == _SPLASH) & (journeys.steps[plain] > 1)
    return np.where(splash, first + 1, first)


def _landings(steps: Steps, here: NDArray[np.int64], goal: str) -> Landings:
    own, journeys = steps.steps, steps.journeys
    journey = own.journey[here].astype("i8")
    last = (journeys.first_step + journeys.steps - 1)[journey].astype("i8")
    then = np.minimum(here + 1, len(own.move) - 1)
    back = GOES_BACK[own.move[then]]
    before = np.maximum(here - 1, 0)
    was_there = (steps.screen[then] == steps.screen[before]) & (own.journey[before] == journey)
    after = np.select(
        [here == last, ~back, then == last, was_there],
        [_BOUNCED, _STAYED, _BACK_OUT, _RETURNED],
        _PARENT,
    )
    reached = np.zeros(len(here), bool)
    if goal:
        goals = np.flatnonzero(steps.screen == steps.places.names.index(goal))
        reached = np.append(goals, len(steps.screen))[np.searchsorted(goals, here)] <= last
    return Landings(here, journey, after, last - here, reached)
