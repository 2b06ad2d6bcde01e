"""Servers that are started once for the tests of destinations."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.sandbox.services import Services
from tests.dav import SECRET, USER, DavServer
from tests.destinations.house import House
from tests.destinations.servers import MariaDB, PostgreSQL


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """Each destination is tried with all that can ail it."""
    if "ail" in metafunc.fixturenames:
        metafunc.parametrize("ail", [name for name, comes in metafunc.cls.ails.items() if not isinstance(comes, str)])


@pytest.fixture(scope="session")
def postgresql() -> Iterator[PostgreSQL]:
    made = PostgreSQL()
    yield made
    made.remove()


@pytest.fixture(scope="session")
def mariadb() -> Iterator[MariaDB]:
    made = MariaDB()
    yield made
    made.remove()


@pytest.fixture
def served(tmp_path: Path) -> Iterator[tuple[DavServer, App]]:
    server = DavServer(tmp_path / "dav")
    app = App(Settings(home=tmp_path / "home", fetch_private=True, fetches_a_minute=0))
    app.connections.put("files", server.url, Way("basic", USER), SECRET, "ada")
    yield server, app
    app.close()
    server.end()


@pytest.fixture
def house(tmp_path: Path) -> Iterator[House]:
    services = Services().start()
    made = House(tmp_path / "home", services)
    yield made
    made.app.close()
    services.stop()
