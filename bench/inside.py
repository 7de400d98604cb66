"""Tabs, loops, links and drop-offs beside queries for what of them a query can tell."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import duckdb
import numpy as np
import polars as pl

from bench.timing import Rows, anew, compare, line, timed
from mossy_trail.core.measures.links import Known
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import DAY, EVENT
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import BACK_MOVES, EXIT, SHEET, TAB, Steps
from mossy_trail.engine import dropoffs, links, loops, tabs
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.study import Study

IOS = Scope(segment='{"property": "platform", "values": ["ios"]}')


def bench_inside(study: Study) -> None:
    steps = pl.concat([step_frame(i, part) for i, part in enumerate(study.parts)])
    journeys = pl.concat([journey_frame(i, part) for i, part in enumerate(study.parts)])
    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.register("journeys", journeys.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps; CREATE TABLE j AS FROM journeys")
    names = study.parts[0].places.names
    compare(
        "tabs: visits, sessions, stay",
        study,
        "steps.entry steps.journey steps.move dwell tab",
        lambda: our_tabs(study),
        lambda: base.execute(TABS).fetchall(),
        lambda: polars_tabs(steps.lazy()),
    )
    compare(
        "loops: the screens' part alone",
        study,
        "screen steps.journey steps.move steps.visible dwell steps.marks",
        lambda: our_screens(study, names),
        lambda: base.execute(BACKS).fetchall(),
        lambda: polars_backs(steps.lazy()),
    )
    compare(
        "drop-offs: but for the model",
        study,
        "screen steps.journey steps.move steps.visible steps.refused",
        lambda: our_exits(study, names),
        lambda: base.execute(EXITS).fetchall(),
        lambda: polars_exits(steps.lazy(), journeys.lazy()),
    )
    rows = pl.concat([row_frame(i, part) for i, part in enumerate(study.parts)])
    uris = uri_frame(study)
    base.register("rows", rows.to_arrow())
    base.register("uris", uris.to_arrow())
    base.execute("CREATE TABLE r AS FROM rows; CREATE TABLE u AS FROM uris")
    compare(
        "links: opened, and landed",
        study,
        "rows.event screen steps.visible steps.uri role journeys.first_row",
        lambda: our_links(study),
        lambda: base.execute(LINKS).fetchall(),
        lambda: polars_links(steps.lazy(), journeys.lazy(), rows.lazy(), uris.lazy()),
    )
    for scope, said in ((Scope(), "whole"), (IOS, "with a segment")):
        questions: dict[str, Callable[[], object]] = {
            "tabs": partial(tabs.measure, study, scope),
            "loops": partial(loops.measure, study, scope),
            "links": partial(links.measure, study, scope, "Receipt"),
            "drop-offs": partial(dropoffs.measure, study, scope),
            "drop-offs weighed": partial(dropoffs.measure, study, scope, "Receipt"),
        }
        for what, ask in questions.items():
            line(f"{what}, {said}", timed(anew(study, ask))[0])
    for name, figure in FIGURES.items():
        measured(study, Scope(), name)
        line(
            f"the journeys behind a figure of {name}",
            timed(partial(opened, study, name, figure))[0],
        )


FIGURES = {
    "tabs": '["visit", "Sailings"]',
    "loops": '["kind", "detour"]',
    "links": '["every.open", ""]',
    "drop-offs": '["exits", "SailingDetail"]',
    "start-up": '{"cell": "cold"}',
    "onboarding": "user.finished",
    "gates": "asked.reached",
    "sign-in": "met",
}
"""One of each measure, of which it was asked just before."""


def opened(study: Study, name: str, figure: str) -> None:
    study.evidence.clear()
    assert behind(study, Scope(), name, figure).any()


def our_tabs(study: Study) -> Rows:
    return [
        (i, tab.visits.times, tab.visits.journeys, tab.dwell.median if tab.dwell else None)
        for i, tab in enumerate(tabs.measure(study, Scope()).tabs)
    ]


TABS = f"""
    WITH inner_steps AS (
        SELECT journey, n, dwell, region, tab,
               sum(CAST(region = 0 AS INT)) OVER (PARTITION BY journey ORDER BY n) AS stretch FROM s
    ), filled AS (
        SELECT *, last_value(tab IGNORE NULLS) OVER (
            PARTITION BY journey, stretch ORDER BY n) AS own
        FROM inner_steps WHERE region IN ({TAB}, {SHEET})
    ), begun AS (
        SELECT *, own IS DISTINCT FROM lag(own) OVER (PARTITION BY journey, stretch ORDER BY n)
                  AS fresh FROM filled
    ), numbered AS (
        SELECT *, sum(CAST(fresh AS INT)) OVER (PARTITION BY journey ORDER BY n) AS visit
        FROM begun WHERE own IS NOT NULL
    ), visits AS (
        SELECT own, journey, visit, CASE WHEN min(dwell) >= 0 THEN sum(dwell) END AS stay
        FROM numbered GROUP BY own, journey, visit
    )
    SELECT own, count(*), count(DISTINCT journey), median(stay / 1000) FROM visits GROUP BY own
