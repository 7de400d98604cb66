"""What a log holds that conditions can be made of, with how often each is there."""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

import numpy as np

from mossy_trail.core.model.log import EVENT, EVENTS
from mossy_trail.core.model.steps import MOVES
from mossy_trail.engine.study import Study

MOST_NAMES, MOST_VALUES = 500, 60
_CUSTOM = EVENT["custom"]


def vocabulary(study: Study) -> dict[str, Any]:
    """Screens, tabs, moves and events, each with its steps or rows, and properties with values."""
    if "vocabulary" not in study.known:
        study.known["vocabulary"] = _vocabulary(study)
    found: dict[str, Any] = study.known["vocabulary"]
    return found


def _vocabulary(study: Study) -> dict[str, Any]:
    places = study.parts[0].places if study.parts else None
    names, tabs = (places.names, places.tab_names) if places else ([], [])
    counts = study.each(
        lambda steps: (
            np.bincount(steps.screen, minlength=len(names)),
            np.bincount(steps.tab + 1, minlength=len(tabs) + 1)[1:],
            np.bincount(steps.steps.move, minlength=len(MOVES)),
            np.bincount(steps.log.columns["event"], minlength=len(EVENTS)),
            np.bincount(
                steps.log.columns["word"][steps.log.columns["event"] == _CUSTOM] + 1,
                minlength=len(study.terms["word"]) + 1,
            )[1:],
        )
    )
    screens, in_tabs, moves, events, words = (
        np.sum([one[i] for one in counts], axis=0).tolist() if counts else [] for i in range(5)
    )
    own = {word: int(n) for word, n in zip(EVENTS, events, strict=False) if word != "custom"}
    own |= {word: int(n) for word, n in zip(study.terms["word"], words, strict=False)}
    return {
        "screens": _listed(dict(zip(names, screens, strict=False))),
        "tabs": _listed(dict(zip(tabs, in_tabs, strict=False))),
        "moves": _listed(dict(zip(MOVES, moves, strict=False))),
        "events": _listed(own),
        "properties": _properties(study),
    }


def _listed(counts: dict[str, int]) -> list[dict[str, Any]]:
    some = [(name, n) for name, n in counts.items() if n]
    some.sort(key=lambda one: (-one[1], one[0]))
    return [{"name": name, "count": n} for name, n in some[:MOST_NAMES]]


def _properties(study: Study) -> list[dict[str, Any]]:
    values: dict[str, Counter[str]] = {}
    sets: np.ndarray[Any, Any] = sum(
        study.each(
            lambda steps: np.bincount(
                steps.log.columns["props"][steps.journeys.first_row] + 1,
                minlength=len(study.terms["props"]) + 1,
            )
        ),
        np.zeros(len(study.terms["props"]) + 1, "i8"),
    )
    for text, count in zip(study.terms["props"], sets[1:].tolist(), strict=True):
        for name, value in json.loads(text).items():
            values.setdefault(name, Counter())[str(value)] += count
    return [
        {
            "name": name,
            "values": [{"name": value, "count": n} for value, n in found.most_common(MOST_VALUES)],
            "more": max(len(found) - MOST_VALUES, 0),
        }
        for name, found in sorted(values.items())
    ]
