"""Debian's Chromium, headless, driven as a person would use it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeVar

import pytest
from selenium import webdriver
from selenium.common.exceptions import TimeoutException
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import Select, WebDriverWait

from tests.conftest import Server

FLAGS = (
    "headless=new no-sandbox disable-gpu disable-quic no-first-run disable-background-networking "
    "disable-component-update disable-sync disable-dev-shm-usage window-size=1280,800"
).split()
PATIENCE = 60

Found = TypeVar("Found")

DROP = """
const [zone, name, text] = arguments;
const data = new DataTransfer();
data.items.add(new File([text], name));
for (const kind of ["dragover", "drop"]) {
  zone.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}));
}
"""


class Page:
    """The tool's page in a browser."""

    def __init__(self, driver: webdriver.Chrome, url: str) -> None:
        self.driver, self.url = driver, url

    def open(self, path: str) -> None:
        self.driver.get(self.url + path)

    def until(self, ask: Callable[[], Found | None]) -> Found:
        """The first answer that is not empty; a page that is being redrawn is asked again."""

        def once(_: Any) -> Found | None:
            try:
                return ask()
            except Exception as error:
                if "stale element" in str(error) or "no such element" in str(error):
                    return None
                raise

        try:
            return WebDriverWait(self.driver, PATIENCE, 0.1).until(once)  # type: ignore[return-value]
        except TimeoutException:
            shown = self.driver.find_element(By.TAG_NAME, "body").text
            raise TimeoutException(f"{self.driver.current_url} shows:\n{shown[:3000]}") from None

    def find(self, css: str) -> WebElement:
        return self.until(lambda: self.driver.find_element(By.CSS_SELECTOR, css))

    def all(self, css: str) -> list[WebElement]:
        return self.driver.find_elements(By.CSS_SELECTOR, css)

    def text(self, css: str) -> str:
        return self.until(lambda: self.find(css).text)

    def number(self, css: str) -> int:
        """The first number in an element's words."""
        words = self.until(lambda: [w for w in self.find(css).text.split() if w[0].isdigit()])
        return int(words[0].replace(",", ""))

    def click(self, css: str, words: str = "") -> None:
        """Click the first element of these that has these words in it."""
        self.until(lambda: self._click(css, words))

    def _click(self, css: str, words: str) -> bool:
        """Click what stands still, lest a page that is being laid out moves it away."""
        element = next((one for one in self.all(css) if words in one.text), None)
        if element is None:
            return False
        before = element.rect
        time.sleep(0.1)
        if element.rect != before or not element.is_enabled():
            return False
        ActionChains(self.driver).move_to_element(element).click().perform()
        return True

    def press(self, *keys: str) -> None:
        ActionChains(self.driver).send_keys(*keys).perform()

    def choose_file(self, css: str, path: Path) -> None:
        self.until(lambda: self.driver.find_element(By.CSS_SELECTOR, css)).send_keys(str(path))

    def drop(self, css: str, name: str, text: str) -> None:
        self.driver.execute_script(DROP, self.find(css), name, text)

    def complaints(self) -> list[str]:
        """What the browser's console was told of errors."""
        return [entry["message"] for entry in self.driver.get_log("browser")]


def pick(page: Page, css: str, words: str) -> bool:
    Select(page.find(css)).select_by_visible_text(words)
    return True


@pytest.fixture(scope="session")
def driver() -> Iterator[webdriver.Chrome]:
    options = Options()
    for flag in FLAGS:
        options.add_argument(f"--{flag}")
    driver = webdriver.Chrome(options, Service("/usr/bin/chromedriver"))
    yield driver
    driver.quit()


@pytest.fixture
def page(driver: webdriver.Chrome, server: Server) -> Iterator[Page]:
    page = Page(driver, server.url)
    page.complaints()
    yield page
    assert page.complaints() == []
