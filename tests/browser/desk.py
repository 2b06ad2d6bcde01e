"""What a person does at the console, for tests."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement

from tests.helpers import Running, eventually


@dataclass
class Desk:
    """A browser showing the console."""

    browser: webdriver.Chrome
    service: Running

    def go(self, path: str) -> None:
        self.browser.get(self.service.url + path)

    def see(self, selector: str, seconds: float = 40) -> WebElement:
        """The first thing that fits, once it is there."""
        found: WebElement = self.until(lambda: next(iter(self.all(selector)), None), selector, seconds)
        return found

    def until(self, holds: Callable[[], Any], wanted: str, seconds: float) -> Any:
        """Wait until something holds; where it does not in time, what the page shows instead is told."""
        try:
            return eventually(holds, seconds)
        except AssertionError as error:
            held = [str(each["message"]) for each in self.browser.get_log("browser")]
            raise AssertionError(f"{error}: {wanted} at {self.browser.current_url}, which shows:\n{self.text()}\n{held}") from error

    def all(self, selector: str) -> list[WebElement]:
        return self.browser.find_elements(By.CSS_SELECTOR, selector)

    def read(self, text: str, seconds: float = 40) -> None:
        """Wait until the page shows a text."""
        self.until(lambda: text in self.text(), text, seconds)

    def text(self) -> str:
        return str(self.browser.execute_script("return document.body.innerText"))

    def press(self, keys: str) -> None:
        """Press keys on the page itself."""
        self.browser.find_element(By.TAG_NAME, "body").send_keys(keys)

    def paste(self, area: WebElement, text: str) -> None:
        """Put a long text in the place of all that a field holds, as pasting does; typed it would take a minute."""
        self.browser.execute_script(
            "arguments[0].focus(); arguments[0].select(); document.execCommand('insertText', false, arguments[1]);", area, text
        )

    def click(self, text: str) -> None:
        """Click a button or link by what it says."""

        def found() -> WebElement | None:
            choices = self.browser.find_elements(By.XPATH, f'//*[self::button or self::a][contains(normalize-space(.), "{text}")]')
            return next((each for each in choices if each.is_displayed()), None)

        button = self.until(found, text, 30)
        self.browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", button)
        button.click()

    def active(self) -> str:
        """The pointer of the field that is chosen."""
        marked = self.see(".field.on, td.cell.on")
        return str(marked.get_attribute("data-pointer"))

    def complaints(self) -> list[str]:
        """What the browser's console holds against the page, besides answers that are expected; what it held against pages of services before is past."""
        expected = ("401", "422")
        every = [str(each["message"]) for each in self.browser.get_log("browser")]
        others = [each for each in every if each.startswith("http://127.0.0.1:") and not each.startswith(f"{self.service.url}/")]
        return [each for each in every if each not in others and not any(f"status of {code}" in each for code in expected)]
