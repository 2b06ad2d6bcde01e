"""A headless browser on a service of its own."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
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


@pytest.fixture(scope="session")
def full_home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of a service that some of the demo's files came to, at rest."""
    home = tmp_path_factory.mktemp("full") / "home"
    app = App(Settings(home=home))
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        for name in FILES:
            app.arrivals.take(scenario.FLOW, "upload", name, name, scenario.document(name))
        at_rest(app, len(FILES))
    finally:
        app.close()
    return home


@pytest.fixture
def full(browser: webdriver.Chrome, running: Callable[..., Running], full_home: Path, tmp_path: Path) -> Desk:
    """The console of a service that some of the demo's files came to."""
    shutil.copytree(full_home, tmp_path / "home")
    return signed_in(browser, running())
