"""Tabs, loops, deep links and drop-offs in the page: a planted finding read in each, and opened."""

from __future__ import annotations

import re

from tests.browser.conftest import Page, pick
from tests.conftest import Demo, Server


def test_each_view_tells_its_planted_finding(page: Page, server: Server, demo: Demo) -> None:
    app = server.new_app("Inside by hand")
    server.follow(server.upload(app, demo.csv)["id"])
    planted = {name: n["all"] for name, n in demo.figures["planted"].items()}
    page.open(f"/tabs?app={app}")
    wrong = f"In Passes the app reported another tab {planted['wrong_tabs']:,} times."
    page.until(lambda: wrong in page.text("h1"))
    page.open(f"/loops?app={app}")
    ends = f"{planted['rate_sheet_ends']:,} journeys end on RateSheet, with no way out."
    page.until(lambda: ends in page.text("h1"))
    page.open(f"/links?app={app}")
    page.until(lambda: "what differs is upper and lower case" in page.text("h1"))
    assert f"{planted['not_found_links']:,}" in page.text("[data-testid=links]").split()
    assert f"{planted['placeholder_links']:,} of skerry://sailing/" in page.text("h1")
    open_and_split(page, app)


def open_and_split(page: Page, app: str) -> None:
    """From the worst drop-off to its journeys, by platform, and to a goal."""
    page.open(f"/drop-offs?app={app}")
    page.until(lambda: "did on RateSheet (" in page.text("h1"))
    figure = '[data-testid=drop-offs] [data-figure=\'["true", "RateSheet"]\']'
    shown = page.text(figure)
    page.click(figure)
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{shown} journeys")
    pick(page, "[aria-label='These journeys by']", "by platform")
    rows = page.until(lambda: [row.text for row in page.all("[data-testid=split] tr")])
    counts = {row.split()[0]: int(row.split()[1].replace(",", "")) for row in rows}
    assert sum(counts.values()) == int(shown.replace(",", ""))
    assert counts["ios"] > 5 * counts["android"], "it has no way out on one platform"
    page.click("[data-testid=split] button")
    page.until(lambda: re.match(r"(ios|android) less", page.text("[data-testid=difference]")))
    pick(page, "[aria-label='A screen to be reached']", "Receipt")
    page.until(lambda: "of journeys reach Receipt" in page.text(".view-body"))
