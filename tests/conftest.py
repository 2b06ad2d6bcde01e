"""What tests share: the demo's record type and flow, a house in a folder of its own, a running service."""

from __future__ import annotations

import logging
import os
import secrets
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings as properties

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.client import Client
from metrikon.core.records.types import RecordType, record_type
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.ports.clock import Clock
from metrikon.ports.model import Model
from metrikon.sandbox.model_server import ModelServer
from metrikon.service.auth import add_token, set_password
from metrikon.service.serving import Server
from tests.helpers import Running

SEED = int(os.environ.get("METRIKON_TEST_SEED") or secrets.randbelow(10**6))


LONGEST = [  # files that take longest, begun first, so that none of them is waited for alone at the end
    *("test_killed_mixed.py", "test_killed.py", "test_cli.py", "test_entering.py", "test_console.py", "test_killed_out.py", "test_killed_intakes.py"),
    *("test_pictures.py", "test_reading.py", "test_misbehaving.py", "test_databases.py", "test_fuzzing.py", "test_faults.py", "test_ways_cli.py"),
]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Each worker takes the next file in this order (`--no-loadscope-reorder`)."""
    items.sort(key=lambda item: LONGEST.index(item.path.name) if item.path.name in LONGEST else len(LONGEST))


def pytest_report_header() -> str:
    return f"invented invoices: seed {SEED} (METRIKON_TEST_SEED={SEED} draws the same again)"


properties.register_profile("untimed", deadline=None)  # how long an example takes on a busy machine says nothing of what holds
properties.load_profile("untimed")


@pytest.fixture(autouse=True)
def _quiet() -> None:
    logging.getLogger("metrikon").setLevel(logging.CRITICAL)


@pytest.fixture(scope="session")
def seed() -> int:
    return SEED


@pytest.fixture(scope="session")
def invoice() -> RecordType:
    return record_type(loads(scenario.invoice_type()), "invoice")


@pytest.fixture
def stand_in() -> Iterator[ModelServer]:
    server = ModelServer().start()
    yield server
    server.stop()


@pytest.fixture
def house(tmp_path: Path) -> Iterator[Callable[..., App]]:
    """Makes houses that know the demo's record type and flow; they are closed afterwards."""
    made: list[App] = []

    def make(
        name: str = "home", *, flow: str | None = None, clock: Clock | None = None, models: Mapping[str, Model] | None = None, **settings: object
    ) -> App:
        settings.setdefault("look_first", False)  # what a new intake takes is no question here, but where a test asks it
        app = App(Settings(home=tmp_path / name, stop_seconds=5, **settings), clock, models)  # type: ignore[arg-type]
        made.append(app)
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(flow or scenario.flow_text())
        return app

    yield make
    for app in made:
        if app.database._thread.is_alive():
            app.close()


@pytest.fixture
def running(house: Callable[..., App]) -> Iterator[Callable[..., Running]]:
    """Starts services on loopback; they are stopped afterwards."""
    started: list[tuple[Server, Client]] = []

    def start(name: str = "home", **settings: Any) -> Running:
        app = house(name, port=0, **settings)
        set_password(app, "gardener", "glasshouse lane")
        _, token = add_token(app, "tests")
        server = Server(app)
        server.start()
        client = Client(server.url, token)
        started.append((server, client))
        return Running(app, server.url, client, token, server.secure_url)

    yield start
    for server, client in started:
        client.close()
        server.close()
