"""A headless Chromium of ours, driven over the W3C WebDriver protocol: with a profile of its own that is thrown away, behind a proxy that checks every address."""

from __future__ import annotations

import contextlib
import os
import shutil
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from typing import Any
from urllib.parse import urlsplit

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted, address_of, allowed, resolved
from metrikon.connections.guarding import Guard
from metrikon.connections.remains import ended_with_us, folder_of_a_browser, marked

WHOLE = 100_000_000  # bytes that a page may bring along with all that it is made of
QUIET, LOOK = 0.5, 0.1  # seconds for which a page must stay the same, and between looks
MOST, PATIENCE = 2, 120.0  # browsers at once, seconds that one is waited for
_AT_ONCE = threading.BoundedSemaphore(MOST)
PLACES = ("chromium", "chromium-browser")
_ARGUMENTS = (
    "--headless=new",
    "--disable-dev-shm-usage",
    "--disable-gpu",
    "--no-first-run",
    "--no-default-browser-check",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-default-apps",
    "--disable-domain-reliability",
    "--gaia-url=https://nowhere.invalid",  # nobody signs in to the browser itself
    "--disable-extensions",
    "--disable-quic",
    "--disable-notifications",
    "--mute-audio",
    "--webrtc-ip-handling-policy=disable_non_proxied_udp",  # no UDP past the guard
    "--incognito",
    "--component-updater=url-source=https://nowhere.invalid",  # what the browser asks for by itself goes nowhere
    "--disable-features=NetworkTimeServiceQuerying,OptimizationHints,MediaRouter,PreconnectToSearch,SearchPrefetchServicePrefetching",
    "--proxy-bypass-list=<-loopback>",  # addresses of this machine go through the guard, too
    "--js-flags=--max-old-space-size=512",
)


def installed() -> tuple[str, str] | None:
    """Where Chromium and its driver are on this machine; None where one of them is not."""
    chromium, driver = next((found for name in PLACES if (found := shutil.which(name))), None), shutil.which("chromedriver")
    return (chromium, driver) if chromium is not None and driver is not None else None


@contextmanager
def browser(
    *, private: bool, proxy: str = "", trusted: str = "", width: int = 1280, height: int = 900, most: int = WHOLE
) -> Iterator[tuple[Any, Guard]]:
    """A browser (`selenium.webdriver.Chrome`) and its guard. Raises `FetchFailed` where there is none on this machine."""
    from selenium import webdriver  # a part of a second to load: only where a page is drawn
    from selenium.common.exceptions import WebDriverException

    found = installed()
    if found is None:
        raise FetchFailed("Pages are drawn by Chromium, which this machine does not have. Install it (chromium, chromium-driver).")
    chromium, driver = found
    if not _AT_ONCE.acquire(timeout=PATIENCE):
        raise FetchFailed("As many browsers as there may be are at work already. It is tried again.", cause="busy")
    with ExitStack() as stack:
        stack.callback(_AT_ONCE.release)
        folder = stack.enter_context(folder_of_a_browser())
        guard = stack.enter_context(Guard(private=private, most=most, trusted=trusted, proxy=proxy))
        options = webdriver.ChromeOptions()
        options.binary_location = chromium
        for each in (
            *_ARGUMENTS,
            f"--ignore-certificate-errors-spki-list={guard.key}",
            f"--window-size={width},{height}",
            f"--user-data-dir={folder}",
            f"--proxy-server={guard.address}",
        ):
            options.add_argument(each)
        if os.geteuid() == 0:
            options.add_argument("--no-sandbox")  # Chromium refuses to start for root otherwise
        options.add_experimental_option("prefs", {"download_restrictions": 3, "profile.default_content_setting_values.geolocation": 2})
        try:
            stack.enter_context(ended_with_us(folder))
            made = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver, env=marked(folder)))
        except (WebDriverException, OSError) as error:
            raise FetchFailed(f"Chromium could not be started: {str(error).splitlines()[0][:200]}.", cause="busy") from error
        try:
            yield made, guard
        finally:
            with contextlib.suppress(WebDriverException, OSError):
                made.quit()


def drawn(wanted: Wanted) -> Fetched:
    """A page as it stands when its scripts have come to rest, as HTML. No cookies are kept, nothing is signed in. Raises `FetchFailed`."""
    from selenium.common.exceptions import TimeoutException, WebDriverException

    until = time.monotonic() + wanted.seconds
    host, _, _ = address_of(wanted.url, wanted, resolved)
    if wanted.robots and not allowed(wanted.url, wanted, resolved, until):
        raise FetchFailed(f"{wanted.url} is not fetched: the robots.txt of its host asks not to.")
    with browser(private=wanted.private, proxy=wanted.proxy, trusted=wanted.trusted, most=max(WHOLE, wanted.most_bytes)) as (driver, guard):
        driver.set_page_load_timeout(max(1.0, until - time.monotonic()))
        driver.set_script_timeout(10)
        try:
            driver.get(wanted.url)
            _rest(driver, until)
            status = int(driver.execute_script("return performance.getEntriesByType('navigation')[0]?.responseStatus || 0"))
            size = int(driver.execute_script("return document.documentElement.outerHTML.length"))
            address = str(driver.current_url)
            text = str(driver.page_source) if size <= wanted.most_bytes else ""
        except TimeoutException as error:
            raise FetchFailed(f"{wanted.url} was not drawn within {wanted.seconds:g} seconds.", cause="slow") from error
        except WebDriverException as error:
            if guard.full:
                raise FetchFailed(f"{wanted.url} brings more than {WHOLE / 1e6:.0f} MB along.") from error
            refused = guard.refused.get(urlsplit(_where(driver) or wanted.url).hostname or host)
            why = refused or f"{str(error.msg or '').splitlines()[0][:200].rstrip('.')}."
            raise FetchFailed(f"{wanted.url} could not be drawn: {why}", cause="" if refused else "unreachable") from error
        refused = guard.refused.get(urlsplit(address).hostname or "")
        if status >= 400 or refused:
            raise FetchFailed(refused or f"{wanted.url} answered {status}.", cause="unreachable" if status >= 500 else "", status=status)
        if size > wanted.most_bytes:
            raise FetchFailed(f"{wanted.url} has more than the {wanted.most_bytes / 1e6:.1f} MB that are fetched, when it is drawn.")
        data = f"<!doctype html>\n{text}".encode()
        return Fetched(address, 200, "text/html", "page.html", data, {})


def _where(driver: Any) -> str:
    from selenium.common.exceptions import WebDriverException

    with contextlib.suppress(WebDriverException):
        return str(driver.current_url)
    return ""


def _rest(driver: Any, until: float) -> None:
    """Wait until a page has stayed the same for a moment, as long as there is time."""
    look = "return document.readyState + ' ' + document.getElementsByTagName('*').length + ' ' + (document.body?.innerText.length ?? 0)"
    last, since = "", time.monotonic()
    while time.monotonic() < until - 1.0:
        now = str(driver.execute_script(look))
        if now != last or not now.startswith("complete"):
            last, since = now, time.monotonic()
        elif time.monotonic() - since >= QUIET:
            return
        time.sleep(LOOK)
