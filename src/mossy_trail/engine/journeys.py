"""Finding journeys, listing them in miniature, and laying one open."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from mossy_trail.core.model.log import EVENTS, NONE, OUTCOMES
from mossy_trail.core.model.steps import (
    EXITS,
    FATES,
    MARK,
    MARKS,
    MOVE,
    MOVES,
    REGIONS,
    STARTS,
    TAB,
    Steps,
)
from mossy_trail.engine.export import steps_table
from mossy_trail.engine.study import Index, JourneyRef, Study
from mossy_trail.engine.traits import trait

Sort = Literal[
    "newest",
    "oldest",
    "longest",
    "deepest",
    "slowest",
    "slowest_start",
    "most_turns",
    "most_tries",
    "longest_stay",
]
TRAIT_OF = {
    "slowest_start": "start",
    "most_turns": "turns",
    "most_tries": "tries",
    "longest_stay": "stay",
}
"""What some sorts are by, of what figures are made of."""
Mark = Literal[MARKS]  # type: ignore[valid-type]
Move = Literal[MOVES]  # type: ignore[valid-type]
Exit = Literal[EXITS]  # type: ignore[valid-type]
Start = Literal["cold", "warm", "link"]
MINIATURE = 40
"""Steps in a miniature; of a longer journey, as many spread evenly."""


@dataclass(frozen=True)
class Wanted:
    """What journeys are looked for; each that is given must hold.

    `search` stands in the user, the session or the name of a screen; `mark` and `move` are those of
    one of the steps; `start` by a link is a first screen, past the splash, where one led. `tab` is
    the one that it ended in; `depth`, `turns` of a loop and failed `tries` are at least so many.
    """

    search: str = ""
    mark: str = ""
    move: str = ""
    start: str = ""
    exit: str = ""
    fewest: int = 0
    most: int | None = None
    tab: str = ""
    depth: int = 0
    turns: int = 0
    tries: int = 0

    def mask(self, steps: Steps) -> NDArray[np.bool_]:
        """Which journeys of a part are wanted, but for the search; shape (journeys,)."""
        journeys = steps.journeys
        found = np.asarray(journeys.steps >= self.fewest)
        if self.most is not None:
            found &= journeys.steps <= self.most
        if self.mark:
            found &= journeys.marks & MARK[self.mark] != 0
        if self.move:
            found &= _with_move(steps, self.move)
        if self.start == "link":
            found &= steps.began_by_link
        elif self.start:
            found &= journeys.start_kind == STARTS.index(self.start)
        if self.tab:
            found &= _ended_in(steps, self.tab)
        if self.depth:
            found &= journeys.deepest >= self.depth
        if self.exit:
            found &= journeys.exit == EXITS.index(self.exit)
        return found


def _ended_in(steps: Steps, tab: str) -> NDArray[np.bool_]:
    found = np.zeros(len(steps.journeys.start), bool)
    last = steps.last_steps()
    own = np.array([name == tab for name in [*steps.places.tab_names, None]], bool)[steps.tab[last]]
    found[steps.steps.journey[last]] = own
    return found


def _with_move(steps: Steps, move: str) -> NDArray[np.bool_]:
    found = np.zeros(len(steps.journeys.start), bool)
    found[steps.steps.journey[steps.steps.move == MOVE[move]]] = True
    return found


@dataclass(frozen=True)
class Found:
    """Positions in the study's index, in the order asked for."""

    positions: NDArray[np.int64]

    @property
    def count(self) -> int:
        return len(self.positions)


def find(
    study: Study, mask: NDArray[np.bool_], wanted: Wanted | None = None, sort: Sort = "newest"
) -> Found:
    """Those of `mask` that are wanted, in order; kept, as pages are turned.

    Ties are told apart by start, user and session, so the order never depends on that of the
    parts.
    """
    asked = wanted or Wanted()
    # What is kept holds the mask itself, so that no other can come to have its identity.
    _, found = study.orders.of(
        (id(mask), asked, sort), lambda: (mask, _found(study, mask, asked, sort))
    )
    return found


def _found(study: Study, mask: NDArray[np.bool_], wanted: Wanted, sort: Sort) -> Found:
    order = _order(study, sort)
    return Found(order[matching(study, mask, wanted)[order]])


