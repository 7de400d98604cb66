"""Deep links: from opened to landed to stayed, by pattern and source.

A link is *opened* by its row. What it led to is the first step that bears it: its *target*, a
screen that says *not_found*, a *gate* that sent the user to sign in (from where the wanted screen
was *recovered* in the session, or *lost*), another screen (*fallback*), or *nothing*.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.app_map import ROLE, Link, matcher
from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.log import EVENT, NONE, Column
from mossy_trail.core.measures.cells import Cells, cells, joined
from mossy_trail.core.steps import BACK_MOVES, MOVE, Steps

OUTCOMES = ("target", "fallback", "not_found", "recovered", "lost", "nothing")
_TARGET, _FALLBACK, _NOT_FOUND, _RECOVERED, _LOST, _NOTHING = range(len(OUTCOMES))
AFTERS = ("bounced", "back", "back_out", "stayed")
"""After a landing: the journey ended there; the user went back and on; went back and no further; or
anything else."""
_OPEN_LINK, _APP_START, _REDIRECT = EVENT["open_link"], EVENT["app_start"], MOVE["redirect"]
_NOT_FOUND_ROLE, _SIGN_IN_ROLE, _SPLASH = ROLE["not_found"], ROLE["sign_in"], ROLE["splash"]
UNMATCHED = "no pattern"
_MOST_AT_ONCE = 64
"""Links of a journey that may still land, so that time is linear in its rows."""


class Opens(NamedTuple):
    """Links opened, in order; arrays of shape (opens,). `step` is the one it led to, or −1."""

    journey: NDArray[np.int32]
    row: NDArray[np.int32]
    step: NDArray[np.int32]
    outcome: NDArray[np.int8]
    cold: NDArray[np.bool_]


def opens(steps: Steps, inside: NDArray[np.bool_]) -> Opens:
    """The links opened in the journeys `inside`; linear in rows and steps."""
    columns, journeys, own = steps.log.columns, steps.journeys, steps.steps
    event = read_only(columns["event"])
    most = int((event == _OPEN_LINK).sum())
    made = (
        np.empty(most, "i4"),
        np.empty(most, "i4"),
        np.full(most, NONE, "i4"),
        np.full(most, _NOTHING, "i1"),
        np.empty(most, bool),
    )
    count = _opens(
        event,
        read_only(columns["time"]),
        read_only(columns["uri"]),
        (journeys.first_row, journeys.rows, journeys.first_step, journeys.steps, inside),
        (steps.screen, own.move, own.uri, own.wanted, own.visible),
        (steps.role, steps.places.link_target),
        made,
    )
    return Opens(*(column[:count] for column in made))


@kernel
def _opens(
    event: Column,
    time: Column,
    uri: Column,
    journeys: tuple[Column, Column, Column, Column, Column],
    walked: tuple[Column, Column, Column, Column, Column],
    known: tuple[Column, Column],
    made: tuple[Column, Column, Column, Column, Column],
) -> int:
    first_row, rows, first_step, steps, inside = journeys
    screen, move, step_uri, wanted, visible = walked
    role, target = known
    own, at_row, landed, outcome, cold = made
    count = 0
    for j in range(len(inside)):
        if not inside[j]:
            continue
        step, end = first_step[j], first_step[j] + steps[j]
        began, fresh = count, False
        for row in range(first_row[j], first_row[j] + rows[j]):
            while step < end and visible[step] <= time[row]:
                for k in range(began, count):
                    if outcome[k] == _LOST and screen[step] == wanted[landed[k]]:
                        outcome[k] = _RECOVERED
                    waits = landed[k] == NONE and step_uri[step] != NONE
                    if waits and uri[at_row[k]] == step_uri[step]:
                        landed[k], outcome[k] = step, _FALLBACK
                        if role[step] == _NOT_FOUND_ROLE:
                            outcome[k] = _NOT_FOUND
                        elif move[step] == _REDIRECT and role[step] == _SIGN_IN_ROLE:
                            outcome[k] = _LOST
                        elif screen[step] == target[step_uri[step]]:
                            outcome[k] = _TARGET
                        break
                fresh = fresh and role[step] == _SPLASH
                step += 1
            if event[row] == _APP_START:
                fresh = True
            elif event[row] == _OPEN_LINK and uri[row] != NONE:
                own[count], at_row[count], cold[count] = j, row, fresh
                count += 1
                began = max(began, count - _MOST_AT_ONCE)
    return count


def label(steps: Steps, links: Sequence[Link], inside: NDArray[np.bool_]) -> Cells:
    """Cells of patterns: `open`, PATTERN; `landed`, PATTERN, OUTCOME; `after`, PATTERN, what came
    then; `placeholder`, PATTERN; `source`; `start`, cold or warm; `uri`, one without a pattern."""
    found, uris = opens(steps, inside), steps.log.columns["uri"]
    code, own = uris[found.row], found.journey
    names = [*(link.pattern for link in links), UNMATCHED]
    number = np.append(_pattern_of(links, steps.log.terms["uri"]), NONE)
    which = np.where(number[code] == NONE, len(links), number[code])
    source = steps.log.columns["source"][found.row]
    told, unknown = source != NONE, which == len(links)
    odd = np.append(steps.places.placeholder, False)[code]
    after = _after(steps, found)
    landed = after != NONE
    words, texts = steps.log.terms["word"], [shape(text) for text in steps.log.terms["uri"]]
    shapes = {text: i for i, text in enumerate(dict.fromkeys(texts))}
    shape_of = np.array([shapes[text] for text in texts], "i8")
    return joined(
        [
            cells([("open", name) for name in names], which, own),
            cells(
                [("landed", name, end) for name in names for end in OUTCOMES],
                which * len(OUTCOMES) + found.outcome,
                own,
            ),
            cells(
                [("after", name, what) for name in names for what in AFTERS],
                (which * len(AFTERS) + after)[landed],
                own[landed],
            ),
            cells([("placeholder", name) for name in names], which[odd], own[odd]),
            cells([("source", word) for word in words], source[told], own[told]),
            cells([("start", "warm"), ("start", "cold")], found.cold, own),
            cells([("uri", text) for text in shapes], shape_of[code[unknown]], own[unknown]),
        ]
    )


def _pattern_of(links: Sequence[Link], uris: Sequence[str]) -> NDArray[np.int64]:
    """Per link the pattern it fits, those with fewer variables first; −1 for none."""
    order = sorted(range(len(links)), key=lambda i: links[i].pattern.count("{"))
    fits = [(i, matcher(links[i].pattern)) for i in order]
    return np.array(
        [next((i for i, fit in fits if fit.fullmatch(uri)), NONE) for uri in uris], "i8"
    )


def shape(uri: str) -> str:
    """The link without its ids: those that differ in them alone have one."""
    return re.sub(r"(?<=[/=])-?[\w-]*\d[\w-]*", "{id}", uri)


def _after(steps: Steps, found: Opens) -> NDArray[np.int64]:
    """Per open that landed what came after, −1 for the others."""
    own = steps.steps
    after = np.full(len(found.step), NONE, "i8")
    landed = found.step >= 0
    if landed.any():
        here = found.step[landed].astype("i8")
        last = (steps.journeys.first_step + steps.journeys.steps - 1)[own.journey[here]]
        then = np.minimum(here + 1, len(own.move) - 1)
        back = np.isin(own.move[then], BACK_MOVES)
        after[landed] = np.where(here == last, 0, np.where(back, np.where(then == last, 2, 1), 3))
    return after
