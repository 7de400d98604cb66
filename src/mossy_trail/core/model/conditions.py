"""Conditions on steps and rows: what a stage of a funnel is, and what a person did."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import ROLES
from mossy_trail.core.model.log import EVENTS, OUTCOMES, Column
from mossy_trail.core.model.pattern import Node
from mossy_trail.core.model.properties import members
from mossy_trail.core.model.steps import MOVES, Steps

MOST_CLAUSES = 64


@dataclass(frozen=True)
class Clause:
    """What must hold of a step; with an `event`, of a row instead. What is empty is open.

    Of several screens, roles, moves, tabs or values, one must fit. An event that is no word of
    ours is a custom one.
    """

    screens: tuple[str, ...] = ()
    roles: tuple[str, ...] = ()
    moves: tuple[str, ...] = ()
    tabs: tuple[str, ...] = ()
    event: str = ""
    outcome: str = ""
    params: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    properties: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    pattern: Node | None = None
    """Instead of all else: what fits is the step on which a match of it ends."""


class Bits(NamedTuple):
    """Per code, one more than it, the clauses that it fits: bit i stands for clause i.

    A step fits the clauses that all of its screen, move, tab, params and properties fit; a row
    those of its event, outcome, word, and properties.
    """

    screen: Column
    move: Column
    tab: Column
    params: Column
    event: Column
    outcome: Column
    word: Column
    props: Column
    ends: Column
    """Per step, the clauses whose pattern ends there; of one entry where none has a pattern."""


def compiled(
    steps: Steps, clauses: Sequence[Clause], ends: Mapping[Node, NDArray[np.bool_]] | None = None
) -> Bits:
    """The clauses, for a part, given on which steps their patterns end.

    Raises `ValueError` where there are too many.
    """
    if len(clauses) > MOST_CLAUSES:
        raise ValueError(f"there are {len(clauses)} conditions, and {MOST_CLAUSES} at most")
    places, terms = steps.places, steps.log.terms
    of_steps = [not clause.event and clause.pattern is None for clause in clauses]
    roles = [ROLES[code] for code in places.role]
    custom = {clause.event for clause in clauses} - {*EVENTS, ""}

    def bits(names: Sequence[str], fits: Sequence[Sequence[str]]) -> NDArray[np.uint64]:
        """Per name, the clauses that ask for nothing or for it; the first one is of no name."""
        index: dict[str, list[int]] = {}
        for code, name in enumerate(names):
            index.setdefault(name, []).append(code + 1)
        found = np.zeros(len(names) + 1, "u8")
        for i, wanted in enumerate(fits):
            if not wanted:
                found |= np.uint64(1 << i)
            for name in wanted:
                found[index.get(name, [])] |= np.uint64(1 << i)
        return found

    screen = bits(places.names, [clause.screens for clause in clauses])
    screen[1:] &= bits(roles, [clause.roles for clause in clauses])[1:]
    screen &= _sum(of_steps)
    event = bits(EVENTS, [("custom",) if c.event in custom else (c.event,) for c in clauses])
    words = [(clause.event,) if clause.event in custom else () for clause in clauses]
    return Bits(
        screen,
        bits(MOVES, [clause.moves for clause in clauses]),
        bits(places.tab_names, [clause.tabs for clause in clauses]),
        _of_objects(places.params, [clause.params for clause in clauses]),
        event,
        bits(OUTCOMES, [(c.outcome,) if c.outcome else () for c in clauses]),
        bits(terms["word"], words),
        _of_objects(terms["props"], [clause.properties for clause in clauses]),
        _of_ends(steps, clauses, ends or {}),
    )


def _of_ends(
    steps: Steps, clauses: Sequence[Clause], ends: Mapping[Node, NDArray[np.bool_]]
) -> NDArray[np.uint64]:
    found = np.zeros(len(steps.screen) if ends else 1, "u8")
    for i, clause in enumerate(clauses):
        if clause.pattern is not None:
            found |= np.where(ends[clause.pattern], np.uint64(1 << i), np.uint64(0))
    return found


def _sum(chosen: Sequence[bool]) -> np.uint64:
    return np.uint64(sum(1 << i for i, one in enumerate(chosen) if one))


def _of_objects(
    texts: Sequence[str], wanted: Sequence[Mapping[str, tuple[str, ...]]]
) -> NDArray[np.uint64]:
    """Per JSON object, the clauses whose members it has; of one entry where no clause asks."""
    free = _sum([not asked for asked in wanted])
    if not any(wanted):
        return np.array([free], "u8")
    found = np.full(len(texts) + 1, free, "u8")
    for code, text in enumerate(texts):
        own = members(text)
        for i, asked in enumerate(wanted):
            if asked and all(own.get(key) in values for key, values in asked.items()):
                found[code + 1] |= np.uint64(1 << i)
    return found


def clause_of(word: str, between: str) -> Clause:
    """Rows of an event: one of ours, with its outcome after `between` if one is named, or a custom
    one."""
    name, _, outcome = word.rpartition(between)
    if name in EVENTS and outcome in OUTCOMES:
        return Clause(event=name, outcome=outcome)
    return Clause(event=word)


@inner_kernel
def ends_at(bits: Bits, step: int) -> int:
    """The clauses whose pattern ends on a step."""
    return bits.ends[step] if len(bits.ends) > 1 else bits.ends[0]


@inner_kernel
def of_step(bits: Bits, screen: int, move: int, tab: int, params: int, props: int) -> int:
    """The clauses that a step fits, but for patterns."""
    found = bits.screen[screen + 1]
    if found:
        found &= bits.move[move + 1] & bits.tab[tab + 1]
    if found and len(bits.params) > 1:
        found &= bits.params[params + 1]
    if found and len(bits.props) > 1:
        found &= bits.props[props + 1]
    return found


@inner_kernel
def of_row(bits: Bits, event: int, outcome: int, word: int, props: int) -> int:
    """The clauses that a row fits."""
    found = bits.event[event + 1]
    if found:
        found &= bits.outcome[outcome + 1] & bits.word[word + 1]
    if found and len(bits.props) > 1:
        found &= bits.props[props + 1]
    return found


def rows_of_steps(steps: Steps, clause: Clause) -> NDArray[np.int32]:
    """How many rows of each step fit a clause with an event; shape (steps,)."""
    rows, bits = steps.log.columns, compiled(steps, [clause])
    return _rows_of_steps(
        bits, rows["event"], rows["outcome"], rows["word"], rows["props"], steps.steps.first_row,
        steps.steps.journey, steps.journeys.first_row, steps.journeys.rows,
    )  # fmt: skip


def failed_tries(steps: Steps) -> NDArray[np.int32]:
    """How often signing in or up failed on each step; shape (steps,)."""
    signing_in = rows_of_steps(steps, Clause(event="sign_in", outcome="failed"))
    return signing_in + rows_of_steps(steps, Clause(event="sign_up", outcome="failed"))


@kernel
def _rows_of_steps(
    bits: Bits, event: Column, outcome: Column, word: Column, props: Column, first_row: Column,
    journey: Column, begin: Column, rows: Column,
) -> NDArray[np.int32]:  # fmt: skip
    found = np.zeros(len(first_row), np.int32)
    for i in range(len(first_row)):
        end = begin[journey[i]] + rows[journey[i]]
        if i + 1 < len(first_row) and journey[i + 1] == journey[i]:
            end = first_row[i + 1]
        for row in range(first_row[i], end):
            found[i] += of_row(bits, event[row], outcome[row], word[row], props[row]) != 0
    return found
