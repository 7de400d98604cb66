"""The app map beside what is seen: visits of its screens, moves as they happen, unknown names."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher, get_close_matches
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.app_map import OUTSIDE_ROLES, ROLES, AppMap, Places, plain_name
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import MOVE, MOVES, Steps
from mossy_trail.engine.registry import evidence_of, words_of
from mossy_trail.engine.scoped import each_inside, joined_inside
from mossy_trail.engine.study import Study

MOST_MOVES = 600
CLOSE_ENOUGH = 0.8
"""How much of two names must be the same for one to be proposed for the other."""
LONGEST = 100
"""Characters of a name that are held against others."""


def measure(study: Study, scope: Scope, document: dict[str, Any]) -> dict[str, Any]:
    """Every screen with its visits, the moves between screens, and plan and practice.

    A screen's figure, and a move's, opens by `evidence`: JSON of [screen], or of [move, from, to].
    """
    names = _names(study)
    visits, journeys = _visits(study, scope, names)
    moves = _moves(study, scope, names)
    places = study.parts[0].places if study.parts else None
    known = dict.fromkeys(entry["name"] for entry in document.get("screens", ()))
    by_plain = {plain_name(name): name for name in reversed(known)}
    listed = [*known, *(name for name in names if name not in known and visits[name])]
    code = {name: i for i, name in enumerate(names)}
    return {
        "screens": [
            {
                "name": name,
                "unknown": name not in known,
                "visits": visits.get(name, 0),
                "journeys": journeys.get(name, 0),
                "depth": _layer(places, code[name]) if places and name in code else "",
                "proposal": None if name in known else propose(name, by_plain),
            }
            for name in listed
        ],
        "folded": _folded(study),
        "moves": moves[:MOST_MOVES],
        "practice": _practice(document, visits, moves),
    }


def _folded(study: Study) -> dict[str, str]:
    """Logged names that are a screen's of the map but for case, spaces, dashes and underscores."""
    if not study.parts:
        return {}
    places, logged = study.parts[0].places, study.terms["screen"]
    codes = np.flatnonzero(places.folded_name).tolist()
    return {logged[code]: places.names[places.of_name[code]] for code in codes}


def _names(study: Study) -> list[str]:
    return study.parts[0].places.names if study.parts else []


def _layer(places: Places, code: int) -> str:
    """Where a screen stands in the picture: outside, in a tab (by name), or on its own."""
    if ROLES[places.role[code]] in OUTSIDE_ROLES:
        return "outside"
    if ROLES[places.role[code]] in ("sheet", "menu"):
        return "sheet"
    home = int(places.home[code])
    return f"tab:{places.tab_names[home]}" if home >= 0 else ""


