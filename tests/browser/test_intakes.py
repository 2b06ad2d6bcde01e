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
from tests.intakes.dovecot import SECRET, MailServer, letter

FLOW = """
metrikon: 1
name: notes
intakes:
  - {kind: folder, path: in, settled: 0, where: 'item.name != "logo.txt"'}
  - {kind: form, title: A note from the garden, fields: {voice: {kind: recording, label: What you saw}, where: {kind: choice, options: [pond, palm house]}}}
steps:
  - {name: made, set: {name: "${item.name}"}}
"""

LETTERS = """
metrikon: 1
name: letters
intakes: [{kind: mailbox, connection: post, folder: Wrong}]
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


def test_a_folder_is_chosen_from_those_that_the_mail_server_tells_of(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service, server = running(fetch_private=True), MailServer()
    try:
        server.put(letter(1), folder="INBOX")
        service.client.put_connection("post", server.url, way="basic", user="ada", secret=SECRET)
        service.client.put_flow("letters", LETTERS)
        desk = signed_in(browser, service)
        desk.go("/flows/letters")
        desk.see("ol.reading")
        desk.press("t")
        text = desk.see("textarea.mono")
        browser.execute_script("const t = arguments[0]; const at = t.value.indexOf('Wrong'); t.focus(); t.setSelectionRange(at, at + 5);", text)
        desk.see("input[placeholder='Choose a connection']").send_keys(Keys.ARROW_DOWN, Keys.ARROW_DOWN, Keys.ENTER)
        desk.read("1 mail")
        desk.see(".held button").click()
        assert "folder: INBOX}" in str(text.get_property("value"))
        desk.read("Nothing is wrong with it")
        desk.click("Keep it as version 2")
        eventually(lambda: service.client.flow("letters")["version"] == 2)
        assert service.client.test_intake("letters", "mailbox").startswith("The folder INBOX holds 1 mail,")
        assert desk.complaints() == []
    finally:
        server.remove()


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
