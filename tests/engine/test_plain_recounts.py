"""The views' figures counted again, plainly, from exported steps and the rows of the file.

Whatever the replay makes of a log, the same steps must give the same figures to whoever reads the
words on the page and counts by hand. So these recounts know nothing of labels, cells or parts.
"""

from __future__ import annotations

import csv
import json
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator
from datetime import datetime, timedelta
from itertools import groupby, pairwise
from pathlib import Path
from statistics import median
from typing import Any, NamedTuple

import pytest
import yaml

import mossy_trail as mt
from mossy_trail.demo.load import MAP
from mossy_trail.demo.noise import roughen
from mossy_trail.demo.simulator import simulate, write_csv
from mossy_trail.engine.celled import Count

APP = yaml.safe_load(MAP.read_text())
ROLE = {screen["name"]: screen.get("role", "content") for screen in APP["screens"]}
CHAIN = APP["funnels"]["onboarding"]
WAY_IN = ("sign_in", "sign_up", "recovery")
BACK = ("pop", "pop_to", "close_modal")
Step = dict[str, Any]


class Journey(NamedTuple):
    user: str
    steps: list[Step]
    rows: list[dict[str, str]]
    """Those of the file, in order, where each has its session's id."""


class Told(NamedTuple):
    trail: mt.Trail
    journeys: list[Journey]

    def times(self, of: Callable[[Journey], Iterable[Hashable]]) -> dict[Hashable, Times]:
        """Of each thing that happened in journeys how often it did, in how many, of how many
        users."""
        journeys, users = defaultdict(list), defaultdict(set)
        for journey in self.journeys:
            for what, many in Counter(of(journey)).items():
                journeys[what].append(many)
                users[what].add(journey.user)
        return {
            what: Times(sum(each), len(each), len(users[what])) for what, each in journeys.items()
        }


class Times(NamedTuple):
    times: int = 0
    journeys: int = 0
    users: int = 0


def plain(count: Count) -> Times:
    return Times(count.times, count.journeys, count.users)


def equal(told: dict[Hashable, Count], counted: dict[Hashable, Times]) -> None:
    """What is told of each thing, and of nothing else."""
    assert {what: plain(count) for what, count in told.items() if count.times} == counted


