"""The same work beside hand-written queries: times, and their ratios. Answers must be equal.

`./mossy bench [MILLION_ROWS]`, 2 million by default. Machines are noisy: look at the ratios.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import duckdb
import numpy as np
import polars as pl

from bench.data import SIMULATED, grown_csv, grown_log, simulated_csv
from bench.inside import bench_inside
from bench.shapes import LARGE, SMALL, growth
from bench.timing import line, timed
from mossy_trail.core import replay as replaying
from mossy_trail.core.app_map import AppMap, resolve
from mossy_trail.core.batches import FIRST_WAYS, walk_through
from mossy_trail.core.log import EVENT, OUTCOME, Log, split
from mossy_trail.core.properties import property_of
from mossy_trail.core.run import Source
from mossy_trail.core.scope import Scope
from mossy_trail.core.sessions import cut_sessions
from mossy_trail.core.steps import Steps
from mossy_trail.demo.load import MAP
from mossy_trail.engine import funnel, gates, sign_in, startup
from mossy_trail.engine.study import ENOUGH_TO_LEARN, Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files
from mossy_trail.store.parts import parts_needed


def bench_reading(times: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        csv = grown_csv(simulated_csv(Path(folder)), times)

        def ours() -> int:
            log = read_files([csv]).log
            return sum(map(len, split(log, parts_needed(len(log)))))

        def duck() -> int:
            query = f"CREATE OR REPLACE TABLE t AS FROM read_csv('{csv}') ORDER BY user, time"
            with duckdb.connect() as base:
                base.execute(query)
                return base.execute("SELECT count(*) FROM t").fetchone()[0]  # type: ignore[index]

        (our_time, count), (duck_time, other) = timed(ours), timed(duck)
        assert count == other
        line("CSV read and sorted by user", our_time, {"DuckDB": duck_time})


def bench_replay(log: Log, app_map: AppMap) -> None:
    (part,) = split(log, 1)
    places = resolve(app_map, part.terms)
    settings = replaying.Settings()
    source = Source.of(part, places, cut_sessions(part, settings.idle))
    limits = settings.settle, settings.doubled

    def kernel() -> None:
        walk_through(source, places, app_map.history, FIRST_WAYS, *limits)

    def copying() -> None:
        for column in part.columns.values():
            column.copy()

    views = part.columns["event"] == EVENT["screen_view"]
    frame = pl.DataFrame({n: part.columns[n][views] for n in ("user", "screen")})

    def pairs() -> int:
        shifted = frame.with_columns(pl.col("screen").shift(-1).over("user").alias("next"))
        return shifted.group_by("screen", "next").len().height

    only_views = part.take(np.flatnonzero(views))
    usual, _ = replaying.learn([only_views.take(np.arange(ENOUGH_TO_LEARN))], app_map)
    kernel_time, whole_time = timed(kernel)[0], timed(lambda: replaying.replay(part, app_map))[0]
    views_time = timed(lambda: replaying.replay(only_views, app_map, usual))[0]
    others = {"copying the columns": timed(copying)[0], "Polars, pairs of views": timed(pairs)[0]}
    line("replay, its kernel, one core", kernel_time, others)
    line("replay, whole, one core", whole_time, others)
    line(f"replay of its {len(only_views):,} views alone", views_time, others)


def bench_shapes() -> None:
    print(f"replay of unkind shapes, ns a row at {SMALL:,} and at {LARGE:,} rows")
    for name, small, large in growth():
        print(f"{name:38} {small:5.0f}   {large:5.0f}   (× {large / small:.1f})", flush=True)


def bench_sign_in(study: Study) -> None:
    steps, rows = (
        pl.concat([make(i, part) for i, part in enumerate(study.parts)])
        for make in (step_frame, row_frame)
    )

    def ours() -> list[int]:
        return [stage.count for stage in sign_in.measure(study, Scope()).stages]

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

    def duck() -> list[int]:
        return list(base.execute(query).fetchone() or ())

    def polars() -> list[int]:
        met = steps.lazy().filter("sign_in").group_by("journey").agg(pl.min("time").alias("at"))
        asked = rows.lazy().filter((pl.col("event") == 20) & (pl.col("outcome") >= 0))
        after = asked.join(met, on="journey").filter(pl.col("time") >= pl.col("at"))
        tries = after.group_by("journey").agg((pl.col("outcome") == 1).any().alias("ok"))
        counts = pl.collect_all([met, tries])
        return [counts[0].height, counts[1].height, int(counts[1]["ok"].sum())]

    found = [timed(ask) for ask in (ours, duck, polars)]
    assert found[0][1] == found[1][1] == found[2][1], [answer for _, answer in found]
    line("sign-in", found[0][0], {"DuckDB": found[1][0], "Polars": found[2][0]})


def bench_getting_in(study: Study) -> None:
    steps = pl.concat([screen_frame(i, part) for i, part in enumerate(study.parts)])
    names = study.parts[0].places.names
    chain = ["Welcome", "HomePier", "Alerts", "StepFree"]
    asked = funnel.Asked.of({"stages": [{"any": [{"screens": [name]}]} for name in chain]})
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
        groups = funnel.measure(study, Scope(), asked, "version").groups
        in_order = sorted(groups, key=lambda group: group.value or "")
        return [
            (
                *(stage.count for stage in group.stages),
                *(1000 * stage.time_to.median for stage in group.stages if stage.time_to),
            )
            for group in in_order
        ]

    segment = Scope(segment='{"property": "platform", "values": ["ios"]}')
    found = [timed(ask) for ask in (ours, duck, polars)]
    assert found[0][1] == found[1][1] == found[2][1], [answer for _, answer in found]
    line(
        "onboarding funnel by version", found[0][0], {"DuckDB": found[1][0], "Polars": found[2][0]}
    )
    plain = timed(lambda: funnel.measure(study, Scope(), asked))[0]
    narrowed = timed(lambda: funnel.measure(study, segment, asked, "version"))[0]
    starts = timed(lambda: startup.measure(study, segment, by="version"))[0]
    at_gates = timed(lambda: gates.measure(study, Scope()))[0]
    print(
        f"alone: the funnel {plain:.3f} s, with segment and groups {narrowed:.3f} s; start-up with "
        f"both {starts:.3f} s; gates {at_gates:.3f} s",
        flush=True,
    )


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
            "sign_in": part.role == 3,
        }
    )


def row_frame(number: int, part: Steps) -> pl.DataFrame:
    journey = np.repeat(np.arange(len(part.journeys.rows)), part.journeys.rows)
    names = ("event", "outcome", "time")
    columns = {name: part.log.columns[name] for name in names}
    return pl.DataFrame({"journey": journey + (number << 32), **columns})


def main() -> None:
    million = float(sys.argv[1]) if len(sys.argv) > 1 else 2
    times = max(1, round(million * 1e6 / SIMULATED))
    print(f"{times * SIMULATED:,} rows; × n: that many times our time", flush=True)
    app_map = map_of(parse_map(MAP.read_text()))
    if len(sys.argv) < 3:
        bench_reading(times)
    log = grown_log(times)
    bench_replay(log, app_map)
    bench_shapes()
    study = Study(split(log, parts_needed(len(log))), app_map)
    bench_sign_in(study)
    bench_getting_in(study)
    bench_inside(study)


if __name__ == "__main__":
    main()
