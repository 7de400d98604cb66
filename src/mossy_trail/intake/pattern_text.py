"""Patterns of steps as people write them, read by the grammar in `pattern.lark`."""

from __future__ import annotations

import re
from difflib import get_close_matches
from functools import cache
from pathlib import Path
from typing import Any

from lark import Lark, Token, Transformer, UnexpectedInput, UnexpectedToken, v_args
from lark.exceptions import VisitError
from lark.tree import Meta

from mossy_trail.core.measures.patterns import HOLDABLE, KEYS, NUMBERS, TIMES
from mossy_trail.core.model.app_map import ROLES
from mossy_trail.core.model.log import SECOND
from mossy_trail.core.model.pattern import (
    Condition,
    Edge,
    Either,
    InOrder,
    Node,
    PatternError,
    Repeat,
    Test,
    Within,
)
from mossy_trail.core.model.steps import EXITS, MARKS, MOVES, REGIONS, STARTS

LONGEST = 4000
"""Characters of a pattern, at the most."""
WORDS = {
    "role": ROLES,
    "move": MOVES,
    "mark": MARKS,
    "region": REGIONS,
    "exit": EXITS,
    "start": (*STARTS, "link"),
}
"""The words that there are for keys whose values are words of ours."""
_UNITS = {"ms": SECOND // 1000, "s": SECOND, "min": 60 * SECOND, "h": 3600 * SECOND}
_UNITS["d"] = 24 * _UNITS["h"]
_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|min|h|d)")
_DEEPEST = 60


def read_pattern(text: str) -> Node:
    """The pattern that a text stands for. Raises `PatternError`, which says where it is wrong."""
    if len(text) > LONGEST:
        raise PatternError("It is too long", LONGEST, len(text), f"Use {LONGEST} characters.")
    if not text.strip():
        mend = "Name a screen, as in Splash .. SignIn."
        raise PatternError("There is no pattern yet", 0, 0, mend)
    _refuse_depth(text)
    try:
        return _Reader().transform(_grammar().parse(text))
    except UnexpectedInput as error:
        raise _unexpected(text, error) from None
    except VisitError as error:
        if isinstance(error.orig_exc, PatternError):
            raise error.orig_exc from None
        raise


@cache
def _grammar() -> Lark:
    grammar = (Path(__file__).parent / "pattern.lark").read_text()
    return Lark(grammar, parser="lalr", propagate_positions=True)


def _refuse_depth(text: str) -> None:
    depth = 0
    for at, letter in enumerate(re.sub(r'"[^"\n]*"', lambda m: " " * len(m[0]), text)):
        depth += (letter == "(") - (letter == ")")
        if depth > _DEEPEST:
            raise PatternError("Brackets lie too deep in each other", at, at + 1, "Take some away.")


def _unexpected(text: str, error: UnexpectedInput) -> PatternError:
    at = error.pos_in_stream if error.pos_in_stream is not None else len(text)
    if isinstance(error, UnexpectedToken) and error.token.type == "$END":
        at = len(text)
    at = max(min(at, len(text)), 0)
    found = re.compile(r'"[^"\n]*"?|\w+|\S').match(text, at)
    said = f"“{found[0]}” is not expected here" if found else "Something is missing at the end"
    inside = text.rfind("[", 0, at) > text.rfind("]", 0, at)
    mend = (
        "In brackets stand tests, as in [tab=Passes move=push dwell<3s]; odd names in quotes."
        if inside
        else "A step is a screen’s name, a test in brackets, or a dot; odd names stand in quotes."
    )
    return PatternError(said, at, found.end() if found else at, mend)


class _Reader(Transformer[Token, Node]):
    """From the grammar's tree to a pattern."""

    @v_args(inline=True)
    def start(self, found: Node) -> Node:
        _check_held(found)
        return found

    def either(self, parts: list[Node]) -> Node:
        return parts[0] if len(parts) == 1 else Either(tuple(parts))

    def sequence(self, parts: list[Node]) -> Node:
        return parts[0] if len(parts) == 1 else InOrder(tuple(parts))

    @v_args(meta=True)
    def repeated(self, meta: Meta, found: list[Any]) -> Node:
        part, token = found
        least, most = _times(token)
        place = _place(token)
        if most == 0 or (most is not None and most < least):
            mend = "Write {2}, {2,} or {2,5}."
            raise PatternError("It repeats no times", *place, mend)
        return Repeat(part, least, most, place)

    def limited(self, found: list[Any]) -> Node:
        part, word, token = found
        return Within(part, _microseconds(token), (_place(word)[0], _place(token)[1]))

    def edge(self, found: list[Token]) -> Node:
        (token,) = found
        return Edge(token == "$", _place(token))

    def gap(self, found: list[Token]) -> Node:
        (token,) = found
        place = _place(token)
        return Repeat(Condition(place=place), 0, None, place)

    def any_step(self, found: list[Token]) -> Node:
        (token,) = found
        return Condition(place=_place(token))

    @v_args(meta=True)
    def step(self, meta: Meta, found: list[Any]) -> Node:
        *negated, tests = found
        return Condition((tests,), bool(negated), (meta.start_pos, meta.end_pos))

    @v_args(meta=True)
    def no_step_of(self, meta: Meta, found: list[Any]) -> Node:
        return Condition(tuple(found[1:]), True, (meta.start_pos, meta.end_pos))

    def alike(self, found: list[Any]) -> tuple[Test, ...]:
        tests: tuple[Test, ...] = ()
        for one in found:
            own = (Test("screen", "=", (_value(one),)),) if isinstance(one, Token) else one
            tests += own
        return tests

    def tests(self, found: list[Test]) -> tuple[Test, ...]:
        return tuple(found)

    def test(self, found: list[Token]) -> Test:
        negated = found[0].type == "NOT"
        key, operator, *values = found[negated:]
        words = tuple(_value(value) for value in values)
        wrong = operator == "!="
        test = Test(str(key), "=" if wrong else str(operator), words, negated != wrong)
        return _checked(test, key, operator, values)


