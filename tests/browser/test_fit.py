"""A map with a wrong rule: Health says so first, one click mends it, and another undoes that."""

from __future__ import annotations

import json
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import Habits, simulate, write_json_lines
from tests.browser.conftest import Page
from tests.conftest import Server


def app_with(server: Server, name: str, log: Path, wrong: dict[str, str]) -> str:
    app = server.new_app(name)
    text = MAP.read_text()
    for right, mistake in wrong.items():
        assert right in text
        text = text.replace(right, mistake)
    headers = {"Content-Type": "text/plain"}
    assert server.client.put(f"/api/apps/{app}/map", content=text, headers=headers).is_success
    server.follow(server.upload(app, log)["id"])
    return app


def test_a_wrong_rule_is_named_tried_and_undone(page: Page, server: Server, tmp_path: Path) -> None:
    log = tmp_path / "log.jsonl"
    rows = [
        row
        for row in simulate(6_000, 4, habits=Habits(True, True, True)).rows
        if row["event"] != "screen_view"
    ]
    write_json_lines(rows, log)
    app = app_with(server, "Wrongly kept", log, {"tabs: keep": "tabs: reset"})
    page.open(f"/health?app={app}")
    page.until(lambda: page.text("h1").startswith("Only "))
    every_figure_opens(page, server, app)
    page.until(
        lambda: "choosing another tab resumes its own stack" in page.text("[data-testid=mends]")
    )
    page.click("[data-mend='history tabs keep']")
    page.until(lambda: "Tried: choosing another tab" in page.text("[data-testid=tried]"))
    page.until(lambda: not page.text("h1").startswith("Only "))
    fit = server.get(f"/api/apps/{app}/map/fit")
    assert fit["landed"] >= 0.99 * fit["told"]
    page.click("[data-testid=tried] button")
    page.until(lambda: page.text("h1").startswith("Only ") and not page.all("[data-testid=tried]"))
    page.open(f"/app-map?app={app}")
    page.click("[data-mend='history tabs keep']")
    page.until(lambda: "Tried: choosing another tab" in page.text("[data-testid=tried]"))


def every_figure_opens(page: Page, server: Server, app: str) -> None:
    """Each figure of the fit, over the API; and one of them by keyboard in the page."""
    fit = server.get(f"/api/apps/{app}/map/fit")
    assert fit["misfits"]
    for one in fit["misfits"]:
        figure = [one[key] for key in ("move", "from", "expected", "came")]
        assert listed(server, app, ["misfit", *figure]) == one["journeys"] > 0
    for kind, groups in (("move", fit["by_move"]), ("screen", fit["by_screen"])):
        for group in groups:
            some = listed(server, app, [kind, group["name"]])
            assert (some > 0) == (group["landed"] < group["told"])
            assert some <= group["told"] - group["landed"]
    shown = listed(server, app, [])
    page.click("[data-testid=fit] .figure-button")
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{shown} journeys")
    page.press(Keys.ESCAPE)
    page.until(lambda: not page.all(".pane"))


def listed(server: Server, app: str, figure: list[str]) -> int:
    found = server.get(
        f"/api/apps/{app}/journeys", measure="fit", figure=json.dumps(figure), limit=1
    )
    return int(found["total"])


def test_views_alone_say_how_many_are_sure(page: Page, server: Server, tmp_path: Path) -> None:
    log = tmp_path / "views.jsonl"
    views = [row for row in simulate(3_000, 4).rows if row["event"] == "screen_view"]
    write_json_lines(views, log)
    app = app_with(server, "Views alone", log, {})
    page.open(f"/health?app={app}")
    page.until(lambda: "are sure: no row tells a move" in page.text("[data-testid=fit]"))
    assert not page.all("[data-testid=mends]")
