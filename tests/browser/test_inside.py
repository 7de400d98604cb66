"""Tabs, loops, deep links and drop-offs in the page: a planted finding read in each, and opened."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Page, pick
from tests.conftest import ODD_NAMES, Demo, Server


def test_each_view_tells_its_planted_finding(page: Page, server: Server, demo: Demo) -> None:
    app = server.new_app("Inside by hand")
    server.follow(server.upload(app, demo.csv)["id"])
    planted = {name: n["all"] for name, n in demo.figures["planted"].items()}
    page.open(f"/tabs?app={app}")
    wrong = f"In Passes the app reported another tab {planted['wrong_tabs']:,} times."
    page.until(lambda: wrong in page.text("h1"))
    filters = page.text("[data-testid=filters] tbody").split()
    assert filters[:2] == ["PassFilter", "PassWallet"]
    assert filters[3] == f"{planted['filter_uses']:,}"
    page.open(f"/loops?app={app}")
    ends = f"{planted['rate_sheet_ends']:,} journeys end on RateSheet, with no way out."
    page.until(lambda: ends in page.text("h1"))
    page.open(f"/links?app={app}")
    page.until(lambda: "what differs is upper and lower case" in page.text("h1"))
    assert f"{planted['not_found_links']:,}" in page.text("[data-testid=links]").split()
    assert f"{planted['placeholder_links']:,} of skerry://sailing/" in page.text("h1")
    open_and_split(page, app)
    compare_groups(page, app)
    walk_the_drawings(page, app)


def open_and_split(page: Page, app: str) -> None:
    """From the worst drop-off to its journeys, by platform, and to a goal."""
    page.open(f"/drop-offs?app={app}")
    page.until(lambda: "did on RateSheet (" in page.text("h1"))
    figure = '[data-testid=drop-offs] [data-figure=\'["true", "RateSheet"]\']'
    shown = page.text(figure)
    page.click(figure)
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{shown} journeys")
    pick(page, "[aria-label='This figure by']", "by platform")
    rows = page.until(lambda: [row.text for row in page.all("[data-testid=split] tr")])
    counts = {row.split()[0]: int(row.split()[1].replace(",", "")) for row in rows}
    assert sum(counts.values()) == int(shown.replace(",", ""))
    assert counts["ios"] > 5 * counts["android"], "it has no way out on one platform"
    page.click("[data-testid=split] button")
    page.until(lambda: re.match(r"(ios|android) less", page.text("[data-testid=difference]")))
    pick(page, "[aria-label='A screen to be reached']", "Receipt")
    page.until(lambda: "of journeys reach Receipt" in page.text(".view-body"))


def compare_groups(page: Page, app: str) -> None:
    """In each view: by a property, a figure of one group, two of them; and back, step by step."""
    for view in VIEWS:
        page.open(f"/{view}?app={app}")
        pick(page, "[aria-label='Broken down by']", "by version")
        rows = page.until(lambda: [row.text for row in page.all("[data-testid=groups] tbody tr")])
        assert {row.split()[0] for row in rows} == {"3.0", "3.1", "3.2"}, view
        first = page.number("[data-testid=groups] tbody [data-figure]")
        page.click("[data-testid=groups] tbody [data-figure]")
        page.until(lambda n=first: 0 < page.number("[data-testid=evidence-count]") <= n)  # type: ignore[misc]
        page.until(lambda row=rows[0]: f"(version {row.split()[0]})" in page.text(PANE))  # type: ignore[misc]
        page.driver.back()
        page.until(lambda: not page.all(PANE))
        page.click("section button", "compare two")
        page.until(lambda: " less " in page.text("[data-testid=between]"))
        page.driver.back()
        page.driver.back()
        page.until(lambda: not page.all("[data-testid=groups]"))


def walk_the_drawings(page: Page, app: str) -> None:
    """By the keyboard: from a ring to its journeys and the loop in one of them; a link's goal."""
    page.open(f"/loops?app={app}")
    page.click("[aria-label='Kinds of loops'] button", "sent round by redirects")
    page.until(lambda: "kind=redirect_loop" in page.driver.current_url)
    times = page.number("[data-testid=loops] tbody .figure-button")
    ring = page.find("[data-testid=rings] [data-figure]")
    assert f": {times} time" in said_by(ring)
    page.driver.execute_script("arguments[0].focus()", ring)
    page.press(Keys.ENTER)
    page.until(lambda: page.number("[data-testid=evidence-count]") <= times)
    page.click(f"{PANE} button.journey")
    page.until(lambda: "sent round by redirects" in page.text("[data-testid=loops-walked]"))
    page.click("[data-testid=loops-walked] button")
    page.until(lambda: "step=" in page.driver.current_url)
    page.open(f"/links?app={app}&goal=Receipt")
    page.click("[aria-label='Lines of links'] button", "by source")
    rows = page.until(lambda: [row.text for row in page.all("[data-testid=then] tbody tr")])
    assert [row.split()[0] for row in rows[-2:]] == ["all", "sessions"]
    assert "shortcut" in {row.split()[0] for row in rows}
    goals = "[data-testid=then] [data-figure^='[\"without.goal\"']"
    shown = page.number(goals)
    page.click(goals)
    page.until(lambda: page.number("[data-testid=evidence-count]") == shown)
    page.open(f"/drop-offs?app={app}")
    page.click("[aria-label='Still going by'] button", "by time")
    bar = page.find('[data-figure=\'["time", "60"]\']')
    said = said_by(bar).replace(",", "")
    page.driver.execute_script("arguments[0].focus()", bar)
    page.press(Keys.SPACE)
    page.until(lambda: f"{page.number('[data-testid=evidence-count]')} (" in said)
    page.until(
        lambda: "last 60 s or longer" in page.text("[aria-label='Journeys behind the figure']")
    )