def _place(token: Token) -> tuple[int, int]:
    return token.start_pos or 0, token.end_pos or 0


def _value(token: Token) -> str:
    return token[1:-1] if token.type == "QUOTED" else str(token)


def _times(token: str) -> tuple[int, int | None]:
    if token in ("*", "+", "?"):
        return {"*": (0, None), "+": (1, None), "?": (0, 1)}[token]
    least, comma, most = token.strip("{} ").partition(",")
    if not comma:
        return int(least), int(least)
    return int(least), int(most) if most.strip() else None


def _microseconds(text: str) -> int:
    number, unit = _DURATION.fullmatch(text).groups()  # type: ignore[union-attr]
    return int(float(number) * _UNITS[unit])


def _checked(test: Test, key: Token, operator: Token, values: list[Token]) -> Test:
    """The test with its numbers in the units of steps; raises `PatternError` where it is none."""
    place = _place(key)[0], _place(values[-1])[1]
    if test.key not in KEYS and not re.match(r"(param|prop)\..", test.key):
        raise PatternError(f"Steps have no “{key}”", *_place(key), _mend(key, KEYS))
    if test.held:
        return _checked_held(test, place)
    if test.key in NUMBERS:
        return _checked_number(test, place)
    if test.operator != "=":
        mend = "Write = or !=; only times and numbers are more or less."
        raise PatternError(f"“{key}” is no number", *place, mend)
    for value, word in zip(values, test.values, strict=True):
        if test.key in WORDS and word not in WORDS[test.key]:
            raise PatternError(
                f"There is no {key} “{word}”", *_place(value), _mend(word, WORDS[test.key])
            )
    return test


def _mend(word: str, known: tuple[str, ...]) -> str:
    near = get_close_matches(word, known, 1)
    return f"Did you mean {near[0]}?" if near else f"There are {', '.join(known)}."


def _checked_held(test: Test, place: tuple[int, int]) -> Test:
    if test.operator != "=" or len(test.values) > 1:
        raise PatternError("A held value is the same, or not", *place, "Write =$name or !=$name.")
    if test.key not in HOLDABLE and "." not in test.key:
        mend = f"There are {', '.join(HOLDABLE)}, param.NAME and prop.NAME."
        raise PatternError(f"No value of “{test.key}” can be held", *place, mend)
    return test


def _checked_number(test: Test, place: tuple[int, int]) -> Test:
    (value, *more) = test.values
    duration = _DURATION.fullmatch(value)
    if test.key in TIMES and duration and not more:
        return Test(test.key, test.operator, (str(_microseconds(value)),), test.negated)
    if test.key not in TIMES and re.fullmatch(r"\d{1,9}", value) and not more:
        return test
    like = "a time, as in 3s or 200ms" if test.key in TIMES else "one whole number"
    raise PatternError(f"“{test.key}” is compared with {like}", *place, "Write it so.")


def conditions_of(node: Node) -> list[Condition]:
    """The conditions of a pattern, in the order written."""
    if isinstance(node, Condition):
        return [node]
    if isinstance(node, (Either, InOrder)):
        return [one for part in node.parts for one in conditions_of(part)]
    return conditions_of(node.part) if isinstance(node, (Repeat, Within)) else []


def _check_held(pattern: Node) -> None:
    """Raises `PatternError` where values are held in a way that cannot be told."""
    names, positive = set(), False
    for condition in conditions_of(pattern):
        held = [test for tests in condition.any for test in tests if test.held]
        names |= {test.held for test in held}
        positive = positive or any(not test.negated for test in held)
        if len(held) > 1 or (held and (condition.negated or len(condition.any) > 1)):
            mend = "Hold one value of one step, and write != where it must be another."
            raise PatternError("A value cannot be held like this", *condition.place, mend)
        if len(names) > 1:
            raise PatternError("More than one value is held", *condition.place, "Hold one alone.")
    if names and not positive:
        place = conditions_of(pattern)[0].place
        raise PatternError("No step sets the held value", *place, "One must say =$name.")