"""


def polars_tabs(steps: pl.LazyFrame) -> Rows:
    stretch = (pl.col("region") == 0).cum_sum().over("journey").alias("stretch")
    inner = steps.with_columns(stretch).filter(pl.col("region").is_in([TAB, SHEET]))
    filled = inner.with_columns(pl.col("tab").forward_fill().over("journey", "stretch"))
    fresh = pl.col("tab").ne_missing(pl.col("tab").shift(1).over("journey", "stretch"))
    first = pl.col("n") == pl.col("n").min().over("journey", "stretch")
    begun = filled.with_columns((fresh | first).alias("fresh")).filter(pl.col("tab").is_not_null())
    visit = pl.col("fresh").cum_sum().over("journey").alias("visit")
    known = pl.col("dwell").min() >= 0
    stay = pl.when(known).then(pl.col("dwell").sum()).alias("stay")
    visits = begun.with_columns(visit).group_by("tab", "journey", "visit").agg(stay)
    found = visits.group_by("tab").agg(
        pl.len(), pl.col("journey").n_unique().alias("sessions"), (pl.col("stay") / 1000).median()
    )
    return found.collect().rows()


def our_screens(study: Study, names: list[str]) -> Rows:
    return [
        (names.index(one.name), one.visits.times, one.backs.times, one.mistake.times)
        for one in loops.measure(study, Scope()).screens
    ]


BACKS = f"""
    WITH followed AS (
        SELECT screen, dwell, lead(move) OVER (PARTITION BY journey ORDER BY n) AS after FROM s)
    SELECT screen, count(*), count(*) FILTER (after IN {BACK_MOVES}),
           count(*) FILTER (after IN {BACK_MOVES} AND dwell < 3000000) FROM followed GROUP BY screen
"""


def polars_backs(steps: pl.LazyFrame) -> Rows:
    after = pl.col("move").shift(-1).over("journey").alias("after")
    back = pl.col("after").is_in(BACK_MOVES)
    quick = back & (pl.col("dwell") < 3_000_000)
    found = (
        steps.with_columns(after)
        .group_by("screen")
        .agg(pl.len(), back.sum().alias("backs"), quick.sum().alias("quick"))
    )
    return found.collect().rows()


def our_exits(study: Study, names: list[str]) -> Rows:
    code = {name: i for i, name in enumerate(names)}
    return [
        (code[one.screen], one.visits.times, one.exits.times, one.true.times)
        + tuple(one.kinds[kind].times for kind in KINDS)
        for one in dropoffs.measure(study, Scope()).screens
    ]


KINDS = ("closed", "backgrounded", "signed_out", "silent")
EXITS = f"""
    WITH visits AS (SELECT screen, count(*) AS visits FROM s GROUP BY screen),
    firsts AS (
        SELECT j.*, CASE WHEN s.splash AND last_n > first_n THEN t.screen ELSE s.screen END AS first
        FROM j JOIN s ON s.n = first_n LEFT JOIN s AS t ON t.n = first_n + 1
    ), followed AS (
        SELECT *, lead(first) OVER w AS again, lead(start) OVER w - "end" AS pause
        FROM firsts WINDOW w AS (PARTITION BY "user" ORDER BY first_n)
    ), exits AS (
        SELECT screen, count(*) AS exits,
               count(*) FILTER (again IS DISTINCT FROM screen OR pause >= {DAY}) AS own,
               {", ".join(f"count(*) FILTER (exit = {EXIT[kind]}) AS {kind}" for kind in KINDS)}
        FROM followed JOIN s ON s.n = last_n WHERE exit <> {EXIT["cut"]} GROUP BY screen)
    SELECT visits.screen, visits, coalesce(exits, 0), coalesce(own, 0),
           {", ".join(f"coalesce({kind}, 0)" for kind in KINDS)}
    FROM visits LEFT JOIN exits USING (screen)
