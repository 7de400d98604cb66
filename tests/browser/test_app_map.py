"""The app map in the page: unknown names by one key, the picture, the rules, a draft, undo."""

from __future__ import annotations

import json
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from mossy_trail.demo.load import MAP
from tests.browser.conftest import Page, pick
from tests.conftest import ODD_NAMES, Demo, Server


def test_from_a_draft_to_a_map_that_is_trusted(
    page: Page, server: Server, demo: Demo, tmp_path: Path
) -> None:
    app = server.new_app("To be mapped", with_map=False)
    server.follow(server.upload(app, demo.csv)["id"])
    odd = tmp_path / "odd.csv"
    rows = [f'2026-05-05T10:00:0{i}Z,odd,"{name}"' for i, name in enumerate(ODD_NAMES)]
    more = ["2026-05-05T10:00:07Z,odd,SailingsBord", "2026-05-05T10:00:08Z,odd,Receipt 77"]
    odd.write_text("\n".join(["time,user,screen", *rows, *more, ""]))
    page.open(f"/logs?app={app}")
    page.click(".view-body a[href*='show=draft']")
    page.until(lambda: "32 screens, 5 tabs, 1 filter, 4 links" in page.text(".view-body"))
    page.click(".view-body .btn-primary")
    page.until(lambda: page.text("h1").endswith("every name in the log is one of them."))
    take_unknown_names(page, server, app, odd)
    open_the_picture(page, server, app)
    change_and_undo(page)


def take_unknown_names(page: Page, server: Server, app: str, odd: Path) -> None:
    server.follow(server.upload(app, odd)["id"])
    page.open(f"/app-map?app={app}")
    page.until(lambda: page.text("h1").endswith("; 5 names in the log are not in it."))
    names = [row.text for row in page.all("[data-testid=unknown-name]")]
    assert any("alert(1)" in name for name in names), "a name from a log is text"
    at = next(i for i, name in enumerate(names) if "SailingsBord" in name)
    page.press(*[Keys.ARROW_DOWN] * at, "y")
    page.until(lambda: page.text("h1").endswith("; 4 names in the log are not in it."))
    assert "“SailingsBord”" in page.text("[data-testid=screens]")
    page.press(*[Keys.ARROW_UP] * 5, "n")
    page.until(lambda: page.text("h1").endswith("; 3 names in the log are not in it."))
    page.until(lambda: "it is Receipt" in page.text(".unknown-names"))


def open_the_picture(page: Page, server: Server, app: str) -> None:
    page.click("[data-part=picture]")
    node = page.find("[aria-label^='SailingDetail:']")
    shown = node.get_attribute("aria-label") or ""
    page.click("[aria-label^='SailingDetail:']")
    page.until(lambda: page.text("[data-testid=evidence-count]") == shown.split(": ")[1])
    page.press(Keys.ESCAPE)
    page.until(lambda: not page.all(".pane"))
    page.click("[data-part=practice]")
    steps = page.until(lambda: page.text("[data-testid=moves] tbody .figure-button"))
    page.click("[data-testid=moves] tbody .figure-button")
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{steps} journeys")
    page.press(Keys.ESCAPE)


def change_and_undo(page: Page) -> None:
    page.click("[data-part=history]")
    page.until(lambda: "fits best" in page.text("[data-testid=history]"))
    page.click("#root_back-first_tab")
    page.until(lambda: page.find("#root_back-first_tab").is_selected())
    page.until(lambda: "version 4" in page.text(".view-body"))
    page.click(".view-body span.small-text button")
    page.until(lambda: page.find("#root_back-exit").is_selected())
    page.click("[data-part=screens]")
    role = "[aria-label='Role of NotFound']"
    page.until(lambda: page.find(role).is_enabled() and pick(page, role, "error"))
    page.until(lambda: "version 6" in page.text(".view-body"))


def test_a_faulty_file_is_told_by_its_line(page: Page, server: Server, tmp_path: Path) -> None:
    app = server.new_app("Faulty map")
    page.open(f"/app-map?app={app}")
    page.until(lambda: page.text("h1").startswith("The map has 32 screens"))
    faulty = tmp_path / "faulty.json"
    faulty.write_text(json.dumps({"mossy_map": 1, "screens": [{"role": "splash"}]}, indent=1))
    page.choose_file("[data-testid=map-file]", faulty)
    page.until(lambda: "Line 4, at screens.0: 'name' is a required" in page.text(".view-body"))
    page.choose_file("[data-testid=map-file]", MAP)
    page.until(lambda: "version 2" in page.text(".view-body"))
    page.complaints()  # the browser tells of the refusal, as it should
