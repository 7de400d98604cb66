"""Without a mouse, without sight, in a narrow window: each page in every state."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Page
from tests.conftest import Server

AXE = Path(__file__).parents[2] / "frontend/node_modules/axe-core/axe.min.js"
RUN = """
const done = arguments[arguments.length - 1];
axe.run(document, {resultTypes: ["violations"], ...arguments[0]}).then(
  (found) => done(found.violations.map((one) => [one.id, one.impact, one.nodes[0].html])),
);
"""
FITS = """
return [document.documentElement, ...document.querySelectorAll(".view-body")]
  .every((one) => one.scrollWidth <= one.clientWidth + 1);
"""
AT_ONCE = """
document.head.insertAdjacentHTML("beforeend", "<style>* { transition: none !important }</style>");
"""
ALL: dict[str, Any] = {}
COLOURS: dict[str, Any] = {"runOnly": ["color-contrast", "link-in-text-block"]}
DEMO = "app=skerry-crossings"
TWO_STAGES = {"stages": [{"any": [{"screens": [name]}]} for name in ("BuyPass", "Receipt")]}
GROUPS = "by=platform&one=ios&other=android"
STATES = [
    "/logs?",
    "/health?",
    *(f"/app-map?show={part}" for part in ("", "connections", "picture", "history", "practice")),
    "/app-map?show=draft",
    "/journeys?",
    "/start-up?by=version",
    "/onboarding?",
    f"/sign-in?{GROUPS}",
    "/sign-in?figure=met&split=by:platform",
    "/drop-offs?split=over:day&figure=" + quote('["exits","Alerts"]'),
    "/findings",
    "/findings?list=kept",
    "/compare?by=version&one=3.2&other=3.1&show=all",
    "/compare?by=version&one=3.2&other=&show=all&of=gates&figure=failed",
    "/funnels?",
    f"/funnels?{GROUPS}&funnel={quote(json.dumps(TWO_STAGES))}",
    "/tabs?by=version",
    "/loops?",
    "/links?goal=Receipt",
    "/drop-offs?",
    "/drop-offs?app=nowhere",
    f"/paths?at=screen&what=SailingDetail&reading=kept&{GROUPS}",
    "/paths?at=exit&on=PassWallet&direction=backward",
    "/patterns?",
    f"/patterns?pattern={quote('SailingsBoard .. SignIn[dwell>5s] .. PassWallet')}",
    f"/patterns?pattern={quote('Sailings [')}",
]
MENUS = [
    *("#app-choice", "#date-choice", "#segment-choice", "#unit-choice"),
    *("[aria-label=Keys]", "[aria-label=Find]"),
]


def show(page: Page, state: str) -> None:
    page.open(state if "app=" in state else f"{state}&{DEMO}")
    page.until(lambda: page.text("main h1"))
    page.until(lambda: not page.all("main [role=status]"))


def broken_rules(page: Page, state: str) -> list[Any]:
    """Of accessibility, in the light theme, and, of what depends on it, in the dark one."""
    page.driver.execute_script(AXE.read_text())
    page.driver.execute_script(AT_ONCE)
    broken = []
    for theme, rules in (("light", ALL), ("dark", COLOURS)):
        page.driver.execute_script(f"document.documentElement.dataset.bsTheme = {theme!r}")
        found = page.driver.execute_async_script(RUN, rules)
        broken += [[state, theme, *one] for one in found]
    page.driver.execute_script("document.documentElement.dataset.bsTheme = 'light'")
    return broken


def fits_narrow_windows(page: Page) -> None:
    """Nothing of it is cut off."""
    for width in (768, 400):
        size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        page.until(lambda: page.driver.execute_script(FITS))
    page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


@pytest.fixture
def any_width(page: Page) -> Iterator[Page]:
    yield page
    page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


def test_every_page_is_accessible_and_fits_in_every_state(any_width: Page) -> None:
    page, broken = any_width, []
    for state in STATES:
        show(page, state)
        broken += broken_rules(page, state)
        fits_narrow_windows(page)
    for menu in MENUS:
        page.click(menu)
        page.until(lambda: page.all(".dropdown-menu.show, .modal.show"))
        page.until(lambda: not page.all(".modal.fade:not(.show)"))
        broken += broken_rules(page, menu)
        page.press(Keys.ESCAPE)
        page.until(lambda: not page.all(".dropdown-menu.show, .modal.show"))
    assert not broken


def tab_to(page: Page, css: str, most: int) -> WebElement:
    """Press Tab until what is gone to is one of these; it may take at most so many stops."""
    for _ in range(most):
        page.press(Keys.TAB)
        if page.driver.execute_script(f"return document.activeElement.matches({css!r})"):
            return page.driver.switch_to.active_element
    at = page.driver.execute_script("return document.activeElement.outerHTML")
    raise AssertionError(f"{css} is not among the next {most} stops; the last one is {at[:200]}")


def test_from_a_file_to_a_journey_by_keyboard_alone(
    page: Page, server: Server, tmp_path: Path
) -> None:
    """Each step says how many stops it may take."""
    log = tmp_path / "other.csv"
    moves = ["SignIn,login_shown", "SignIn,login_success", "Home,viewed", "Detail,viewed"]
    rows = [
        f"2026-05-0{day}T10:00:{i:02}Z,visitor{person},{move}"
        for day in range(1, 5)
        for person in range(30)
        for i, move in enumerate(moves)
    ]
    log.write_text("\n".join(["happened,visitor,page,what", *rows]))
    app = server.new_app("By keyboard", with_map=False)
    page.open(f"/logs?app={app}")
    page.until(lambda: page.text("main h1"))
    page.choose_file("input[type=file]", log)
    page.until(lambda: page.all("[data-testid=mapping]"))
    page.driver.execute_script("document.activeElement.blur(); window.focus()")
    tab_to(page, ".skip", 1)
    page.press(Keys.ENTER)
    tab_to(page, "[data-testid=mapping] button.btn-primary", 60)
    page.press(Keys.ENTER)
    page.until(lambda: "other.csv" in page.text("main table"))
    page.press("g", "s")
    page.until(lambda: page.text("main h1").startswith("Of "))
    assert page.driver.execute_script("return document.activeElement.id") == "view"
    tab_to(page, "[data-figure]", 8)
    page.press(Keys.ENTER)
    page.until(lambda: page.text("[data-testid=evidence-count]").endswith("journeys"))
    assert page.driver.execute_script("return document.activeElement.matches('.pane')")
    first = tab_to(page, ".journey", 8)
    page.press(Keys.ARROW_DOWN, Keys.ARROW_DOWN)
    page.until(lambda: page.driver.switch_to.active_element.text != first.text)
    page.press(Keys.ENTER)
    page.until(lambda: "journey=" in page.driver.current_url)
    page.driver.back()
    page.until(lambda: page.all(".pane"))
    page.press(Keys.ESCAPE)
    page.until(lambda: not page.all(".pane"))