@pytest.fixture(scope="module", params=["clean", "rough", "views", "one platform"])
def told(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Told:
    path = tmp_path_factory.mktemp("recount") / "log.csv"
    rows = list(simulate(40_000, 5).rows)
    if request.param == "rough":
        rows, _ = roughen(rows, 2)
    if request.param == "views":
        rows = [row for row in rows if row["event"] == "screen_view"]
    write_csv(rows, path)
    trail = mt.read(path, map=MAP)
    if request.param == "one platform":
        trail = trail.where({"property": "platform", "values": ["ios"]})
    return Told(trail, list(journeys_of(trail.steps.to_pylist(), by_session(path))))


ROWS_TOO = pytest.mark.parametrize("told", ["clean", "one platform"], indirect=True)
"""Where every row has the id of its session."""


def by_session(path: Path) -> dict[str, list[dict[str, str]]]:
    with path.open() as file:
        rows = [row for row in csv.DictReader(file) if is_time(row["time"])]
    found: dict[str, list[dict[str, str]]] = defaultdict(list)
    for row in sorted(rows, key=lambda row: datetime.fromisoformat(row["time"])):
        found[row["session"]].append(row)
    return found


def is_time(text: str) -> bool:
    return re.match(r"\d{4}-\d\d-\d\dT", text) is not None


def journeys_of(steps: list[Step], rows: dict[str, list[dict[str, str]]]) -> Iterator[Journey]:
    number = 0
    numbers = []
    for step in steps:
        number += step["step"] == 1
        numbers.append(number)
    for _, own in groupby(zip(numbers, steps, strict=True), key=lambda one: one[0]):
        walked = [step for _, step in own]
        yield Journey(walked[0]["user"], walked, rows.get(walked[0]["session"], []))


def users(journeys: Iterable[Journey]) -> int:
    return len({journey.user for journey in journeys})


# Tabs


class Visit(NamedTuple):
    tab: str
    by: str
    depth: int
    since: datetime
    steps: list[Step]


def visits(journey: Journey) -> list[Visit]:
    """Runs of steps in a tab, with the sheets over it; screens outside end one."""
    found: list[Visit] = []
    open_ = False
    for step in journey.steps:
        if step["region"] == "outside":
            open_ = False
        elif step["region"] == "tab" and not (open_ and found[-1].tab == step["tab"]):
            found.append(Visit(step["tab"], step["move"], step["depth"], step["time"], [step]))
            open_ = True
        elif open_:
            found[-1].steps.append(step)
    return found


def chosen(visit: Visit) -> bool:
    return visit.by == "switch_tab"


def test_tabs(told: Told) -> None:
    whole = told.trail.tabs().whole
    by_tab = {tab.name: tab for tab in whole.tabs}

    def of(kind: str) -> dict[Hashable, Count]:
        return {name: getattr(tab, kind) for name, tab in by_tab.items()}

    def where(wanted: Callable[[Visit], bool]) -> dict[Hashable, Times]:
        return told.times(lambda j: [one.tab for one in visits(j) if wanted(one)])

    equal(of("visits"), where(lambda _: True))
    equal(of("first"), told.times(lambda j: [one.tab for one in visits(j)[:1]]))
    equal(of("resumed"), where(lambda one: chosen(one) and one.depth > 1))
    equal(of("root"), where(lambda one: chosen(one) and one.depth == 1))
    ways = {(way.start, way.end): way.count for way in whole.switches}
    equal(ways, told.times(lambda j: [(a.tab, b.tab) for a, b in pairwise(visits(j)) if chosen(b)]))
    flips = {(way.start, way.end): way.count for way in whole.flips}
    assert {tuple(sorted(way)) for way in flips} == {
        tuple(sorted(way)) for way in told.times(quick_looks)
    }
    assert sorted(plain(one) for one in flips.values()) == sorted(told.times(quick_looks).values())
    for name, tab in by_tab.items():
        own = [one for journey in told.journeys for one in visits(journey) if one.tab == name]
        stays = [[step["dwell_ms"] for step in one.steps] for one in own]
        known = [sum(stay) for stay in stays if None not in stay]
        assert (tab.dwell.median if tab.dwell else None) == (
            pytest.approx(median(known), abs=1) if known else None
        )
        deep = [max(s["depth"] for s in one.steps if s["region"] == "tab") for one in own]
        assert (tab.deepest.median if tab.deepest else None) == (median(deep) if deep else None)


def quick_looks(journey: Journey) -> list[Hashable]:
    """There and back, each time by choosing the tab, within ten seconds by the clock."""
    found = []
    own = visits(journey)
    for a, b, c in zip(own, own[1:], own[2:], strict=False):
        quick = c.since - b.since < timedelta(seconds=10)
        if a.tab == c.tab != b.tab and chosen(b) and chosen(c) and quick:
            found.append(tuple(sorted([b.tab, c.tab])))
    return found


# Drop-offs


def test_drop_offs(told: Told) -> None:
    whole = told.trail.drop_offs().whole
    by_screen = {one.screen: one for one in whole.screens}

    def of(kind: str) -> dict[Hashable, Count]:
        return {name: getattr(one, kind) for name, one in by_screen.items()}

    def split(kind: str) -> dict[Hashable, Count]:
        return {
            (name, word): count
            for name, one in by_screen.items()
            for word, count in getattr(one, kind).items()
        }

    ended = [j for j in told.journeys if j.steps[-1]["exit"] != "cut"]
    assert whole.ended == len(ended)
    equal(of("visits"), told.times(lambda j: [step["screen"] for step in j.steps]))
    equal(of("exits"), told.times(lambda j: [end(j)["screen"]] if cut(j) else []))
    equal(split("kinds"), told.times(lambda j: [(end(j)["screen"], end(j)["exit"])] * cut(j)))
    equal(split("moves"), told.times(lambda j: [(end(j)["screen"], end(j)["move"])] * cut(j)))
    lengths = [len(journey.steps) for journey in told.journeys]
    for one in whole.by_steps:
        assert one.journeys == sum(length >= one.mark for length in lengths)
    for name, one in by_screen.items():
        before = Counter(
            j.steps[-2]["screen"]
            for j in ended
            if len(j.steps) > 1 and j.steps[-1]["screen"] == name
        )
        assert Counter({w: c.times for w, c in one.before.items()}) <= before
        assert sorted(c.times for c in one.before.values()) == sorted(
            (n for _, n in before.most_common(len(one.before))),
        )


def end(journey: Journey) -> Step:
    return journey.steps[-1]


def cut(journey: Journey) -> bool:
    """Whether it ended by itself."""
    return end(journey)["exit"] != "cut"


@ROWS_TOO
def test_true_exits(told: Told) -> None:
    """Not where the user goes on within a day where they were, past a splash."""
    assert len(told.journeys) == len(told.trail.journeys)
    by_user = defaultdict(list)
    for place, journey in enumerate(told.journeys):
        by_user[journey.user].append(place)
    after = {a: b for own in by_user.values() for a, b in pairwise(own)}
    pauses = set()
    for place, follow in after.items():
        first = next(
            (s for s in told.journeys[follow].steps if ROLE.get(s["screen"]) != "splash"),
            told.journeys[follow].steps[0],
        )
        last = datetime.fromisoformat(told.journeys[place].rows[-1]["time"])
        begun = datetime.fromisoformat(told.journeys[follow].rows[0]["time"])
        if begun - last < timedelta(days=1) and first["screen"] == end_of(told, place):
            pauses.add(place)
    numbers = {id(journey): place for place, journey in enumerate(told.journeys)}
    counted = told.times(
        lambda j: [end(j)["screen"]] if cut(j) and numbers[id(j)] not in pauses else []
    )
    equal({one.screen: one.true for one in told.trail.drop_offs().whole.screens}, counted)


def end_of(told: Told, place: int) -> str:
    return str(end(told.journeys[place])["screen"])


@ROWS_TOO
@pytest.mark.parametrize(("by", "over"), [("version", ""), ("", "day"), ("", "week")])
def test_groups_and_days(told: Told, by: str, over: str) -> None:
    """A session is of the day, and has the properties, of its first row."""
    figure = next(o for o in told.trail.drop_offs().whole.screens if o.screen == "SailingsBoard")
    ends, of = Counter(), Counter()
    for journey in told.journeys:
        group = journey.rows[0][by] if by else day_of(journey, over)
        of[group] += sum(step["screen"] == "SailingsBoard" for step in journey.steps)
        ends[group] += cut(journey) and end(journey)["screen"] == "SailingsBoard"
    points = told.trail.trend("drop-offs", figure.exits.figure, by, over).points
    found = {p.value: (p.figure.count, p.figure.of) for p in points if p.figure and p.figure.of}
    assert found == {group: (ends[group], many) for group, many in of.items() if many}


def day_of(journey: Journey, over: str) -> str:
    day = datetime.fromisoformat(journey.rows[0]["time"]).date()
    return str(day if over == "day" else day - timedelta(days=day.weekday()))


# Going back, and being stuck


def test_ways_back(told: Told) -> None:
    whole = told.trail.loops().whole
    screens = {one.name: one for one in whole.screens}

    def left_by_back(journey: Journey, quick: bool = False) -> list[Hashable]:
        return [
            a["screen"]
            for a, b in pairwise(journey.steps)
            if b["move"] in BACK and (not quick or a["dwell_ms"] < 3000)
        ]

    equal({name: one.backs for name, one in screens.items()}, told.times(left_by_back))
    quick = told.times(lambda j: left_by_back(j, quick=True))
    equal({name: one.mistake for name, one in screens.items()}, quick)
    piled = told.times(lambda j: [s["screen"] for s in j.steps if "piled_up" in s["marks"]])
    equal({name: one.piled for name, one in screens.items()}, piled)
    went = [j for j in told.journeys if left_by_back(j)]
    assert (whole.went_back.journeys, whole.went_back.users) == (len(went), users(went))
    assert whole.most_deep == max(s["depth"] for j in told.journeys for s in j.steps)


# Links

PATTERNS = {
    link["pattern"]: (
        re.compile(re.sub(r"\\\{\w+\\\}", "[^/]+", re.escape(link["pattern"]))),
        link["screen"],
    )
    for link in APP["links"]
}


def pattern_of(uri: str) -> tuple[str, str | None]:
    """Of several that fit, the one that leaves least open."""
    fitting = [(p, screen) for p, (form, screen) in PATTERNS.items() if form.fullmatch(uri)]
    return min(fitting, key=lambda one: one[0].count("{"), default=("no pattern", None))


def test_links(told: Told) -> None:
    """Of those that bear a step: opened, and where they landed."""
    whole = told.trail.links().whole
    landings = told.times(lambda j: [one.end for one in landed(j)])
    counts = {word: plain(count) for word, count in whole.every.landed.items()}
    assert {w: n for w, n in counts.items() if w != "nothing" and n.times} == landings
    for kind, rows in (("pattern", whole.patterns), ("source", whole.sources)):
        found = told.times(lambda j, kind=kind: [(getattr(o, kind), o.end) for o in landed(j)])
        equal(
            {
                (row.name, word): count
                for row in rows
                for word, count in row.landed.items()
                if word != "nothing"
            },
            found,
        )

    for row in whole.patterns:
        more = [o.more for j in told.journeys for o in landed(j) if o.pattern == row.name]
        assert (row.then.more.median if row.then.more else None) == (median(more) if more else None)


class Landed(NamedTuple):
    pattern: str
    source: str
    end: str
    more: int
    """Steps after the one on which it landed."""


def landed(journey: Journey) -> list[Landed]:
    found = []
    for i, step in enumerate(journey.steps):
        if step["link"] is None:
            continue
        pattern, target = pattern_of(step["link"])
        if ROLE.get(step["screen"]) == "not_found":
            how = "not_found"
        elif step["screen"] == target:
            how = "target"
        elif ROLE.get(step["screen"]) == "sign_in":
            wanted = step["wanted"] or target
            came = [k for k, later in enumerate(journey.steps) if later["screen"] == wanted]
            there = next((k for k in came if k > i), None)
            how = "lost" if there is None else "recovered"
            i = i if there is None else there
        else:
            how = "fallback"
        found.append(Landed(pattern, step["source"] or "", how, len(journey.steps) - 1 - i))
    return found


# Onboarding


def test_onboarding(told: Told) -> None:
    whole = told.trail.onboarding().whole
    for place, screen in enumerate(whole.screens):
        on = [j for j in told.journeys if any(s["screen"] == screen.screen for s in j.steps)]
        assert screen.sessions == len(on)
        for way, share in screen.ways.items():
            those = [j for j in on if way in ways_on(j, place)]
            assert (way, share.count, share.of) == (way, len(those), len(on))
        dwell = [
            s["dwell_ms"]
            for j in on
            for s in j.steps
            if s["screen"] == screen.screen and s["dwell_ms"] is not None
        ]
        assert not dwell or screen.dwell.median == pytest.approx(median(dwell), abs=1)
    begun = {j.user for j in told.journeys if any(s["screen"] in CHAIN for s in j.steps)}
    assert whole.begun == len(begun) == sum(share.count for share in whole.ends.values())
    finished = {j.user for j in told.journeys if "on" in ways_on(j, len(CHAIN) - 1)}
    done = whole.ends["finished"].count + whole.ends["later"].count
    assert done == len(finished)


def ways_on(journey: Journey, place: int) -> set[str]:
    """By which ways the chain's screen at this place was left."""
    found = set()
    for step, after in zip(journey.steps, [*journey.steps[1:], None], strict=True):
        if step["screen"] != CHAIN[place]:
            continue
        if after is None:
            found.add("ended")
            continue
        next_place = CHAIN.index(after["screen"]) if after["screen"] in CHAIN else None
        if after["move"] in BACK or (next_place is not None and next_place < place):
            found.add("back")
        elif next_place is not None and next_place > place:
            found.add("on")
        elif after["region"] == "tab":
            found.add("on" if place == len(CHAIN) - 1 else "skipped")
        else:
            found.add("elsewhere")
    return found


# Start-up and gates, which rows tell too


@ROWS_TOO
def test_start_up(told: Told) -> None:
    whole = told.trail.start_up().whole
    starts = [start for journey in told.journeys for start in starts_of(journey)]
    assert whole.starts == len(starts)
    assert whole.kinds == {
        kind: sum(start.kind == kind for start in starts) for kind in ("cold", "warm", "recreated")
    }
    cold = [start for start in starts if start.kind == "cold"]
    took = [start.took for start in cold if start.took is not None]
    assert whole.left.count == len(cold) - len(took)
    assert whole.times.median == pytest.approx(median(took), abs=1)
    where = Counter(start.where for start in starts if start.kind != "recreated")
    recreated = whole.kinds["recreated"]
    for word, share in whole.landings.items():
        assert where[word] <= share.count <= where[word] + recreated, word
    slow = [start for start in cold if start.took is not None and start.took >= 2000]
    assert (whole.slow.starts.count, whole.slow.starts.of) == (len(slow), len(took))
    assert whole.slow.ended.count == sum(start.ended for start in slow)


class Start(NamedTuple):
    kind: str
    took: float | None
    ended: bool
    where: str = ""


def starts_of(journey: Journey) -> Iterator[Start]:
    """Of a journey that did not just end with the log."""
    at = [i for i, row in enumerate(journey.rows) if row["event"] in ("app_start", "app_recreate")]
    warm = [] if any(journey.rows[i]["event"] == "app_start" for i in at) else [0]
    begin = sorted({*at, *warm})
    for i, after in zip(begin, [*begin[1:], None], strict=True):
        row = journey.rows[i]
        since = datetime.fromisoformat(row["time"])
        until = datetime.fromisoformat(journey.rows[after]["time"]) if after else None
        if row["event"] == "app_recreate":
            yield Start("recreated", None, False)
            continue
        landing = next(
            (
                step
                for step in journey.steps
                if step["time"] >= since
                and (until is None or step["time"] < until)
                and ROLE.get(step["screen"]) != "splash"
            ),
            None,
        )
        if landing is None and until is None and end(journey)["exit"] == "cut":
            continue
        kind = "cold" if row["event"] == "app_start" else "warm"
        took = (landing["time"] - since) / timedelta(milliseconds=1) if landing else None
        yield Start(kind, took, landing is end(journey), landing_of(landing))


def landing_of(step: Step | None) -> str:
    if step is None:
        return "left"
    role = ROLE.get(step["screen"])
    if role == "not_found":
        return "not_found"
    if step["link"] and step["move"] == "link" and pattern_of(step["link"])[1] == step["screen"]:
        return "link_target"
    if step["region"] == "tab":
        return "inside"
    return {"onboarding": "onboarding", **dict.fromkeys(WAY_IN, "sign_in")}.get(role, "elsewhere")


@ROWS_TOO
def test_tries_and_gates(told: Told) -> None:
    whole = told.trail.gates().whole
    outcomes = [
        [row["outcome"] for row in j.rows if row["event"] == "sign_in"] for j in told.journeys
    ]
    tries = Counter(word for own in outcomes for word in own if word in ("ok", "failed"))
    assert (whole.failed.count, whole.tries) == (tries["failed"], tries.total())
    needed = Counter(
        min(own[: own.index("ok") + 1].count("failed") + 1, 5) for own in outcomes if "ok" in own
    )
    assert whole.needed == [needed[n] for n in range(1, 6)]
    gates = told.times(gates_of)
    assert {one.cause: one.gates for one in whole.causes if one.gates} == {
        cause: count.times for cause, count in gates.items()
    }


def gates_of(journey: Journey) -> Iterator[str]:
    """Redirects onto sign-in from what is no part of getting in."""
    before: Step | None = None
    for step in journey.steps:
        onto = step["move"] == "redirect" and ROLE.get(step["screen"]) == "sign_in"
        if onto and not (before and ROLE.get(before["screen"]) in WAY_IN):
            yield "link" if step["link"] else "expired" if signed_in(journey, step) else "asked"
        before = step


def signed_in(journey: Journey, step: Step) -> bool:
    state = False
    for row in journey.rows:
        if datetime.fromisoformat(row["time"]) >= step["time"]:
            break
        if row["event"] == "sign_out":
            state = False
        elif row["event"] == "session_restored" or (
            row["event"] == "sign_in" and row["outcome"] == "ok"
        ):
            state = True
    return state


# Funnels


BUYING = ("BuyPass", "PaySheet", "Receipt")


@pytest.mark.parametrize("order", ["in_order", "next"])
def test_a_funnel(told: Told, order: str) -> None:
    spec = {"stages": [{"any": [{"screens": [name]}]} for name in BUYING], "order": order}
    whole = told.trail.funnel(spec=json.dumps(spec)).whole
    reached = [
        (strictly if order == "next" else greedily)([s["screen"] for s in j.steps])
        for j in told.journeys
    ]
    assert [stage.count for stage in whole.stages] == [
        sum(far > place for far in reached) for place in range(len(BUYING))
    ]


def greedily(screens: list[str]) -> int:
    far = 0
    for screen in screens:
        far += far < len(BUYING) and screen == BUYING[far]
    return far


def strictly(screens: list[str]) -> int:
    runs = (
        next((k for k, stage in enumerate(BUYING) if screens[i : i + k + 1][k:] != [stage]), 3)
        for i in range(len(screens))
    )
    return max(runs, default=0)
