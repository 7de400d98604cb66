"""What a file comes to when it is read by a mapping, before it is brought in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from mossy_trail.core.inference.draft import draft
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import split
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import count_users
from mossy_trail.engine import journeys, sign_in
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of
from mossy_trail.intake.formats.parquet import TableBlock
from mossy_trail.intake.mapping import Mapping, apply
from mossy_trail.intake.rows import RowCollector, SetAside, told

MOST_ROWS = 100_000
"""Rows that are tried; of a larger file, the first ones."""
FIGURES = ("users", "sessions", "steps", "tried", "signed_in", "set_aside")
"""The counts that open to what they count."""


@dataclass(frozen=True)
class Counts:
    """Of the rows tried: those that can be used, and what they come to."""

    rows: int
    usable: int
    whole: bool
    """These are all rows that the proposal was made from."""
    users: int
    sessions: int
    steps: int
    tried: int
    """Sessions in which someone tried to sign in."""
    signed_in: int
    outcomes_told: bool
    """Rows of signing in say how it came out."""


@dataclass(frozen=True)
class Trial:
    """Rows as they will be read and replayed."""

    counts: Counts
    study: Study
    set_aside: list[SetAside]

    def opened(self, figure: str, most: int) -> tuple[int, list[dict[str, Any]], list[SetAside]]:
        """The journeys behind a count, how many there are, or the rows that were set aside.

        Of each user the first one stands for them; those with most steps come first for `steps`.
        """
        if figure == "set_aside":
            return len(self.set_aside), [], self.set_aside[:most]
        study, index = self.study, self.study.index
        if figure in ("tried", "signed_in"):
            mask = sign_in.evidence(study, Scope(), "in" if figure == "signed_in" else "tried")
        else:
            mask = np.ones(len(index.start), bool)
        found = journeys.find(study, mask, sort="oldest").positions
        if figure == "users":
            found = found[np.sort(np.unique(index.user[found], return_index=True)[1])]
        if figure == "steps":
            found = found[np.argsort(-index.steps[found], kind="stable")]
        shown = [journeys.summary(study, index.ref(int(one))) for one in found[:most]]
        return len(found), shown, []


def try_out(mapping: Mapping, table: pa.Table, app_map: AppMap | None) -> Trial | None:
    """Read and replay these rows; None if they lack what every row needs.

    Without a map one is drafted from the rows themselves, as it will be when they are in.
    """
    if mapping.missing:
        return None
    tried = table.slice(0, MOST_ROWS)
    collector = RowCollector()
    block = TableBlock(tried, np.arange(tried.num_rows) + 1)
    mapped = apply(mapping, block.good_texts())
    collector.add(0, block, told(block, mapped, mapping.times))
    log = collector.log([""])
    parts = split(log, 1)
    if app_map is None or not app_map.screens:
        app_map = map_of(draft(parts).document) if len(log) else AppMap.from_dict({})
    study = Study(parts, app_map)
    counts = _counted(study, tried.num_rows, tried.num_rows == table.num_rows)
    return Trial(counts, study, collector.set_aside)


def _counted(study: Study, rows: int, whole: bool) -> Counts:
    found = sign_in.measure(study, Scope())
    stages = {stage.figure: stage.count for stage in found.stages}
    return Counts(
        rows=rows,
        usable=study.rows,
        whole=whole,
        users=count_users(study.index.user),
        sessions=len(study.index.start),
        steps=study.steps,
        tried=stages.get("tried", 0),
        signed_in=stages.get("in", 0),
        outcomes_told=found.told,
    )