def _order(study: Study, sort: Sort) -> NDArray[np.int64]:
    """The positions of all journeys in order, kept: to sort those of each figure anew would take
    longer than to find them."""
    name = f"order {sort}"
    if name not in study.known:
        index = study.index
        key = -trait(study, TRAIT_OF[sort]) if sort in TRAIT_OF else _sort_key(index, sort)
        if "user ranks" not in study.known:
            study.known["user ranks"] = _name_ranks(study.terms["user"])
        rank = study.known["user ranks"]
        study.known[name] = np.lexsort((rank[index.user], -index.start, key))
    found: NDArray[np.int64] = study.known[name]
    return found


def _sort_key(index: Index, sort: str) -> NDArray[np.int64]:
    if sort in ("newest", "oldest"):
        return index.start if sort == "oldest" else -index.start
    if sort == "slowest":
        return index.start - index.end
    return -(index.steps if sort == "longest" else index.deepest).astype("int64")


def _name_ranks(names: list[str]) -> NDArray[np.int64]:
    ranks = np.empty(len(names), "int64")
    ranks[sorted(range(len(names)), key=names.__getitem__)] = np.arange(len(names))
    return ranks


def matching(study: Study, mask: NDArray[np.bool_], wanted: Wanted) -> NDArray[np.bool_]:
    """Those of `mask` that are wanted."""
    if wanted == Wanted():
        return mask
    mask = mask & study.joined(wanted.mask)
    for name, least in (("turns", wanted.turns), ("tries", wanted.tries)):
        if least:
            mask &= trait(study, name) >= least
    text = wanted.search.strip().casefold()
    if not text:
        return mask

    def containing(names: list[str]) -> NDArray[np.bool_]:
        return np.array([text in name.casefold() for name in [*names, ""]], bool)

    users, sessions = containing(study.terms["user"]), containing(study.terms["session"])

    def ask(steps: Steps) -> NDArray[np.bool_]:
        screens = containing(steps.places.names)
        found = users[steps.journeys.user] | sessions[steps.journeys.session]
        found[steps.steps.journey[screens[steps.screen]]] = True
        return found

    return mask & study.joined(ask)


def journey_key(study: Study, ref: JourneyRef) -> str:
    """A journey's permanent name: its first moment in microseconds, and its user."""
    journeys = study.parts[ref.part].journeys
    user = study.terms["user"][journeys.user[ref.number]]
    return f"{journeys.start[ref.number]}~{user}"


def by_key(study: Study, key: str) -> JourneyRef:
    """The journey of this name; raises `KeyError` when there is none."""
    start, _, user = key.partition("~")
    if not start.removeprefix("-").isdecimal() or len(start) > 19 or not study.parts:
        raise KeyError(key)
    found = np.flatnonzero(study.index.start == int(start))
    for position in found:
        if study.terms["user"][study.index.user[position]] == user:
            return study.index.ref(int(position))
    raise KeyError(key)


def marks_of(bits: int) -> list[str]:
    return [word for word, bit in MARK.items() if bits & bit]


def listed(study: Study, position: int, sort: Sort) -> dict[str, Any]:
    """A journey in a list, with what the list is sorted by."""
    found = summary(study, study.index.ref(position))
    if sort not in TRAIT_OF:
        return found | {"sorted_by": None}
    own = int(trait(study, TRAIT_OF[sort])[position])
    return found | {"sorted_by": None if own < 0 else own}


def summary(study: Study, ref: JourneyRef) -> dict[str, Any]:
    """A journey: who, when, how long, its marks, and its profile in miniature."""
    steps = study.parts[ref.part]
    journeys, number = steps.journeys, ref.number
    session = int(journeys.session[number])
    count = int(journeys.steps[number])
    shown = np.unique(np.linspace(0, count - 1, min(count, MINIATURE)).astype(int))
    entries = steps.steps.entry[journeys.first_step[number] + shown]
    return {
        "key": journey_key(study, ref),
        "user": study.terms["user"][journeys.user[number]],
        "session": None if session == NONE else study.terms["session"][session],
        "start": int(journeys.start[number]) // 1000,
        "duration": int(journeys.end[number] - journeys.start[number]) // 1000,
        "steps": count,
        "deepest": int(journeys.deepest[number]),
        "exit": EXITS[journeys.exit[number]],
        "marks": marks_of(int(journeys.marks[number])),
        "depths": steps.entries.depth[entries].tolist(),
        "grounds": _grounds(steps, entries),
    }


