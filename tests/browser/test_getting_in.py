"""Getting in, in the page: a planted finding, a funnel built and kept, a figure as a segment."""

from __future__ import annotations

from mossy_trail.engine.study import Study
from tests.browser.conftest import Page, pick
from tests.conftest import Demo, Server


def test_from_a_slow_start_to_a_segment_and_a_funnel(
    page: Page, server: Server, demo: Demo, study: Study
) -> None:
    app = server.new_app("Getting in by hand")
    server.follow(server.upload(app, demo.csv)["id"])
    page.open(f"/start-up?app={app}")
    planted = demo.figures["planted"]
    page.until(lambda: f"Of {planted['starts']['all']:,} cold starts" in page.text("h1"))
    pick(page, "[aria-label='Broken down by']", "by version")
    rows = "[data-testid=groups] tbody tr"
    worst = page.until(lambda: next((r.text for r in page.all(rows) if r.text[:3] == "3.2"), ""))
    left = sum(n for group, n in planted["splash_left"].items() if group.startswith("3.2"))
    assert f"{left:,}" in worst.split()
    follow_a_segment(page, planted)
    build_a_funnel(page, app)
    read_onboarding(page, app, study)


def follow_a_segment(page: Page, planted: dict[str, dict[str, int]]) -> None:
    """The journeys behind a figure become the scope, and every figure follows."""
    page.click('p [data-figure*=\'"cell":"left"\']')
    count = planted["splash_left"]["all"]
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{count:,} journeys")
    page.click(".pane button.figure-button", "without these")
    page.until(lambda: "0 % were left on the splash" in page.text("h1"))
    page.click("#segment-choice")
    page.click(".segment-menu button.figure-button", "turn round")
    page.until(lambda: "100 % were left on the splash" in page.text("h1"))
    page.until(lambda: page.text(".remain").startswith(f"{count:,} journeys"))
    page.click(".segment-menu [aria-label^='take away']")
    page.until(lambda: page.text("#segment-choice") == "all journeys")


def build_a_funnel(page: Page, app: str) -> None:
    page.open(f"/funnels?app={app}")
    for label, name in (("The first stage", "BuyPass"), ("The next stage", "Receipt")):
        choose_stage(page, f"[aria-label='{label}']", name)
    page.until(lambda: "get to Receipt" in page.text("h1"))
    shown = page.text("[data-testid=stages] tbody tr:last-child .figure-button")
    page.click("[data-testid=stages] tbody tr:last-child .figure-button")
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{shown} journeys")
    page.click(".pane .journey")
    page.until(lambda: "BuyPass at step" in page.text("[data-testid=matched]"))
    page.driver.back()
    page.until(lambda: page.find("[aria-label='Name to keep the funnel under']"))
    page.find("[aria-label='Name to keep the funnel under']").send_keys("Buying\n")
    page.until(lambda: "forget “Buying”" in page.text(".view-body"))


def choose_stage(page: Page, css: str, name: str) -> None:
    def named() -> str:
        said = [option.get_attribute("textContent") or "" for option in page.all(f"{css} option")]
        return next((one for one in said if one.startswith(f"{name} ·")), "")

    pick(page, css, page.until(named))
    page.until(lambda: name in page.text("svg.chart"))


def read_onboarding(page: Page, app: str, study: Study) -> None:
    page.open(f"/onboarding?app={app}")
    page.until(lambda: "Most are lost after Alerts" in page.text("h1"))
    shown = page.until(lambda: page.text("[data-testid=chain] [data-figure='screen.2.ended']"))
    page.click("[data-testid=chain] [data-figure='screen.2.ended']")
    page.until(lambda: page.text("[data-testid=evidence-count]") == f"{shown} journeys")
