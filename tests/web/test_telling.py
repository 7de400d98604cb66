"""Compare, findings, figures over time and the report, over the API."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from mossy_trail.demo.load import MAP
from tests.conftest import ODD_NAMES, Demo, Server
from tests.web.test_cli import run
from tests.web.test_getting_in import app, counted

__all__ = ["app"]
SLOW = json.dumps({"cell": "slow", "slow": 2000})


def keep(server: Server, app: str, code: int = 200, **more: Any) -> Any:
    finding = {
        "key": "slow", "kind": "own", "sentence": "Slow starts", "measure": "start-up",
        "figure": SLOW, "scope": {"unit": "sessions"}, **more,
    }  # fmt: skip
    answer = server.client.put(f"/api/apps/{app}/kept-findings", json=finding)
    assert answer.status_code == code, answer.text
    return answer.json()


def test_both_groups_open_what_they_count(server: Server, app: str) -> None:
    found = server.get(f"/api/apps/{app}/compare", by="version", one="3.2", other="3.1")
    whole = server.get(f"/api/apps/{app}/compare", by="version", one="3.2")
    assert found["one"] == whole["one"]
    assert whole["other"]["journeys"] > found["other"]["journeys"]
    shares = [row for row in found["figures"] if not row["timed"] and row["measure"] == "loops"]
    for row in [row for row in shares if row["figure"].startswith('["loop"')][:5]:
        for side, value in (("one", "3.2"), ("other", "3.1")):
            part = {"part": value, "part_by": "version"}
            assert counted(server, app, "loops", row["figure"], **part) == row[side]["count"]


def test_findings_are_sent_as_they_come(server: Server, app: str) -> None:
    path, asked = f"/api/apps/{app}/findings/stream", {"since": "2026-05-05", "unit": "users"}
    answer = server.client.get(path, params=asked)
    told = [json.loads(line) for line in answer.text.splitlines()]
    assert answer.headers["content-type"] == "application/jsonl"
    assert [one["asked"] for one in told] == list(range(1, told[-1]["to_ask"] + 1))
    assert told[-1] == server.get(f"/api/apps/{app}/findings", **asked)
    assert told[0]["found"] != told[-1]["found"]


@pytest.mark.parametrize(
    ("path", "code", "says"),
    [
        ("compare?by=version&one=moon", 404, "no “moon”"),
        ("compare?one={", 422, "segment cannot be used"),
        ('compare?one={"since":"soon"}', 422, "a day is written as"),
        ("compare", 422, "one"),
        ("trend?measure=tabs&figure=[]", 404, "no such figure"),
        ("trend?measure=moon&figure=x", 404, "no such figure"),
        (f"trend?measure=start-up&figure={SLOW}&by=version&one=moon&other=3.1", 404, "no such"),
        ('trend?measure=start-up&figure={"cell":"slow","slow":"x"}', 404, "no such figure"),
        ('trend?measure=start-up&figure={"cell":["slow"]}', 404, "no such figure"),
        ('trend?measure=funnel&figure={"cell":"stage.1","funnel":7}', 404, "no such figure"),
        ('trend?measure=patterns&figure={"cell":1,"pattern":"[["}', 422, "not expected here"),
        ('trend?measure=links&figure=["pattern.landed","x"]', 404, "no such figure"),
        ('trend?measure=gates&figure={"goal":{"a":1}}', 404, "no such figure"),
        ("report?form=pdf", 422, "form"),
        ("findings/stream?segment={", 422, "segment cannot be used"),
    ],
)
def test_what_cannot_be_told_is_said(
    server: Server, app: str, path: str, code: int, says: str
) -> None:
    answer = server.client.get(f"/api/apps/{app}/{path}")
    assert answer.status_code == code, answer.text
    assert says in answer.json()["title"]


def test_findings_are_kept_noted_arranged_dismissed_and_reported(server: Server, app: str) -> None:
    path = f"/api/apps/{app}/kept-findings"
    first = server.get(f"/api/apps/{app}/findings")["found"][0]
    told = {k: first[k] for k in ("key", "kind", "sentence", "measure", "figure", "timed")}
    own = keep(server, app, **told, beside=first["beside"], scope={"segment": first["segment"]})
    assert own["was"] == own["now"] == first["own"]
    second = keep(server, app, note=f"see {ODD_NAMES[0]}")
    third = keep(server, app, key="gone", sentence="A third", dismissed=True, note="known")
    assert keep(server, app, key="gone", sentence="A third", dismissed=True)["id"] == third["id"]
    assert [one["id"] for one in server.get(path)] == [own["id"], second["id"], third["id"]]
    moved = server.client.patch(f"{path}/{second['id']}", json={"place": 0}).json()
    assert moved["note"] == f"see {ODD_NAMES[0]}"
    assert [one["id"] for one in server.get(path)] == [second["id"], own["id"], third["id"]]
    html = server.client.get(f"/api/apps/{app}/report").text
    assert html.index("Slow starts") < html.index(first["sentence"][:20])
    assert "A third" not in html
    assert "<script>alert" not in html
    assert "&lt;script&gt;alert" in html
    markdown = server.client.get(f"/api/apps/{app}/report", params={"form": "markdown"})
    assert markdown.text.count("![its values](data:image/svg+xml;base64,") == 2
    assert "attachment" in markdown.headers["content-disposition"]
    assert server.client.delete(f"{path}/{third['id']}").status_code == 204
    assert server.client.delete(f"{path}/{third['id']}").status_code == 404
    assert len(server.get(path)) == 2


def test_a_kept_figure_tells_its_old_and_new_value(server: Server, demo: Demo) -> None:
    """After the log that it was of is gone, and another one is in."""
    app = server.new_app("Changing")
    log = server.follow(server.upload(app, demo.csv)["id"])
    keep(server, app)
    keep(server, app, key="x", measure="sign-in", figure="in", scope={"unit": "users"})
    keep(server, app, 404, key="y", figure="moon")
    keep(server, app, 404, key="y", measure="moon")
    keep(server, app, 422, key="y", scope={"since": "2031-01-01"})
    kept = server.get(f"/api/apps/{app}/kept-findings")
    assert not any(one["changed"] for one in kept)
    [before] = server.get(f"/api/apps/{app}/logs")["logs"]
    assert server.client.delete(f"/api/logs/{before['id']}").status_code < 300
    [slow, sign_in] = server.get(f"/api/apps/{app}/kept-findings")
    assert (slow["changed"], slow["now"], slow["was"]) == (True, None, kept[0]["was"])
    assert sign_in["changed"]
    report = server.client.get(f"/api/apps/{app}/report").text
    assert report.count("there is nothing to count any more") == 2
    assert log["state"] == "done"


def test_the_command_line_tells_the_same(server: Server, demo: Demo, tmp_path: Path) -> None:
    app = server.new_app("Told on the line")
    server.follow(server.upload(app, demo.csv)["id"])
    log = [str(demo.csv), "--map", str(MAP)]
    found = json.loads(run("findings", *log, "--json"))
    assert found == server.get(f"/api/apps/{app}/findings")
    assert found["found"][0]["sentence"] in run("findings", *log)
    groups = ["--by", "version", "--one", "3.2", "--other", "3.1"]
    compared = json.loads(run("compare", *log, *groups, "--json"))
    asked = {"by": "version", "one": "3.2", "other": "3.1"}
    assert compared == server.get(f"/api/apps/{app}/compare", **asked)
    assert "differ beyond chance" in run("compare", *log, *groups)
    assert "no such group" in run("compare", *log, "--by", "version", "--one", "9", code=1)
    for name in ("told.html", "told.md"):
        run("report", *log, "--out", str(tmp_path / name), "--most", "3")
        text = (tmp_path / name).read_text()
        assert text.count("2026-05-04 to 2026-05-31") == 1
        assert text.count("(95 %: ") + text.count("(95\u00a0%: ") == 3
    run("report", *log, "--out", str(tmp_path / "told.pdf"), code=2)
