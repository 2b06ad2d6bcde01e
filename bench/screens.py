"""Typing invoices into a program that has only a screen, against a bare WebDriver script that does the same in the same browser."""

from __future__ import annotations

import logging
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import Select, WebDriverWait

import metrikon.demo
from bench.report import Result, result
from metrikon.connections.browser import browser
from metrikon.connections.screen import BrowserScreen
from metrikon.core.entering.plan import planned
from metrikon.core.feel.holes import fill
from metrikon.drivers.entering import enter
from metrikon.engine.ways import way_in
from metrikon.sandbox.accounts import PASSWORD, USER
from metrikon.sandbox.services import Services

ROWS = 5


def _bill(number: int) -> dict[str, Any]:
    lines = [{"part": "FN-201", "description": f"Fern {row}", "quantity": 2, "price": Decimal("10.00")} for row in range(ROWS)]
    return {
        "number": f"B-{number:04d}",
        "vendor": "Moorgate Seed",
        "date": "2026-03-04",
        "total": Decimal(20 * ROWS),
        "lines": lines,
        "file": "f",
        "name": "bill.pdf",
    }


def _bare(driver: Any, base: str, bill: dict[str, Any], paper: Path) -> None:
    """What somebody would write by hand: by names in the page's own text, without looks at what came of it but the last."""
    driver.get(f"{base}/")
    if driver.find_elements(By.NAME, "password"):
        driver.find_element(By.NAME, "user").send_keys(USER)
        driver.find_element(By.NAME, "password").send_keys(PASSWORD)
        driver.find_element(By.CSS_SELECTOR, "main button").click()
    driver.find_element(By.NAME, "q").send_keys(bill["number"])
    driver.find_element(By.CSS_SELECTOR, "main button").click()
    WebDriverWait(driver, 10, 0.02).until(lambda page: "Nothing found" in page.page_source)
    driver.get(f"{base}/invoices/new")
    driver.find_element(By.NAME, "number").send_keys(bill["number"])
    Select(driver.find_element(By.NAME, "vendor")).select_by_visible_text(bill["vendor"])
    driver.find_element(By.NAME, "date").send_keys(bill["date"])
    for line in bill["lines"]:
        driver.find_element(By.ID, "more").click()
        row = driver.find_elements(By.CSS_SELECTOR, "#rows tbody tr")[-1]
        Select(row.find_element(By.NAME, "part")).select_by_value(line["part"])
        for name in ("description", "quantity", "price"):
            row.find_element(By.NAME, name).send_keys(str(line[name]))
    driver.find_element(By.NAME, "paper").send_keys(str(paper))
    driver.find_element(By.CSS_SELECTOR, "form > button").click()
    WebDriverWait(driver, 10, 0.05).until(lambda seen: "has been saved" in seen.page_source)


def screens(folder: Path, part: int) -> list[Result]:
    """Invoices a minute, signing in, looking up and pictures included."""
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    way = way_in((Path(metrikon.demo.__file__).parent / "ways" / "old-ledger.yaml").read_text())
    services, count = Services().start(), max(2, 6 // part)
    services.world.accounts.slow = 0.0
    base, paper = f"{services.url}/accounts", folder / "bill.pdf"
    paper.write_bytes(b"%PDF-1.7 a bill")
    ours, bare = [], []
    try:
        with browser(private=True) as (driver, guard):
            screen = BrowserScreen(driver, lambda path: f"{base}/{path}", lambda: (USER, PASSWORD), way.patience, guard.fresh)
            for number in range(2 * count):
                bill = _bill(number)
                start = time.perf_counter()
                if number % 2:
                    _bare(driver, base, bill, paper)
                    bare.append(time.perf_counter() - start)
                else:
                    enter(screen, way, planned(way, bill, lambda value, scope: fill(value, scope)), lambda sha256: paper.read_bytes())
                    ours.append(time.perf_counter() - start)
        assert len(services.world.accounts.invoices) == 2 * count
    finally:
        services.stop()
    behind = f"{min(ours):.2f} s against {min(bare):.2f} s for {ROWS} rows, {count} of each in turn"
    return [
        result(
            "invoices typed into a screen a minute / by a bare WebDriver script",
            min(bare) / min(ours),
            "at least 0.7",
            lambda ratio: ratio >= 0.7,
            behind,
        )
    ]