def _visits(
    study: Study, scope: Scope, names: Sequence[str]
) -> tuple[dict[str, int], dict[str, int]]:
    """Per screen how many steps and how many journeys in scope are on it."""

    def ask(steps: Steps, own: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        inside = own[steps.steps.journey]
        screen = steps.screen[inside].astype("int64")
        each = np.unique(steps.steps.journey[inside] * len(names) + screen) % len(names)
        return np.bincount(screen, minlength=len(names)), np.bincount(each, minlength=len(names))

    counts = each_inside(study, scope, ask)
    empty = np.zeros(len(names), "int64")
    visits = sum((c[0] for c in counts), empty)
    journeys = sum((c[1] for c in counts), empty)
    return (
        dict(zip(names, visits.tolist(), strict=True)),
        dict(zip(names, journeys.tolist(), strict=True)),
    )


def _arrivals(steps: Steps) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The number of each move from one screen to another, and the step that it leads to."""
    own = steps.steps.journey
    to = np.flatnonzero(own[1:] == own[:-1]) + 1
    size = len(steps.places.names)
    move = steps.steps.move[to].astype("int64")
    return (move * size + steps.screen[to - 1]) * size + steps.screen[to], to


def _moves(study: Study, scope: Scope, names: Sequence[str]) -> list[dict[str, Any]]:
    """The moves seen, most used first."""

    def ask(
        steps: Steps, own: NDArray[np.bool_]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        keys, to = _arrivals(steps)
        inside = own[steps.steps.journey[to]]
        keys, journey = keys[inside], steps.steps.journey[to[inside]]
        kinds, which, counts = np.unique(keys, return_inverse=True, return_counts=True)
        pairs = np.unique(which * len(own) + journey) // len(own)
        return kinds, counts, np.bincount(pairs, minlength=len(kinds))

    found = each_inside(study, scope, ask)
    if not found:
        return []
    keys, which = np.unique(np.concatenate([f[0] for f in found]), return_inverse=True)
    counts, journeys = (
        np.bincount(which, np.concatenate([f[i] for f in found]), len(keys)).astype("int64")
        for i in (1, 2)
    )
    move, rest = np.divmod(keys, len(names) ** 2)
    start, end = np.divmod(rest, len(names))
    order = np.lexsort((keys, -counts))
    return [
        {
            "from": names[start[i]],
            "to": names[end[i]],
            "by": MOVES[move[i]],
            "steps": int(counts[i]),
            "journeys": int(journeys[i]),
        }
        for i in order
    ]


@evidence_of("app-map")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    """The journeys behind a figure; raises `KeyError` when there is none."""
    asked = words_of(figure)
    if len(asked) not in (1, 3):
        raise KeyError(figure)
    names = _names(study)
    by, screens = (asked[0], asked[1:]) if len(asked) == 3 else ("", asked)
    codes = [names.index(name) if name in names else -1 for name in screens]
    if -1 in codes or (by and by not in MOVE):
        raise KeyError(figure)

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
        found = np.zeros(len(steps.journeys.start), bool)
        if by:
            keys, to = _arrivals(steps)
            wanted = (MOVE[by] * len(names) + codes[0]) * len(names) + codes[1]
            found[steps.steps.journey[to[keys == wanted]]] = True
        else:
            found[steps.steps.journey[steps.screen == codes[0]]] = True
        return found & inside

    return joined_inside(study, scope, ask)


def propose(name: str, known: Mapping[str, str]) -> dict[str, str] | None:
    """The known screen that an unknown name most likely means, and why; `known` by plain names."""
    plain = plain_name(name)
    if plain in known:
        return {"screen": known[plain], "why": "the same but for case, spaces and dashes"}
    without_id = plain_name(re.sub(r"[/:#\-_ ]*\d+$", "", name))
    if without_id in known:
        return {"screen": known[without_id], "why": "the same with an id at its end"}
    for close in get_close_matches(plain[:LONGEST], known, 1, CLOSE_ENOUGH):
        alike = SequenceMatcher(None, plain[:LONGEST], close).ratio()
        return {"screen": known[close], "why": f"{round(alike * 100)} of 100 of it is the same"}
    return None


def propose_all(names: Sequence[str], app_map: AppMap) -> dict[str, str]:
    """The screens of the map that unknown names most likely mean; without those like none."""
    by_plain = {plain_name(screen.name): screen.name for screen in reversed(app_map.screens)}
    found = {name: propose(name, by_plain) for name in names}
    return {name: proposal["screen"] for name, proposal in found.items() if proposal}


def _practice(
    document: dict[str, Any], visits: dict[str, int], moves: Sequence[dict[str, Any]]
) -> dict[str, Any]:
    """Plan and practice: what was declared and never seen, and the other way round."""
    seen = {(move["from"], move["to"], move["by"]) for move in moves}
    pairs = {(start, end) for start, end, _ in seen}
    declared = [
        {"from": move["from"], "to": move["to"], "by": move.get("by", "")}
        for move in document.get("moves", ())
    ]
    planned = {(move["from"], move["to"], move["by"]) for move in declared}
    ahead = [move for move in moves if move["by"] in ("push", "replace", "open_modal")]
    screens = [entry["name"] for entry in document.get("screens", ())]
    leaves = {move["from"] for move in moves if move["from"] != move["to"]}
    return {
        "never_seen": [
            move
            for move in declared
            if (move["from"], move["to"], move["by"]) not in seen
            and (move["by"] or (move["from"], move["to"]) not in pairs)
        ],
        "not_declared": [
            move
            for move in ahead
            if (move["from"], move["to"], move["by"]) not in planned
            and (move["from"], move["to"], "") not in planned
        ]
        if declared
        else [],
        "unreached": [name for name in screens if not visits.get(name)],
        "no_way_out": [name for name in screens if visits.get(name) and name not in leaves],
    }