"""


def polars_exits(steps: pl.LazyFrame, journeys: pl.LazyFrame) -> Rows:
    visits = steps.group_by("screen").agg(pl.len().alias("visits"))
    at = steps.select("n", "screen", "splash")
    then = at.select(pl.col("n") - 1, pl.col("screen").alias("then"))
    skips = pl.col("splash") & (pl.col("last_n") > pl.col("first_n"))
    first = pl.when(skips).then(pl.col("then")).otherwise(pl.col("screen"))
    followed = (
        journeys.join(at, left_on="first_n", right_on="n")
        .join(then, left_on="first_n", right_on="n", how="left")
        .sort("first_n")
        .select("user", "exit", "last_n", "start", "end", first.alias("first"))
        .with_columns(
            pl.col("first").shift(-1).over("user").alias("again"),
            (pl.col("start").shift(-1).over("user") - pl.col("end")).alias("pause"),
        )
    )
    lasts = followed.join(at, left_on="last_n", right_on="n")
    own = pl.col("again").ne_missing(pl.col("screen")) | (pl.col("pause") >= DAY)
    exits = (
        lasts.filter(pl.col("exit") != EXIT["cut"])
        .group_by("screen")
        .agg(
            pl.len().alias("exits"),
            own.sum().alias("own"),
            *((pl.col("exit") == EXIT[kind]).sum().alias(kind) for kind in KINDS),
        )
    )
    return visits.join(exits, on="screen", how="left").fill_null(0).collect().rows()


def our_links(study: Study) -> Rows:
    found = links.measure(study, Scope())
    then = found.without_then
    assert then.more
    return [
        (-1, found.without.times, then.after["bounced"].times, then.more.median),
        *(
            (i, one.opened.times, one.landed["target"].times, 0.0)
            for i, one in enumerate(found.patterns)
        ),
    ]


LINKS = f"""
    WITH opened AS (
        SELECT row_number() OVER () AS number, journey, time, r.uri, pattern, target
        FROM r JOIN u USING (uri) WHERE event = {EVENT["open_link"]}
    ), landed AS (
        SELECT number, min(s.n) AS step, arg_min(screen, n) AS screen FROM opened
        JOIN s ON s.journey = opened.journey AND s.uri = opened.uri AND s.t > opened.time
        GROUP BY number
    ), plain AS (
        SELECT last_n - CASE WHEN splash AND last_n > first_n THEN first_n + 1 ELSE first_n END
               AS more
        FROM j JOIN s ON n = first_n
        WHERE NOT EXISTS (SELECT 1 FROM opened WHERE opened.journey = j.journey))
    SELECT pattern, count(*), count(DISTINCT step) FILTER (screen = target), 0
    FROM opened LEFT JOIN landed USING (number) GROUP BY pattern
    UNION ALL SELECT -1, count(*), count(*) FILTER (more = 0), median(more) FROM plain
"""


def polars_links(
    steps: pl.LazyFrame, journeys: pl.LazyFrame, rows: pl.LazyFrame, uris: pl.LazyFrame
) -> Rows:
    asked = rows.filter(pl.col("event") == EVENT["open_link"]).join(uris, on="uri")
    opened = asked.with_row_index("number")
    bearing = steps.filter(pl.col("uri") >= 0).select("journey", "uri", "t", "n", "screen")
    landed = (
        opened.join(bearing, on=["journey", "uri"])
        .filter(pl.col("t") > pl.col("time"))
        .group_by("number")
        .agg(pl.min("n").alias("step"), pl.col("screen").get(pl.col("n").arg_min()))
    )
    found = opened.join(landed, on="number", how="left").group_by("pattern")
    there = pl.col("step").filter(pl.col("screen") == pl.col("target"))
    reached = there.drop_nulls().n_unique().alias("reached")
    splash = steps.select("n", "splash")
    plain = journeys.join(opened, on="journey", how="anti").join(
        splash, left_on="first_n", right_on="n"
    )
    more = pl.col("last_n") - pl.col("first_n")
    more = pl.when(pl.col("splash") & (more > 0)).then(more - 1).otherwise(more)
    without = plain.select(pl.len(), (more == 0).sum().alias("b"), more.median().alias("m"))
    by_pattern, beside = pl.collect_all([found.agg(pl.len(), reached), without])
    return [(*row, 0.0) for row in by_pattern.rows()] + [(-1, *row) for row in beside.rows()]


def uri_frame(study: Study) -> pl.DataFrame:
    """Per logged link its pattern, and the screen that is meant."""
    known = Known.of(study.app_map.links, study.terms["uri"])
    codes = np.arange(len(study.terms["uri"]), dtype="int32")
    target = study.parts[0].places.link_target
    return pl.DataFrame({"uri": codes, "pattern": known.pattern_of[codes], "target": target})


def row_frame(number: int, part: Steps) -> pl.DataFrame:
    journey = np.repeat(np.arange(len(part.journeys.rows)), part.journeys.rows)
    columns = {name: part.log.columns[name] for name in ("event", "time", "uri")}
    return pl.DataFrame({"journey": journey + (number << 32), **columns})


def step_frame(number: int, part: Steps) -> pl.DataFrame:
    own, region = part.steps, part.entries.region[part.steps.entry]
    return pl.DataFrame(
        {
            "journey": own.journey.astype("int64") + (number << 32),
            "n": np.arange(len(part.screen), dtype="int64") + (number << 32),
            "t": own.visible,
            "uri": own.uri,
            "screen": part.screen,
            "splash": part.role == ROLE["splash"],
            "move": own.move.astype("int32"),
            "dwell": part.dwell,
            "region": region.astype("int32"),
            "tab": np.where(region == TAB, part.tab, -1),
        }
    ).with_columns(pl.when(pl.col("tab") >= 0).then(pl.col("tab")).alias("tab"))


def journey_frame(number: int, part: Steps) -> pl.DataFrame:
    own, some = part.journeys, part.journeys.steps > 0
    first = own.first_step[some].astype("int64") + (number << 32)
    return pl.DataFrame(
        {
            "journey": np.flatnonzero(some) + (number << 32),
            "user": own.user[some],
            "first_n": first,
            "last_n": first + own.steps[some] - 1,
            "start": own.start[some],
            "end": own.end[some],
            "exit": own.exit[some].astype("int32"),
        }
    )
