"""The API of a running server, from upload to figure to evidence to raw row."""

from __future__ import annotations

import asyncio
import json
import re
from pathlib import Path

import httpx
import pytest
import schemathesis
from hypothesis import HealthCheck, given
from hypothesis import strategies as st
from schemathesis.core.transport import Response
from sqlalchemy import Engine

from mossy_trail.demo.load import MAP
from mossy_trail.web.app import create_app
from mossy_trail.web.context import new_context
from tests.campaign import examples
from tests.conftest import Demo, Server
from tests.core.test_replay import differences
from tests.core.test_sign_in import as_truth_tells
from tests.web.test_cli import read as read_steps


@pytest.fixture(scope="module")
def app(server: Server, demo: Demo) -> str:
    """An app with the map of the demo and the log of which the truth is known."""
    key = server.new_app("Ferries & <b>more</b>")
    job = server.upload(key, demo.csv, name="May's log.csv")
    assert server.follow(job["id"])["state"] == "done"
    return key


def test_until_the_tool_is_ready_questions_are_answered_by_how_far_it_is(
    engine: Engine, tmp_path: Path
) -> None:
    said = ["The tool is being made ready, once: 3 of 21 parts are."]
    context = new_context(engine, tmp_path, not_ready=lambda: said[0])
    transport = httpx.ASGITransport(create_app(context))

    async def ask() -> None:
        async with httpx.AsyncClient(transport=transport, base_url="http://localhost") as client:
            app = (await client.post("/api/apps", json={"name": "Early"})).json()["key"]
            early = await client.get(f"/api/apps/{app}/measures/tabs")
            assert (early.status_code, early.json()["title"]) == (503, said[0])
            said[0] = ""
            assert (await client.get(f"/api/apps/{app}/measures/tabs")).status_code == 200

    asyncio.run(ask())


def test_the_log_is_there_with_an_account_of_every_row(
    server: Server, app: str, demo: Demo
) -> None:
    rows = demo.csv.read_text().count("\n") - 1
    found = server.get(f"/api/apps/{app}/logs")
    (log,) = found["logs"]
    assert (log["rows_read"], log["rows"], log["set_aside"]) == (rows, rows, 0)
    assert log["files"] == ["May's log.csv"]
    assert found["jobs"] == []
    fates = found["fates"]
    assert sum(fates.values()) == rows
    assert fates["made"] == len(demo.truth)


@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_figures_are_true_and_open_to_their_journeys(
    server: Server, app: str, demo: Demo, unit: str
) -> None:
    found = server.get(f"/api/apps/{app}/measures/sign-in", unit=unit)["whole"]
    told, true = as_truth_tells(found), dict(demo.figures[unit])
    for times in ("met_to_tried_ms", "tried_to_in_ms"):
        assert told.pop(times) == pytest.approx(true.pop(times))
    assert told == true
    counts = {stage["figure"]: stage["count"] for stage in found["stages"]}
    counts |= {loss["figure"]: loss["share"]["count"] for loss in found["losses"]}
    for figure, count in counts.items():
        query = {"measure": "sign-in", "figure": figure, "unit": unit, "limit": 200}
        pages = [
            server.get(f"/api/apps/{app}/journeys", **query, offset=offset)
            for offset in range(0, max(count, 1), 200)
        ]
        keys = {journey["key"] for page in pages for journey in page["journeys"]}
        assert len(keys) == count == pages[0]["total"]
        if unit == "users":
            assert len({key.split("~")[1] for key in keys}) == count


def test_a_journey_opens_to_its_steps_and_raw_rows(server: Server, app: str, demo: Demo) -> None:
    lines = demo.csv.read_bytes().splitlines()
    page = server.get(f"/api/apps/{app}/journeys", sort="longest", limit=3)
    longest = page["journeys"][0]
    assert longest["steps"] == max(j["steps"] for j in page["journeys"])
    true = [t for t in demo.truth if t["session"] == longest["session"]]
    journey = server.get(f"/api/apps/{app}/journey", key=longest["key"])
    assert [s["screen"] for s in journey["trail"]] == [t["screen"] for t in true]
    seen = []
    for number, step in enumerate(journey["trail"], 1):
        detail = server.get(f"/api/apps/{app}/journey/step", key=longest["key"], step=number)
        assert detail["stack"][0]["screen"] == step["screen"]
        below = detail["stack"][1]["screen"] if len(detail["stack"]) > 1 else None
        assert below == step["below"]
        for row in detail["rows"]:
            assert row["raw"].encode() == lines[row["line"] - 1]
            assert row["file"] == "May's log.csv"
            seen.append(row["line"])
    mine = [i for i, line in enumerate(lines, 1) if f",{longest['session']},".encode() in line]
    assert seen == mine


