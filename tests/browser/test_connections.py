"""Connections in the console: made with a secret that is never shown again, tested, changed without the secret, removed."""

from __future__ import annotations

from collections.abc import Callable

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import signed_in
from tests.helpers import Running, eventually


def test_a_connection_is_made_tested_changed_and_removed(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    desk = signed_in(browser, running(fetch_private=True))
    service = desk.service

    def fill(label: str, text: str) -> None:
        field = desk.browser.find_element(By.XPATH, f'//form//label[starts-with(normalize-space(.), "{label}")]/following::input[1]')
        field.send_keys(Keys.CONTROL + "a")
        field.send_keys(text)

    desk.go("/setup")
    desk.read("There is no connection yet.")
    desk.click("Make a connection")
    desk.see("form[aria-label=Connection]")
    fill("Name", "own")
    fill("Address", service.url)
    fill("Secret", "saffron-17")
    fill("What it is tested by", "health")
    desk.click("Keep and test it")
    desk.read("answered 200")
    assert "saffron-17" not in desk.browser.page_source
    desk.click("Change")
    desk.read("Secret (left empty: as before)")
    fill("What it is tested by", "api/items")
    desk.click("Keep and test it")
    desk.read("fails since")
    eventually(lambda: service.client.connection("own")["failing_since"])
    desk.go("/today")
    desk.read("The connection own fails since")
    desk.go("/setup")
    desk.click("Remove")
    desk.read("There is no connection yet.")
    assert service.client.connections() == []
    assert desk.complaints() == []
