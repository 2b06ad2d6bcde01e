"""Servers that are started once for the tests of destinations."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.destinations.servers import MariaDB, PostgreSQL


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
