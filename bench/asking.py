"""Paths beside queries for the first five screens; patterns, also those that would try anyone."""

from __future__ import annotations

from functools import partial

import duckdb
import polars as pl

from bench.inside import opened, step_frame
from bench.timing import Rows, anew, compare, line, timed
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import compare as comparing
from mossy_trail.engine import findings, health, paths, patterns
from mossy_trail.engine.paths import PathParams
from mossy_trail.engine.recent import Recent
from mossy_trail.engine.study import Study

DEEP = 4
PATTERNS = {
    "six conditions": (
        "SailingsBoard[depth=1] .. SailingDetail[dwell>2s] !PassWallet* "
        "[move=pop|pop_to] .. [tab=Passes] [mark=bounce]"
    ),
    "a held value and a limit": "([param.sailing=$s] .. SeatPick[param.sailing=$s]) within 1min",
    "any of it, or not, 25 times": f"({'. ' * 20}| {'.? ' * 25}) Receipt Receipt",
    "repeats in repeats": "(((.+ .?)+ .?)+ .?)+ Receipt Receipt",
    "60 conditions": ".{58} Receipt Receipt",
}


def bench_asking(study: Study) -> None:
    steps = pl.concat([step_frame(i, part) for i, part in enumerate(study.parts)])
    base = duckdb.connect()
    base.register("steps", steps.to_arrow())
    base.execute("CREATE TABLE s AS FROM steps")
    compare(
        "paths: first five screens",
        study,
        "screen steps.move journeys.first_step journeys.steps",
        lambda: our_ways(study),
        lambda: [(tuple(way), n) for way, n in base.execute(WAYS).fetchall()],
        lambda: polars_ways(steps.lazy()),
    )
    for reading in ("walked", "kept"):
        asked = {**PathParams(reading=reading).model_dump()}
        whole = timed(anew(study, partial(ask, study, asked)))[0]
        line(f"paths, 5 deep, {reading}", whole)
        figure = ask(study, asked).columns[2].nodes[0].figure
        line(
            "the journeys behind a node of them",
            timed(partial(opened, study, "paths", figure))[0],
        )
    for said, work in TELLING.items():
        line(said, timed(lambda work=work: told_anew(study, work))[0])
        if said != "health":
            line(f"{said}, labelled anew", timed(lambda work=work: labelled_anew(study, work))[0])
    for said, pattern in PATTERNS.items():
        time = timed(anew(study, partial(patterns.measure, study, Scope(), pattern)))[0]
        line(f"pattern, {said}", time)


TELLING = {
    "compare, two versions in all figures": lambda study: comparing.compare(
        study, Scope(), comparing.Sides("3.2", "3.1", "version")
    ),
    "findings": lambda study: findings.findings(study, Scope()),
    "health": health.measure,
}


def told_anew(study: Study, work) -> None:  # type: ignore[no-untyped-def]
    study.comparisons = Recent(1)
    study.known.pop("health", None)
    work(study)


def labelled_anew(study: Study, work) -> None:  # type: ignore[no-untyped-def]
    study.told.clear()
    told_anew(study, work)


def ask(study: Study, asked: dict[str, object]) -> paths.PathFigures:
    return paths.measure(study, Scope(), **asked)


def our_ways(study: Study) -> Rows:
    asked = PathParams(deep=DEEP, repeats=True).model_dump()
    found = ask(study, asked)
    code = {name: i for i, name in enumerate(study.parts[0].places.names)}
    return [(tuple(code[name] for name in way.nodes), way.share.count) for way in found.ways]


WAYS = f"""
    WITH firsts AS (
        SELECT journey, n, screen FROM (
            SELECT journey, n, screen, row_number() OVER (PARTITION BY journey ORDER BY n) AS k
            FROM s
        ) WHERE k <= {DEEP + 1}
    ), ways AS (SELECT list(screen ORDER BY n) AS way FROM firsts GROUP BY journey)
    SELECT way, count(*) AS n FROM ways GROUP BY way ORDER BY n DESC, way LIMIT {paths.WAYS}
"""


def polars_ways(steps: pl.LazyFrame) -> Rows:
    ways = (
        steps.group_by("journey", maintain_order=True)
        .agg(pl.col("screen").head(DEEP + 1).alias("way"))
        .group_by("way")
        .len()
        .collect()
    )
    rows = [(tuple(way), n) for way, n in ways.sort("len", descending=True).head(300).iter_rows()]
    return sorted(rows, key=lambda row: (-row[1], row[0]))[: paths.WAYS]
