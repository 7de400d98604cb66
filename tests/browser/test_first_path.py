"""From a dropped file to a figure and its journeys, by mouse and by keyboard."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import quote

from selenium.webdriver.common.keys import Keys

from mossy_trail.demo.load import MAP
from tests.browser.conftest import Page, pick
from tests.conftest import ODD_NAMES, Demo, Server


def test_from_file_to_figure_to_journeys(page: Page, demo: Demo) -> None:
    page.open("/")
    page.click("#app-choice")
    page.click("input[aria-label='Name of another app']")
    page.press("Island ferries", Keys.ENTER)
    page.until(lambda: page.text("#app-choice") == "Island ferries")
    page.press("g", "m")
    page.choose_file("[data-testid=map-file]", MAP)
    page.until(lambda: page.text("h1").startswith("The map has 32 screens in 5 tabs. There is no"))
    page.press("g", "l")
    page.until(lambda: "version 1: 32 screens, 5 tabs" in page.text(".view-body"))
    page.choose_file("[data-testid=log-file]", demo.csv)
    states = set()

    def is_in() -> bool:
        states.update(job.get_attribute("data-state") for job in page.all("[data-testid=job]"))
        return bool(page.all("[data-testid=log]"))

    page.until(is_in)
    assert states & {"reading", "storing", "replaying"}
    rows = demo.csv.read_text().count("\n") - 1
    assert page.text("h1") == f"All {rows:,} rows from 1 log were used."

    walk_the_longest_journey(page, demo)
    open_every_stage(page, demo)


def walk_the_longest_journey(page: Page, demo: Demo) -> None:
    page.press("g", "j")
    page.until(lambda: page.number("[data-testid=journeys-total]") == total(demo))
    page.click("#sort-choice")
    page.until(lambda: click_item(page, "most steps first"))
    by_session: dict[str, list[dict[str, str]]] = {}
    for step in demo.truth:
        by_session.setdefault(step["session"], []).append(step)
    longest = max(map(len, by_session.values()))
    page.until(lambda: f"{longest} steps in" in page.text(".journey-page"))
    user = page.text("h1").split()[0]
    (true,) = (
        steps for steps in by_session.values() if steps[0]["user"] == user and len(steps) == longest
    )
    for number, step in enumerate(true, 1):
        panel = page.find(f"[data-testid=step][data-step='{number}']")
        assert panel.get_attribute("data-depth") == step["depth"]
        pile = page.until(lambda: [slip.text.split()[0] for slip in page.all(".slips li")])
        page.until(lambda s=step: page.all(".slips li")[0].text.split()[0] == s["screen"])  # type: ignore[misc]
        pile = [slip.text.split()[0] for slip in page.all(".slips li")]
        assert (pile + [""])[1] == step["below"]
        page.press(Keys.ARROW_RIGHT)
    page.press(Keys.HOME)
    page.find("[data-testid=step][data-step='1']")
    address = page.driver.current_url
    page.press(Keys.ARROW_DOWN)
    page.until(lambda: page.driver.current_url != address)
    second = page.until(lambda: page.text("h1") if page.text("h1").split()[0] != user else None)
    page.press("b")
    page.until(lambda: "beside=" in page.driver.current_url)
    page.press(Keys.ARROW_DOWN)
    page.until(lambda: len(page.all(".trail")) == 2)
    assert page.text("[data-testid=beside] .fw-semibold") == second.split()[0]
    page.click("[data-testid=beside] .figure-button")
    page.until(lambda: len(page.all(".trail")) == 1)
    page.press("t")
    page.until(lambda: "across=time" in page.driver.current_url)


def open_every_stage(page: Page, demo: Demo) -> None:
    true = demo.figures["sessions"]
    page.press("g", "s")
    for stage in ("met", "tried", "in"):
        assert page.number(f"[data-testid=count-{stage}]") == true[stage]
        page.click(f"[data-figure={stage}]")
        page.until(lambda s=stage: page.number("[data-testid=evidence-count]") == true[s])  # type: ignore[misc]
    way, lost = max(true["lost"]["met"].items(), key=lambda item: item[1])
    figure = page.find(f"[data-figure='lost_met.{way}']")
    page.driver.execute_script("arguments[0].focus()", figure)
    page.press(Keys.ENTER)
    page.until(lambda: page.number("[data-testid=evidence-count]") == lost)
    page.click(".pane .journey")
    page.until(lambda: page.number("[data-testid=journeys-total]") == lost)
    page.find("[data-testid=step]")
    page.driver.back()
    page.until(lambda: page.number("[data-testid=evidence-count]") == lost)
    page.press(Keys.ESCAPE)
    page.until(lambda: not page.all(".pane"))
    page.click("#unit-choice")
    page.until(lambda: click_item(page, "users"))
    page.until(lambda: page.number("[data-testid=count-met]") == demo.figures["users"]["met"])


def click_item(page: Page, words: str) -> bool:
    for item in page.all(".dropdown-menu.show .dropdown-item"):
        if item.text == words:
            item.click()
            return True
    return False


def total(demo: Demo) -> int:
    return int(demo.figures["sessions"]["all"])


def test_broken_files_and_rows_are_told_of(page: Page, server: Server) -> None:
    app = server.new_app("Broken files", with_map=False)
    page.open(f"/logs?app={app}")
    assert page.text("h1") == "There is no log of this app yet."
    page.drop(".drop", "picture.png", "\x89PNG")
    page.drop(".drop", "empty.csv", "")
    page.until(lambda: "The file is empty." in page.text(".view-body"))
    rows = "1777888800,ann,A\nsoon,ann,B\n1777888801,ann,C,,\n"
    page.drop(".drop", "half.csv", "time,user,screen\n" + rows)
    page.until(lambda: page.text("h1").startswith("Of 3 rows from 1 log, 1 were used and 2 set"))
    page.click("[data-testid=log] .figure-button")
    aside = page.until(lambda: [row.text for row in page.all("[data-testid=set-aside]")])
    assert aside == [
        "line 3 time cannot be read\nsoon,ann,B",
        "line 4 wrong number of columns\n1777888801,ann,C,,",
    ]
    for path in ("journeys", "sign-in"):
        page.open(f"/{path}?app={app}")
        assert re.search("ann|sign-in screen", page.text("h1"))


def test_odd_logs_are_shown_as_they_are(page: Page, server: Server, tmp_path: Path) -> None:
    """One row; and names that are long, in other scripts, or would like to be code."""
    app = server.new_app(ODD_NAMES[0])
    empty = server.new_app("Nothing")
    for path in ("journeys", "sign-in"):
        page.open(f"/{path}?app={empty}")
        assert page.text("h1") == "There is no log of this app yet."
    log = tmp_path / f"{ODD_NAMES[1]}.csv"
    lines = [f"{1777888800 + i},{name},screen_view,{name}" for i, name in enumerate(ODD_NAMES)]
    log.write_text("time,user,event,screen\n" + "\n".join(lines) + "\n")
    server.follow(server.upload(app, log)["id"])
    page.open(f"/journeys?app={app}")
    page.until(lambda: page.number("[data-testid=journeys-total]") == 3)
    for name in ODD_NAMES:
        page.open(f"/journeys?app={app}&search={quote(name)}")
        page.until(lambda: page.number("[data-testid=journeys-total]") == 1)
        assert page.text("h1").startswith(name[:50])
        assert page.text(".slips li").split("\noutside")[0] == name
        wide = page.driver.execute_script("return document.documentElement.scrollWidth")
        assert wide <= 1280
    page.open(f"/sign-in?app={app}")
    assert page.text("h1") == "None of 3 sessions met sign-in."
    assert page.text("#app-choice") == ODD_NAMES[0]


def test_a_foreign_log_by_choosing_columns_to_its_journeys(page: Page, server: Server) -> None:
    app = server.new_app("Foreign by hand", with_map=False)
    page.open(f"/logs?app={app}")
    views = [("launch", ""), ("pageView", "Home"), ("pageView", "List"), ("go back", "Home")]
    rows = [f"2026-05-04 10:00:{i:02};dev-1;{what};{at};x" for i, (what, at) in enumerate(views)]
    page.drop(".drop", "foreign.csv", "\n".join(["when;device;what;heading;inner", *rows]))
    page.until(lambda: "It will be read with" in page.text("[data-testid=mapping]"))
    choose = "select[aria-label='Column for screen']"
    page.until(lambda: pick(page, choose, "inner"))
    page.until(lambda: "x" in [cell.text for cell in page.all("[data-testid=mapping] td")])
    page.until(lambda: pick(page, choose, "heading"))
    page.until(lambda: "List" in [cell.text for cell in page.all("[data-testid=mapping] td")])
    assert "app_start\nlaunch" in [cell.text for cell in page.all("[data-testid=mapping] td")]
    page.click("[data-testid=mapping] .btn-primary")
    page.until(lambda: page.text("h1") == "All 4 rows from 1 log were used.")
    page.press("g", "j")
    page.until(lambda: page.number("[data-testid=journeys-total]") == 1)
    page.find("[data-testid=step][data-step='1']")
    page.press(Keys.END)
    panel = page.find("[data-testid=step][data-step='3']")
    assert panel.get_attribute("data-depth") == "1"
