"""Small logs, written row by row in tests, with their map."""

from __future__ import annotations

import csv
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import yaml

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import split
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files

BEGIN = datetime(2026, 5, 4, 10, tzinfo=UTC)
READ_AT = int(datetime(2026, 6, 1, tzinfo=UTC).timestamp() * 1e6)
MAP = """
mossy_map: 1
screens:
  - {name: Splash, role: splash}
  - {name: SignIn, role: sign_in}
  - {name: SignUp, role: sign_up}
  - {name: Home, tab: Home}
  - {name: Detail, tab: Home}
  - {name: List, tab: Lists}
  - {name: Item, tab: Lists}
tabs: [{name: Home, root: Home}, {name: Lists, root: List}]
links: [{pattern: "x://item/{item}", screen: Item}]
"""


def study(*sessions: str, app_map: str = MAP, parts: int = 2) -> Study:
    """Each session is `USER [key=value …]: SECONDS EVENT [key=value …]; …`; `view X` shows X."""
    rows = [row for number, text in enumerate(sessions) for row in _rows(number, text)]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "log.csv"
        with path.open("w", newline="") as file:
            writer = csv.DictWriter(file, sorted({name for row in rows for name in row}))
            writer.writeheader()
            writer.writerows(rows)
        log = read_files([path]).log
    return Study(split(log, parts), AppMap.from_dict(yaml.safe_load(app_map)), READ_AT)


def _rows(number: int, text: str) -> list[dict[str, Any]]:
    who, _, acts = text.partition(": ")
    user, *own = who.split()
    session = {"user": user, "session": f"s{number}", **dict(one.split("=", 1) for one in own)}
    rows = []
    for act in filter(None, map(str.strip, acts.split(";"))):
        seconds, event, *more = act.split()
        said = {"event": event}
        if event == "view":
            said = {"event": "screen_view", "screen": more.pop(0)}
        time = BEGIN + timedelta(seconds=float(seconds))
        told = dict(one.split("=", 1) for one in more)
        rows.append({**session, "time": time.isoformat(), **said, **told})
    return rows
