"""The health of an app's logs: counted over all parts, with the rows of each finding."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import health
from mossy_trail.core.measures.health import FINDINGS, Gap
from mossy_trail.core.model.log import HOUR, NONE
from mossy_trail.core.model.steps import Steps
from mossy_trail.engine.journeys import journey_key, row_place
from mossy_trail.engine.study import JourneyRef, Study

MOST_BARS = 168
_WIDTHS = (1, 2, 3, 6, 12, 24, 48, 168, 672)
"""Hours that a bar of the picture may stand for."""
MOST_HOURS = 24 * 366 * 30


def measure(study: Study) -> dict[str, Any]:
    """Every figure of the health of a study's logs, beside what only their files can tell; kept.

    Times in milliseconds since 1970. `findings` has the rows of each finding; a figure's rows
    are listed by `evidence`.
    """
    if "health" not in study.known:
        study.known["health"] = _measure(study)
    found: dict[str, Any] = study.known["health"]
    return found


def _measure(study: Study) -> dict[str, Any]:
    rows = study.rows
    rows_of_hours, begun, start = hours(study)
    counted = study.each(lambda steps: health.counts(steps, study.read_at))
    findings = {name: sum(part[name] for part in counted) for name in FINDINGS}
    screens = _screens_seen(study)
    return {
        "loud": health.loud(study.each(health.tally), len(screens)),
        "words_unread": _unread_words(study),
        "rows": rows,
        "steps": study.steps,
        "journeys": len(study.index.start),
        "fates": study.fates(),
        "findings": findings,
        "first": start // 1000 if rows else None,
        "last": (start + len(rows_of_hours) * HOUR) // 1000 if rows else None,
        "bars": _bars(rows_of_hours),
        "gaps": [_gap(gap) for gap in health.gaps(rows_of_hours, begun, start)],
        "screens": len(screens),
        "too_many_screens": len(screens) > health.TOO_MANY_SCREENS,
        "patterns": [vars(p) for p in health.name_patterns(screens)[:20]],
    }


def _unread_words(study: Study) -> dict[str, int]:
    """The most used words that are no events of ours, with their rows."""

    def ask(steps: Steps) -> NDArray[np.int64]:
        words, word = steps.log.terms["word"], steps.log.columns["word"]
        return np.bincount(word[word != NONE], minlength=len(words))

    rows = np.asarray(sum(study.each(ask)))
    counts = Counter({study.terms["word"][code]: int(rows[code]) for code in np.flatnonzero(rows)})
    return dict(counts.most_common(20))


def _found(study: Study, finding: str) -> list[NDArray[np.int64]]:
    """The rows of each part that a finding is about."""
    return study.each(lambda steps: np.flatnonzero(health.label(steps, finding, study.read_at)))


def _screens_seen(study: Study) -> list[str]:
    """The names of all screens that occur, as the map has them."""
    if not study.parts:
        return []
    names = study.parts[0].places.names
    times = sum(study.each(lambda steps: np.bincount(steps.screen, minlength=len(names))))
    return sorted(names[code] for code in np.flatnonzero(times))


def hours(study: Study) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
    """Rows and begun journeys per hour, and the start of the first hour.

    Of those alone whose clock can be right.
    """

    spans = study.each(lambda steps: health.span(steps.log.columns["time"], study.read_at))
    some = [span for span in spans if span]
    if not some:
        return np.zeros(0, "int64"), np.zeros(0, "int64"), 0
    first = min(begin for begin, _ in some)
    length = min(max(end for _, end in some) - first + 1, MOST_HOURS)

    def counted(times: Callable[[Steps], NDArray[np.int64]]) -> NDArray[np.int64]:
        ask = partial(health.per_hour, read_at=study.read_at, first=first, hours=length)
        return np.asarray(sum(study.each(lambda steps: ask(times(steps)))))

    rows = counted(lambda steps: steps.log.columns["time"])
    return rows, counted(lambda steps: steps.journeys.start), first * HOUR


def _bars(hours: NDArray[np.int64]) -> dict[str, Any]:
    """Rows over time in at most `MOST_BARS` bars, each of as many hours."""
    width = next((w for w in _WIDTHS if len(hours) <= w * MOST_BARS), len(hours) // MOST_BARS + 1)
    padded = np.append(hours, np.zeros(-len(hours) % width, "int64"))
    return {"hours": width, "rows": padded.reshape(-1, width).sum(1).tolist()}


def _gap(gap: Gap) -> dict[str, Any]:
    return {
        "start": gap.start // 1000, "end": gap.end // 1000, "expected": round(gap.expected)
    }  # fmt: skip


def evidence(
    study: Study, finding: str, offset: int, limit: int
) -> tuple[int, list[dict[str, Any]]]:
    """How many rows a finding is about, and some of them in the order of users and time.

    Raises `KeyError` when there is no such finding.
    """
    rows = _found(study, finding)
    total = sum(map(len, rows))
    found: list[dict[str, Any]] = []
    for part, own in enumerate(rows):
        wanted = own[offset : offset + limit - len(found)]
        found += [_row(study, part, int(row)) for row in wanted]
        offset = max(offset - len(own), 0)
    return total, found


def _row(study: Study, part: int, row: int) -> dict[str, Any]:
    """A row with its user, and the journey and step (from 1) that it belongs to."""
    steps = study.parts[part]
    journeys = steps.journeys
    number = int(np.searchsorted(journeys.first_row, row, side="right")) - 1
    count = int(journeys.steps[number])
    first = int(journeys.first_step[number])
    step = int(np.searchsorted(steps.steps.first_row[first : first + count], row, side="right"))
    session = int(steps.log.columns["session"][row])
    return {
        **row_place(steps, row),
        "user": steps.log.text("user", row),
        "session": None if session == NONE else steps.log.terms["session"][session],
        "journey": journey_key(study, JourneyRef(part, number)) if count else None,
        "step": max(step, 1),
    }
