"""Start-up, funnels, onboarding and gates: the figures are the true ones, and all of them open."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.model.scope import Part, Scope
from mossy_trail.engine import funnel, gates, onboarding, segments, startup
from mossy_trail.engine.registry import EVIDENCE
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.segments import SegmentError
from mossy_trail.engine.study import Study
from tests.conftest import Demo

GROUPS = [(v, p) for v in ("3.0", "3.1", "3.2") for p in ("android", "ios")]
CHAIN = ("Welcome", "HomePier", "Alerts", "StepFree")
ONBOARDING = {"stages": [{"any": [{"screens": [screen]}]} for screen in CHAIN]}


def group_of(version: str, platform: str) -> Scope:
    parts = [
        {"property": "version", "values": [version]},
        {"property": "platform", "values": [platform]},
    ]
    return Scope(segment=json.dumps({"all": parts}))


SCOPES = [("all", Scope())] + [(f"{v} {p}", group_of(v, p)) for v, p in GROUPS]


@pytest.mark.parametrize(("group", "scope"), SCOPES)
def test_figures_are_the_planted_ones(study: Study, demo: Demo, group: str, scope: Scope) -> None:
    def planted(name: str) -> int:
        return int(demo.figures["planted"][name].get(group, 0))

    starts = startup.measure(study, scope)
    assert starts.kinds["cold"] == planted("starts")
    assert starts.left.count == planted("splash_left")
    at_gates = gates.measure(study, scope)
    assert (at_gates.tries, at_gates.failed.count) == (
        planted("codes_tried"),
        planted("codes_failed"),
    )
    by_link = next(cause for cause in at_gates.causes if cause.cause == "link")
    assert by_link.gates == planted("links_gated")
    ends = onboarding.measure(study, scope).ends
    assert ends["skipped"].count == planted("onboarding_skipped")
    got_inside = sum(ends[end].count for end in ("finished", "later", "skipped"))
    assert got_inside == planted("onboarding_finished")


def sessions(demo: Demo) -> dict[tuple[str, str], list[dict[str, str]]]:
    found: dict[tuple[str, str], list[dict[str, str]]] = {}
    for step in demo.truth:
        found.setdefault((step["user"], step["session"]), []).append(step)
    return found


def reached(steps: list[dict[str, str]]) -> tuple[int, str]:
    """How far a session gets in the chain, and where it goes from there."""
    stage, after = 0, ""
    for i, step in enumerate(steps):
        if stage < len(CHAIN) and step["screen"] == CHAIN[stage]:
            stage += 1
            after = "ended"
            if i + 1 < len(steps):
                back = steps[i + 1]["move"] in ("pop", "pop_to", "close_modal")
                after = "back" if back else f"to.{steps[i + 1]['screen']}"
    return stage, after


@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_a_funnel_counts_what_truly_happened(study: Study, demo: Demo, unit: Any) -> None:
    true = {key: reached(steps) for key, steps in sessions(demo).items()}
    if unit == "users":
        best: dict[str, tuple[int, str]] = {}
        for (user, _), found in true.items():
            if user not in best or found[0] > best[user][0]:
                best[user] = found
        told = Counter(best.values())
    else:
        told = Counter(true.values())
    whole = funnel.told(study, Scope(unit=unit), funnel.Asked.of(ONBOARDING))
    for i, stage in enumerate(whole.stages):
        assert stage.count == sum(n for (far, _), n in told.items() if far > i)
        lost = {loss.cell.split(".", 2)[2]: loss.share.count for loss in stage.losses}
        if i + 1 < len(CHAIN):
            assert lost == {after: n for (far, after), n in told.items() if far == i + 1}


def cells(study: Study, scope: Scope) -> Iterator[tuple[str, str, int]]:
    """Every figure of these measures: its measure, its name, and how many it counts."""
    starts = startup.measure(study, scope)
    counts = {"all": starts.starts, **starts.kinds, "link": starts.by_link.count}
    counts |= {"left": starts.left.count, "slow": starts.slow.starts.count}
    counts |= {"slow.ended": starts.slow.ended.count, "quick": starts.quick.starts.count}
    counts |= {f"land.{word}": share.count for word, share in starts.landings.items()}
    counts |= {bar.cell: bar.landed + bar.left for bar in starts.bins}
    for cell, count in counts.items():
        yield "start-up", json.dumps({"cell": cell}), count
    for stage in funnel.told(study, scope, funnel.Asked.of(ONBOARDING)).stages:
        figures = {stage.cell: stage.count}
        figures |= {loss.cell: loss.share.count for loss in stage.losses}
        for cell, count in figures.items():
            yield "funnel", json.dumps({"funnel": ONBOARDING, "cell": cell}), count
    chain = onboarding.measure(study, scope)
    for end, share in chain.ends.items():
        yield "onboarding", f"user.{end}", share.count
    for screen in chain.screens:
        yield "onboarding", screen.cell, screen.sessions
        for way, share in screen.ways.items():
            yield "onboarding", f"{screen.cell}.{way}", share.count
    at_gates = gates.measure(study, scope)
    for kind, way in at_gates.detours.items():
        yield "gates", kind, way.of
        yield "gates", f"{kind}.in", way.count
    for tries, count in enumerate(at_gates.needed, 1):
        yield "gates", f"needed.{tries}", count
    for cause in at_gates.causes:
        yield "gates", cause.cause, cause.gates
        for end, share in cause.outcomes.items():
            yield "gates", f"{cause.cause}.{end}", share.count


@pytest.mark.parametrize(
    "scope",
    [
        Scope(),
        Scope(unit="users"),
        group_of("3.2", "android"),
        Scope(unit="users", part=Part("3.2", by="version")),
        Scope(part=Part("2026-05-11", over="week")),
    ],
    ids=["all", "users", "segment", "version", "week"],
)
def test_every_figure_opens_to_what_it_counts(study: Study, scope: Scope) -> None:
    inside, opened = scope_mask(study, scope), 0
    for measure, figure, count in cells(study, scope):
        behind = EVIDENCE[measure](study, scope, figure)
        assert not (behind & ~inside).any()
        several = measure == "start-up" or figure.partition(".")[0] in ("asked", "link", "expired")
        # A session can hold several starts and gates; all else is counted by session or user.
        assert (behind.sum() <= count) if several else (behind.sum() == count), figure
        assert (behind.sum() > 0) == (count > 0), figure
        opened += 1
    assert opened > 90


@pytest.mark.parametrize(
    ("measure", "figure"),
    [
        ("start-up", '{"cell": "land.moon"}'),
        ("start-up", "[]"),
        ("funnel", json.dumps({"funnel": ONBOARDING, "cell": "stage.9"})),
        ("funnel", json.dumps({"funnel": {"stages": 3}, "cell": "stage.0"})),
        ("funnel", "{}"),
        ("funnel", '{"funnel": {"stages": [], "window": 1e999}, "cell": "stage.0"}'),
        ("funnel", "[" * 5000),
        ("start-up", '{"cell": "left", "slow": Infinity}'),
        ("onboarding", "screen.9"),
        ("gates", "expired.perhaps"),
    ],
)
def test_a_figure_that_there_is_not_is_said_to_be_none(
    study: Study, measure: str, figure: str
) -> None:
    with pytest.raises(KeyError):
        EVIDENCE[measure](study, Scope(), figure)


LEFT = {"measure": "start-up", "figure": '{"cell": "left"}'}
LINKED, IOS = {"start": "link"}, {"property": "platform", "values": ["ios"]}


def test_segments_are_put_together_as_sets_are(study: Study) -> None:
    def of(segment: Any) -> Any:
        return segments.of(study, json.dumps(segment))

    assert np.array_equal(of({"all": [LINKED, IOS]}), of(LINKED) & of(IOS))
    assert np.array_equal(of({"any": [LINKED, LEFT]}), of(LINKED) | of(LEFT))
    assert np.array_equal(of({"not": LEFT}), ~of(LEFT))
    users = study.index.user
    assert np.array_equal(of({"users_with": LEFT}), np.isin(users, users[of(LEFT)]))
    seen = of({"screen": "Refund"})
    assert 0 < seen.sum() < len(seen)
    two = [study.terms["user"][users[i]] for i in (0, 1)]
    assert np.array_equal(of({"users": two}), np.isin(users, users[[0, 1]]))
    assert of(LEFT).sum() == startup.measure(study, Scope()).left.count
    narrowed = Scope(segment=json.dumps({"not": LEFT}))
    assert startup.measure(study, narrowed).left.count == 0


@pytest.mark.parametrize(
    "segment",
    ["", "[]", "{}", "{", '{"all": 3}', '{"mark": "odd"}', '{"measure": "x", "figure": ""}']
    + ['{"not": ' * 20 + '{"mark": "bounce"}' + "}" * 20, '{"property": "version"}'],
)
def test_what_is_no_segment_is_said_to_be_none(study: Study, segment: str) -> None:
    with pytest.raises(SegmentError):
        segments.of(study, segment)
