"""Every page of the app, with what the server answers for logs of all kinds."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path
from typing import Any

from tests.conftest import ODD_NAMES, Server

FRONTEND = Path(__file__).parents[2] / "frontend"
DAY = 1777888800000
Told = list[dict[str, Any]]


def rows(*events: tuple[str, str], **common: Any) -> Told:
    who = {"user": ODD_NAMES[0], **common}
    return [
        {"time": DAY + 9000 * i, **who, "event": event, "screen": screen}
        for i, (event, screen) in enumerate(events)
    ]


LOGS: dict[str, Told] = {
    "one row": rows(("screen_view", "Here")),
    "views of odd names": rows(*[("screen_view", name) for name in (*ODD_NAMES, "Here") * 4]),
    "moves to odd names": rows(
        *[("switch_tab", name) for name in ODD_NAMES],
        *[("push", name) for name in ODD_NAMES * 3],
        ("open_link", ""),
        tab=ODD_NAMES[1],
        uri=f"x://{ODD_NAMES[2]}",
    ),
    "account only": rows(*[("sign_in", "")] * 3, ("sign_out", "")),
    "one moment": [{**row, "time": DAY} for row in rows(*[("push", "A"), ("pop", "B")] * 20)],
    "odd clocks": [
        {**row, "time": at}
        for row, at in zip(rows(*[("screen_view", "A")] * 2), (9, 4e12), strict=True)
    ],
    "odd params": [
        {**row, "params": value, "version": value}
        for row, value in zip(
            rows(*[("push", "A"), ("push", "B")] * 4),
            [7, "seven", [1, [2]], {"a": {"b": None}}, None, True, "{", ""],
            strict=True,
        )
    ],
}


def test_pages_are_sound_with_what_the_server_answers(server: Server, tmp_path: Path) -> None:
    apps = [server.new_app("Nothing", with_map=False)]
    for name, told in LOGS.items():
        app, path = server.new_app(name, with_map=False), tmp_path / f"{name}.jsonl"
        path.write_text("\n".join(map(json.dumps, told)), encoding="utf-8")
        assert server.follow(server.upload(app, path)["id"])["state"] == "done", name
        apps.append(app)
    done = subprocess.run(
        ["npx", "vitest", "run", "--config", "vite.live.config.ts"],
        cwd=FRONTEND,
        env={**os.environ, "MOSSY_SERVER": server.url, "MOSSY_APPS": ",".join(apps)},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stdout + done.stderr
