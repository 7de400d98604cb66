"""Start-up, sign-in and funnels beside queries that give the same answers."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import duckdb
import numpy as np
import polars as pl

from bench.timing import Rows, anew, compare, line, timed
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, OUTCOME
from mossy_trail.core.model.properties import property_of
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import EXIT, Steps
from mossy_trail.engine import funnel, gates, onboarding, sign_in, startup
from mossy_trail.engine.measures import measured
from mossy_trail.engine.study import Study


def bench_sign_in(study: Study) -> None:
    steps, rows = (
        pl.concat([make(i, part) for i, part in enumerate(study.parts)])
        for make in (step_frame, row_frame)
    )

    def ours() -> Rows:
        return [tuple(stage.count for stage in sign_in.measure(study, Scope()).stages)]

    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.register("rows", rows.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps; CREATE TABLE r AS FROM rows")
    query = """
        WITH met AS (SELECT journey, min(time) AS at FROM s WHERE sign_in GROUP BY 1),
        tries AS (SELECT r.journey, min(r.time) AS at,
                         max(r.outcome = 1) AS ok
                  FROM r JOIN met ON r.journey = met.journey AND r.time >= met.at
                  WHERE r.event = 20 AND r.outcome >= 0 GROUP BY 1)
        SELECT (SELECT count(*) FROM met), (SELECT count(*) FROM tries),
               (SELECT count(*) FROM tries WHERE ok)
    """
    assert (EVENT["sign_in"], OUTCOME["ok"]) == (20, 1)

    def duck() -> Rows:
        return base.execute(query).fetchall()

    def polars() -> Rows:
        met = steps.lazy().filter("sign_in").group_by("journey").agg(pl.min("time").alias("at"))
        asked = rows.lazy().filter((pl.col("event") == 20) & (pl.col("outcome") >= 0))
        after = asked.join(met, on="journey").filter(pl.col("time") >= pl.col("at"))
        tries = after.group_by("journey").agg((pl.col("outcome") == 1).any().alias("ok"))
        counts = pl.collect_all([met, tries])
        return [(counts[0].height, counts[1].height, int(counts[1]["ok"].sum()))]

    compare(
        "sign-in", study, "rows.event screen journeys.steps journeys.first_row", ours, duck, polars
    )


def bench_getting_in(study: Study) -> None:
    steps = pl.concat([screen_frame(i, part) for i, part in enumerate(study.parts)])
    names = study.parts[0].places.names
    chain = ["Welcome", "HomePier", "Alerts", "StepFree"]
    spec = json.dumps({"stages": [{"any": [{"screens": [name]}]} for name in chain]})
    asked = funnel.FunnelParams(spec=spec)
    codes = [names.index(name) for name in chain]
    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps")
    stages = [
        f"""s{i} AS (SELECT s.journey, min(s.n) AS n, arg_min(s.t, s.n) AS t
                     FROM s JOIN s{i - 1} USING (journey)
                     WHERE screen = {code} AND s.n > s{i - 1}.n GROUP BY 1)"""
        for i, code in enumerate(codes)
        if i
    ]
    medians = ", ".join(f"median(s{i}.t - s{i - 1}.t)" for i in (1, 2, 3))
    query = f"""
        WITH s0 AS (SELECT journey, version, min(n) AS n, arg_min(t, n) AS t FROM s
                    WHERE screen = {codes[0]} GROUP BY 1, 2), {", ".join(stages)}
        SELECT version, count(s0.n), count(s1.n), count(s2.n), count(s3.n), {medians} FROM s0
        LEFT JOIN s1 USING (journey) LEFT JOIN s2 USING (journey) LEFT JOIN s3 USING (journey)
        GROUP BY 1 ORDER BY 1
    """

    def duck() -> list[tuple[float, ...]]:
        return [tuple(row[1:]) for row in base.execute(query).fetchall()]

    def polars() -> list[tuple[float, ...]]:
        def first(frame: pl.LazyFrame, i: int, *by: str) -> pl.LazyFrame:
            time = pl.col("t").get(pl.col("n").arg_min()).alias(f"t{i}")
            return frame.group_by("journey", *by).agg(pl.min("n").alias(f"n{i}"), time)

        found = first(steps.lazy().filter(pl.col("screen") == codes[0]), 0, "version")
        for i, code in enumerate(codes[1:], 1):
            later = steps.lazy().filter(pl.col("screen") == code).select("journey", "n", "t")
            later = later.join(found.select("journey", f"n{i - 1}"), on="journey")
            later = later.filter(pl.col("n") > pl.col(f"n{i - 1}"))
            found = found.join(first(later, i), on="journey", how="left")
        counts = [pl.col(f"n{i}").count().alias(f"c{i}") for i in range(4)]
        times = [(pl.col(f"t{i}") - pl.col(f"t{i - 1}")).median().alias(f"m{i}") for i in (1, 2, 3)]
        by_version = found.group_by("version").agg(counts + times).sort("version").collect()
        return by_version.drop("version").rows()

    def ours() -> list[tuple[float, ...]]:
        groups = measured(study, Scope(), "funnel", asked, "version").groups
        in_order = sorted(groups, key=lambda group: group.value)
        return [
            (
                *(stage.count for stage in group.figures.stages),
                *(1000 * stage.time_to.median for stage in group.figures.stages if stage.time_to),
            )
            for group in in_order
        ]

    segment = Scope(segment='{"property": "platform", "values": ["ios"]}')
    reads = "screen steps.visible journeys.first_step journeys.steps"
    compare("onboarding funnel by version", study, reads, ours, duck, polars)

    questions: dict[str, Callable[[], Any]] = {
        "a funnel": lambda: measured(study, Scope(), "funnel", asked),
        "a funnel with segment and groups": lambda: measured(
            study, segment, "funnel", asked, "version"
        ),
        "start-up with segment and groups": lambda: measured(
            study, segment, "start-up", by="version"
        ),
        "gates": lambda: gates.measure(study, Scope()),
    }
    for what, ask in questions.items():
        line(what, timed(anew(study, ask))[0])


def screen_frame(number: int, part: Steps) -> pl.DataFrame:
    version = property_of(part.log.terms["props"], "version").of_journeys(part)
    return pl.DataFrame(
        {
            "journey": part.steps.journey.astype("int64") + (number << 32),
            "n": np.arange(len(part.screen), dtype="int64"),
            "t": part.steps.visible,
            "screen": part.screen,
            "version": version[part.steps.journey],
        }
    )


def step_frame(number: int, part: Steps) -> pl.DataFrame:
    return pl.DataFrame(
        {
            "journey": part.steps.journey.astype("int64") + (number << 32),
            "time": part.steps.visible,
            "sign_in": part.role == ROLE["sign_in"],
        }
    )


def row_frame(number: int, part: Steps) -> pl.DataFrame:
    journey = np.repeat(np.arange(len(part.journeys.rows)), part.journeys.rows)
    names = ("event", "outcome", "time")
    columns = {name: part.log.columns[name] for name in names}
    cut = np.repeat(part.journeys.exit == EXIT["cut"], part.journeys.rows)
    return pl.DataFrame({"journey": journey + (number << 32), "cut": cut, **columns})


def bench_start_up(study: Study) -> None:
    steps = pl.concat([landing_frame(i, part) for i, part in enumerate(study.parts)])
    rows = pl.concat([row_frame(i, part) for i, part in enumerate(study.parts)])
    rows = rows.filter(pl.col("event") == EVENT["app_start"])
    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.register("rows", rows.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps; CREATE TABLE r AS FROM rows")

    def ours() -> Rows:
        whole = startup.measure(study, Scope())
        assert whole.times
        return [(whole.kinds["cold"], whole.left.count, round(whole.times.median * 1000))]

    query = """
        WITH begun AS (
            SELECT *, row_number() OVER () AS number,
                   lead(time) OVER (PARTITION BY journey ORDER BY time) AS until FROM r),
        landed AS (
            SELECT number, min(t) AS t FROM begun JOIN s
            ON s.journey = begun.journey AND t >= time AND (until IS NULL OR t < until)
            WHERE NOT splash GROUP BY number)
        SELECT count(*), count(*) FILTER (t IS NULL),
               CAST(round(median(t - time)) AS BIGINT)
        FROM begun LEFT JOIN landed USING (number)
        WHERE t IS NOT NULL OR until IS NOT NULL OR NOT cut
    """

    def polars() -> Rows:
        until = pl.col("time").shift(-1).over("journey").alias("until")
        begun = rows.lazy().sort("journey", "time").with_columns(until).with_row_index("number")
        shown = steps.lazy().filter(~pl.col("splash")).select("journey", "t")
        inner = pl.col("until").is_null() | (pl.col("t") < pl.col("until"))
        landed = (
            begun.join(shown, on="journey")
            .filter((pl.col("t") >= pl.col("time")) & inner)
            .group_by("number")
            .agg(pl.min("t"))
        )
        told = begun.join(landed, on="number", how="left")
        kept = pl.col("t").is_not_null() | pl.col("until").is_not_null() | ~pl.col("cut")
        took = (pl.col("t") - pl.col("time")).median().round().cast(pl.Int64)
        left = pl.col("t").is_null().sum().alias("left")
        return told.filter(kept).select(pl.len(), left, took.alias("took")).collect().rows()

    reads = "rows.event fate steps.visible role journeys.first_row"
    compare("start-up", study, reads, ours, lambda: base.execute(query).fetchall(), polars)


def bench_onboarding(study: Study) -> None:
    """Per screen of the chain, in how many sessions it was left by going back, or ended them."""
    steps = pl.concat([landing_frame(i, part) for i, part in enumerate(study.parts)])
    names = study.parts[0].places.names
    chain = study.app_map.funnels["onboarding"]
    codes = [names.index(name) for name in chain]
    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps")

    def ours() -> Rows:
        found = onboarding.measure(study, Scope()).screens
        return [
            (code, one.sessions, one.ways["ended"].count, round(one.dwell.median * 1000))
            for code, one in zip(codes, found, strict=True)
            if one.dwell
        ]

    query = f"""
        WITH followed AS (
            SELECT journey, screen, dwell, lead(n) OVER (PARTITION BY journey ORDER BY n) AS after
            FROM s)
        SELECT screen, count(DISTINCT journey),
               count(DISTINCT journey) FILTER (after IS NULL),
               CAST(round(median(dwell) FILTER (dwell >= 0)) AS BIGINT)
        FROM followed WHERE screen IN {tuple(codes)} GROUP BY screen
    """

    def polars() -> Rows:
        after = pl.col("n").shift(-1).over("journey").alias("after")
        own = steps.lazy().with_columns(after).filter(pl.col("screen").is_in(codes))
        ended = pl.col("journey").filter(pl.col("after").is_null()).n_unique().alias("ended")
        dwell = pl.col("dwell").filter(pl.col("dwell") >= 0).median().round().cast(pl.Int64)
        told = own.group_by("screen").agg(pl.col("journey").n_unique(), ended, dwell)
        return told.collect().rows()

    reads = "screen steps.journey steps.move steps.visible dwell"
    compare(
        "onboarding by screen", study, reads, ours, lambda: base.execute(query).fetchall(), polars
    )


def landing_frame(number: int, part: Steps) -> pl.DataFrame:
    return pl.DataFrame(
        {
            "journey": part.steps.journey.astype("int64") + (number << 32),
            "n": np.arange(len(part.screen), dtype="int64"),
            "t": part.steps.visible,
            "screen": part.screen,
            "dwell": part.dwell,
            "splash": part.role == ROLE["splash"],
        }
    )
