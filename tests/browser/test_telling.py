"""Findings, Compare, figures over time and the report in the page, from first click to answer."""

from __future__ import annotations

import base64
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, pick
from tests.conftest import Demo, Server

COUNT = "[data-testid=evidence-count]"


@pytest.fixture(scope="module")
def app(server: Server, demo: Demo) -> str:
    made = server.new_app("Told of")
    server.follow(server.upload(made, demo.csv)["id"])
    return made


def test_which_of_two_versions_is_worse_and_where(page: Page, app: str) -> None:
    """Three clicks from the first page: Compare takes the newest two, *worse*, and a line."""
    page.open(f"/?app={app}")
    page.until(lambda: "stand out in" in page.text("h1"))
    page.click(".side a", "Compare")
    page.until(lambda: "between 3.2 and 3.1" in page.text("h1"))
    page.click("[aria-label='Which figures'] button", "worse")
    first = page.until(lambda: page.all("svg.chart .figure"))[0]
    assert "took 2 s or longer" in first.text
    assert "worse" in first.text
    page.click("svg.chart .figure", "took 2 s or longer")
    one = page.until(lambda: page.number(COUNT))
    page.click("[aria-label='Whose journeys'] button", "3.1")
    page.until(lambda: page.number(COUNT) != one)
    assert page.number(COUNT) < one
    page.click("[data-testid=opened] a", "see both in Start-up")
    page.until(lambda: page.all("[data-testid=groups]"))
    rows = page.until(lambda: [row.text for row in page.all("[data-testid=split] tbody tr")])
    assert len(rows) == 3
    page.driver.back()
    page.until(lambda: "between 3.2 and 3.1" in page.text("h1"))
    pick(page, "[aria-label='What the two groups are']", "two periods")
    page.until(lambda: "between 17 May – 31 May and 4 May – 16 May" in page.text("h1"))


def test_a_figures_journeys_are_held_against_the_others(page: Page, app: str) -> None:
    page.open(f'/loops?app={app}&figure=["kind","ping_pong"]')
    page.until(lambda: page.number(COUNT) > 100)
    page.click("aside a", "beside the others")
    page.until(lambda: "all others" in page.text("h1"))
    page.until(lambda: page.all("svg.chart .figure"))
    assert "walked a loop: back and forth" in page.text(".view-body")


def test_a_report_of_three_findings(page: Page, app: str, server: Server, tmp_path: Path) -> None:
    """Five clicks: three to keep, *kept*, and HTML; the file opens without a server, and prints."""
    page.open(f"/?app={app}")
    page.until(lambda: "stand out in" in page.text("h1"))
    for kept in range(1, 4):
        page.click(f"[data-testid=findings] > li:nth-child({kept}) button", "keep")
        page.until(lambda n=kept: f"kept {n}" in page.text("[aria-label='Which findings']"))
    page.click("[aria-label='Which findings'] button", "kept")
    notes = page.until(lambda: page.all("[data-testid=kept-findings] textarea"))
    notes[0].send_keys("For the team of the splash.")
    page.click("h1")
    first = page.text("[data-testid=kept-findings] .finding-words")
    page.click("[data-testid=kept-findings] button", "↓ down")
    page.until(lambda: page.text("[data-testid=kept-findings] .finding-words") != first)
    link = page.find("a[download]").get_attribute("href")
    assert link
    told = tmp_path / "report.html"
    page.until(lambda: "For the team of the splash." in server.client.get(link).text or None)
    told.write_text(server.client.get(link).text)
    page.driver.get(told.as_uri())
    assert page.text("h1") == "Told of: findings"
    assert [one.text[:2] for one in page.all("section h2")][:3] == ["1.", "2.", "3."]
    assert first in page.text("section:nth-of-type(2)")
    assert len(page.all("svg")) == 3
    assert not page.driver.find_elements(By.TAG_NAME, "script")
    printed = page.driver.execute_cdp_cmd("Page.printToPDF", {})["data"]
    assert len(base64.b64decode(printed)) > 20_000


def test_a_finding_is_dismissed_with_a_reason_and_found_again(page: Page, app: str) -> None:
    page.open(f"/findings?app={app}")
    page.until(lambda: "stand out in" in page.text("h1"))
    said = page.text("[data-testid=findings] li:last-child .finding-words")
    page.click("[data-testid=findings] > li:last-child button", "dismiss")
    page.press("known, and on its way", Keys.ENTER)
    page.until(lambda: said not in page.text("[data-testid=findings]"))
    page.click("[aria-label='Which findings'] button", "dismissed")
    assert said in page.text("[data-testid=kept-findings]")
    reason = page.find("[data-testid=kept-findings] textarea").get_attribute("value")
    assert reason == "known, and on its way"
    page.click("[data-testid=kept-findings] button", "no longer dismissed")
    page.until(lambda: not page.all("[data-testid=kept-findings]"))


def test_any_figure_is_told_over_time_and_kept_by_a_key(page: Page, app: str) -> None:
    """By the keyboard, but for the choice; a day opens its journeys."""
    page.open(f'/drop-offs?app={app}&figure=["exits","Alerts"]')
    whole = page.until(lambda: page.number(COUNT))
    pick(page, "[aria-label='This figure by']", "by week")
    weeks = page.until(lambda: page.all("[data-testid=trend] .figure"))
    assert len(weeks) == 4
    assert "ended on Alerts, of visits of Alerts" in page.text("[data-testid=trend]")
    weeks[0].send_keys(Keys.ENTER)
    page.until(lambda: page.number(COUNT) < whole)
    assert "the week from 2026-05-04" in page.text("aside header")
    page.press("k")
    page.until(lambda: [one for one in page.all("aside button") if one.text == "kept"])
    page.press("gi")
    page.click("[aria-label='Which findings'] button", "kept")
    kept = "[data-testid=kept-findings]"
    page.until(lambda: "ended on Alerts (the week from 2026-05-04)" in page.text(kept))
    page.click(f"{kept} .finding-words", "ended on Alerts")
    assert page.until(lambda: page.number(COUNT)) < whole
