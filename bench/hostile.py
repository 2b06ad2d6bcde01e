"""What strangers may send to end the service or to hold it up, at length: sheets and templates, clients that say nothing, secrets that are looked for everywhere."""

from __future__ import annotations

import json
import random
import secrets
import socket
import ssl
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import httpx

from bench.reading import damaged
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.flows.connecting import Way
from metrikon.core.templates.filling import BadTemplate
from metrikon.destinations.csv import CsvFile
from metrikon.destinations.csv import work as csv
from metrikon.destinations.files import LocalFile
from metrikon.destinations.ods import OdsSheet
from metrikon.destinations.ods import work as ods
from metrikon.destinations.sheet_apart import ApartSheet
from metrikon.destinations.xlsx import XlsxSheet
from metrikon.destinations.xlsx import work as xlsx
from metrikon.drivers.composing import composed
from metrikon.drivers.reading import ReaderPool
from metrikon.intakes.rows import Rows, RowSource
from metrikon.ports.destination import Broken, Busy, Row
from metrikon.ports.intake import Here, IntakeFailed
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.step import ReaderDied
from metrikon.service.serving import Server
from tests.certificates import self_signed
from tests.echoing import echoing, forms_of
from tests.odd_files import repeated, word

WORDS = (IntakeFailed, Broken, Busy, BadTemplate, Refused)  # what a sheet or a template that cannot be used is told by
FORMS: Mapping[str, tuple[Any, Any]] = {"ods": (ods, OdsSheet), "xlsx": (xlsx, XlsxSheet), "csv": (csv, CsvFile)}


def an_ods(dice: random.Random) -> bytes:
    """One whose rows and cells are repeated, few times or very often."""
    times = [dice.choice((1, 3, 1000, 16_384, 1_048_576, 10**9)) for _ in range(4)]
    return repeated(times[1:], times[0])


def a_word(dice: random.Random) -> bytes:
    """A document of few paragraphs or very many, one within the other or side by side."""
    count, deep = dice.choice((1, 100, 100_000, 400_000)), dice.choice((1, 50, 300))
    return word("<w:p>" * deep + "</w:p>" * deep + "<w:p/>" * count)


class Opened:
    """Opens sheets and templates in confined processes, as an intake, a destination and a step do."""

    def __init__(self, folder: Path, given: Mapping[str, list[bytes]]) -> None:
        self.folder, self.given = folder, given
        self.pool = ReaderPool(2, Limits(seconds=60))

    def one(self, number: int, seed: int) -> tuple[str, str]:
        """What came of one (read, refused), and what was wrong."""
        dice = random.Random(f"{seed} {number}")
        form = dice.choice(("ods", "xlsx", "csv", "docx"))
        data = (
            an_ods(dice)
            if form == "ods" and dice.random() < 0.3
            else a_word(dice)
            if form == "docx" and dice.random() < 0.3
            else dice.choice(self.given[form])
        )
        data = damaged(data, dice) if dice.random() < 0.7 else data
        path = self.folder / f"{number}.{form}"
        path.write_bytes(data)
        try:
            self._open(path, form, dice)
        except WORDS:
            return "refused", ""
        except ReaderDied as error:
            return "refused", "" if "seconds" in str(error) else f"seed {seed}, file {number}: {error}"
        except Exception as error:
            return "", f"seed {seed}, file {number} ({form}): {type(error).__name__}: {error}"
        finally:
            path.unlink(missing_ok=True)
        return "read", ""

    def _open(self, path: Path, form: str, dice: random.Random) -> None:
        if form == "docx":
            request: dict[str, Any] = {
                "form": "docx",
                "ending": "docx",
                "values": {},
                "scope": {},
                "rows": {},
                "pictures": {},
                "moment": None,
                "path": str(path),
            }
            self.pool.do(composed, request, path, path.name)
            return
        if dice.random() < 0.5:
            RowSource(Rows(path=path.name), Here(self.folder, 10**8, apart=self.pool)).test()
            return
        work, said = FORMS[form]
        sheet = ApartSheet(LocalFile(path), self.pool, work, said(path=path.name))
        sheet.write([Row("k", {"Name": "Arnica", "Count": 3})])


def given_sheets(folder: Path) -> dict[str, list[bytes]]:
    """Whole ones of each form, as we write them."""
    made: dict[str, list[bytes]] = {"docx": [word("<w:p><w:r><w:t>Hello</w:t></w:r></w:p>")]}
    pool = ReaderPool(1, Limits())
    for form, (work, said) in FORMS.items():
        path = folder / f"given.{form}"
        ApartSheet(LocalFile(path), pool, work, said(path=path.name)).write([Row(f"k{n}", {"Name": f"Plant {n}", "Count": n}) for n in range(20)])
        made[form] = [path.read_bytes()]
    pool.close()
    return made


