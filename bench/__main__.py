"""The same work beside hand-written queries: times, and their ratios. Answers must be equal.

`./mossy bench [MILLION_ROWS [PAGE]]`, 2 million by default; also as a page of Markdown.
"""

from __future__ import annotations

import os
import platform
import sys
import tempfile
from datetime import date
from importlib.metadata import version
from pathlib import Path

import duckdb
import numpy as np
import polars as pl

from bench import scale
from bench.asking import bench_asking
from bench.data import SIMULATED, grown_csv, grown_log, simulated_csv
from bench.getting_in import bench_getting_in, bench_onboarding, bench_sign_in, bench_start_up
from bench.inside import bench_inside
from bench.shapes import LARGE, SMALL, growth
from bench.timing import COPYING, in_turns, line, table, timed
from mossy_trail.core.model.app_map import AppMap, resolve
from mossy_trail.core.model.log import EVENT, Log, parts_needed, split
from mossy_trail.core.replay import replay as replaying
from mossy_trail.core.replay.batches import FIRST_WAYS, walk_through
from mossy_trail.core.replay.run import Source
from mossy_trail.core.replay.sessions import cut_sessions, resent
from mossy_trail.demo.load import MAP
from mossy_trail.engine.study import ENOUGH_TO_LEARN, Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files


def bench_reading(times: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        csv = grown_csv(simulated_csv(Path(folder)), range(times))
        parquet = csv.with_suffix(".parquet")
        pl.scan_csv(csv, try_parse_dates=True).sink_parquet(parquet)
        for path, reader in ((csv, "read_csv"), (parquet, "read_parquet")):

            def ours(path: Path = path) -> int:
                log = read_files([path]).log
                return sum(map(len, split(log, parts_needed(len(log)))))

            def duck(reader: str = reader, path: Path = path) -> int:
                query = f"CREATE OR REPLACE TABLE t AS FROM {reader}('{path}') ORDER BY user, time"
                with duckdb.connect() as base:
                    base.execute(query)
                    return base.execute("SELECT count(*) FROM t").fetchone()[0]  # type: ignore[index]

            (our_time, count), (duck_time, other) = in_turns(ours, duck)
            assert count == other
            what = f"{path.suffix[1:]} read and sorted by user"
            line(what, our_time, {"DuckDB": duck_time})


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

    only_views = part.take(np.flatnonzero(part.columns["event"] == EVENT["screen_view"]))
    some = only_views.take(np.arange(min(ENOUGH_TO_LEARN, len(only_views))))
    usual, _ = replaying.learn([some], app_map)
    kernel_time, whole_time = timed(kernel)[0], timed(lambda: replaying.replay(part, app_map))[0]
    views_time = timed(lambda: replaying.replay(only_views, app_map, usual))[0]
    limit = {COPYING: timed(copying)[0]}
    line("replay, its kernel, one core", kernel_time, limit)
    line("replay, whole, one core", whole_time, limit)
    line(f"replay of its {len(only_views):,} views alone", views_time, limit)


def bench_shapes() -> str:
    """Also as a table in Markdown."""
    rows = [f"| shape | {SMALL:,} rows | {LARGE:,} rows | |", "|---|---:|---:|---:|"]
    print(f"replay of unkind shapes, ns a row at {SMALL:,} and at {LARGE:,} rows")
    for name, small, large in growth():
        print(f"{name:38} {small:5.0f}   {large:5.0f}   (× {large / small:.1f})", flush=True)
        rows.append(f"| {name} | {small:.0f} | {large:.0f} | × {large / small:.1f} |")
    return "\n".join(rows)


def main() -> None:
    if sys.argv[1:2] == ["scale"]:
        scale.main([int(million) for million in sys.argv[2:]])
        return
    million = float(sys.argv[1]) if len(sys.argv) > 1 else 2
    times = max(1, round(million * 1e6 / SIMULATED))
    print(f"{times * SIMULATED:,} rows; × n: that many times our time", flush=True)
    app_map = map_of(parse_map(MAP.read_text()))
    bench_reading(times)
    log = grown_log(times)
    bench_replay(log, app_map)
    shapes = bench_shapes()
    study = Study(split(log, parts_needed(len(log))), app_map)
    del log
    bench_start_up(study)
    bench_onboarding(study)
    bench_sign_in(study)
    bench_getting_in(study)
    bench_inside(study)
    bench_asking(study)
    if len(sys.argv) > 2:
        Path(sys.argv[2]).write_text(written(times * SIMULATED, study, shapes))


def written(rows: int, study: Study, shapes: str) -> str:
    """The page of all that was timed, with the machine and the versions it was timed on."""
    steps = sum(len(part.screen) for part in study.parts)
    users = len(np.unique(study.index.user))
    versions = [f"{name} {version(name)}" for name in ("duckdb", "polars", "numba", "numpy")]
    return f"""# Speed

`./mossy bench 10 docs/bench.md` wrote this page on {date.today():%-d %B %Y}: the same questions
asked of us and of hand-written queries over sorted columns in memory, whose answers must be ours.
The least of three runs; machines are noisy, so look at the ratios.

{rows:,} rows, {steps:,} steps, {len(study.index.user):,} journeys of {users:,} users, in
{len(study.parts)} parts. {os.cpu_count()} cores ({_processor()}), Python
{platform.python_version()}, {", ".join(versions)}.

{table()}

*Copying what is read* is the time that our columns take to be copied by two threads, which nothing
that reads them can be faster than. Questions take 7 to 20 times that: what holds them back is not
the memory's bandwidth but work at each step and row, and what parts tell is merged by one thread.
*Ours, one thread* shows what the second core is worth: 1.3 to 1.8.

**Where it is less than × 3.** The peers answer a part of what the measure tells, from columns that
were laid out for this one question; ours reads the replay as it lies and tells the whole page. Of
links: by pattern, source and start, how each landed, what came after, how long they stayed, in
sessions and users; the peers count opened and landed by pattern. Of sign-in: stages, ways and
times; the peers count stages. Loops and drop-offs find every loop; the peers count ways back.

**Reading.** 10 million rows of CSV take 17 s of a core, those of Parquet (its times are moments)
7.5; of both, sorting takes 1.6. Parquet saves parsing (4.5 s), cutting into rows, so that a broken
one is set aside by itself (1.5 s), reading times (1.5 s), and most of telling the texts of 15
columns apart (3.5 s), and takes 2 s to be unpacked. DuckDB keeps texts as they are, and stops at a
broken row.

## Unkind shapes
Replay, in nanoseconds a row: where time is linear in rows, both are alike.

{shapes}
"""


def _processor() -> str:
    lines = Path("/proc/cpuinfo").read_text().splitlines()
    return next((line.partition(": ")[2] for line in lines if line.startswith("model name")), "")


if __name__ == "__main__":
    main()
