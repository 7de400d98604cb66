"""What is wrong with a log is read, opened and mended in the page; live events are followed."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest
from selenium.webdriver.common.keys import Keys

from mossy_trail.demo.simulator import simulate
from tests.browser.conftest import Page, pick
from tests.conftest import Server
from tests.intake.shapes.test_shapes import rows
from tests.intake.shapes.written import SHAPES

ROUGH = """\
when,who,page,kind
2026-05-04T10:00:00Z,ann,Home,screen_view
2026-05-04T10:00:00Z,ann,Home,screen_view
2026-05-04T10:00:09Z,ann,Detail,screen_view
soon,ann,Detail,screen_view
2026-05-04T10:00:20Z,,Home,screen_view
1970-01-01T00:00:05Z,bo,Home,screen_view
"""


def test_a_finding_opens_to_its_rows_and_a_row_to_its_journey(
    page: Page, server: Server, tmp_path: Path
) -> None:
    app = server.new_app("Rough", with_map=False)
    log = tmp_path / "rough.csv"
    log.write_text(ROUGH.replace("when,who,page,kind", "time,user,screen,event"))
    server.follow(server.upload(app, log)["id"])
    page.open(f"/sign-in?app={app}")
    page.find("h1")
    page.press("g", "h")
    says = page.until(lambda: page.text("h1") if "rows" in page.text("h1") else None)
    assert says == (
        "The log has 1 row from before 2000, of a clock that was never set; "
        "and 2 rows that could not be used."
    )
    page.click("[data-finding=resent]")
    page.until(lambda: page.text("[data-testid=finding-count]") == "1 row")
    assert "line 3" in page.text("[data-testid=finding-row]")
    page.press(Keys.ESCAPE)
    page.until(lambda: not page.all(".pane"))
    page.click("[data-finding=clock_unset]")
    page.click("[data-testid=finding-row] a")
    page.until(lambda: page.text("h1").startswith("bo"))


@pytest.mark.parametrize("shape", ["viewed_x_screen", "nested_members", "only_an_email"])
def test_a_strangers_file_leads_to_the_true_sign_in_figure(
    page: Page, server: Server, tmp_path: Path, shape: str
) -> None:
    """From drop to figure with one click beside: to say yes to what is proposed."""
    true = simulate(8_000, 5).figures()["sessions"]
    path = SHAPES[shape](rows(), tmp_path)
    app = server.new_app(f"Stranger {shape}")
    page.open(f"/logs?app={app}")
    page.drop(".drop", path.name, path.read_text())
    comes = page.text("[data-testid=comes]")
    assert f"{true['tried']} sessions tried to sign in, {true['in']} got in" in comes
    page.click("[data-testid=comes] [data-figure=signed_in]")
    page.until(
        lambda: page.text("[data-testid=opened-count]").startswith(
            f"{true['in']} sessions in which"
        )
    )
    page.click("[data-testid=mapping] .btn-primary")
    page.until(lambda: "were used" in page.text("h1") or "all were used" in page.text("h1"))
    page.open(f"/sign-in?app={app}")
    says = page.until(lambda: page.text("h1") if "got in" in page.text("h1") else None)
    assert says.startswith(f"Of {true['met']} sessions that met sign-in, ")
    assert f"{100 * true['in'] / true['met']:.1f}".rstrip("0").rstrip(".") in says


def test_rows_set_aside_come_in_when_they_are_read_otherwise(page: Page, server: Server) -> None:
    app = server.new_app("Read otherwise", with_map=False)
    page.open(f"/logs?app={app}")
    page.drop(".drop", "rough.csv", ROUGH)
    page.click("[data-testid=comes] [data-figure=set_aside]")
    page.until(lambda: "time cannot be read" in page.text("[data-testid=opened-count]"))
    page.click("[data-testid=mapping] .btn-primary")
    page.until(lambda: page.text("h1").startswith("Of 6 rows from 1 log, 4 were used and 2 set"))
    page.click("[aria-label^='Change how']")
    page.until(lambda: pick(page, "select[aria-label='Column for user']", "the same in every row…"))
    page.find("input[aria-label='Value of user in every row']").send_keys("everyone", Keys.ENTER)
    page.until(lambda: "everyone" in [c.text for c in page.all("[data-testid=mapping] td")])
    page.click("[data-testid=mapping] .btn-primary")
    page.until(lambda: page.text("h1").startswith("Of 6 rows from 1 log, 5 were used and 1 set"))


def test_the_page_follows_what_an_app_sends(page: Page, server: Server) -> None:
    app = server.new_app("Sends by itself", with_map=False)
    page.open(f"/logs?app={app}")
    page.click("[data-testid=make-key]")
    shown = page.text("[data-testid=ingest-key] pre")
    for number in (1, 2):
        command = shown.replace('"1"', f'"{number}"').replace("user-1", f"user-{number}")
        done = subprocess.run(["sh", "-ec", command], capture_output=True, check=True)
        assert json.loads(done.stdout)["accepted"] == 1
        page.until(lambda n=number: page.text(".remain").startswith(f"{n} journey"))  # type: ignore[misc]
        page.until(lambda n=number: f"{n} row" in page.text("h1"))  # type: ignore[misc]
