"""Patterns: how many journeys fit one, how far the others get, and what comes next."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from difflib import get_close_matches

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mossy_trail.core.measures.cells import Grid, cells
from mossy_trail.core.measures.patterns import Matches, matches, progress
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.pattern import Automaton, Condition, Edge, Node, PatternError, automaton
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Quartiles, Share, quartiles, share
from mossy_trail.engine.celled import (
    Count,
    Counts,
    Label,
    Labels,
    Mask,
    Tallies,
    journeys_of,
    tallied,
)
from mossy_trail.engine.rates import Asking, Told, document, in_scope, rates_of, single
from mossy_trail.engine.registry import NoParams, document_of, evidence_of, measure_of
from mossy_trail.engine.scoped import alone, each_inside, each_labelled, size_of
from mossy_trail.engine.study import JourneyRef, Study
from mossy_trail.intake.pattern_text import LONGEST, conditions_of, read_pattern
from mossy_trail.intake.pattern_words import condition_words, pattern_words

MOST_NEXT = 30
_SCREENS, _TABS = ("screen", "wanted", "below", "stack"), ("tab", "reported")


class PatternParams(NoParams):
    pattern: str = Field("", max_length=LONGEST, description="What is looked for")


@dataclass(frozen=True)
class Reached:
    """A condition in the order written: the journeys, or users, that came to it or further, and
    those without a match that came to it and no further."""

    words: str
    start: int
    """Where it stands in the text, and up to where."""
    end: int
    reached: Count
    broke_off: Count


@dataclass(frozen=True)
class Next:
    """What was shown right after a match; empty where the journey ended with it."""

    screen: str
    count: Count


@dataclass(frozen=True)
class PatternFigures:
    """`met` are the journeys, or users, with a match; `matches` has how many there are, and `took`
    their times in ms, from when the first step became visible to when the last did. Of journeys
    with more values to hold than there is room for, `let_go` says how many there are."""

    words: str
    in_scope: int
    met: Share
    matches: Count
    never_began: Count
    took: Quartiles | None
    conditions: list[Reached]
    next: list[Next]
    next_left_out: int
    let_go: int


@measure_of("patterns", PatternParams)
def measure(study: Study, scope: Scope, pattern: str) -> PatternFigures:
    """Journeys with steps that fit a pattern, how far others get, and what comes next.

    Raises `PatternError` for what is no pattern, or names what there is not.
    """
    read = _read(study, pattern)
    automatic = automaton(read)

    def ask(
        steps: Steps, inside: Mask, labelled: tuple[Labels, Matches]
    ) -> tuple[Tallies, NDArray[np.int64], int, int]:
        labels, found = labelled
        in_scope = size_of(steps, inside, scope.unit)
        return tallied(steps, labels), found.took, in_scope, int(found.let_go.sum())

    asked = each_labelled(study, scope, ("patterns", pattern), _labelling(automatic), ask)
    counts = Counts([told for told, _, _, _ in asked])
    total = sum(size for _, _, size, _ in asked)
    opened = _opening(pattern)
    whole = opened(counts.of("match", ""))
    following = counts.all("next")
    return PatternFigures(
        pattern_words(read),
        total,
        share(whole.users if scope.unit == "users" else whole.journeys, total),
        whole,
        opened(counts.of("broke", "-1")),
        quartiles(np.concatenate([np.empty(0), *(took for _, took, _, _ in asked)]) / 1000),
        [
            Reached(
                words,
                start,
                end,
                opened(counts.of("reached", str(i))),
                opened(counts.of("broke", str(i))),
            )
            for i, (words, start, end) in enumerate(_told_letters(automatic))
        ],
        [Next(screen, opened(own)) for (screen,), own in list(following.items())[:MOST_NEXT]],
        max(len(following) - MOST_NEXT, 0),
        sum(let_go for *_, let_go in asked),
    )


def words_of(study: Study, pattern: str) -> str:
    """What a pattern means, in plain words; raises `PatternError` where it is none."""
    read = _read(study, pattern)
    automaton(read)
    return pattern_words(read)


def _opening(pattern: str) -> Callable[[Count], Count]:
    """Name the figure of a count by the pattern and its cell."""

    def opened(count: Count) -> Count:
        document = {"pattern": pattern, "cell": json.loads(count.figure)}
        return replace(count, figure=json.dumps(document, ensure_ascii=False))

    return opened


def _is_gap(letter: Condition | Edge) -> bool:
    """Two dots, which are no condition that a journey could break off at."""
    return isinstance(letter, Condition) and letter.is_any and letter.place[1] - letter.place[0] > 1


def _told_letters(found: Automaton) -> Iterator[tuple[str, int, int]]:
    for letter in found.letters:
        if _is_gap(letter):
            continue
        if isinstance(letter, Edge):
            yield ("the journey ends" if letter.end else "the journey starts"), *letter.place
        else:
            yield condition_words(letter), *letter.place


def _read(study: Study, text: str) -> Node:
    """The pattern, with nothing in it that there is not; raises `PatternError`."""
    found = read_pattern(text)
    places = study.parts[0].places if study.parts else None
    for condition in conditions_of(found):
        for test in (one for tests in condition.any for one in tests if places and not one.held):
            kind = "screen" if test.key in _SCREENS else "tab" if test.key in _TABS else ""
            known = places.names if kind == "screen" else places.tab_names  # type: ignore[union-attr]
            for value in test.values if kind else ():
                if value not in known:
                    near = get_close_matches(value, known, 1)
                    mend = (
                        f"Did you mean {near[0]}?" if near else f"Choose one of the log’s {kind}s."
                    )
                    raise PatternError(f"There is no {kind} “{value}”", *condition.place, mend)
    return found


def _labels(steps: Steps, pattern: Automaton, found: Matches, inside: Mask) -> Labels:
    """Cells: `match`; `next` by screen; `reached` and `broke` by letter, -1 for none of them."""
    told = np.cumsum([0, *(not _is_gap(letter) for letter in pattern.letters)]) - 1
    size, furthest = int(told[-1]) + 1, told[found.furthest + 1]
    own = steps.steps.journey
    after = np.minimum(found.last + 1, max(len(own) - 1, 0))
    goes_on = (found.last + 1 < len(own)) & (own[after] == found.journey) if len(own) else after > 0
    screens = len(steps.places.names)
    following = np.where(goes_on, steps.screen[after] if len(own) else 0, screens)
    numbers = Grid([str(i) for i in range(-1, size)])
    come = progress(found, furthest, inside)
    return {
        "match": cells(Grid([""]), np.zeros(len(found.journey), "i8"), found.journey),
        "next": cells(Grid([*steps.places.names, ""]), following, found.journey),
        "reached": cells(numbers, come.come, come.journey),
        "broke": cells(numbers, come.broke, come.broken),
    }


@evidence_of("patterns")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    """The journeys of a cell; raises `KeyError` for what is none."""
    document = document_of(figure)
    pattern = document.get("pattern")
    if not isinstance(pattern, str):
        raise KeyError(figure)
    try:
        automatic = automaton(_read(study, pattern))
    except PatternError:
        raise KeyError(figure) from None

    cell = json.dumps(document.get("cell"))
    return journeys_of(study, scope, ("patterns", pattern), _labelling(automatic), cell)


def _labelling(automatic: Automaton) -> Label:
    def label(steps: Steps, inside: Mask) -> tuple[Labels, Matches]:
        found = matches(steps, automatic, inside)
        return _labels(steps, automatic, found, inside), found

    return label


@dataclass(frozen=True)
class Span:
    """A match in a journey: its steps, from 1."""

    first: int
    last: int


def of_journey(study: Study, ref: JourneyRef, pattern: str) -> list[Span]:
    """The matches in one journey, in order; raises `PatternError`."""
    steps = study.parts[ref.part]
    found = matches(steps, automaton(_read(study, pattern)), alone(steps, ref.number))
    begin = int(steps.journeys.first_step[ref.number]) - 1
    pairs = zip(found.first.tolist(), found.last.tolist(), strict=True)
    return [Span(first - begin, last - begin) for first, last in pairs]


def found_in(study: Study, scope: Scope, pattern: str) -> Iterator[dict[str, object]]:
    """Every match in scope: of which user and session, its steps from 1, and its time in ms."""
    automatic = automaton(_read(study, pattern))
    parts = each_inside(study, scope, lambda s, inside: matches(s, automatic, inside))
    for steps, found in zip(study.parts, parts, strict=True):
        journeys, terms = steps.journeys, steps.log.terms
        for journey, first, last, took in zip(*(c.tolist() for c in found[:4]), strict=True):
            session, begin = int(journeys.session[journey]), int(journeys.first_step[journey]) - 1
            yield {
                "user": terms["user"][journeys.user[journey]],
                "session": None if session == NONE else terms["session"][session],
                "start": int(journeys.start[journey]) // 1000,
                "first": first - begin,
                "last": last - begin,
                "took_ms": took // 1000,
            }


@rates_of("patterns")
def rates(study: Study, scope: Scope, pattern: str) -> Asking:
    """Who has a match."""
    automatic = automaton(_read(study, pattern))

    def ask(steps: Steps, inside: Mask) -> Told:
        found = matches(steps, automatic, inside)
        figure = document(pattern=pattern, cell=["match", ""])
        journeys = in_scope(inside).journey
        return Told(
            [single(figure, found.journey, journeys, "had a match", scope.unit, counts="unit")], []
        )

    return ask
