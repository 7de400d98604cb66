"""Patterns of steps: what is looked for in journeys, and the automaton that looks for it.

A pattern is a regular expression over steps. It becomes an automaton without empty moves, one
position for each condition written out (Glushkov 1961, Russ. Math. Surveys 16(5):1–53), which is
run over all steps once, whatever the pattern.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from operator import or_
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

MOST_POSITIONS = 60
"""Conditions of a pattern, with its repeats written out, at the most."""


class PatternError(ValueError):
    """A pattern that cannot be used: what is wrong, from where in its text to where, and what to
    do about it."""

    def __init__(self, message: str, start: int, end: int, mend: str) -> None:
        super().__init__(f"{message} (at {start + 1}). {mend}")
        self.message, self.start, self.end, self.mend = message, start, end, mend


@dataclass(frozen=True)
class Test:
    """Something that must hold of a step: one of the `values`, or a number compared with one.

    A value that begins with `$` is held: the same wherever the match names it.
    """

    __test__ = False  # it is no test of this program

    key: str
    operator: str
    values: tuple[str, ...]
    negated: bool = False

    @property
    def held(self) -> str:
        """The name of the value that it holds, empty for none."""
        (first, *_) = self.values
        return first[1:] if first.startswith("$") else ""


@dataclass(frozen=True)
class Condition:
    """What one step must be: all of any of these sets of tests; `negated`, it must not."""

    any: tuple[tuple[Test, ...], ...] = ((),)
    negated: bool = False
    place: tuple[int, int] = (0, 0)

    @property
    def held(self) -> Test | None:
        return next((test for tests in self.any for test in tests if test.held), None)

    @property
    def is_any(self) -> bool:
        return self.any == ((),) and not self.negated


@dataclass(frozen=True)
class Edge:
    """The journey's start, or its end."""

    end: bool
    place: tuple[int, int] = (0, 0)


@dataclass(frozen=True)
class InOrder:
    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Either:
    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Repeat:
    part: Node
    least: int
    most: int | None
    place: tuple[int, int] = (0, 0)


@dataclass(frozen=True)
class Within:
    """No more time from when the first of its steps became visible to when the last did."""

    part: Node
    limit: int
    """Microseconds."""
    place: tuple[int, int] = (0, 0)


Node = Condition | Edge | InOrder | Either | Repeat | Within


class Automaton(NamedTuple):
    """Positions as bits. `letters` are the conditions, or edges, that there are, in the order
    written, and `of_letter` the positions of each. From a position lead `follow`, and within its
    time limit `inside`; -1 is no `limit`. `source` is the letter of each position."""

    letters: list[Condition | Edge]
    of_letter: NDArray[np.int64]
    first: int
    last: int
    follow: NDArray[np.int64]
    inside: NDArray[np.int64]
    limit: NDArray[np.int64]
    source: NDArray[np.int64]

    @property
    def held(self) -> list[Test | None]:
        """Per position the test that holds a value, if it has one."""
        return [
            letter.held if isinstance(letter, Condition) else None
            for letter in (self.letters[number] for number in self.source)
        ]


class _Fragment(NamedTuple):
    nullable: bool
    first: int
    last: int


def automaton(pattern: Node) -> Automaton:
    """The automaton of a pattern; raises `PatternError` for one that is too long, that limits time
    within a time limit, or that a journey of no steps would fit."""
    built = _Builder()
    whole = built.of(pattern)
    if whole.nullable:
        mend = "Ask for one step at least: + in place of *, or a screen beside it."
        raise PatternError("It fits where there is nothing at all", 0, 1, mend)
    letters = list(dict.fromkeys(built.letters))
    number = {letter: i for i, letter in enumerate(letters)}
    source = np.array([number[letter] for letter in built.letters], "i8")
    of_letter = np.zeros(len(letters), "i8")
    for position, own in enumerate(source.tolist()):
        of_letter[own] |= 1 << position
    follow, inside, limit = (
        np.array(column, "i8") for column in (built.follow, built.inside, built.limit)
    )
    return Automaton(letters, of_letter, whole.first, whole.last, follow, inside, limit, source)


class _Builder:
    """Positions of a pattern as they are met; each node's fragment from those of its parts."""

    def __init__(self) -> None:
        self.letters: list[Condition | Edge] = []
        self.follow: list[int] = []
        self.inside: list[int] = []
        self.limit: list[int] = []

    def of(self, node: Node) -> _Fragment:
        if isinstance(node, InOrder):
            return self._in_order([self.of(part) for part in node.parts])
        if isinstance(node, Either):
            parts = [self.of(part) for part in node.parts]
            return _Fragment(
                any(part.nullable for part in parts),
                reduce(or_, (part.first for part in parts)),
                reduce(or_, (part.last for part in parts)),
            )
        if isinstance(node, Repeat):
            return self._repeat(node)
        return self._within(node) if isinstance(node, Within) else self._position(node)

    def _position(self, letter: Condition | Edge) -> _Fragment:
        position = len(self.letters)
        if position == MOST_POSITIONS:
            raise PatternError(
                f"With its repeats written out it has more than {MOST_POSITIONS} conditions",
                *letter.place,
                "Repeat less often, or leave something out.",
            )
        self.letters.append(letter)
        self.follow.append(0)
        self.inside.append(0)
        self.limit.append(-1)
        return _Fragment(False, 1 << position, 1 << position)

    def _connect(self, last: int, first: int) -> None:
        for position in _bits(last):
            self.follow[position] |= first

    def _in_order(self, parts: Sequence[_Fragment]) -> _Fragment:
        nullable, first, last = True, 0, 0
        for part in parts:
            self._connect(last, part.first)
            first |= part.first if nullable else 0
            last = part.last | (last if part.nullable else 0)
            nullable = nullable and part.nullable
        return _Fragment(nullable, first, last)

    def _repeat(self, node: Repeat) -> _Fragment:
        parts = [self.of(node.part) for _ in range(max(node.least, 1))]
        if node.most is None:
            self._connect(parts[-1].last, parts[-1].first)
        if node.least == 0:
            parts = [parts[0]._replace(nullable=True)]
        more = (node.most or 0) - max(node.least, 1)
        parts += [self.of(node.part)._replace(nullable=True) for _ in range(max(more, 0))]
        return self._in_order(parts)

    def _within(self, node: Within) -> _Fragment:
        begin = len(self.letters)
        part = self.of(node.part)
        for position in range(begin, len(self.letters)):
            if self.limit[position] >= 0:
                mend = "Keep the inner limit or the outer one."
                raise PatternError("A time limit within another", *node.place, mend)
            self.limit[position] = node.limit
            self.inside[position], self.follow[position] = self.follow[position], 0
        return part


def _bits(mask: int) -> list[int]:
    return [position for position in range(mask.bit_length()) if mask >> position & 1]
