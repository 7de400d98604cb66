"""Two people with two roles: one keeps a finding, the other reads it, and may do no more."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, pick
from tests.browser.test_hands import broken_rules, fits_narrow_windows
from tests.conftest import Demo, TeamServer


@pytest.fixture
def team(tmp_path: Path) -> Iterator[TeamServer]:
    server = TeamServer(tmp_path / "data")
    server.start()
    yield server
    server.remove()


@pytest.fixture
def page(driver: webdriver.Chrome, team: TeamServer) -> Iterator[Page]:
    """Nobody is signed in yet."""
    page = Page(driver, team.url)
    page.complaints()
    yield page
    driver.delete_all_cookies()
    assert [told for told in page.complaints() if "a status of 401" not in told] == []


def fill(page: Page, css: str, text: str) -> None:
    field = page.find(css)
    field.clear()
    field.send_keys(text)


def sign_in(page: Page, email: str, password: str) -> None:
    fill(page, "#email", email)
    fill(page, "#password", password)
    page.press(Keys.ENTER)


def finding(page: Page) -> str:
    """The words of the first finding."""
    return page.text("[data-testid=finding] .finding-words, .findings .finding-words")


def buttons(page: Page) -> set[str]:
    """What can be done on this page, by its words."""
    return {one.text for one in page.all("main button") if one.is_displayed() and one.text}


def test_one_keeps_and_the_other_reads(page: Page, team: TeamServer, demo: Demo) -> None:
    app = team.new_app("Ferry")
    assert team.follow(team.upload(app, demo.csv)["id"])["state"] == "done"
    page.open(f"/findings?app={app}")
    page.find("#email")
    broken = broken_rules(page, "sign in")
    fits_narrow_windows(page)
    sign_in(page, "ada@example.org", "a wrong guess at it")
    page.until(lambda: "do not fit" in page.text("[role=alert]"))
    sign_in(page, "ada@example.org", team.password)
    page.until(lambda: "app=" in page.driver.current_url and page.text("main h1"))
    page.until(lambda: "keep" in buttons(page))
    kept = finding(page)
    page.click(".findings button", "keep")
    page.until(lambda: "kept" in buttons(page))

    page.press("g", "w")
    page.until(lambda: "may look into this app" in page.text("main h1"))
    page.until(lambda: page.all("[data-testid=deeds]"))
    broken += broken_rules(page, "people")
    fits_narrow_windows(page)
    fill(page, "[aria-label='E-mail of whom to let in']", "bo@example.org")
    page.press(Keys.ENTER)
    link = page.text("[data-testid=link] .raw")
    page.until(lambda: "bo@example.org" in page.text("[data-testid=members]"))
    page.click(".side a", "My account")
    page.until(lambda: "signed in as Ada" in page.text("main h1"))
    broken += broken_rules(page, "account")
    fits_narrow_windows(page)
    page.click("main button", "sign out")
    page.until(lambda: page.text("main h1") == "Sign in")

    page.driver.get(link)
    page.find("#name")
    assert [*broken, *broken_rules(page, "invited")] == []
    fill(page, "#name", "Bo")
    fill(page, "#password", "bos own long words")
    page.press(Keys.ENTER)
    page.until(lambda: page.text(".side") and finding(page) == kept)
    assert "keep" not in buttons(page)
    assert "People" not in page.text(".side")
    page.open(f"/findings?app={app}&list=kept")
    page.until(lambda: "by Ada" in page.text("[data-testid=kept-findings]"))
    assert kept in page.text("[data-testid=kept-findings]")
    assert not {"take away", "keep"} & buttons(page)
    page.open(f"/logs?app={app}")
    page.until(lambda: page.text("[data-testid=log]"))
    assert not page.all(".drop, input[type=file], [aria-label^=Delete]")
    for part in ("screens", "connections", "history", "draft"):
        page.open(f"/app-map?app={app}&show={part}")
        page.until(lambda: page.all("main table tbody tr"))
        fields = page.all("main td select, main td input, main th select")
        assert part == "draft" or fields
        assert not [one for one in fields if one.is_enabled()], part
        assert not {"take away", "add", "Use this map", "undo the last change"} & buttons(page)
    page.open(f"/people?app={app}")
    page.until(lambda: "/people" not in page.driver.current_url)

    members = team.get(f"/api/apps/{app}/members")
    bo = next(one["id"] for one in members if one["email"] == "bo@example.org")
    team.client.put(f"/api/apps/{app}/members/{bo}", json={"role": "work"})
    page.open(f"/findings?app={app}")
    page.until(lambda: "keep" in buttons(page))
    team.client.delete(f"/api/people/{bo}")
    page.press("g", "j")
    page.until(lambda: page.text("main h1") == "Sign in")
    assert not page.driver.find_elements(By.CSS_SELECTOR, ".side"), "nothing is left on the page"


def test_a_token_is_shown_once(page: Page, team: TeamServer) -> None:
    team.new_app("Ferry", with_map=False)
    page.open("/account")
    sign_in(page, "ada@example.org", team.password)
    fill(page, "[aria-label='Name of the token']", "<b>nightly</b>")
    pick(page, "[aria-label='Role of the token']", "work")
    page.click("main button", "Make one")
    shown = page.text("[data-testid=token] .raw")
    secret = shown.split("Bearer ")[1].split("'")[0]
    page.until(lambda: "<b>nightly</b>" in page.text("[data-testid=tokens]"))
    team.client.cookies.clear()
    by_token = {"Authorization": f"Bearer {secret}"}
    assert team.client.get("/api/apps", headers=by_token).json()[0]["role"] == "work"
    page.driver.refresh()
    page.until(lambda: "<b>nightly</b>" in page.text("[data-testid=tokens]"))
    assert secret not in page.driver.page_source
    page.click("[data-testid=tokens] button", "end it")
    page.until(lambda: not page.all("[data-testid=tokens]"))
    assert team.client.get("/api/apps", headers=by_token).status_code == 401
