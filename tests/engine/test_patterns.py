"""Patterns asked of the demo: figures, what opens behind them, and what is said of faults."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from mossy_trail.core.model.pattern import PatternError
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine.celled import Count
from mossy_trail.engine.export import steps_table
from mossy_trail.engine.funnel import FunnelParams
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.patterns import PatternFigures, PatternParams
from mossy_trail.engine.study import Study

PATTERNS = [
    "SailingsBoard .. [event=sign_in:failed] .",
    "(SailingsBoard SailingDetail){3,}",
    "^ Splash !([tab=Sailings] | SignIn)* $",
    "[param.sailing=$s] .. SeatPick[param.sailing=$s]",
    "([move=switch_tab] [move=switch_tab]) within 3s",
    "[after_return<30s] $",
    "[failed>=2]",
    "[stack=PassWallet] [prop.version=3.1|3.2 start!=warm]",
    "RateSheet[exit=closed|backgrounded]",
]


def asked(study: Study, pattern: str, **scope: Any) -> PatternFigures:
    found: PatternFigures = measured(
        study, Scope(**scope), "patterns", PatternParams(pattern=pattern)
    ).whole
    return found


@pytest.mark.parametrize("pattern", PATTERNS)
@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_every_figure_opens_as_many_as_it_says(study: Study, pattern: str, unit: Any) -> None:
    found = asked(study, pattern, unit=unit)
    assert found.met.count > 0
    assert found.met.count == getattr(found.matches, "users" if unit == "users" else "journeys")
    counts = [found.matches, found.never_began, *(one.count for one in found.next)]
    for one in found.conditions:
        counts += [one.reached, one.broke_off]
    for count in counts:
        mask = behind(study, Scope(unit=unit), "patterns", count.figure)
        assert (count.journeys, count.users) == of(study, mask), count.figure
    broke = sum(one.broke_off.journeys for one in found.conditions)
    all_ = found.matches.journeys + found.never_began.journeys + broke
    assert all_ == len(study.index.start) - odd(study)
    assert sum(one.count.times for one in found.next) == found.matches.times


def of(study: Study, mask: Any) -> tuple[int, int]:
    return int(mask.sum()), len(np.unique(study.index.user[mask]))


def odd(study: Study) -> int:
    return int(behind_all(study, odd_clocks=True))


def behind_all(study: Study, **scope: Any) -> int:
    return asked(study, ".", **scope).in_scope


def test_what_is_counted_is_what_a_plain_search_of_the_steps_finds(study: Study) -> None:
    journeys: dict[Any, list[dict[str, Any]]] = {}
    for part in study.parts:
        for step in steps_table(part).to_pylist():
            journeys.setdefault((step["user"], step["session"], step["depth"] and 0), []).append(
                step
            )
    twice = sum(
        any(
            a["move"] == b["move"] == "switch_tab" and (a["dwell_ms"] or 0) < 3000
            for a, b in zip(own, own[1:], strict=False)
            if a["dwell_ms"] is not None
        )
        for own in journeys.values()
    )
    assert asked(study, "[move=switch_tab dwell<3s] [move=switch_tab]").met.count == twice > 5
    deep = sum(any(s["depth"] >= 5 and s["below"] == "SailingDetail" for s in own) for own in
               journeys.values())  # fmt: skip
    assert asked(study, "[depth>=5 below=SailingDetail]").met.count == deep
    ends = sum(own[-1]["screen"] == "RateSheet" and len(own) > 3 for own in journeys.values())
    assert asked(study, ". . . RateSheet $").met.count == ends > 5


def test_more_held_values_than_there_is_room_for_are_said(study: Study) -> None:
    assert asked(study, "[param.sailing=$s] .. SeatPick[param.sailing=$s]").let_go == 0


def test_a_pattern_is_a_stage_of_a_funnel(study: Study) -> None:
    def counts(*stages: dict[str, Any]) -> list[int]:
        spec = json.dumps({"stages": [{"any": [stage]} for stage in stages]})
        told = measured(study, Scope(), "funnel", FunnelParams(spec=spec)).whole
        return [stage.count for stage in told.stages]

    ends = "SailingsBoard .. Receipt"
    after = {"screens": ["PassWallet"]}
    met, then = counts({"pattern": ends}, after)
    assert met == asked(study, ends).met.count > then
    assert then == asked(study, f"{ends} .. PassWallet").met.count > 0
    by_row = counts({"pattern": ends}, {"event": "sign_in", "outcome": "ok"})
    assert by_row[0] == met


@pytest.mark.parametrize(
    ("stage", "fault"),
    [
        ({"pattern": "Splash ["}, "missing at the end"),
        ({"pattern": "Splash", "screens": ["Splash"]}, "leave the other conditions out"),
    ],
)
def test_a_stage_without_a_sound_pattern_is_refused(
    study: Study, stage: dict[str, Any], fault: str
) -> None:
    spec = json.dumps({"stages": [{"any": [stage]}]})
    with pytest.raises(ValidationError, match=fault):
        measured(study, Scope(), "funnel", FunnelParams(spec=spec))


FAULTS = {
    "A [": (3, "missing at the end"),
    "[tub=Passes]": (1, "Did you mean tab?"),
    "[move=psh]": (6, "Did you mean push?"),
    "[dwell<3]": (1, "as in 3s"),
    "Splash )": (7, "not expected"),
    "Splash*": (0, "at least"),
    "SailingBoard": (0, "Did you mean SailingsBoard?"),
    "Splash [tab=Sailing]": (7, "Did you mean Sailings?"),
    "[screen=$a] [screen=$b]": (12, "Hold one alone"),
    "[screen!=$a] Splash": (0, "must say"),
    "(Splash within 2s .) within 3s": (21, "inner limit or the outer"),
    "Splash{61}": (0, "Repeat less often"),
    "Splash{0}": (6, "{2,5}"),
    "(" * 70 + "Splash" + ")" * 70: (60, "Take some away"),
    "": (0, "Name a screen"),
    "x" * 4001: (4000, "4000 characters"),
}


@pytest.mark.parametrize("pattern", FAULTS, ids=lambda text: text[:30])
def test_a_fault_says_where_it_is_and_what_to_do(study: Study, pattern: str) -> None:
    place, mend = FAULTS[pattern]
    with pytest.raises(PatternError) as caught:
        measured(study, Scope(), "patterns", PatternParams.model_construct(pattern=pattern))
    assert caught.value.start == place
    assert mend in str(caught.value)
    with pytest.raises(KeyError):
        behind(study, Scope(), "patterns", json.dumps({"pattern": pattern, "cell": ["match", ""]}))


@pytest.mark.parametrize("cell", [["moon"], ["match"], ["reached", "7"], [], "match", [["match"]]])
def test_there_is_no_other_figure(study: Study, cell: Any) -> None:
    with pytest.raises(KeyError):
        behind(study, Scope(), "patterns", json.dumps({"pattern": "Splash", "cell": cell}))


def test_counts_are_named_by_the_pattern(study: Study) -> None:
    found = asked(study, "Splash")
    assert isinstance(found.matches, Count)
    assert json.loads(found.matches.figure) == {"pattern": "Splash", "cell": ["match", ""]}
    assert found.words == "Splash"