def _grounds(steps: Steps, entries: NDArray[np.int32]) -> list[str]:
    """Per entry the name of its tab, or of its region where it lies in none."""
    return [
        steps.places.tab_names[steps.entries.tab[e]]
        if steps.entries.region[e] == TAB
        else REGIONS[steps.entries.region[e]]
        for e in entries
    ]


def detail(study: Study, ref: JourneyRef) -> dict[str, Any]:
    """One journey with all its steps."""
    steps = study.parts[ref.part]
    journeys, number = steps.journeys, ref.number
    return summary(study, ref) | {
        "start_kind": STARTS[journeys.start_kind[number]],
        "tabs": steps.places.tab_names,
        "properties": properties(steps, int(journeys.first_row[number])),
        "trail": trail(steps, number),
    }


def properties(steps: Steps, row: int) -> dict[str, str]:
    text = steps.log.text("props", row)
    return json.loads(text) if text else {}


def trail(steps: Steps, number: int) -> list[dict[str, Any]]:
    """The steps of a journey as they are exported, with times in milliseconds since 1970."""
    first = int(steps.journeys.first_step[number])
    last = first + int(steps.journeys.steps[number])
    table = steps_table(steps, first, last).drop_columns(["user", "session", "rows"])
    for name in ("asked_at", "time", "until"):
        milliseconds = pc.divide(table[name].cast(pa.int64()), 1000)
        table = table.set_column(table.schema.get_field_index(name), name, milliseconds)
    table = table.append_column("repeats", pa.array(steps.steps.repeats[first:last]))
    found: list[dict[str, Any]] = table.to_pylist()
    return found


def _params(steps: Steps, code: int) -> str | None:
    return None if code == NONE else steps.places.params[code]


def pile(study: Study, ref: JourneyRef, step: int) -> dict[str, Any]:
    """What "back" goes through from a step (from 1), nearest first, and the tabs at rest."""
    steps = study.parts[ref.part]
    first = int(steps.journeys.first_step[ref.number])
    entry = int(steps.steps.entry[first + step - 1])
    behind = int(steps.steps.below[first + step - 1])
    stack = [*steps.stack(entry)]
    if len(stack) == 1 and behind != NONE:  # by a history rule, from the bottom of this stack
        stack += steps.stack(behind)
    resting: dict[int, int] = {}
    for i in range(first, first + step):
        for e in steps.stack(int(steps.steps.entry[i])):
            if steps.entries.region[e] == TAB:
                resting[int(steps.entries.tab[e])] = e
                break
    shown = {int(steps.entries.tab[e]) for e in stack}
    return {
        "stack": [_slip(steps, e) for e in stack],
        "resting": [
            {
                "tab": steps.places.tab_names[tab],
                "stack": [_slip(steps, e) for e in steps.stack(top)],
            }
            for tab, top in sorted(resting.items())
            if tab not in shown
        ],
    }


def _slip(steps: Steps, entry: int) -> dict[str, Any]:
    tab = int(steps.entries.tab[entry])
    return {
        "screen": steps.places.names[steps.entries.screen[entry]],
        "params": _params(steps, int(steps.entries.params[entry])),
        "region": REGIONS[steps.entries.region[entry]],
        "tab": None if tab == NONE else steps.places.tab_names[tab],
    }


def raw_places(study: Study, ref: JourneyRef, step: int) -> list[dict[str, Any]]:
    """Where the rows of a step (from 1) came from, and what each was read as."""
    steps = study.parts[ref.part]
    journeys = steps.journeys
    i = int(journeys.first_step[ref.number]) + step - 1
    begin = int(steps.steps.first_row[i])
    end = int(journeys.first_row[ref.number] + journeys.rows[ref.number])
    if step < int(journeys.steps[ref.number]):
        end = int(steps.steps.first_row[i + 1])
    return [row_place(steps, row) for row in range(begin, end)]


_SAID_BEFORE = "the same again"


def row_place(steps: Steps, row: int) -> dict[str, Any]:
    log = steps.log
    event = EVENTS[int(log.columns["event"][row])]
    outcome = int(log.columns["outcome"][row])
    fate = FATES[int(steps.fate[row])]
    return {
        "file": log.text("file", row),
        "line": int(log.columns["line"][row]),
        "time": int(log.columns["time"][row]) // 1000,
        "event": _SAID_BEFORE if fate == "resent" else log.text("word", row) or event,
        "screen": log.text("screen", row),
        "from": log.text("origin", row),
        "params": log.text("params", row),
        "outcome": None if outcome == NONE else OUTCOMES[outcome],
        "fate": fate,
    }
