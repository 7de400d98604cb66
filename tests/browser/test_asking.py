"""Paths and patterns in the page: real questions, from the first click to the answer."""

from __future__ import annotations

from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page, pick
from tests.conftest import ODD_NAMES, Demo, Server

COUNT = "[data-testid=evidence-count]"


@pytest.fixture(scope="module")
def app(server: Server, demo: Demo) -> str:
    made = server.new_app("Asked freely")
    server.follow(server.upload(made, demo.csv)["id"])
    return made


def find(page: Page, text: str) -> None:
    """By the keyboard alone, from anywhere."""
    page.driver.find_element(By.TAG_NAME, "body").send_keys("/")
    field = page.find(".modal input")
    field.send_keys(text)
    page.until(lambda: page.all("[data-testid=found] .hit"))
    field.send_keys(Keys.ENTER)
    page.until(lambda: not page.all(".modal"))


def test_which_paths_lead_to_a_screen(page: Page, app: str) -> None:
    """Three clicks: the view, the screen, the way back; a fourth opens the journeys."""
    page.open(f"/tabs?app={app}")
    page.click(".side a", "Paths")
    page.until(lambda: page.text("h1").startswith("Of "))
    Select(page.find("[aria-label='Where paths begin']")).select_by_value("screen:RateSheet")
    page.click("[aria-label='Which way'] button", "what leads to it")
    page.until(lambda: "come from SailingsBoard" in page.text("h1"))
    walked = page.text("h1")
    page.click("[aria-label='Which steps'] button", "as kept")
    page.until(lambda: "as kept" in page.text("h1"))
    assert page.text("h1") != walked
    page.driver.back()
    page.until(lambda: page.text("h1") == walked)
    stop = page.until(lambda: page.all("svg.chart [data-at] [tabindex='0']"))
    assert len(stop) == 1, "the drawing is one stop"
    stop[0].send_keys(Keys.ARROW_LEFT)
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.until(lambda: page.number(COUNT) > 50)
    assert "1st before" in page.text(".evidence, [aria-label='Journeys behind the figure']")
    page.click("[data-testid=from-here] button", "onward from it")
    page.until(lambda: "that are on SailingsBoard" in page.text("h1"))


def test_what_users_of_a_version_do_before_they_leave_on_a_screen(page: Page, app: str) -> None:
    """Four choices: the view, where paths begin, by version, and the version alone."""
    page.open(f"/tabs?app={app}")
    page.click(".side a", "Paths")
    page.until(lambda: page.text("h1").startswith("Of "))
    pick(page, "[aria-label='Where paths begin']", "the end on PassWallet")
    page.until(lambda: "with the end on PassWallet" in page.text("h1"))
    pick(page, "[aria-label='Broken down by']", "by version")
    rows = page.until(lambda: [row.text for row in page.all("[data-testid=groups] tbody tr")])
    assert {row.split()[0] for row in rows} == {"3.0", "3.1", "3.2"}
    page.click("[data-testid=groups] button", "3.1")
    page.until(lambda: "version 3.1" in page.text(".scope-bar"))
    page.until(lambda: not page.all("[data-testid=groups]"))
    page.click("[data-testid=ways] a", "pattern")
    page.until(lambda: "/patterns" in page.driver.current_url)
    page.until(lambda: "have it" in page.text("h1"))
    page.click(".view-body a", "make it a stage of a funnel")
    page.until(lambda: "the end of" in page.text("svg.chart"))


def test_who_goes_round_and_what_comes_next(page: Page, app: str) -> None:
    """By the keyboard alone: to the view, the pattern with what is proposed, the journeys."""
    page.open(f"/logs?app={app}")
    page.find("h1, h2")
    find(page, "patterns")
    field = page.find("textarea")
    field.send_keys("(SailingsB")
    page.until(lambda: "SailingsBoard" in page.text("[role=listbox]"))
    field.send_keys(Keys.ARROW_DOWN, Keys.ENTER)
    page.until(lambda: field.get_attribute("value") == "(SailingsBoard")
    field.send_keys(" SailingDetail){3,}")
    page.until(lambda: "3 times or more" in page.text("[data-testid=pattern-said]"))
    field.send_keys(Keys.ENTER)
    page.until(lambda: "have it" in page.text("h1"))
    met = page.number("h1")
    assert page.text("[data-testid=next] tbody")
    page.find("svg.chart [data-figure*=match]").send_keys(Keys.ENTER)
    page.until(lambda: page.number(COUNT) == met)
    page.click(".journey")
    page.until(lambda: "bracketed below" in page.text("[data-testid=matches-found]"))
    page.click("[data-testid=matches-found] button", "to the next")
    page.click("button", "pick this step")
    page.driver.find_element(By.TAG_NAME, "body").send_keys(Keys.ARROW_RIGHT)
    page.click("button", "pick this step")
    page.click("a", "find journeys with the 2 picked")
    page.until(lambda: "have it" in page.text("h1"))
    assert page.number("h1") >= met


def test_a_fault_stands_under_its_place_and_what_is_kept_is_found(page: Page, app: str) -> None:
    page.open(f"/patterns?app={app}")
    page.click("[data-testid=ready] button", "tried a tab, and at once another")
    page.until(lambda: "have it" in page.text("h1"))
    page.find("[aria-label='Name to keep the pattern under']").send_keys("Hasty", Keys.ENTER)
    page.until(lambda: "forget “Hasty”" in page.text(".view-body"))
    field = page.find("textarea")
    field.send_keys(Keys.END, " [mov=push] ")
    page.until(lambda: page.text("[data-testid=pattern-said] mark") == "mov")
    assert "Did you mean move?" in page.text("[data-testid=pattern-said]")
    assert not page.find(".pattern-editor .btn").is_enabled()
    page.open(f"/logs?app={app}")
    page.find("h1, h2")
    find(page, "hasty")
    page.until(lambda: "have it" in page.text("h1"))
    find(page, "PassWallet")
    page.until(lambda: "that are on PassWallet" in page.text("h1"))


@pytest.mark.parametrize("rows", ["none", "one", "odd", "wide"])
def test_any_log_can_be_asked(page: Page, server: Server, tmp_path: Path, rows: str) -> None:
    """Nothing, one row, names of all kinds, and ten thousand screens."""
    app = server.new_app(f"Asked of {rows}")
    names = {
        "one": ["Home"],
        "odd": [*ODD_NAMES, *ODD_NAMES],
        "wide": [f"Screen number {i} of ten thousand" for i in range(10_000)],
    }.get(rows, [])
    if names:
        log = tmp_path / "views.csv"
        quoted = [name.replace('"', '""') for name in names]
        lines = [f'2026-05-01T{i // 3600:02}:{i // 60 % 60:02}:{i % 60:02}Z,u{i % 40},"{name}"'
                 for i, name in enumerate(quoted)]  # fmt: skip
        log.write_text("\n".join(["time,user,screen", *lines]))
        server.follow(server.upload(app, log)["id"])
    page.open(f"/paths?app={app}")
    if not names:
        page.until(lambda: "There is no log of this app yet" in page.text("main"))
        page.open(f"/patterns?app={app}")
        page.until(lambda: "There is no log of this app yet" in page.text("main"))
        return
    page.until(lambda: page.text("h1").startswith("Of "))
    assert page.all("svg.chart [data-at]")
    assert not page.all("main script")
    page.open(f"/patterns?app={app}&pattern=.")
    page.until(lambda: "have it (100 %)" in page.text("h1"))