def test_search_sort_and_dates(server: Server, app: str, demo: Demo) -> None:
    everything = server.get(f"/api/apps/{app}/journeys")["total"]
    assert everything == demo.figures["sessions"]["all"]
    receipts = {t["session"] for t in demo.truth if t["screen"] == "Receipt"}
    assert server.get(f"/api/apps/{app}/journeys", search="receipt")["total"] == len(receipts)
    user = demo.truth[0]["user"]
    own = {t["session"] for t in demo.truth if t["user"] == user}
    assert server.get(f"/api/apps/{app}/journeys", search=user)["total"] == len(own)
    days = [server.get(f"/api/apps/{app}/scope", since=f"2026-05-{d:02}", until=f"2026-05-{d:02}")
            for d in range(4, 32)]  # fmt: skip
    later = server.get(f"/api/apps/{app}/scope", since="2026-06-01")
    assert sum(day["journeys"] for day in [*days, later]) == everything
    deepest = server.get(f"/api/apps/{app}/journeys", sort="deepest", limit=1)["journeys"][0]
    assert deepest["deepest"] == max(int(t["depth"]) for t in demo.truth if t["region"] != "sheet")


@pytest.mark.parametrize("form", ["csv", "jsonl", "parquet"])
def test_steps_of_what_is_listed_come_out_as_files(
    server: Server, app: str, demo: Demo, form: str, tmp_path: Path
) -> None:
    query = {"measure": "sign-in", "figure": "lost_met", "search": "SignUp"}
    listed = server.get(f"/api/apps/{app}/journeys", **query, limit=200)
    sessions = {journey["session"] for journey in listed["journeys"]}
    answer = server.client.get(f"/api/apps/{app}/steps.{form}", params=query)
    path = tmp_path / f"steps.{form}"
    path.write_bytes(answer.content)
    true = [step for step in demo.truth if step["session"] in sessions]
    assert len(sessions) == listed["total"] > 10
    assert differences(read_steps(path), true) == []


def test_broken_rows_are_listed_and_downloaded(server: Server, tmp_path: Path) -> None:
    app = server.new_app("Broken", with_map=False)
    path = tmp_path / "b.csv"
    path.write_bytes(b"time,user,screen\n1777888800,a,A\n=1+1,a,B\n1777888801,,C\nx,y\n")
    done = server.follow(server.upload(app, path)["id"])
    log = done["log_id"]
    page = server.get(f"/api/logs/{log}/set-aside")
    assert [(r["line"], r["reason"], r["text"]) for r in page["rows"]] == [
        (3, "time cannot be read", "=1+1,a,B"),
        (4, "no user", "1777888801,,C"),
        (5, "wrong number of columns", "x,y"),
    ]
    assert server.get(f"/api/logs/{log}/set-aside", reason="no user")["total"] == 1
    download = server.client.get(f"/api/logs/{log}/set-aside.csv").text
    assert download.splitlines()[1] == 'b.csv,3,time cannot be read,"\'=1+1,a,B"'
    assert server.client.delete(f"/api/logs/{log}").status_code == 204
    assert server.get(f"/api/apps/{app}/journeys")["total"] == 0
    assert server.get(f"/api/apps/{app}/logs")["logs"] == []


