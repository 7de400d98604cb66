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

from bench.asking import bench_asking
from bench.data import SIMULATED, grown_csv, grown_log, simulated_csv
from bench.getting_in import bench_getting_in, bench_onboarding, bench_sign_in, bench_start_up
from bench.inside import bench_inside
from bench.shapes import LARGE, SMALL, growth
from bench.timing import line, timed
from mossy_trail.core.model.app_map import AppMap, resolve
from mossy_trail.core.model.log import EVENT, Log, split
from mossy_trail.core.replay import replay as replaying
from mossy_trail.core.replay.batches import FIRST_WAYS, walk_through
from mossy_trail.core.replay.run import Source
from mossy_trail.core.replay.sessions import cut_sessions, resent
from mossy_trail.demo.load import MAP
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
    source = Source.of(part, places, cut_sessions(part, settings.idle), resent(part))
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
    bench_start_up(study)
    bench_onboarding(study)
    bench_sign_in(study)
    bench_getting_in(study)
    bench_inside(study)
    bench_asking(study)


if __name__ == "__main__":
    main()
