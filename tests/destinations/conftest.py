"""Servers that are started once for the tests of destinations."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

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