def sheets(folder: Path, wanted: int, until: float, seed: int) -> tuple[int, list[str], str]:
    """How many were opened, what was wrong, and what came of them."""
    opened = Opened(folder, given_sheets(folder))
    outcomes: dict[str, int] = {"read": 0, "refused": 0}
    wrong: list[str] = []

    def one(number: int) -> tuple[str, str] | None:
        return opened.one(number, seed) if time.monotonic() < until else None

    with ThreadPoolExecutor(2) as threads:
        for came in threads.map(one, range(wanted)):
            if came is not None:
                outcomes[came[0] or "refused"] += 1
                wrong += [came[1]] if came[1] else []
    opened.pool.close()
    return sum(outcomes.values()), wrong, ", ".join(f"{count:,} {what}" for what, count in outcomes.items())


# ---- doors

PATIENT = 2.0  # seconds in which somebody else must be answered


def doors(folder: Path, wanted: int, until: float, seed: int) -> tuple[int, list[str], str]:
    """Clients that say nothing, that begin and stop, that drip, at every door; meanwhile somebody else is answered at each."""
    made, key = self_signed(folder)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        health = free.getsockname()[1]
    server = Server(App(Settings(home=folder / "home", port=0, tls_certificate=str(made), tls_key=str(key), tls_port=0, health_port=health)))
    server.start()
    trusting = ssl.create_default_context(cafile=str(made))
    every = [(server.url, False), (server.secure_url, True), (f"http://127.0.0.1:{health}", False)]
    dice, done, wrong, slowest = random.Random(seed), 0, [], 0.0
    try:
        while done < wanted and time.monotonic() < until:
            with ExitStack() as stack:
                for _ in range(200):
                    url, secure = dice.choice(every)
                    _hold(url, secure and dice.random() < 0.5, trusting, dice, stack)
                    done += 1
                for url, secure in every:
                    began = time.monotonic()
                    try:
                        answer = httpx.get(f"{url}/health", verify=trusting if secure else True, timeout=30)
                        took = time.monotonic() - began
                        slowest = max(slowest, took)
                        if answer.status_code != 200 or took > PATIENT:
                            wrong.append(f"{url}: {answer.status_code} after {took:.1f} s")
                    except httpx.HTTPError as error:
                        wrong.append(f"{url}: {type(error).__name__}")
    finally:
        server.close()
    return done, wrong, f"others were answered within {slowest:.2f} s"


def _hold(url: str, secured: bool, trusting: ssl.SSLContext, dice: random.Random, stack: ExitStack) -> None:
    """A connection that is held open: silent, or with a part of a request."""
    try:
        made: socket.socket = stack.enter_context(socket.create_connection(("127.0.0.1", int(url.rsplit(":", 1)[1])), timeout=10))
        if secured:
            made = stack.enter_context(trusting.wrap_socket(made, server_hostname="127.0.0.1"))
        part = dice.choice(
            (b"", b"G", b"GET /health HTTP/1.1\r\n", b"POST /api/session HTTP/1.1\r\nHost: a\r\nContent-Length: 1000\r\n\r\nx", b"\x16\x03\x01")
        )
        if part:
            made.sendall(part)
    except OSError:
        return  # it was let go: that is what they are for


# ---- secrets


WAYS: tuple[Callable[[], Way], ...] = (
    lambda: Way("query", name="key"),
    lambda: Way("bearer"),
    lambda: Way("basic", user="ada"),
    lambda: Way("header", name="X-Key"),
)
_ODD = "abcXYZ019 &\"'/+=%<>?#"


def all_secrets(folder: Path, wanted: int, until: float, seed: int) -> tuple[int, list[str], str]:
    """Secrets of odd letters, each sent to a service that says all that it hears: looked for in what is answered, told, and kept."""
    app = App(Settings(home=folder / "home", port=0, fetch_private=True))
    dice, done, wrong, answers = random.Random(seed), 0, [], 0
    try:
        with echoing() as echo:
            while done < wanted and time.monotonic() < until:
                secret = "".join(dice.choice(_ODD) for _ in range(dice.randint(12, 24))).strip() + secrets.token_hex(4)
                way = dice.choice(WAYS)()
                told = [json.dumps(app.connections.put("echo", echo.url, way, secret, "prove"), default=str)]
                for path in ("say", "round", "lost", "broken"):
                    try:
                        told.append(str(app.outside.fetch(Wanted(path, connection="echo"))))
                    except FetchFailed as error:
                        told.append(f"{error} {error.told} {error.headers}")
                answers += len(told)
                app.outside._breaker.good("echo")
                app.database.settle()
                whole = "".join(told).encode() + b"".join(place.read_bytes() for place in app.home.rglob("*") if place.is_file())
                found = [form for form in forms_of(secret, way.user) if form.encode().lower() in whole.lower()]
                wrong += [f"seed {seed}, secret {done} ({way.kind}): in the form {form[:4]}…" for form in found]
                done += 1
    finally:
        app.close()
    return done, wrong, f"{answers:,} answers, and all that is kept after each"
