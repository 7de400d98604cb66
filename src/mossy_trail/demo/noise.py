"""Noise as real logs have it: put into a clean log, kind by kind, and counted."""

from __future__ import annotations

import json
import random
from collections import defaultdict
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from mossy_trail.demo.simulator import Demo, write_csv, write_json_lines

Row = dict[str, Any]
Noise = Callable[[list[Row], random.Random], tuple[list[Row], int]]

MINUTE, HOUR = 60_000, 3_600_000
GAP = tuple(int(datetime(2026, 5, 17, h, tzinfo=UTC).timestamp() * 1000) for h in (8, 17))


def roughen(
    rows: Sequence[Row], seed: int, kinds: Sequence[str] = ()
) -> tuple[list[Row], dict[str, int]]:
    """The rows with noise of all kinds, or of these, and how many rows each kind touched."""
    rough, touched = list(rows), {}
    for kind in kinds or NOISE:
        rough, touched[kind] = NOISE[kind](rough, random.Random(f"{seed}/{kind}"))
    return rough, touched


def write_noisy(demo: Demo, folder: Path, seed: int) -> list[Path]:
    """The log with noise of all kinds, as CSV and as JSON Lines, and how much of each there is."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / f"skerry-noisy.{form}" for form in ("csv", "jsonl", "noise.json")]
    rows, touched = roughen(list(demo.rows), seed)
    write_csv(rows, paths[0])
    write_json_lines(rows, paths[1])
    paths[2].write_text(json.dumps(touched, indent=2) + "\n")
    return paths


def _gap(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Nothing came in for nine hours of one day."""
    left = [row for row in rows if not GAP[0] <= row["time"] < GAP[1]]
    return left, len(rows) - len(left)


def _lost(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    left = [row for row in rows if dice.random() >= 0.005]
    return left, len(rows) - len(left)


def _doubled(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """On one platform a view is now and then logged twice within half a second."""
    result: list[Row] = []
    following = _next_of_user(rows)
    for row, after in zip(rows, following, strict=True):
        result.append(row)
        again = row["time"] + dice.randrange(20, 500)
        fits = after is None or after["time"] > again
        views = row["platform"] == "android" and row["event"] == "screen_view"
        if views and fits and dice.random() < 0.02:
            result.append({**row, "time": again})
    return result, len(result) - len(rows)


def _next_of_user(rows: Sequence[Row]) -> list[Row | None]:
    following: list[Row | None] = [None] * len(rows)
    last: dict[str, int] = {}
    for i, row in enumerate(rows):
        if row["user"] in last:
            following[last[row["user"]]] = row
        last[row["user"]] = i
    return following


def _resent(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Batches that were sent twice, the second time a good while later."""
    result, sent = list(rows), 0
    for _ in range(max(len(rows) // 20_000, 1)):
        begin = dice.randrange(max(len(rows) - 200, 1))
        batch = rows[begin : begin + 60]
        at = min(begin + 100, len(result))
        result[at:at] = batch
        sent += len(batch)
    return result, sent


def _late(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """A row that comes in after the next row of its user, which is not a minute later."""
    result, moved = list(rows), 0
    places: dict[str, list[int]] = defaultdict(list)
    for i, row in enumerate(rows):
        places[row["user"]].append(i)
    for own in places.values():
        for a, b in zip(own[::2], own[1::2], strict=False):
            if 0 < rows[b]["time"] - rows[a]["time"] < MINUTE and dice.random() < 0.01:
                result[a], result[b] = rows[b], rows[a]
                moved += 1
    return result, moved


def _misspelt(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Names in another case, or with a blank after them."""
    result, count = [], 0
    for row in rows:
        if row.get("screen") and dice.random() < 0.004:
            name = row["screen"]
            row = {**row, "screen": dice.choice([name.lower(), f"{name} "])}
            count += 1
        result.append(row)
    return result, count


def _sessionless(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    chosen = {row["session"] for row in rows if dice.random() < 0.001}
    result = [
        {k: v for k, v in row.items() if k != "session"} if row["session"] in chosen else row
        for row in rows
    ]
    return result, sum("session" not in row for row in result)


def _unset_clocks(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Phones that believe that it is 1970."""
    return _shifted(rows, dice, 0.0015, -rows[0]["time"] + 26 * HOUR)


def _fast_clocks(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Phones that believe that it is five years later."""
    return _shifted(rows, dice, 0.0008, 5 * 365 * 24 * HOUR)


def _shifted(rows: list[Row], dice: random.Random, share: float, by: int) -> tuple[list[Row], int]:
    users = sorted({row["user"] for row in rows})
    chosen = set(dice.sample(users, max(int(len(users) * share), 1)))
    result = [{**r, "time": r["time"] + by} if r["user"] in chosen else r for r in rows]
    return result, sum(row["user"] in chosen for row in rows)


def _unreadable(rows: list[Row], dice: random.Random) -> tuple[list[Row], int]:
    """Rows without a time that can be read, or without a user."""
    result, count = [], 0
    for row in rows:
        if dice.random() < 0.0004:
            row = {**row, **dice.choice([{"time": "soon"}, {"user": ""}])}
            count += 1
        result.append(row)
    return result, count


NOISE: dict[str, Noise] = {
    "gap": _gap,
    "lost": _lost,
    "doubled": _doubled,
    "resent": _resent,
    "late": _late,
    "misspelt": _misspelt,
    "sessionless": _sessionless,
    "clock_unset": _unset_clocks,
    "clock_ahead": _fast_clocks,
    "unreadable": _unreadable,
}
