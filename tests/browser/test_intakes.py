"""Intakes in the console, and a form in a browser: what is there and its cost, a yes, what was let go; one tap from the link to a recording."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import signed_in
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: notes
intakes:
  - {kind: folder, path: in, settled: 0, where: 'item.name != "logo.txt"'}
  - {kind: form, title: A note from the garden, fields: {voice: {kind: recording, label: What you saw}, where: {kind: choice, options: [pond, palm house]}}}
steps:
  - {name: made, set: {name: "${item.name}"}}
"""


def test_what_is_there_waits_for_a_yes_and_what_was_let_go_is_listed(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service = running(ask_items=11)
    folder = service.app.home / "in"
    folder.mkdir()
    for number in range(12):
        (folder / f"letter {number}.txt").write_text(f"letter {number}")
    (folder / "logo.txt").write_text("a logo")
    service.client.put_flow("notes", FLOW)
    desk = signed_in(browser, service)
    eventually(lambda: service.client.intakes("notes")[0]["waits"])
    desk.go("/today")
    desk.read("folder would take 12 things")
    desk.go("/flows/notes")
    desk.see("ol.reading")
    desk.press("i")
    desk.read("waits for a yes")
    desk.read("letter 3.txt")
    desk.read("It does not meet")
    desk.click("Let it take them")
    eventually(lambda: len(list(service.client.items())) == 12)
    desk.read("12 taken")
    desk.click("1 let go")
    desk.read("Why it was let go")
    desk.click("Test")
    desk.read("can be read; 13 files are there")
    desk.click("Make its address")
    desk.read("Make a new address")
    assert desk.see('a[href*="/form/"]').text == service.client.intakes("notes")[1]["address"]
    assert desk.complaints() == []


@pytest.fixture
def speaking(tmp_path: Path) -> Iterator[webdriver.Chrome]:
    """A browser of a telephone's size whose microphone gives a tone."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for each in (
        *(
            "--headless=new",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--disable-gpu",
            "--window-size=390,800",
            f"--user-data-dir={tmp_path / 'profile'}",
        ),
        *("--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", "--no-first-run", "--disable-background-networking"),
    ):
        options.add_argument(each)
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    yield driver
    driver.quit()


def test_one_tap_from_the_link_to_a_recording_which_is_sent_by_keyboard(speaking: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service = running()
    service.client.put_flow("notes", FLOW)
    speaking.get(service.client.make_address("notes", "form")["address"])
    button = speaking.switch_to.active_element
    assert button.text == "Record", "what is looked for first is under the finger and the key"
    button.send_keys(Keys.ENTER)
    eventually(lambda: "0:01" in button.text)
    button.send_keys(Keys.ENTER)
    eventually(lambda: "It is recorded" in speaking.page_source)
    assert speaking.execute_script("return document.documentElement.scrollWidth <= window.innerWidth"), "nothing stands out at 390 pixels"
    speaking.find_element(By.CSS_SELECTOR, "button.send").send_keys(Keys.ENTER)
    eventually(lambda: "It has been sent" in speaking.page_source)
    (item,) = service.client.items()
    assert item.name.startswith("recording.")
    assert item.size > 1000
    assert not [each for each in speaking.get_log("browser") if each["level"] == "SEVERE" and "favicon" not in each["message"]]
