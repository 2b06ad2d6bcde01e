"""A headless browser on a service of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.demo import scenario
from tests.browser.desk import Desk
from tests.helpers import Running, at_rest

FILES = ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf", "09-brackendale-wrong-sum.pdf", "12-marlow-delivery-note.pdf", "13-broken-file.pdf")
ARGUMENTS = (
    "--headless",
    "--no-sandbox",
    "--disable-dev-shm-usage",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--window-size=1280,800",
)


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[webdriver.Chrome]:
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    folder = tmp_path_factory.mktemp("chromium")
    for argument in (*ARGUMENTS, f"--user-data-dir={folder}"):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    driver.implicitly_wait(0)
    yield driver
    driver.quit()


def signed_in(browser: webdriver.Chrome, service: Running) -> Desk:
    """Somebody signed in to the console of a service."""
    browser.delete_all_cookies()
    browser.get(service.url)
    made = Desk(browser, service)
    made.see("[name=name]").send_keys("gardener")
    browser.find_element(By.NAME, "password").send_keys("glasshouse lane" + Keys.ENTER)
    made.see("nav.rail")
    return made


@pytest.fixture
def desk(browser: webdriver.Chrome, running: Callable[..., Running]) -> Desk:
    """Somebody signed in to the console of an empty service."""
    return signed_in(browser, running())


@pytest.fixture
def full(desk: Desk) -> Desk:
    """The console of a service that some of the demo's files came to."""
    for name in FILES:
        desk.service.client.upload(scenario.FLOW, scenario.folder() / "documents" / name)
    at_rest(desk.service.app, len(FILES))
    return desk