def test_a_foreign_file_asks_once_and_is_then_known(server: Server, tmp_path: Path) -> None:
    app = server.new_app("Foreign", with_map=False)
    path = tmp_path / "foreign.csv"
    rows = "".join(f"2026-05-04 10:00:0{i},d{i % 2},pageView,P{i}\n" for i in range(9))
    path.write_text("when,device,what,heading\n" + rows)
    job = server.upload(app, path)
    assert job["state"] == "asking"
    url = f"/api/jobs/{job['id']}/mapping"
    proposed = server.get(url)
    assert proposed["mapping"]["fields"] == {
        "time": ["when"],
        "user": ["device"],
        "event": ["what"],
    }
    body = {**proposed["mapping"], "fields": {"time": ["when"], "user": ["device"]}}
    assert server.client.put(url, json=body).json()["title"] == "No column is chosen for screen."
    body["fields"] |= {"event": ["what"], "screen": ["heading"]}
    seen = server.client.post(f"{url}/preview", json=body).json()
    assert [row["screen"] for row in seen["read"]] == [f"P{i}" for i in range(9)]
    assert server.client.put(url, json=body).status_code == 200
    assert server.follow(job["id"])["state"] == "done"
    assert server.get(f"/api/apps/{app}/journeys", search="P8")["total"] == 1
    again = server.upload(app, path, name="next.csv")
    assert server.follow(again["id"])["state"] == "done"
    assert server.client.put(url, json=body).status_code == 409


def test_a_file_that_is_no_log_says_what_to_do(server: Server, tmp_path: Path) -> None:
    app = server.new_app("Pictures", with_map=False)
    path = tmp_path / "p.png"
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(500))
    job = server.follow(server.upload(app, path)["id"])
    assert (job["state"], job["message"]) == (
        "failed",
        "p.png: This is a PNG picture, not a log.",
    )
    assert job["mend"].startswith("Bring CSV, JSON Lines")
    assert [j["id"] for j in server.get(f"/api/apps/{app}/logs")["jobs"]] == [job["id"]]
    assert server.client.delete(f"/api/jobs/{job['id']}").status_code == 204
    assert server.get(f"/api/apps/{app}/logs")["jobs"] == []


def test_an_import_can_be_stopped_and_tried_again(
    server: Server, demo: Demo, tmp_path: Path
) -> None:
    app = server.new_app("Stopped")
    head, _, rows = demo.csv.read_bytes().partition(b"\n")
    path = tmp_path / "long.csv"
    path.write_bytes(head + b"\n" + rows * 3)
    job = server.upload(app, path)
    server.follow(job["id"], until="reading")
    server.client.post(f"/api/jobs/{job['id']}/cancel")
    assert server.follow(job["id"])["state"] == "cancelled"
    assert server.get(f"/api/apps/{app}/logs")["logs"] == []
    assert server.client.post(f"/api/jobs/{job['id']}/retry").status_code == 200
    assert server.follow(job["id"])["state"] == "done"
    assert server.get(f"/api/apps/{app}/logs")["logs"][0]["rows"] == rows.count(b"\n") * 3


@pytest.mark.parametrize(
    ("method", "path", "status", "says"),
    [
        ("GET", "/api/apps/none/measures/sign-in", 404, "There is no such app."),
        ("GET", "/api/apps/{app}/journey?key=1~x", 404, "There is no such journey"),
        ("GET", "/api/apps/{app}/journeys?measure=sign-in&figure=x", 404, "no such figure"),
        ("GET", "/api/apps/{app}/journeys?measure=x&figure=met", 404, "no such figure"),
        ("GET", "/api/apps/{app}/scope?since=2026-06-01&until=2026-05-01", 422, "first day"),
        ("GET", "/api/apps/{app}/scope?since=soon", 422, "since"),
        ("POST", "/api/apps", 422, "the request"),
        ("GET", "/api/jobs/999999", 404, "no such import"),
        ("POST", "/api/jobs/999999/retry", 404, "no such import"),
        ("GET", "/api/logs/999999/set-aside", 404, "no such log"),
        ("GET", "/api/nothing", 404, "no such address"),
    ],
)
def test_errors_are_problems_in_words(
    server: Server, app: str, method: str, path: str, status: int, says: str
) -> None:
    answer = server.client.request(method, path.format(app=app))
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    assert says in answer.json()["title"]


