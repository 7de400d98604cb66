"""Compare, Findings, figures over time, and the report: held to the views, to what the demo was
made to show, and to an app without any faults."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.measures.moments import Ways
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.core.model.scope import Part, Scope
from mossy_trail.core.stats.intervals import Share
from mossy_trail.demo.simulator import Habits, simulate, write
from mossy_trail.engine import funnel, report
from mossy_trail.engine.celled import Count
from mossy_trail.engine.compare import Comparison, Sides, compare, everything
from mossy_trail.engine.findings import as_they_come, findings
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.rates import Asked, Shares, counted
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.scoped import groups_of
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import trend, value_of
from mossy_trail.intake.reader import read_files
from tests.campaign import LONG
from tests.conftest import ODD_NAMES

UNITS: tuple[Any, ...] = ("sessions", "users")
Told = dict[tuple[str, str], tuple[int, int]]


@pytest.fixture(scope="module")
def sound(app_map: AppMap, tmp_path_factory: pytest.TempPathFactory) -> Study:
    """An app that is alike for everyone, and has no faults."""
    demo = simulate(40_000, 7, None, Habits(flawed=False))
    path, *_ = write(demo, tmp_path_factory.mktemp("sound"))
    return Study(split(read_files([path]).log, 3), app_map)


def views(study: Study, scope: Scope) -> Told:
    """What the views tell of their figures: how often, and of how many."""

    def ask(name: str, **given: Any) -> Any:
        return measured(study, scope, name, _params(name, given)).whole

    def of(measure: str, figure: Any, own: Share) -> tuple[tuple[str, str], tuple[int, int]]:
        return (measure, figure), (own.count, own.of)

    def told() -> Iterator[tuple[tuple[str, str], tuple[int, int]]]:
        start = ask("start-up")
        cell = {f"land.{word}": own for word, own in start.landings.items()}
        cell |= {"link": start.by_link, "left": start.left, "slow": start.slow.starts}
        cell |= {"slow.ended": start.slow.ended, "quick.ended": start.quick.ended}
        yield from (
            of("start-up", json.dumps({"cell": k, "slow": 2000}), own) for k, own in cell.items()
        )
        sign_in = ask("sign-in")
        yield from (of("sign-in", s.figure, s.of_first) for s in sign_in.stages[1:])
        yield from (of("sign-in", one.figure, one.share) for one in sign_in.losses)
        gates = ask("gates")
        yield of("gates", "failed", gates.failed)
        for cause in gates.causes:
            yield from (of("gates", f"{cause.cause}.{k}", s) for k, s in cause.outcomes.items())
        yield from (of("gates", f"{kind}.in", own) for kind, own in gates.detours.items())
        chain = ask("onboarding")
        yield from (of("onboarding", f"user.{end}", own) for end, own in chain.ends.items())
        for screen in chain.screens:
            yield from (of("onboarding", f"{screen.cell}.{w}", s) for w, s in screen.ways.items())
        for tab in ask("tabs").tabs:
            yield of("tabs", tab.visits.figure, tab.used)
            for count in (tab.root, tab.resumed, tab.again, tab.root_back, tab.mismatch):
                yield ("tabs", count.figure), (count.times, tab.visits.times)
        loops = ask("loops")
        for one in loops.screens:
            yield of("loops", one.backs.figure, one.back_share)
            for count in (one.mistake, one.dead_end, one.stuck, one.piled):
                yield ("loops", count.figure), (count.times, one.visits.times)
        everyone = len(set(study.index.user.tolist()))
        whole = everyone if scope.unit == "users" else loops.in_scope
        for count in (*loops.kinds.values(), *(loop.count for loop in loops.loops)):
            yield ("loops", count.figure), (_once(count, scope), whole)
        links = ask("links")
        for links_of in (links.every, *links.patterns, *links.sources, *links.starts):
            opened = links_of.opened.times
            for count in (*links_of.landed.values(), links_of.placeholder):
                yield ("links", count.figure), (count.times, opened)
        for one in ask("drop-offs").screens:
            yield of("drop-offs", one.exits.figure, one.rate)
            yield ("drop-offs", one.true.figure), (one.true.times, one.visits.times)
        spec = funnel.onboarding(study.app_map)
        for i, stage in enumerate(ask("funnel", spec=json.dumps(spec)).stages[1:], 1):
            yield of("funnel", f"stage.{i}", stage.of_previous)

    return dict(told())


def _once(count: Count, scope: Scope) -> int:
    return count.users if scope.unit == "users" else count.journeys


def _params(name: str, given: dict[str, Any]) -> Any:
    return MEASURES[name].params(**given)


def _address(measure: str, figure: str) -> tuple[str, str]:
    return measure, json.loads(figure)["cell"] if measure == "funnel" else figure


def test_findings_come_measure_by_measure(study: Study) -> None:
    scope = Scope(unit="users", segment=json.dumps({"until": "2026-05-24"}))
    *before, last = as_they_come(study, scope)
    assert [told.asked for told in (*before, last)] == list(range(1, last.to_ask + 1))
    assert all(a.looked_at <= b.looked_at for a, b in pairwise([*before, last]))
    assert any(told.found for told in before[:-1])
    assert list(as_they_come(study, scope)) == [last] == [findings(study, scope)]
    known = {one.key: one.sentence for one in last.found}
    for told in before:
        assert all(one.sentence == known[one.key] for one in told.found if one.key in known)


@pytest.mark.parametrize("unit", UNITS)
def test_figures_are_those_of_their_views(unit: Any, study: Study) -> None:
    """Of both groups in Compare, of a value told over time, and of what is kept for the report."""
    found = compare(study, Scope(unit=unit), Sides("3.2", "3.1", "version"))
    parts = [Scope(unit=unit, part=Part(value, by="version")) for value in ("3.2", "3.1")]
    told = [views(study, part) for part in parts]
    held: dict[str, int] = {}
    for row in found.figures:
        address = _address(row.measure, row.figure)
        if row.timed or not all(address in own for own in told):
            continue
        held[row.measure] = held.get(row.measure, 0) + 1
        if "loops" in address and row.figure.startswith(('["kind', '["loop')):
            sides = [(side.count,) for side in (row.one, row.other)]
            assert sides == [own[address][:1] for own in told], row
            continue
        assert [(s.count, s.of) for s in (row.one, row.other)] == [t[address] for t in told], row
    assert held.keys() >= {"start-up", "sign-in", "gates", "onboarding", "tabs", "loops", "links"}
    assert held.keys() >= {"drop-offs", "funnel"}
    assert sum(held.values()) > 150
    some = [row for row in found.figures if not row.timed][:: 40 if unit == "users" else 25]
    for row in some:
        own = value_of(study, parts[0], row.measure, row.figure, False)
        assert own
        assert (own.count, own.of) == (row.one.count, row.one.of)


def test_every_figure_of_compare_opens_the_journeys_that_it_counts(study: Study) -> None:
    found = compare(study, Scope(), Sides("3.2", "", "version"))
    part = Scope(part=Part("3.2", by="version"))
    rows = [row for row in found.figures if not row.timed and row.measure != "funnel"][::6]
    assert len(rows) > 30
    for row in rows:
        journeys = int(behind(study, part, row.measure, row.figure).sum())
        assert min(row.one.count, 1) <= journeys <= max(row.one.count, 0), row


def test_groups_may_be_any_and_what_is_in_both_is_left_out(study: Study) -> None:
    early, late = json.dumps({"until": "2026-05-17"}), json.dumps({"since": "2026-05-15"})
    found = compare(study, Scope(), Sides(early, late))
    days = study.index.start // 86_400_000_000
    first = int(np.datetime64("2026-05-15").astype(int))
    both = int(((days >= first) & (days <= first + 2)).sum())
    assert found.in_both == both > 0
    assert found.one.journeys + found.other.journeys + both == len(days)
    figure = json.dumps({"measure": "loops", "figure": '["kind", "ping_pong"]'})
    ping = compare(study, Scope(), Sides(figure, ""))
    assert ping.one.journeys + ping.other.journeys == len(days)
    row = next(r for r in ping.figures if r.figure == '["kind", "ping_pong"]')
    assert (row.one.count, row.other.count) == (ping.one.journeys, 0)
    with pytest.raises(KeyError):
        compare(study, Scope(), Sides("9.9", "3.1", "version"))
    assert compare(study, Scope(), Sides("3.2", "3.2", "version")).looked_at == 0


def test_what_differs_by_design_is_found_by_version(study: Study) -> None:
    """The slow splash and the ping-pong, in their directions; and like journeys agree."""
    found = compare(study, Scope(), Sides("3.2", "3.1", "version"))
    beyond = {(row.measure, row.figure): row for row in found.figures if row.beyond}
    slow = beyond["start-up", json.dumps({"cell": "slow", "slow": 2000})]
    assert slow.gap.low > 0.2
    board = '["loop", "ping_pong", "SailingsBoard", "SailingDetail"]'
    assert beyond["loops", board].gap.high < 0
    like = beyond["loops", board].like
    assert like
    assert like.high < 0
    assert not any(row.disagree for row in beyond.values())
    names = " ".join(stratum.name for stratum in found.strata)
    assert {"android", "ios", "new", "returning"} <= set(names.replace(",", "").split())


@pytest.mark.parametrize("unit", UNITS)
def test_what_is_told_does_not_depend_on_how_users_are_parted(
    unit: Any, demo_log: Log, app_map: AppMap
) -> None:
    """Nor do findings; and of every share of every measure the groups add up to the whole."""
    scope, sides = Scope(unit=unit), Sides("ios", "", "platform")
    one, other = (Study(split(demo_log, parts), app_map) for parts in (1, 5))
    assert compare(one, scope, sides) == compare(other, scope, sides)
    assert findings(one, scope) == findings(other, scope)
    platform = groups_of(one, scope, "platform")
    whole = np.zeros(len(platform.code), "i8"), 1
    ways = [whole, (platform.code.astype("i8"), len(platform.values))]
    every = counted(one, scope, everything(one), Ways.among(ways))
    shares = [told for told in every if _is_shares(told)]
    assert sum(len(told.figures) for told in shares) > 300
    for told in shares:
        for column in ("x", "y"):
            single, groups = (getattr(of, column) for of in told.of)
            assert np.array_equal(single[:, 0], groups.sum(1))
        assert (told.of[0].x <= told.of[0].y).all() or told.figures[0].measure == "tabs"


def _is_shares(told: Any) -> bool:
    return isinstance(told, Shares)


PAIRS = 200 if LONG else 24


def test_with_no_true_difference_few_pages_flag_anything(sound: Study) -> None:
    """Users put into two groups by chance alone."""
    dice, flagged, covered = random.Random(5), 0, []
    for i in range(PAIRS):
        share = dice.choice([0.5, 0.3, 0.15])
        some = [user for user in sound.terms["user"] if dice.random() < share]
        sides = Sides(json.dumps({"users": some}), "")
        found = compare(sound, Scope(unit=UNITS[i % 4 == 0]), sides)
        flagged += any(row.beyond or row.disagree for row in found.figures)
        told = [row.gap for row in found.figures if row.gap.p is not None]
        covered += [gap.low <= 0 <= gap.high for gap in told]
    assert flagged <= 0.125 * PAIRS
    assert 0.93 < np.mean(covered) < 0.985


PLANTED = (
    ("In version 3.2 on android,", "took 2 s or longer"),
    ("sessions on Alerts left the app",),
    ("In platform ios,", "no way out, on RateSheet"),
    ("In version 3.1,", "SailingsBoard → SailingDetail → SailingsBoard, back and forth"),
    ("tries to sign in failed",),
    ("visits of Passes had another tab reported",),
    ("piled up another copy of PassWallet",),
    ("links from web landed on “not found”",),
    ("links from notification bore a placeholder",),
    ("In version 3.1,", "sent round by redirects"),
)


@pytest.fixture(scope="module")
def large(app_map: AppMap, tmp_path_factory: pytest.TempPathFactory) -> Study:
    """Large enough for the rarest fault to be told from chance."""
    path, *_ = write(simulate(220_000, 1), tmp_path_factory.mktemp("large"))
    return Study(split(read_files([path]).log, 4), app_map)


@pytest.mark.parametrize("unit", UNITS)
def test_all_that_was_planted_is_among_the_first_ten_findings(unit: Any, large: Study) -> None:
    found = findings(large, Scope(unit=unit)).found
    sentences = [one.sentence for one in found[:10]]
    for words in PLANTED:
        assert any(all(word in said for word in words) for said in sentences), (words, sentences)
    assert all(one.q <= 0.05 and one.touched > 0 for one in found)
    assert len({one.key for one in found}) == len(found)


def test_a_finding_opens_its_journeys_and_its_value_is_the_figures(study: Study) -> None:
    for one in findings(study, Scope()).found[:10]:
        scope = Scope(segment=one.segment)
        assert behind(study, scope, one.measure, one.figure).any(), one.sentence
        value = value_of(study, scope, one.measure, one.figure, one.timed)
        assert value
        assert (value.count, value.of) == (one.own.count, one.own.of), one.sentence
        assert f"{value.value * 100:.1f}".removesuffix(".0") in one.sentence


def test_an_app_without_faults_has_nothing_beyond_chance(
    sound: Study, app_map: AppMap, tmp_path: Path
) -> None:
    assert findings(sound, Scope()).looked_at > 500
    assert findings(sound, Scope()).found == []
    logs = 20 if LONG else 2
    told = 0
    for seed in range(logs):
        path, *_ = write(simulate(20_000, seed, None, Habits(flawed=False)), tmp_path / str(seed))
        own = Study(split(read_files([path]).log, 1), app_map)
        told += bool(findings(own, Scope()).found)
    assert told <= max(0.1 * logs, 0)


def test_a_change_is_found_on_its_day(app_map: AppMap, tmp_path: Path) -> None:
    """From 18 May on four in ten of the tries to sign in fail that had gone well before."""
    demo = simulate(60_000, 9, None, Habits(flawed=False))
    for visit in demo.visits:
        late = visit.rows[0]["time"] >= 1_779_062_400_000
        for row in visit.rows:
            if late and row.get("outcome") == "ok" and row["event"] == "sign_in":
                row["outcome"] = "failed" if visit.dice.random() < 0.4 else "ok"
    path, *_ = write(demo, tmp_path)
    changed = Study(split(read_files([path]).log, 2), app_map)
    told = trend(changed, Scope(), "gates", "failed", over="day")
    [change] = told.changes
    assert "2026-05-16" <= change.day <= "2026-05-20"
    assert change.after.value > change.before.value + 0.2
    whole = told.whole
    assert whole
    assert sum(p.figure.count for p in told.points if p.figure) == whole.count
    [first] = findings(changed, Scope()).found
    assert first.kind == "change"
    assert any("of tries to sign in failed; before" in one for one in (first.sentence, *first.also))
    assert json.loads(first.segment)["since"] == change.day


@pytest.mark.parametrize("unit", UNITS)
def test_the_parts_of_a_figure_are_the_whole(unit: Any, study: Study) -> None:
    """By property and by week, for shares that count times and for those that count who."""
    for measure, figure in (
        ("drop-offs", '["exits", "Alerts"]'),
        ("loops", '["kind", "ping_pong"]'),
        ("gates", "failed"),
    ):
        for by, over in (("version", ""), ("platform", ""), ("", "week")):
            told = trend(study, Scope(unit=unit), measure, figure, by, over)
            parts = [point.figure for point in told.points if point.figure]
            assert told.whole
            if unit == "sessions" or not over:
                assert sum(p.count for p in parts) == told.whole.count, (measure, by, over)
                assert sum(p.of for p in parts) == told.whole.of


def test_days_with_a_gap_are_poor_and_releases_are_marked(app_map: AppMap, tmp_path: Path) -> None:
    demo = simulate(30_000, 3)
    start = 1_778_976_000_000  # 17 May 2026
    demo.visits[:] = [
        visit
        for visit in demo.visits
        if not start <= visit.rows[0]["time"] < start + 86_400_000
        and (visit.person.version != "3.2" or visit.rows[0]["time"] > 1_778_500_000_000)
    ]
    path, *_ = write(demo, tmp_path)
    study = Study(split(read_files([path]).log, 2), app_map)
    told = trend(study, Scope(), "start-up", '{"cell": "slow", "slow": 2000}', over="day")
    weeks = trend(study, Scope(), "gates", "failed", over="week")
    assert [point.value for point in weeks.points if point.poor] == ["2026-05-11"]
    assert not any(point.poor for point in told.points), "of the day itself nothing is told"
    assert [(one.version, one.day) for one in told.releases] == [("3.2", "2026-05-11")]


def test_a_report_is_text_whatever_names_are_in_it(study: Study) -> None:
    """No scripts, nothing that breaks out of its place, old and new value, and few users."""
    one = findings(study, Scope()).found[0]
    item = report.item_of(Scope(), one)
    odd = " ".join(ODD_NAMES) + "<script>alert(1)</script> [x](y) `z`"
    few = replace(item.was, users=5)
    told = report.Report(
        odd,
        "26 November 2026",
        report.facts(study, Scope()),
        [
            replace(item, sentence=odd, note=odd, where=odd, was=few, now=None, kept="1 May 2026"),
            replace(item, now=replace(item.was, count=1)),
            item,
        ],
    )
    html, markdown = report.html(told), report.markdown(told)
    assert "<script" not in html
    assert "onerror" not in html or "&lt;" in html
    assert html.count("<section>") == 4
    assert html.count("<svg") == 3
    assert "there is nothing to count any more" in html
    assert "Data or map have changed" in html
    assert "Few users" in html
    assert "<script" not in markdown.replace("\\<script", "")
    assert "\\[x\\]" in markdown
    assert f"{len(study.index.start):,} of" in html
    assert report.html(replace(told, items=[])).count("Nothing was kept") == 1


def test_a_kept_funnel_and_pattern_are_compared_too(study: Study) -> None:
    spec = {"stages": [{"name": "in", "any": [{"tabs": ["Sailings"]}]},
                       {"name": "wallet", "any": [{"screens": ["PassWallet"]}]}]}  # fmt: skip
    kept = [
        Asked.of_funnel(spec, "To the wallet"),
        Asked("patterns", {"pattern": "SailingsBoard SailingDetail"}, "Looked"),
        Asked("patterns", {"pattern": "NoSuchScreen"}, "gone"),
    ]
    found: Comparison = compare(study, Scope(), Sides("ios", "android", "platform"), kept)
    names = {row.name for row in found.figures}
    assert {"To the wallet", "Looked"} <= names
    assert "gone" not in names
