"""Names in addresses and filters that must be those of something that is there."""

from __future__ import annotations

from metrikon.app.assemble import App
from metrikon.core.values.near import unknown
from metrikon.service.problems import Problem
from metrikon.store import flows


def known_flow(app: App, name: str) -> None:
    """Raises `Problem` (404) for a flow that is not there, with the nearest one."""
    with app.database.reading() as connection:
        if flows.standing(connection, name) is None:
            raise no_flow(app, name)


def no_flow(app: App, name: str) -> Problem:
    """What is answered of a flow that is not there."""
    with app.database.reading() as connection:
        return Problem(404, "not-there", flows.no_flow(connection, name))


def known_type(app: App, name: str) -> None:
    """Raises `Problem` (404) for a record type that is not there, with the nearest one."""
    with app.database.reading() as connection:
        if flows.get_record_type(connection, name) is None:
            raise no_type(app, name)


def no_type(app: App, name: str) -> Problem:
    """What is answered of a record type that is not there."""
    with app.database.reading() as connection:
        known = (str(each["name"]) for each in flows.all_record_types(connection))
        return Problem(404, "not-there", unknown("record type", name, known))