def said_by(drawn: WebElement) -> str:
    """What a part of a drawing is called."""
    return drawn.find_element(By.TAG_NAME, "title").get_attribute("textContent") or ""


PANE = "[aria-label='Journeys behind the figure']"
VIEWS = ("tabs", "loops", "links", "drop-offs")


@pytest.mark.parametrize(
    "rows",
    [
        [],
        [("screen_view", "Here")],
        [("screen_view", name) for name in (*ODD_NAMES, "Here") * 4],
        [("switch_tab", name) for name in ODD_NAMES]
        + [("push", name) for name in ODD_NAMES * 3]
        + [("open_link", "")],
    ],
    ids=["nothing", "one row", "views of odd names", "moves to odd names"],
)
def test_odd_logs_are_told_of_too(
    page: Page, server: Server, tmp_path: Path, rows: list[tuple[str, str]]
) -> None:
    app = server.new_app("Odd", with_map=False)
    if rows:
        path = tmp_path / "odd.jsonl"
        common = {"user": ODD_NAMES[0], "tab": ODD_NAMES[1], "uri": f"x://{ODD_NAMES[2]}"}
        told = (
            {"time": 1777888800000 + 9000 * i, **common, "event": event, "screen": screen}
            for i, (event, screen) in enumerate(rows)
        )
        path.write_text("\n".join(map(json.dumps, told)), encoding="utf-8")
        assert server.follow(server.upload(app, path)["id"])["state"] == "done"
    for view in VIEWS:
        page.open(f"/{view}?app={app}")
        page.until(lambda: page.text("h1"))
        assert page.driver.execute_script(
            "return document.documentElement.scrollWidth <= window.innerWidth"
        ), view
        for button in page.all(".view-body svg [data-figure]")[:3]:
            page.driver.execute_script("arguments[0].focus()", button)
            page.press(Keys.ENTER)
            page.until(lambda: page.text("[data-testid=evidence-count]"))