def test_only_its_own_pages_are_answered(server: Server) -> None:
    port = server.url.rsplit(":", 1)[1]
    for headers in (
        {"Host": "evil.example"},
        {"Host": f"evil.example:{port}"},
        {"Origin": "https://evil.example"},
        {"Origin": "null"},
    ):
        assert server.client.get("/api/apps", headers=headers).status_code == 403
    answer = server.client.get("/journeys", headers={"Origin": server.url})
    assert answer.status_code == 200
    assert "default-src 'self'" in answer.headers["content-security-policy"]


def test_a_map_can_be_taken_out_and_brought_in(server: Server, app: str) -> None:
    text = server.client.get(f"/api/apps/{app}/map").text
    assert "SailingsBoard" in text
    headers = {"Content-Type": "text/plain"}
    broken = server.client.put(f"/api/apps/{app}/map", content="screens: 1", headers=headers)
    assert broken.status_code == 422
    other = server.new_app("Other map", with_map=False)
    taken = server.client.put(f"/api/apps/{other}/map", content=text, headers=headers)
    assert taken.json() == {"version": 1, "screens": 32, "tabs": 5, "links": 4}
    assert server.client.get(f"/api/apps/{other}/map").text == text
    assert MAP.exists()


def test_a_fault_has_a_number_and_a_report_without_what_was_asked() -> None:
    app = httpx.ASGITransport(create_app(), raise_app_exceptions=False)

    def get(path: str) -> httpx.Response:
        async def ask() -> httpx.Response:
            async with httpx.AsyncClient(transport=app, base_url="http://127.0.0.1") as client:
                return await client.get(path)

        return asyncio.run(ask())

    broken = get("/api/apps/secret-app/health").json()  # it knows of no database
    number = broken["instance"].rpartition("/")[2]
    assert broken["status"] == 500
    assert number in broken["detail"]
    report = get(broken["instance"])
    assert report.headers["content-disposition"] == f'attachment; filename="fault-{number}.txt"'
    assert "asked: GET /api/apps/{app}/health" in report.text
    assert re.search(r"web/context.py:\d+ in ", report.text)
    assert "secret" not in report.text
    assert get("/api/faults/0").status_code == 404


schema = schemathesis.openapi.from_dict(create_app().openapi())


asked = schema.exclude(path_regex="/events$")
OTHERS = 1_000_000
"""From here on, no number is that of a log or job that other tests need."""
OPERATIONS = {found.ok().label: found.ok() for found in asked.get_all_operations()}


@pytest.fixture(scope="module")
def scratch(server: Server, tmp_path_factory: pytest.TempPathFactory) -> str:
    """An app with a small log that may come to harm."""
    key = server.new_app("Scratch")
    log = tmp_path_factory.mktemp("scratch") / "small.csv"
    views = [f"2026-05-04T10:00:{i:02}Z,u{i % 3},screen_view,S{i % 4}" for i in range(40)]
    log.write_text("\n".join(["time,user,event,screen", *views]))
    assert server.follow(server.upload(key, log)["id"])["state"] == "done"
    return key


@pytest.mark.parametrize("operation", OPERATIONS)
@examples(10, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_no_request_breaks_the_server(
    server: Server, scratch: str, operation: str, data: st.DataObject
) -> None:
    """Whatever is asked, what is answered is what the API says of itself."""
    case = data.draw(OPERATIONS[operation].as_strategy())
    removes = case.method == "DELETE"
    if "app" in case.path_parameters and (removes or data.draw(st.booleans())):
        case.path_parameters["app"] = scratch
    for name, value in case.path_parameters.items():
        if removes and name.endswith("_id") and str(value).isdecimal():
            case.path_parameters[name] = int(value) + OTHERS
    request = case.as_transport_kwargs(base_url=server.url)
    told = {k: v for k, v in request.items() if k in ("params", "json", "headers")}
    answer = server.client.request(request["method"], request["url"], **told)
    assert answer.status_code < 500, answer.text
    OPERATIONS[operation].validate_response(Response.from_httpx(answer, verify=True), case=case)
    if answer.status_code >= 400:
        assert set(json.loads(answer.text)) == {"title", "status", "detail"}
